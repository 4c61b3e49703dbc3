package guard

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/crowd"
	"tarnwold/core/impact"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

var (
	dom   = account.NewID(5, 21, 7, 7, 7)
	ana   = dom.Child(1001)
	ben   = dom.Child(1002)
	crew  = dom.Child(2001) // ana
	post  = dom.Child(2002) // for mail alone
	ghost = dom.Child(9999)
)

const (
	reads = right.Set(0x1200a9)
	full  = right.All
)

func allow(who account.ID, r right.Set) rule.Entry {
	return rule.Entry{Kind: rule.Allow, Flags: rule.ObjectInherit | rule.ContainerInherit, Rights: r, Who: who}
}

func deny(who account.ID, r right.Set) rule.Entry {
	e := allow(who, r)
	e.Kind = rule.Deny
	return e
}

func list(owner account.ID, es ...rule.Entry) *rule.Descriptor {
	return &rule.Descriptor{Owner: owner, Control: rule.RulesPresent, Rules: rule.Rules{Entries: es}, Audit: rule.Rules{Absent: true}}
}

func absent(owner account.ID) *rule.Descriptor {
	return &rule.Descriptor{Owner: owner, Rules: rule.Rules{Absent: true}, Audit: rule.Rules{Absent: true}}
}

// look lets the guards look at one folder whose rules, share and groups change.
type scene struct {
	before, after             *rule.Descriptor
	shareBefore, shareAfter   *rule.Descriptor
	adminsBefore, adminsAfter []account.ID
	leaves                    bool // ana leaves the crew
	actor                     account.ID
	back                      bool
}

func look(t *testing.T, s scene) []Warning {
	book := account.NewDirectory()
	for _, u := range []account.ID{ana, ben} {
		book.Add(account.Account{ID: u, Kind: account.User, POSIX: account.NoPOSIX})
	}
	book.Add(account.Account{ID: crew, Kind: account.Group, POSIX: account.NoPOSIX})
	book.Add(account.Account{ID: post, Kind: account.Group, POSIX: account.NoPOSIX, Purpose: account.Mail})
	book.Join(crew, ana)
	later := book.Clone()
	if s.leaves {
		later.Leave(crew, ana)
	}
	tr, err := verdict.NamedTraits("plain")
	require.NoError(t, err)
	tr.AdministratorsPass = true
	was := crowd.NewPopulation(book, tr.Traits, book.Users())
	is := crowd.NewPopulation(later, tr.Traits, later.Users())
	set := &change.Set{Nodes: []change.Node{{Parent: -1, Folder: true, Items: 1, Before: s.before, After: s.after, Fixed: true}}}
	if s.after == nil {
		set.Nodes[0].After = nil
	}
	if s.before == s.after {
		set.Nodes[0].After = set.Nodes[0].Before
	}
	moved := was.Empty()
	for i := range was.Users {
		id := was.Users[i].ID
		if s.leaves && id == ana || slices.Contains(s.adminsBefore, id) != slices.Contains(s.adminsAfter, id) {
			moved.Set(i)
		}
	}
	if moved.Len() == 0 {
		moved = nil
	}
	on := impact.Start{Node: 0, On: [2]bool{true, true}}
	c := &Case{Set: set, Named: []int{0}, Actor: s.actor, Book: book, Back: s.back}
	c.Routes = []impact.Route{{Name: "local", Local: true, Moved: moved, Starts: []impact.Start{on}, Ways: [2]*crowd.Route{
		{Local: true, Traits: &tr, Administrators: s.adminsBefore, People: was},
		{Local: true, Traits: &tr, Administrators: s.adminsAfter, People: is},
	}}}
	if s.shareBefore != nil || s.shareAfter != nil {
		share := func(d *rule.Descriptor) *verdict.Share {
			return &verdict.Share{Rules: rule.Compile(d, tr.ShareReading())}
		}
		c.Shares = []Share{{s.shareBefore, s.shareAfter}}
		c.Routes = append(c.Routes, impact.Route{Name: "share", Moved: moved, Starts: []impact.Start{on}, Ways: [2]*crowd.Route{
			{Share: share(s.shareBefore), Traits: &tr, People: was}, {Share: share(s.shareAfter), Traits: &tr, People: is},
		}})
	}
	c.Shifts, err = impact.Of(context.Background(), set, c.Routes)
	require.NoError(t, err)
	return Look(c)
}

func TestGuards(t *testing.T) {
	system := account.MustID("S-1-5-18")
	open := list(system, allow(account.Everyone, full))
	for _, c := range []struct {
		name string
		scene
		want []Name
	}{
		{"nothing changes", scene{before: open, after: open, actor: ana}, nil},
		{"one gains", scene{before: list(ana, allow(ana, full)), after: list(ana, allow(ana, full), allow(ben, reads)), actor: ana}, nil},

		{"who acts loses reading", scene{before: list(ben, allow(ana, reads)), after: list(ben, allow(crew, right.Execute)), actor: ana}, []Name{LocksOut}},
		{"who acts loses changing the rules", scene{before: list(ana, allow(ana, full)), after: list(ben, allow(ana, reads)), actor: ana}, []Name{LocksOut}},
		{"who acts keeps reading", scene{before: list(ben, allow(ana, full&^right.WriteACL)), after: list(ben, allow(ana, reads)), actor: ana}, nil},
		{"somebody else loses reading", scene{before: list(ana, allow(ana, full), allow(ben, reads)), after: list(ana, allow(ana, full)), actor: ana}, nil},
		{"nobody known acts", scene{before: list(ben, allow(ana, reads)), after: list(ben, allow(crew, right.Execute))}, nil},
		{"who acts leaves the group that gave it", scene{before: list(ben, allow(crew, reads)), leaves: true, actor: ana}, []Name{LocksOut}},
		{"the share takes reading from who acts", scene{before: open, shareBefore: list(system, allow(ana, reads)), shareAfter: list(system, allow(ben, reads)), actor: ana}, []Name{LocksOut}},

		{"a deny entry takes what is held", scene{before: list(system, allow(crew, full)), after: list(system, deny(ana, right.Delete), allow(crew, full)), actor: ben}, []Name{Overrules}},
		{"a deny entry takes nothing", scene{before: list(system, allow(crew, full)), after: list(system, deny(ben, right.Delete), allow(crew, full)), actor: ben}, nil},
		{"a deny entry put back", scene{before: list(system, allow(crew, full)), after: list(system, deny(ana, right.Delete), allow(crew, full)), actor: ben, back: true}, nil},
		{"a deny entry on a share", scene{before: open, shareBefore: list(system, allow(crew, reads)), shareAfter: list(system, deny(ana, right.Execute), allow(crew, reads)), actor: ben}, []Name{Overrules}},

		{"opened to everyone", scene{before: list(ana, allow(ana, full)), after: list(ana, allow(ana, full), allow(account.Everyone, reads)), actor: ana}, []Name{Opens}},
		{"opened to all who log in", scene{before: list(ana, allow(ana, full)), after: list(ana, allow(ana, full), allow(account.Authenticated, reads)), actor: ana}, []Name{Opens}},
		{"opened to the domain's users", scene{before: list(ana, allow(ana, full)), after: list(ana, allow(ana, full), allow(dom.Child(account.DomainUsersRID), reads)), actor: ana}, []Name{Opens}},
		{"opened to the network", scene{before: list(ana, allow(ana, full)), after: list(ana, allow(ana, full), allow(account.Network, reads)), actor: ana}, []Name{Opens}},
		{"everyone had as much", scene{before: list(ana, allow(ana, full), allow(account.Everyone, reads)), after: list(ana, allow(ana, full), allow(account.Everyone, reads), allow(account.Network, reads)), actor: ana}, nil},
		{"a deny entry for everyone goes", scene{before: list(ana, deny(account.Everyone, right.ReadData), allow(account.Everyone, reads), allow(ana, full)), after: list(ana, allow(account.Everyone, reads), allow(ana, full)), actor: ana}, []Name{Opens}},
		{"rules made absent", scene{before: list(ana, allow(ana, full)), after: absent(ana), actor: ana}, []Name{Opens}},
		{"rules made absent by an undo", scene{before: list(ana, allow(ana, full)), after: absent(ana), actor: ana, back: true}, []Name{Opens}},
		{"a share made absent", scene{before: list(ana, allow(ana, full)), shareBefore: list(system, allow(ana, reads)), shareAfter: absent(system), actor: ana}, []Name{Opens}},

		{"nobody left in charge", scene{before: list(ana, allow(ana, full)), after: list(system, allow(ana, reads)), actor: ben}, []Name{Orphans}},
		{"an administrator left", scene{before: list(ana, allow(ana, full)), after: list(system, allow(ana, reads)), adminsBefore: []account.ID{ben}, adminsAfter: []account.ID{ben}, actor: ben}, nil},
		{"the last administrator goes", scene{before: list(system, allow(ana, reads)), adminsBefore: []account.ID{ben}, actor: ana}, []Name{Orphans}},
		{"administrators that nobody is", scene{before: list(ana, allow(ana, full)), after: list(system, allow(ana, reads)), adminsBefore: []account.ID{ghost}, adminsAfter: []account.ID{ghost}, actor: ben}, []Name{Orphans}},
		{"nobody was in charge before", scene{before: list(system), after: list(system, allow(ana, reads)), actor: ben}, nil},
		{"the owner still is", scene{before: list(ana, allow(ana, full)), after: list(ana), actor: ben}, nil},
		{"the group in charge loses its last", scene{before: list(system, allow(crew, full)), leaves: true, actor: ben}, []Name{Orphans}},

		{"a mail group", scene{before: list(ana, allow(ana, full)), after: list(ana, allow(ana, full), allow(post, reads)), actor: ana}, []Name{MailGroup}},
		{"a mail group stood there", scene{before: list(ana, allow(post, reads)), after: list(ana, allow(post, reads), allow(ben, reads)), actor: ana}, nil},
		{"a mail group on a share", scene{before: open, shareBefore: list(system, allow(ana, full)), shareAfter: list(system, allow(ana, full), allow(post, reads)), actor: ana}, []Name{MailGroup}},
		{"an identifier nobody has", scene{before: list(ana, allow(ana, full)), after: list(ana, allow(ana, full), allow(ghost, reads)), actor: ana}, []Name{Dead}},
		{"a POSIX group's identifier", scene{before: list(ana, allow(ana, full)), after: list(ana, allow(ana, full), allow(account.GID(77), reads)), actor: ana}, nil},
		{"two at once", scene{before: list(ana, allow(ana, full)), after: list(system, allow(post, reads)), actor: ana}, []Name{LocksOut, Orphans, MailGroup}},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.after == nil {
				c.after = c.before
			}
			var got []Name
			seen := map[Name]bool{}
			for _, w := range look(t, c.scene) {
				if !seen[w.Guard] {
					got = append(got, w.Guard)
				}
				seen[w.Guard] = true
			}
			require.Equal(t, c.want, got)
		})
	}
}

// TestWhoIsHit: a warning names the people and the rights.
func TestWhoIsHit(t *testing.T) {
	system := account.MustID("S-1-5-18")
	ws := look(t, scene{before: list(system, allow(crew, full)), after: list(system, deny(ana, right.Delete), allow(crew, full)), actor: ben})
	require.Len(t, ws, 1)
	require.Equal(t, []account.ID{ana}, ws[0].Users)
	ws = look(t, scene{before: list(ben, allow(ana, full)), after: list(ben, allow(crew, right.Execute)), actor: ana})
	require.NotEmpty(t, ws)
	require.Equal(t, right.ReadData|right.WriteACL, ws[0].Rights)
	require.Equal(t, []account.ID{ana}, ws[0].Users)
	ws = look(t, scene{before: list(ana), after: list(ana, allow(account.Everyone, right.Execute)), actor: ana})
	require.Len(t, ws, 1)
	require.Equal(t, right.Execute, ws[0].Rights)
}

// TestSameRulesFromTwo: one list that comes in place of two is looked at for both.
func TestSameRulesFromTwo(t *testing.T) {
	tr, err := verdict.NamedTraits("plain")
	require.NoError(t, err)
	book := account.NewDirectory()
	book.Add(account.Account{ID: ana, Kind: account.User, POSIX: account.NoPOSIX})
	system := account.MustID("S-1-5-18")
	none, held, after := list(system), list(ana), list(system, allow(ana, reads))
	set := &change.Set{Nodes: []change.Node{
		{Parent: -1, Folder: true, Items: 1, Before: none, After: after, Fixed: true},
		{Parent: 0, Folder: true, Items: 1, Before: held, After: after, Fixed: true},
	}}
	p := crowd.NewPopulation(book, tr.Traits, book.Users())
	w := crowd.Route{Local: true, Traits: &tr, People: p}
	c := &Case{Set: set, Named: []int{0, 1}, Book: book, Routes: []impact.Route{{Local: true, Ways: [2]*crowd.Route{&w, &w}, Starts: []impact.Start{{Node: 0, On: [2]bool{true, true}}}}}}
	ws := Look(c)
	require.Len(t, ws, 1)
	require.Equal(t, Orphans, ws[0].Guard)
	require.Equal(t, 1, ws[0].Node)
}
