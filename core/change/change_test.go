package change

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

var (
	dom   = account.NewID(5, 21, 4, 4, 4)
	alice = dom.Child(1001)
	bob   = dom.Child(1002)
	crew  = dom.Child(2001)
	who   = []account.ID{alice, bob, crew, account.Everyone, account.Creator, account.OwnerRights}
)

func anyEntry(t *rapid.T) rule.Entry {
	return rule.Entry{
		Kind:   rapid.SampledFrom([]rule.Kind{rule.Allow, rule.Allow, rule.Deny}).Draw(t, "kind"),
		Flags:  rule.Flags(rapid.IntRange(0, 15).Draw(t, "flags")),
		Rights: right.Set(rapid.SampledFrom([]uint32{0x1, 0x40, 0x1200a9, 0x1301bf, 0x1f01ff, 0x10000000}).Draw(t, "rights")),
		Who:    rapid.SampledFrom(who).Draw(t, "who"),
	}
}

// anySet makes a small tree; stale ones hold items whose owner changed after
// they were made.
func anySet(t *rapid.T, stale bool) *Set {
	top := &rule.Descriptor{Owner: alice, Group: crew, Control: rule.RulesPresent | rule.RulesSealed, Audit: rule.Rules{Absent: true}}
	for range rapid.IntRange(0, 5).Draw(t, "top entries") {
		top.Rules.Entries = append(top.Rules.Entries, anyEntry(t))
	}
	s := &Set{Edits: map[int]Edit{}, Nodes: []Node{{Parent: -1, Folder: true, Items: 1, Before: top}}}
	for i := range rapid.IntRange(1, 9).Draw(t, "below") {
		p := rapid.IntRange(0, i).Draw(t, "parent")
		for !s.Nodes[p].Folder {
			p = s.Nodes[p].Parent
		}
		folder := rapid.IntRange(0, 3).Draw(t, "file") > 0
		d := rule.NewChild(s.Nodes[p].Before.(*rule.Descriptor), folder, rapid.SampledFrom([]account.ID{alice, bob}).Draw(t, "owner"), crew, nil)
		if stale && rapid.IntRange(0, 3).Draw(t, "owner changed") == 0 {
			d = d.OwnedBy(bob)
		}
		switch rapid.IntRange(0, 5).Draw(t, "kind of item") {
		case 0:
			d = d.Seal(rapid.Bool().Draw(t, "keep"))
		case 1, 2:
			d, _, _ = d.Give([]rule.Entry{anyEntry(t)}, rule.Giving{})
		}
		s.Nodes = append(s.Nodes, Node{Parent: p, Folder: folder, Items: 1, Before: d})
	}
	return s
}

// then does one edit on a node and gives the set as it stands afterwards.
func then(t *rapid.T, s *Set, at int, renew bool, edit func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error)) *Set {
	c := &Set{Nodes: append([]Node(nil), s.Nodes...), Edits: map[int]Edit{at: func(d, parent rule.Any, folder bool) (rule.Any, error) {
		up, _ := parent.(*rule.Descriptor)
		return edit(d.(*rule.Descriptor), up, folder)
	}}, Renew: renew}
	require.NoError(t, c.Work(context.Background()))
	out := &Set{Edits: map[int]Edit{}}
	for _, n := range c.Nodes {
		n.Before, n.After = n.After, nil
		out.Nodes = append(out.Nodes, n)
	}
	return out
}

func requireSame(t *rapid.T, a, b *Set) {
	for i := range a.Nodes {
		require.True(t, a.Nodes[i].Before.Same(b.Nodes[i].Before), "node %d:\n%+v\n%+v", i, a.Nodes[i].Before, b.Nodes[i].Before)
	}
}

func seal(keep bool) func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
	return func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) { return d.Seal(keep), nil }
}

func reflow(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
	if parent == nil {
		return d, nil
	}
	return d.Renewed(parent, folder), nil
}

func granted(d, parent rule.Any, user account.ID) right.Set {
	dir := account.NewDirectory()
	dir.Join(crew, bob)
	tr, _ := verdict.NamedTraits("smb")
	read := rule.NewReader(tr.Reading())
	return verdict.Granted(&verdict.Question{Token: account.NewToken(dir, user, tr.Traits, account.Everyone), Item: read.Of(d), Parent: read.Of(parent), Traits: &tr})
}

func TestSealingWithKeepChangesNobodysAccess(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := anySet(t, true)
		after := then(t, s, rapid.IntRange(0, len(s.Nodes)-1).Draw(t, "at"), false, seal(true))
		for i, n := range s.Nodes {
			for _, u := range []account.ID{alice, bob, dom.Child(9)} {
				var up, upNow rule.Any
				if n.Parent >= 0 {
					up, upNow = s.Nodes[n.Parent].Before, after.Nodes[n.Parent].Before
				}
				require.Equal(t, granted(n.Before, up, u), granted(after.Nodes[i].Before, upNow, u))
			}
		}
	})
}

func TestSealThenUnsealClearedIsReflow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := anySet(t, true)
		at := rapid.IntRange(1, len(s.Nodes)-1).Draw(t, "at")
		if d := s.Nodes[at].Before.(*rule.Descriptor); d.Sealed() || len(d.Rules.Own()) > 0 {
			return // its own entries would be dropped by the one and kept by the other
		}
		there := then(t, s, at, false, seal(rapid.Bool().Draw(t, "keep")))
		back := then(t, there, at, true, func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			return d.Unseal(parent, folder, true), nil
		})
		requireSame(t, then(t, s, at, true, reflow), back)
	})
}

func TestReflowTwiceIsReflowOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := anySet(t, true)
		at := rapid.IntRange(0, len(s.Nodes)-1).Draw(t, "at")
		once := then(t, s, at, true, reflow)
		requireSame(t, once, then(t, once, at, true, reflow))
		for i, n := range once.Nodes {
			for up := i; up > 0; up = once.Nodes[up].Parent {
				if up == at {
					require.False(t, n.Before.Stale(once.Nodes[n.Parent].Before, n.Folder), "below a reflow nothing is stale")
				}
			}
		}
	})
}

func TestRevokeUndoesGrant(t *testing.T) {
	newcomer := dom.Child(7777)
	rapid.Check(t, func(t *rapid.T) {
		s := anySet(t, true)
		at := rapid.IntRange(0, len(s.Nodes)-1).Draw(t, "at")
		e := anyEntry(t)
		e.Who = newcomer
		given := then(t, s, at, false, func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) {
			got, _, err := d.Give([]rule.Entry{e}, rule.Giving{})
			return got, err
		})
		requireSame(t, s, then(t, given, at, false, func(d, _ *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			return d.Take(rule.Which{Who: newcomer}, folder), nil
		}))
	})
}

func TestAGrantLeavesWhatIsStale(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := anySet(t, true)
		e := rule.Entry{Flags: 3, Rights: right.All, Who: dom.Child(7777)}
		given := then(t, s, 0, false, func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) {
			got, _, err := d.Give([]rule.Entry{e}, rule.Giving{})
			return got, err
		})
		for i, n := range s.Nodes {
			for _, u := range []account.ID{alice, bob} {
				require.Equal(t, granted(n.Before, nil, u), granted(given.Nodes[i].Before, nil, u), "nobody but the newcomer gains or loses")
			}
		}
	})
}

// Trees part the nodes, each in order under its topmost one.
func TestTrees(t *testing.T) {
	s := &Set{Nodes: []Node{{Parent: -1}, {Parent: -1}, {Parent: 0}, {Parent: 1}, {Parent: 2}, {Parent: -1}}}
	trees, top := s.Trees()
	require.Equal(t, map[int][]int{0: {0, 2, 4}, 1: {1, 3}, 5: {5}}, trees)
	require.Equal(t, []int{0, 1, 0, 1, 0, 5}, top)
}
