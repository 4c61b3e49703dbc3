package impact

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

var dom = account.NewID(5, 21, 3, 3, 3)

func people(t *rapid.T) (*account.Directory, []account.ID) {
	d := account.NewDirectory()
	ids := []account.ID{account.Everyone, account.Network, account.Interactive, account.OwnerRights, dom.Child(account.DomainUsersRID), account.UID(4001), account.GID(5000), account.GID(4000)}
	var groups []account.ID
	for i := range 4 {
		g := account.Account{ID: dom.Child(uint32(2000 + i)), Kind: account.Group, POSIX: int64(5000 + i)}
		if i == 3 {
			g.POSIX = account.NoPOSIX
		}
		d.Add(g)
		groups = append(groups, g.ID)
	}
	var members []account.ID
	for i := range rapid.IntRange(1, 70).Draw(t, "users") {
		u := account.Account{ID: dom.Child(uint32(1000 + i)), Kind: account.User, POSIX: int64(4000 + i)}
		if rapid.Bool().Draw(t, "primary") {
			u.Primary = rapid.SampledFrom(groups).Draw(t, "primary group")
		}
		d.Add(u)
		members = append(members, u.ID)
	}
	ids = append(append(ids, groups...), members[:min(3, len(members))]...)
	members = append(members, groups...)
	for range rapid.IntRange(0, 30).Draw(t, "memberships") {
		g, m := rapid.SampledFrom(groups).Draw(t, "group"), rapid.SampledFrom(members).Draw(t, "member")
		d.Join(g, m)
		d.SetLocal(g, m, rapid.IntRange(0, 3).Draw(t, "local") == 0)
	}
	return d, ids
}

func anyEntry(t *rapid.T, who []account.ID) rule.Entry {
	return rule.Entry{
		Kind:   rapid.SampledFrom([]rule.Kind{rule.Allow, rule.Allow, rule.Deny}).Draw(t, "kind"),
		Flags:  rapid.SampledFrom([]rule.Flags{0, 3, 3, 3, 11, 1, 2, 7}).Draw(t, "flags"),
		Rights: right.Set(rapid.SampledFrom([]uint32{0x1, 0x40, 0x10000, 0x60020, 0x1200a9, 0x1301bf, 0x1f01ff, 0x10000000}).Draw(t, "rights")),
		Who:    rapid.SampledFrom(who).Draw(t, "who"),
	}
}

func anyRules(t *rapid.T, who []account.ID, most int) *rule.Descriptor {
	d := &rule.Descriptor{Owner: rapid.SampledFrom(who[4:]).Draw(t, "owner"), Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
	for range rapid.IntRange(0, most).Draw(t, "entries") {
		d.Rules.Entries = append(d.Rules.Entries, anyEntry(t, who))
	}
	d.Rules.Absent = rapid.IntRange(0, 14).Draw(t, "absent") == 0
	return d
}

// world is a change of any kind: of rules, shares, traits, memberships,
// administrators, users who go, a top that comes under other folders.
type world struct {
	set     *change.Set
	dirs    [2]*account.Directory
	traits  [2]verdict.Traits
	admins  [2][]account.ID
	shares  [2]*rule.Descriptor // nil: the share isn't there
	switchs [2]bool
	start   Start
}

func anyTraits(t *rapid.T) verdict.Traits {
	tr, err := verdict.NamedTraits(rapid.SampledFrom(verdict.TraitNames()).Draw(t, "traits"))
	require.NoError(t, err)
	tr.AsksFoldersAbove = rapid.IntRange(0, 3).Draw(t, "asks above") == 0
	tr.ShareOpensConnection = rapid.Bool().Draw(t, "opens connection")
	tr.Layers = rapid.IntRange(0, 3).Draw(t, "layers")
	return tr
}

func anyWorld(t *rapid.T, dir *account.Directory, who []account.ID) *world {
	w := &world{}
	w.traits[Before] = anyTraits(t)
	w.traits[After] = w.traits[Before]
	if rapid.IntRange(0, 5).Draw(t, "traits change") == 0 {
		w.traits[After] = anyTraits(t)
	}
	chain := func() []rule.Any { return []rule.Any{anyRules(t, who, 3), anyRules(t, who, 3)} }
	set := &change.Set{Edits: map[int]change.Edit{}, Above: map[int][]rule.Any{0: chain()}}
	w.set = set
	if rapid.IntRange(0, 4).Draw(t, "comes elsewhere") == 0 {
		set.Then = map[int][]rule.Any{0: chain()}
	}
	set.Nodes = []change.Node{{Parent: -1, Folder: true, Items: 1, Before: anyRules(t, who, 5)}}
	for i := range rapid.IntRange(0, 8).Draw(t, "below") {
		p := rapid.IntRange(0, i).Draw(t, "parent")
		d := rule.NewChild(set.Nodes[p].Before.(*rule.Descriptor), true, rapid.SampledFrom(who[8:]).Draw(t, "owner"), dom, nil)
		if rapid.Bool().Draw(t, "own") && !d.Rules.Absent {
			var err error
			d, _, err = d.Give([]rule.Entry{anyEntry(t, who)}, rule.Giving{})
			require.NoError(t, err)
		}
		set.Nodes = append(set.Nodes, change.Node{Parent: p, Folder: true, Items: 1, Before: d})
	}
	at := rapid.IntRange(0, len(set.Nodes)-1).Draw(t, "edited")
	set.Edits[at] = func(a, _ rule.Any, _ bool) (rule.Any, error) {
		d := a.(*rule.Descriptor)
		if d.Rules.Absent {
			return d, nil
		}
		if rapid.IntRange(0, 4).Draw(t, "new owner") == 0 {
			d = d.OwnedBy(rapid.SampledFrom(who[8:]).Draw(t, "owner"))
		}
		if rapid.Bool().Draw(t, "take") && len(d.Rules.Own()) > 0 {
			return d.Take(rule.Which{Who: d.Rules.Own()[0].Who}, true), nil
		}
		got, _, err := d.Give([]rule.Entry{anyEntry(t, who)}, rule.Giving{})
		return got, err
	}
	require.NoError(t, set.Work(context.Background()))
	// Some of what is there is new, or goes, with all below it.
	if gone := rapid.IntRange(0, 3*len(set.Nodes)).Draw(t, "comes or goes"); gone < len(set.Nodes) {
		comes := rapid.Bool().Draw(t, "comes")
		in := make([]bool, len(set.Nodes))
		for i := gone; i < len(set.Nodes); i++ {
			n := &set.Nodes[i]
			if in[i] = i == gone || n.Parent >= 0 && in[n.Parent]; in[i] && comes {
				n.Before = nil
			} else if in[i] {
				n.After = nil
			}
		}
	}
	w.dirs = [2]*account.Directory{dir, dir}
	switch rapid.IntRange(0, 4).Draw(t, "people change") {
	case 0:
		w.dirs[After] = dir.Clone()
		group, member := rapid.SampledFrom(who[8:12]).Draw(t, "group"), rapid.SampledFrom(who[8:]).Draw(t, "member")
		if rapid.Bool().Draw(t, "leaves") {
			w.dirs[After].Leave(group, member)
		} else {
			w.dirs[After].Join(group, member)
		}
	case 1:
		w.dirs[After] = dir.Clone()
		w.dirs[After].Remove(rapid.SampledFrom(dir.Users()).Draw(t, "gone").ID)
	}
	w.admins[Before] = []account.ID{rapid.SampledFrom(who).Draw(t, "administrator")}
	w.admins[After] = w.admins[Before]
	if rapid.IntRange(0, 4).Draw(t, "administrators change") == 0 {
		w.admins[After] = []account.ID{rapid.SampledFrom(who).Draw(t, "then administrator")}
	}
	for x := range w.shares {
		w.shares[x], w.switchs[x] = w.shares[Before], w.switchs[Before]
		if x == Before || rapid.IntRange(0, 3).Draw(t, "share too") == 0 {
			w.shares[x], w.switchs[x] = anyRules(t, who, 4), rapid.IntRange(0, 3).Draw(t, "read-only") == 0
			if rapid.IntRange(0, 5).Draw(t, "no share") == 0 {
				w.shares[x] = nil
			}
		}
	}
	w.start = Through(rapid.IntRange(0, len(set.Nodes)-1).Draw(t, "share at"), rapid.Bool().Draw(t, "above too"))
	if rapid.IntRange(0, 4).Draw(t, "on one side") == 0 {
		w.start.On[rapid.IntRange(0, 1).Draw(t, "side")] = false
	}
	return w
}

// routes makes what Of takes.
func (w *world) routes() []Route {
	local, share := Route{Name: "local", Local: true, Starts: []Start{Through(0, true)}}, Route{Name: "share", Starts: []Start{w.start}}
	users := w.dirs[Before].Users()
	pops := map[string]*crowd.Population{}
	for x := range w.dirs {
		key := fmt.Sprintf("%p%v", w.dirs[x], w.traits[x].Traits)
		if pops[key] == nil {
			pops[key] = crowd.NewPopulation(w.dirs[x], w.traits[x].Traits, users)
		}
		way := crowd.Route{Traits: &w.traits[x], Administrators: w.admins[x], People: pops[key]}
		l := way
		l.Local = true
		local.Ways[x] = &l
		if d := w.shares[x]; d != nil {
			s := way
			s.Share = &verdict.Share{Rules: rule.Compile(d, w.traits[x].ShareReading()), ReadOnly: w.switchs[x]}
			share.Ways[x] = &s
		}
	}
	ids := append(w.dirs[Before].All(), account.NewID(5, 21, 3, 3, 3).Child(account.DomainUsersRID))
	for i := range 80 {
		ids = append(ids, account.UID(uint32(4000+i)), account.GID(uint32(4000+i)), account.GID(uint32(5000+i)))
	}
	local.Moved, share.Moved = Differs(local.Ways[Before], local.Ways[After], ids), Differs(share.Ways[Before], share.Ways[After], ids)
	return []Route{local, share}
}

// decided is what one user is granted on one node by one route on one side,
// asked one by one.
func (w *world) decided(r *Route, ni int, user account.ID, x int) right.Set {
	tr := &w.traits[x]
	nodes := w.set.Nodes
	pick := func(n *change.Node) rule.Any {
		if x == Before {
			return n.Before
		}
		return n.After
	}
	if _, ok := w.dirs[x].Account(user); !ok || r.Ways[x] == nil || pick(&nodes[ni]) == nil {
		return 0
	}
	on, above := false, false
	for up := ni; up >= 0; up = nodes[up].Parent {
		if up == r.Starts[0].Node && r.Starts[0].On[x] {
			on = true
			above = up != ni || r.Starts[0].Above[x]
			break
		}
	}
	if !on {
		return 0
	}
	tok := account.NewToken(w.dirs[x], user, tr.Traits, verdict.Special(r.Local)...)
	read := rule.NewReader(tr.Reading())
	q := &verdict.Question{Token: tok, Item: read.Of(pick(&nodes[ni])), Share: r.Ways[x].Share, Traits: tr, Administrator: tok.Has(w.admins[x][0])}
	for up := nodes[ni].Parent; up >= 0; up = nodes[up].Parent {
		if d := pick(&nodes[up]); d != nil {
			q.Above = append(q.Above, read.Of(d))
		}
	}
	for _, d := range w.set.Chain(0, x == After) {
		q.Above = append(q.Above, read.Of(d))
	}
	if p := nodes[ni].Parent; above && (p < 0 || pick(&nodes[p]) != nil) {
		q.Parent = q.Above[0]
	} else if !above && q.Share != nil && tr.ShareFolderAboveItself {
		q.Parent = q.Item
	}
	return verdict.Granted(q) & right.Access
}

// TestImpactIsDecidingBeforeAndAfter: for every user, item and route one by one.
func TestImpactIsDecidingBeforeAndAfter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, who := people(t)
		w := anyWorld(t, dir, who)
		routes := w.routes()
		users := dir.Users()
		want := map[string][]int64{} // shift → users and items
		for ri := range routes {
			r := &routes[ri]
			for ni := range w.set.Nodes {
				seen := map[string]bool{}
				for ui, u := range users {
					b, a := w.decided(r, ni, u.ID, Before), w.decided(r, ni, u.ID, After)
					if a == b {
						continue
					}
					k := fmt.Sprint(ri, uint32(b), uint32(a))
					if want[k] == nil {
						want[k] = make([]int64, len(users)+1)
					}
					want[k][ui] = 1
					if !seen[k] {
						want[k][len(users)]++
						seen[k] = true
					}
				}
			}
		}
		got := map[string][]int64{}
		shifts, err := Of(context.Background(), w.set, routes)
		require.NoError(t, err)
		for _, s := range shifts {
			row := make([]int64, len(users)+1)
			s.Users.Each(func(i int) bool { row[i] = 1; return true })
			row[len(users)] = s.Items
			got[fmt.Sprint(s.Route, uint32(s.Before), uint32(s.After))] = row
			require.NotEmpty(t, s.Nodes)
		}
		require.Equal(t, want, got)
	})
}

func TestImpactStopsWithItsContext(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	stop()
	_, err := Of(ctx, &change.Set{Nodes: []change.Node{{Parent: -1, Items: 1, Before: &rule.Descriptor{}}}}, []Route{{}})
	require.ErrorIs(t, err, context.Canceled)
}
