package impact

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/change"
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
		d.Join(rapid.SampledFrom(groups).Draw(t, "group"), rapid.SampledFrom(members).Draw(t, "member"))
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

func share(s *verdict.Share) *verdict.Share { c := *s; return &c }

// TestImpactIsDecidingBeforeAndAfter: for every user, item and route one by one.
func TestImpactIsDecidingBeforeAndAfter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, who := people(t)
		tr, err := verdict.NamedTraits(rapid.SampledFrom(verdict.TraitNames()).Draw(t, "traits"))
		require.NoError(t, err)
		tr.AsksFoldersAbove = rapid.IntRange(0, 3).Draw(t, "asks above") == 0

		set := &change.Set{Edits: map[int]change.Edit{}, Above: map[int][]*rule.Descriptor{0: {anyRules(t, who, 3), anyRules(t, who, 3)}}}
		set.Nodes = []change.Node{{Parent: -1, Folder: true, Items: 1, Before: anyRules(t, who, 5)}}
		for i := range rapid.IntRange(0, 8).Draw(t, "below") {
			p := rapid.IntRange(0, i).Draw(t, "parent")
			d := rule.NewChild(set.Nodes[p].Before, true, rapid.SampledFrom(who[8:]).Draw(t, "owner"), dom, nil)
			if rapid.Bool().Draw(t, "own") && !d.Rules.Absent {
				d, err = d.Give([]rule.Entry{anyEntry(t, who)}, 0)
				require.NoError(t, err)
			}
			set.Nodes = append(set.Nodes, change.Node{Parent: p, Folder: true, Items: 1, Before: d})
		}
		at := rapid.IntRange(0, len(set.Nodes)-1).Draw(t, "edited")
		set.Edits[at] = func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) {
			if d.Rules.Absent {
				return d, nil
			}
			if rapid.IntRange(0, 4).Draw(t, "new owner") == 0 {
				d = d.OwnedBy(rapid.SampledFrom(who[8:]).Draw(t, "owner"))
			}
			if rapid.Bool().Draw(t, "take") && len(d.Rules.Own()) > 0 {
				return d.Take(rule.Which{Who: d.Rules.Own()[0].Who}, true), nil
			}
			return d.Give([]rule.Entry{anyEntry(t, who)}, 0)
		}
		require.NoError(t, set.Work())

		pop := NewPopulation(dir, tr.Traits)
		admins := []account.ID{rapid.SampledFrom(who).Draw(t, "administrator")}
		sh := &verdict.Share{Rules: anyRules(t, who, 4), ReadOnly: rapid.IntRange(0, 3).Draw(t, "read-only") == 0}
		after := share(sh)
		if rapid.IntRange(0, 3).Draw(t, "share too") == 0 {
			after.Rules = anyRules(t, who, 4)
		}
		start := rapid.IntRange(0, len(set.Nodes)-1).Draw(t, "share at")
		// Sometimes memberships change too.
		then, popThen, moved := dir, (*Population)(nil), Bits(nil)
		if rapid.IntRange(0, 2).Draw(t, "memberships too") == 0 {
			then = dir.Clone()
			group, member := rapid.SampledFrom(who[8:12]).Draw(t, "group"), rapid.SampledFrom(who[8:]).Draw(t, "member")
			if rapid.Bool().Draw(t, "leaves") {
				then.Leave(group, member)
			} else {
				then.Join(group, member)
			}
			popThen = NewPopulation(then, tr.Traits)
			moved = pop.Differing(popThen, then.All()...)
		}
		routes := []Route{
			{Name: "local", Local: true, Traits: &tr, Administrators: admins, People: pop, Then: popThen, Moved: moved, Starts: []Start{{0, true}}},
			{Name: "share", Before: sh, After: after, Traits: &tr, Administrators: admins, People: pop, Then: popThen, Moved: moved, Starts: []Start{{start, rapid.Bool().Draw(t, "above too")}}},
		}

		want := map[string][]int64{} // shift → users and items
		for ri, r := range routes {
			special := []account.ID{account.Everyone, account.Authenticated, account.Network}
			if r.Local {
				special[2] = account.Interactive
			}
			on := map[int]bool{}
			for ni, n := range set.Nodes {
				begins := ni == r.Starts[0].Node
				on[ni] = begins || n.Parent >= 0 && on[n.Parent]
				if !on[ni] {
					continue
				}
				seen := map[string]bool{}
				for ui, u := range pop.Users {
					tok := account.NewToken(dir, u.ID, tr.Traits, special...)
					tokThen := account.NewToken(then, u.ID, tr.Traits, special...)
					ask := func(tok *account.Token, pick func(*change.Node) *rule.Descriptor, s *verdict.Share) right.Set {
						q := &verdict.Question{Token: tok, Item: pick(&n), Share: s, Traits: &tr, Administrator: tok.Has(admins[0])}
						p := n.Parent
						for x := p; x >= 0; x = set.Nodes[x].Parent {
							q.Above = append(q.Above, pick(&set.Nodes[x]))
						}
						q.Above = append(q.Above, set.Above[0]...)
						if !begins || r.Starts[0].Above {
							q.Parent = q.Above[0]
						}
						return verdict.Granted(q) & right.Access
					}
					b := ask(tok, func(n *change.Node) *rule.Descriptor { return n.Before }, r.Before)
					a := ask(tokThen, func(n *change.Node) *rule.Descriptor { return n.After }, r.After)
					if a == b {
						continue
					}
					k := fmt.Sprint(ri, uint32(b), uint32(a))
					if want[k] == nil {
						want[k] = make([]int64, len(pop.Users)+1)
					}
					want[k][ui] = 1
					if !seen[k] {
						want[k][len(pop.Users)]++
						seen[k] = true
					}
				}
			}
		}
		got := map[string][]int64{}
		for _, s := range Of(set, routes) {
			row := make([]int64, len(pop.Users)+1)
			s.Users.Each(func(i int) bool { row[i] = 1; return true })
			row[len(pop.Users)] = s.Items
			got[fmt.Sprint(s.Route, uint32(s.Before), uint32(s.After))] = row
			require.NotEmpty(t, s.Nodes)
		}
		require.Equal(t, want, got)
	})
}

func TestHoldersAreThoseWhoseTokenHasIt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, who := people(t)
		tr := account.Traits{POSIXIDs: rapid.Bool().Draw(t, "posix"), DomainUsers: rapid.Bool().Draw(t, "domain users")}
		pop := NewPopulation(dir, tr)
		for i, u := range pop.Users {
			tok := account.NewToken(dir, u.ID, tr, account.Everyone, account.Authenticated, account.Network)
			for _, id := range who {
				require.Equal(t, tok.Has(id), pop.Holders(id, false).Has(i), "%s has %s", u.ID, id)
			}
		}
	})
}
