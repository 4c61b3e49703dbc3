package crowd

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/condition"
	"tarnwold/core/verdict"
	"tarnwold/internal/proptest"
)

var dom = account.NewID(5, 21, 3, 3, 3)

// people makes users in groups in groups, loops too, and the identifiers that
// can be asked for.
func people(t *rapid.T) (*account.Directory, []account.ID) {
	d := account.NewDirectory()
	ids := []account.ID{account.Everyone, account.Network, account.Interactive, account.OwnerRights, dom.Child(account.DomainUsersRID), account.UID(4001), account.GID(5000), account.GID(4000)}
	var groups, members []account.ID
	for i := range 5 {
		g := account.Account{ID: dom.Child(uint32(2000 + i)), Kind: account.Group, POSIX: int64(5000 + i)}
		if i == 3 {
			g.POSIX = account.NoPOSIX
		}
		if rapid.IntRange(0, 3).Draw(t, "mail group") == 0 {
			g.Purpose = account.Mail
		}
		g.Former = formers(t)
		d.Add(g)
		groups = append(groups, g.ID)
	}
	for i := range rapid.IntRange(1, 70).Draw(t, "users") {
		u := account.Account{ID: dom.Child(uint32(1000 + i)), Kind: account.User, POSIX: int64(4000 + i)}
		if rapid.Bool().Draw(t, "primary") {
			u.Primary = rapid.SampledFrom(append(groups[:5:5], account.GID(5001))).Draw(t, "primary group")
		}
		u.Former, u.Claims = formers(t), claims(t)
		d.Add(u)
		members = append(members, u.ID)
	}
	ids = append(append(ids, groups...), members[:min(3, len(members))]...)
	ids = append(ids, old.Child(1), old.Child(2))
	members = append(members, groups...)
	for range rapid.IntRange(0, 30).Draw(t, "memberships") {
		g, m := rapid.SampledFrom(groups).Draw(t, "group"), rapid.SampledFrom(members).Draw(t, "member")
		d.Join(g, m)
		d.SetLocal(g, m, rapid.IntRange(0, 3).Draw(t, "local") == 0)
	}
	ids = append(ids, own(t, d, groups)...)
	return d, append(ids, builtins(t, d, groups, members)...)
}

// own gives machines accounts of their own, with numbers that mean somebody on each.
func own(t *rapid.T, d *account.Directory, groups []account.ID) (ids []account.ID) {
	for _, realm := range realms[:2] {
		staff, _ := account.GID(50).On(realm)
		d.Add(account.Account{ID: staff, Kind: account.Group, POSIX: 50})
		for n := range rapid.Uint32Range(0, 2).Draw(t, "own accounts") {
			id, _ := account.UID(7 + n).On(realm)
			u := account.Account{ID: id, Kind: account.User, POSIX: int64(7 + n)}
			if rapid.Bool().Draw(t, "with a first group") {
				u.Primary = rapid.SampledFrom([]account.ID{staff, account.GID(50)}).Draw(t, "which")
			}
			d.Add(u)
			if rapid.Bool().Draw(t, "listed") {
				d.Join(rapid.SampledFrom(append(groups[:3:3], staff)).Draw(t, "in"), id)
			}
			ids = append(ids, id, account.UID(7+n))
		}
		if rapid.Bool().Draw(t, "other people in it") {
			d.Join(staff, rapid.SampledFrom(groups).Draw(t, "who"))
			d.Join(staff, dom.Child(1000))
		}
		ids = append(ids, staff)
	}
	return append(ids, account.GID(50), account.Everyone)
}

// conditions ask for groups, for what is known of a user, and for what isn't.
var conditions = func() (out []string) {
	for _, text := range []string{`Member_of SID(` + dom.Child(2001).String() + `)`, `!(Member_of_Any {SID(S-1-5-2), SID(` + dom.Child(2000).String() + `)})`, `@User.floor > 1`, `@User.nobody == 1 || @User.floor == 1`} {
		n, err := condition.Parse(text, account.ParseID)
		if err != nil {
			panic(err)
		}
		out = append(out, string(n.Encode()))
	}
	return append(out, "artx")
}()

// claims are what is known of users.
func claims(t *rapid.T) account.Claims {
	floor := rapid.IntRange(0, 2).Draw(t, "floor")
	if floor == 0 {
		return ""
	}
	return account.NewClaims(map[string]account.Claim{"Floor": {Values: []account.Value{{Kind: account.IntClaim, Int: int64(floor)}}}})
}

// realms are those of two machines and of a domain.
var realms = []account.ID{account.MachineRealm(1), account.MachineRealm(2), dom}

// builtins gives realms groups of their own, which hold anybody, special accounts too,
// and may be in other groups; it gives what rules may call them.
func builtins(t *rapid.T, d *account.Directory, groups, members []account.ID) (ids []account.ID) {
	some := append([]account.ID{account.Authenticated, account.Everyone, account.Network, account.Interactive, account.Anonymous}, members...)
	for _, rid := range []uint32{544, 545} {
		named := account.NewID(5, 32, rid)
		ids = append(ids, named)
		for _, realm := range realms {
			g, _ := named.In(realm)
			d.Add(account.Account{ID: g, Kind: account.Group, POSIX: account.NoPOSIX})
			for range rapid.IntRange(0, 3).Draw(t, "in a built-in group") {
				m := rapid.SampledFrom(some).Draw(t, "its member")
				d.Join(g, m)
				d.SetLocal(g, m, rapid.Bool().Draw(t, "local"))
			}
			if rapid.IntRange(0, 5).Draw(t, "built-in group in another") == 0 {
				d.Join(rapid.SampledFrom(groups).Draw(t, "which"), g)
			}
		}
	}
	if rapid.IntRange(0, 3).Draw(t, "everybody in a group") == 0 {
		d.Join(rapid.SampledFrom(groups).Draw(t, "which group"), rapid.SampledFrom(some[:5]).Draw(t, "who"))
	}
	return ids
}

var old = account.NewID(5, 21, 8, 8, 8)

// formers are identifiers an account had elsewhere; now and then one that another
// account has.
func formers(t *rapid.T) account.Former {
	ids := []account.ID{old.Child(1), old.Child(2), old.Child(3), dom.Child(1000), dom.Child(2001)}
	if rapid.IntRange(0, 2).Draw(t, "came from elsewhere") > 0 {
		return ""
	}
	return account.NewFormer(rapid.SliceOfN(rapid.SampledFrom(ids), 0, 2).Draw(t, "former"))
}

func anyTraits(t *rapid.T) verdict.Traits {
	tr, err := verdict.NamedTraits(rapid.SampledFrom(verdict.TraitNames()).Draw(t, "traits"))
	require.NoError(t, err)
	tr.POSIXIDs, tr.DomainUsers = rapid.Bool().Draw(t, "posix"), rapid.Bool().Draw(t, "domain users")
	tr.Layers = rapid.IntRange(0, 3).Draw(t, "layers")
	tr.FormerIDs = rapid.Bool().Draw(t, "former identifiers")
	tr.FirstAlone = rapid.Bool().Draw(t, "first group alone")
	if tr.OwnGroupsOnce = rapid.Bool().Draw(t, "own groups once"); tr.OwnGroupsOnce {
		tr.Own = rapid.SampledFrom([]account.ID{{}, dom, old}).Draw(t, "own domain")
	}
	tr.MailGroupsLeftOut = rapid.Bool().Draw(t, "mail groups left out")
	tr.AbsentShareRefuses = rapid.Bool().Draw(t, "absent refuses")
	if tr.PrivilegesPass = rapid.Bool().Draw(t, "privileges pass"); rapid.Bool().Draw(t, "privileges") {
		held := map[verdict.Privilege][]account.ID{}
		for _, p := range verdict.Privileges() {
			held[p] = rapid.SliceOfN(rapid.SampledFrom([]account.ID{dom.Child(1000), dom.Child(2000), account.NewID(5, 32, 544), account.Interactive}), 0, 2).Draw(t, string(p))
		}
		tr.Powers = verdict.NewPowers(held)
	}
	tr.ShareWholeForTakers = rapid.Bool().Draw(t, "whole for takers")
	tr.FolderMarksKeep = rapid.Bool().Draw(t, "folder marks keep")
	tr.BareGenerics = rapid.Bool().Draw(t, "bare generics")
	tr.TakingCounts, tr.DefaultPrivileges = rapid.Bool().Draw(t, "taking counts"), rapid.Bool().Draw(t, "default privileges")
	tr.LabelsCount, tr.ConditionsCount = rapid.Bool().Draw(t, "labels count"), rapid.IntRange(0, 3).Draw(t, "conditions count") > 0
	tr.Realm = rapid.SampledFrom(append(realms, account.ID{}, account.Nowhere)).Draw(t, "realm")
	tr.Machine = rapid.SampledFrom(append(realms[:2:2], account.ID{}, account.Nowhere)).Draw(t, "machine")
	return tr
}

func TestHoldersAreThoseWhoseTokenHasIt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, who := people(t)
		tr := anyTraits(t)
		first := rapid.Bool().Draw(t, "local first")
		pop := NewPopulation(dir, tr.Traits, nil)
		for _, local := range []bool{first, !first} {
			for i, u := range pop.Users {
				tok := account.NewToken(dir, u.ID, tr.Traits, verdict.Special(local)...)
				for _, id := range who {
					require.Equal(t, tok.Has(id), pop.Holders(id, local).Has(i), "%s has %s", u.ID, id)
				}
			}
		}
	})
}

func anyRules(t *rapid.T, who []account.ID) *rule.Descriptor {
	d := &rule.Descriptor{Owner: rapid.SampledFrom(who).Draw(t, "owner"), Audit: rule.Rules{Absent: true}}
	d.Mark = rule.Mark(max(0, rapid.IntRange(-5, 2).Draw(t, "mark")))
	for range rapid.IntRange(0, 5).Draw(t, "entries") {
		d.Rules.Entries = append(d.Rules.Entries, rule.Entry{
			Kind:   rapid.SampledFrom([]rule.Kind{rule.Allow, rule.Allow, rule.Deny}).Draw(t, "kind"),
			Flags:  rapid.SampledFrom([]rule.Flags{0, 0, 3, 11}).Draw(t, "flags"),
			Rights: right.Set(rapid.SampledFrom([]uint32{0x1, 0x2, 0x40, 0x10000, 0x1200a9, 0x1f01ff, 0x40000000}).Draw(t, "rights")),
			Who:    rapid.SampledFrom(who).Draw(t, "who"),
		})
		if e := &d.Rules.Entries[len(d.Rules.Entries)-1]; rapid.IntRange(0, 5).Draw(t, "conditional") == 0 {
			e.Kind = rapid.SampledFrom([]rule.Kind{rule.AllowIf, rule.AllowIf, rule.DenyIf}).Draw(t, "with a condition")
			e.Extra.Tail = rapid.SampledFrom(conditions).Draw(t, "condition")
		}
	}
	d.Rules.Absent = rapid.IntRange(0, 9).Draw(t, "absent") == 0
	if rapid.IntRange(0, 4).Draw(t, "labelled") == 0 {
		level := account.NewID(16, rapid.SampledFrom([]uint32{0x1000, 0x2000, 0x2100, 0x3000, 0x4000}).Draw(t, "level"))
		d.Audit = rule.Rules{Entries: []rule.Entry{{Kind: rule.Label, Rights: right.Set(rapid.Uint32Range(0, 7).Draw(t, "policy")), Who: level}}}
	}
	return d
}

// anyList is rules compiled, now and then with a layer beneath that is asked
// besides, and of a folder that only owners take things out of.
func anyList(t *rapid.T, who []account.ID, tr *verdict.Traits) *rule.List {
	l := rule.Compile(anyRules(t, who), tr.Reading())
	if rapid.IntRange(0, 2).Draw(t, "layers") == 0 {
		l.Beneath = append([]rule.Step{}, rule.Compile(anyRules(t, who), tr.Reading()).Steps...)
	}
	l.OwnersOnly = rapid.IntRange(0, 2).Draw(t, "owners only") == 0
	return l
}

// TestClassesAreEachUserDecided: everyone at once is one by one.
func TestClassesAreEachUserDecided(t *testing.T) {
	doors, another, nobody := map[verdict.ConnectionWhy]int{}, 0, 0
	rapid.Check(t, func(t *rapid.T) {
		dir, who := people(t)
		tr := anyTraits(t)
		pop := NewPopulation(dir, tr.Traits, nil)
		admin := rapid.SampledFrom(who).Draw(t, "administrator")
		way := Route{Local: rapid.Bool().Draw(t, "local"), Traits: &tr, Administrators: []account.ID{admin}, People: pop}
		var as *account.Token
		if !way.Local {
			way.Share = &verdict.Share{Rules: rule.Compile(anyRules(t, who), tr.ShareReading()), ReadOnly: rapid.Bool().Draw(t, "read-only")}
			if rapid.Bool().Draw(t, "lists") {
				some := func(what string) []account.ID { return rapid.SliceOfN(rapid.SampledFrom(who), 0, 2).Draw(t, what) }
				way.Share.Lists = &verdict.Lists{Limited: rapid.Bool().Draw(t, "limited"), Only: some("only"), Never: some("never"), Reading: some("reading"),
					Writing: some("writing"), Administrators: some("passing"), Replaces: rapid.Bool().Draw(t, "replaces")}
				if rapid.Bool().Draw(t, "as another") {
					way.Share.Lists.As = rapid.SampledFrom(who).Draw(t, "as")
					as = account.NewToken(dir, way.Share.Lists.As, tr.Traits, verdict.Special(false)...)
					beside := some("beside")
					way.People, way.Self = pop.As(as, beside, nil), pop
					as = account.NewToken(dir, way.Share.Lists.As, tr.Traits, append(verdict.Special(false), beside...)...)
				}
			}
		}
		d := NewDecider(way)
		item, parent := anyList(t, who, &tr), anyList(t, who, &tr)
		item.Never = rapid.SampledFrom([]right.Set{0, 0, right.ReadData, right.WriteData | right.AppendData, right.Delete | right.ReadAttributes}).Draw(t, "never")
		s := Situation{Item: item}
		if rapid.Bool().Draw(t, "parent") {
			s.Child = d.TakesOut(parent, item.Owner)
		} else {
			parent = nil
		}
		var above []*rule.List
		if tr.AsksFoldersAbove = rapid.Bool().Draw(t, "asks above"); tr.AsksFoldersAbove {
			above = append(above, anyList(t, who, &tr))
			s.Gate = d.One(above[0], right.Execute)
		}
		var sc Scratch
		seen := 0
		for _, c := range d.Classes(s, &sc) {
			c.Users.Each(func(i int) bool {
				seen++
				tok := account.NewToken(dir, pop.Users[i].ID, tr.Traits, verdict.Special(way.Local)...)
				q := &verdict.Question{Token: tok, Item: item, Parent: parent, Above: above, Share: way.Share, Traits: &tr, Administrator: tok.Has(admin)}
				if as != nil {
					q.Token, q.Self = as, tok
					another++
				}
				if way.Share != nil && way.Share.Lists != nil {
					door, _ := q.Connect()
					doors[door.Why]++
				}
				require.Equal(t, verdict.Granted(q)&right.Access, c.Rights)
				for _, want := range []right.Set{right.ReadData, right.Delete, right.Synchronize | right.ReadData, 0x12019f, right.ReadAttributes} {
					require.Equal(t, verdict.Granted(q).Has(want), d.Holding(s, want).Has(i), "%x", want)
					require.Equal(t, d.Holding(s, want).Has(i), d.SomeHolding(s, want).Has(i), "%x", want)
					_, share := q.Connect()
					require.Equal(t, share.Has(want), d.Through(want).Has(i), "%x", want)
				}
				if way.Share != nil {
					door, _ := q.Connect()
					require.Equal(t, door.Refused, d.Refused().Has(i))
					require.Equal(t, door.ReadOnly, d.ReadOnly().Has(i))
				}
				return true
			})
		}
		for i, u := range pop.Users { // who is another machine's own is in none, and gets nothing
			if !pop.All().Has(i) {
				seen++
				q := &verdict.Question{Token: account.NewToken(dir, u.ID, tr.Traits, verdict.Special(way.Local)...), Item: item, Parent: parent, Above: above, Share: way.Share, Traits: &tr}
				if as != nil {
					q.Token, q.Self = as, q.Token
				}
				require.Zero(t, verdict.Granted(q))
				door, _ := q.Connect()
				require.Equal(t, verdict.Connection{Refused: true, Why: verdict.NoAccount}, door)
				require.Zero(t, verdict.Decide(q).Granted)
				require.False(t, d.Holding(s, right.ReadData).Has(i))
				nobody++
			}
		}
		require.Equal(t, len(pop.Users), seen, "everybody is in just one class")
	})
	proptest.Reached(t, another, 0, "files opened as another")
	proptest.Reached(t, nobody, 0, "accounts of another machine")
	for _, why := range []verdict.ConnectionWhy{verdict.NotListed, verdict.Barred, verdict.ReadListed, verdict.Switched} {
		proptest.Reached(t, doors[why], 0, fmt.Sprint("doors of kind ", why))
	}
}

// TestWhatFilesAreOpenedAsHolds: what a token that files are opened as holds, or
// what is put beside it, everybody holds, be it an identifier that a route has not.
func TestWhatFilesAreOpenedAsHolds(t *testing.T) {
	d := account.NewDirectory()
	u := account.Account{ID: dom.Child(1000), Kind: account.User, POSIX: account.NoPOSIX}
	d.Add(u)
	var tr account.Traits
	plain := account.NewToken(d, u.ID, tr, verdict.Special(false)...)
	pop := NewPopulation(d, tr, nil)
	require.False(t, pop.As(plain, nil, nil).Holders(account.Interactive, false).Has(0))
	require.True(t, pop.As(plain, []account.ID{account.Interactive}, nil).Holders(account.Interactive, false).Has(0), "beside")
	local := account.NewToken(d, u.ID, tr, verdict.Special(true)...)
	require.True(t, pop.As(local, nil, nil).Holders(account.Interactive, false).Has(0), "held by whom it is opened as")
}

// TestFormsAreTheRulesThemselves: what is remembered of rules that are alike but for the
// single users they name is what each list of them says, on either kind of route, for
// whomever files are opened as.
func TestFormsAreTheRulesThemselves(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, who := people(t)
		tr := anyTraits(t)
		pop := NewPopulation(dir, tr.Traits, nil)
		some := append([]account.ID{{}}, who...)
		for _, u := range pop.Users[:min(6, len(pop.Users))] {
			some = append(some, u.ID)
		}
		as := account.NewToken(dir, rapid.SampledFrom(who).Draw(t, "as"), tr.Traits, verdict.Special(false)...)
		pops := []*Population{pop, pop.As(as, nil, nil), pop.As(nil, []account.ID{rapid.SampledFrom(who).Draw(t, "beside")}, pop.Empty()), pop.Squashed(pop.Holders(account.UID(4001), false), as)}
		few := rapid.SliceOfN(rapid.SampledFrom(some), 4, 4).Draw(t, "few")
		for range 12 {
			l := &rule.List{}
			steps := func(what string) (out []rule.Step) {
				for range rapid.IntRange(0, 4).Draw(t, what) {
					out = append(out, rule.Step{Who: rapid.SampledFrom(few).Draw(t, "who"), Rights: rapid.SampledFrom([]right.Set{right.ReadData, right.All}).Draw(t, "rights"),
						Refuses: rapid.Bool().Draw(t, "refuses")})
				}
				return out
			}
			l.Steps = steps("steps")
			beneath := steps("beneath")
			for _, p := range pops {
				for _, local := range []bool{false, true} {
					for _, one := range []right.Set{right.ReadData, right.WriteData} {
						granted := p.Granted(l, one, local)
						require.Equal(t, p.decided(l.Steps, one, local, nil), granted, "%v", l.Steps)
						require.Equal(t, SomeOf(granted).places(), p.SomeGranted(l, one, local).places(), "%v", l.Steps)
						require.Equal(t, granted.Len() > 0, p.AnyGranted(l, one, local), "%v", l.Steps)
						two := &rule.List{Steps: l.Steps, Beneath: beneath}
						require.Equal(t, SomeOf(p.Granted(two, one, local)).places(), p.SomeGranted(two, one, local).places(), "%v", two)
						require.Equal(t, p.Granted(two, one, local).Len() > 0, p.AnyGranted(two, one, local), "%v", two)
					}
				}
			}
		}
	})
}
