package rule

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule/condition"
)

var (
	dom   = account.NewID(5, 21, 9, 9, 9)
	alice = dom.Child(1001)
	bob   = dom.Child(1002)
	crew  = dom.Child(2001)
	who   = []account.ID{alice, bob, crew, account.Everyone, account.Creator, account.CreatorGroup, account.OwnerRights}
)

func anyEntry(t *rapid.T) Entry {
	return Entry{
		Kind:   rapid.SampledFrom([]Kind{Allow, Allow, Deny}).Draw(t, "kind"),
		Flags:  Flags(rapid.IntRange(0, 15).Draw(t, "flags")),
		Rights: right.Set(rapid.SampledFrom([]uint32{0x1, 0x1200a9, 0x1f01ff, 0x10000, 0x10000000, 0x80000000}).Draw(t, "rights")),
		Who:    rapid.SampledFrom(who).Draw(t, "who"),
	}
}

// chain makes a top folder and descriptors below it that are as they should be.
func chain(t *rapid.T) []*Descriptor {
	top := &Descriptor{Owner: alice, Group: crew, Control: RulesPresent | RulesSealed, Audit: Rules{Absent: true}}
	for range rapid.IntRange(0, 4).Draw(t, "top entries") {
		top.Rules.Entries = append(top.Rules.Entries, anyEntry(t))
	}
	out := []*Descriptor{top}
	for range rapid.IntRange(1, 4).Draw(t, "depth") {
		d := NewChild(out[len(out)-1], true, rapid.SampledFrom([]account.ID{alice, bob}).Draw(t, "owner"), crew, nil)
		if rapid.Bool().Draw(t, "own") {
			d, _, _ = d.Give([]Entry{anyEntry(t)}, Giving{})
		}
		out = append(out, d)
	}
	return out
}

func TestScopesReadBack(t *testing.T) {
	for s := Scope(1); s <= Tree|Once; s++ {
		if s&Tree == 0 || s&Below == 0 && s&Once != 0 {
			continue
		}
		got, err := ParseScope(s.String())
		require.NoError(t, err)
		require.Equal(t, s, got, s.String())
		require.Equal(t, s, s.Flags().Scope())
	}
	for _, bad := range []string{"", "everywhere", "here once twice", "here+", "once"} {
		_, err := ParseScope(bad)
		require.Error(t, err, bad)
	}
}

func TestEntryWrittenReadsBack(t *testing.T) {
	names := map[account.ID]string{alice: "alice quill", bob: `bob "b"`, crew: "crew"}
	g := Language{Levels: right.Builtin(), Name: func(id account.ID) string {
		if n, ok := account.SpecialName(id); ok {
			return n
		}
		return names[id]
	}, Who: func(n string) (account.ID, error) {
		if id, ok := account.ParseSpecial(n); ok {
			return id, nil
		}
		for id, m := range names {
			if m == n {
				return id, nil
			}
		}
		return account.ID{}, ErrAbsent
	}}
	rapid.Check(t, func(t *rapid.T) {
		e := anyEntry(t)
		s := e.Scope()
		if s&Tree == 0 {
			return // an entry that covers nothing has no written form to read
		}
		e.Flags = s.Flags()
		l, err := g.ParseLine(g.Write(e, true))
		require.NoError(t, err)
		es, err := l.Entries(true)
		require.NoError(t, err)
		require.Equal(t, []Entry{e}, es, g.Write(e, true))
	})
}

// TestStandardsInheritance follows [MS-DTYP] §2.5.3.4 case by case.
func TestStandardsInheritance(t *testing.T) {
	const oi, ci, np, io, id = ObjectInherit, ContainerInherit, NoPropagate, InheritOnly, Inherited
	for _, c := range []struct {
		name   string
		flags  Flags
		who    account.ID
		folder bool
		want   []Entry
	}{
		{"here only", 0, bob, true, nil},
		{"tree on a folder", oi | ci, bob, true, []Entry{{Flags: oi | ci | id, Who: bob}}},
		{"tree on a file", oi | ci, bob, false, []Entry{{Flags: id, Who: bob}}},
		{"files on a folder", oi, bob, true, []Entry{{Flags: oi | io | id, Who: bob}}},
		{"files once on a folder", oi | np, bob, true, nil},
		{"files once on a file", oi | np, bob, false, []Entry{{Flags: id, Who: bob}}},
		{"folders on a file", ci, bob, false, nil},
		{"below on a folder", oi | ci | io, bob, true, []Entry{{Flags: oi | ci | id, Who: bob}}},
		{"tree once on a folder", oi | ci | np, bob, true, []Entry{{Flags: id, Who: bob}}},
		{"creator on a folder", oi | ci | io, account.Creator, true, []Entry{{Flags: id, Who: alice}, {Flags: oi | ci | io | id, Who: account.Creator}}},
		{"creator on a file", oi | ci | io, account.Creator, false, []Entry{{Flags: id, Who: alice}}},
		{"creator once", oi | ci | io | np, account.Creator, true, []Entry{{Flags: id, Who: alice}}},
		{"creator's files on a folder", oi | io, account.Creator, true, []Entry{{Flags: oi | io | id, Who: account.Creator}}},
		{"creator's group", ci, account.CreatorGroup, true, []Entry{{Flags: id, Who: crew}, {Flags: ci | io | id, Who: account.CreatorGroup}}},
	} {
		got := HandDown([]Entry{{Flags: c.flags, Who: c.who}}, c.folder, alice, crew)
		require.Equal(t, c.want, got, c.name)
	}
	generic := HandDown([]Entry{{Flags: oi | ci, Who: bob, Rights: right.GenericAll}}, true, alice, crew)
	require.Equal(t, []Entry{{Flags: id, Who: bob, Rights: right.All}, {Flags: oi | ci | io | id, Who: bob, Rights: right.GenericAll}}, generic)
}

func TestAFreshChildIsNotStale(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chain(t)
		for i := 1; i < len(c); i++ {
			require.False(t, c[i].StaleUnder(c[i-1], true))
			require.Same(t, c[i], c[i].Renewed(c[i-1], true))
			require.Equal(t, -1, (&Rules{Entries: c[i].Rules.Entries}).Misplaced())
		}
	})
}

func TestFollowGoesThereAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chain(t)
		changed, _, err := c[0].Give([]Entry{anyEntry(t)}, Giving{})
		require.NoError(t, err)
		was, is := c[0], changed
		for _, d := range c[1:] {
			then := d.Follow(was, is, true)
			require.False(t, then.StaleUnder(is, true), "what follows its folder is not stale")
			require.Equal(t, d.Rules.Own(), then.Rules.Own(), "own entries are untouched by what changes above")
			require.True(t, then.Follow(is, was, true).Equal(d))
			was, is = d, then
		}
	})
}

func TestEveryInheritedEntryHasAnOrigin(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chain(t)
		last := c[len(c)-1]
		above := slices.Clone(c[:len(c)-1])
		slices.Reverse(above)
		for _, e := range last.Rules.FromAbove() {
			at, i, ok := Origin(e, true, above)
			require.True(t, ok)
			require.True(t, above[at].Rules.Entries[i].Own())
		}
	})
}

func TestGiveThenTake(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chain(t)
		d := c[len(c)-1]
		newcomer := dom.Child(7777)
		l := Line{Kind: rapid.SampledFrom([]Kind{Allow, Deny}).Draw(t, "kind"), Who: newcomer,
			What: right.What{Folder: 0x1200af, File: 0x1200a9}, Scope: Tree}
		es, err := l.Entries(true)
		require.NoError(t, err)
		given, _, err := d.Give(es, Giving{})
		require.NoError(t, err)
		again, _, err := given.Give(es, Giving{})
		require.NoError(t, err)
		require.Same(t, given, again, "giving twice is giving once")
		require.True(t, given.Take(Which{Who: newcomer}, true).Equal(d))
		what := right.What{Folder: 0x1200af, File: 0x1200af}
		require.True(t, given.Take(Which{Who: newcomer, What: &what}, true).Equal(d))
	})
}

func TestSealKeepsWhatEachEntryGives(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chain(t)
		d, parent := c[len(c)-1], c[len(c)-2]
		kept := d.Seal(true)
		require.True(t, kept.Sealed())
		var want []Entry
		for _, e := range d.Rules.Entries {
			if own := e.Own(); own || !slices.Contains(want, Entry{e.Kind, e.Flags &^ Inherited, e.Rights, e.Who, e.Extra}) {
				e.Flags &^= Inherited
				want = append(want, e)
			}
		}
		require.Equal(t, want, kept.Rules.Entries)
		back := kept.Unseal(parent, true, true)
		require.Equal(t, d.Inherits(parent, true), back.Rules.Entries)
		require.Equal(t, d.Rules.Own(), d.Seal(false).Rules.Entries)
	})
}

// TestSealKeepsOneOfTwo: what is set on an item and comes from above too stays once.
func TestSealKeepsOneOfTwo(t *testing.T) {
	one := Entry{Rights: 1, Who: bob, Flags: ContainerInherit}
	twice := one
	twice.Flags |= Inherited
	d := &Descriptor{Rules: Rules{Entries: []Entry{one, {Rights: 2, Who: bob}, twice, {Rights: 4, Who: bob, Flags: Inherited}}}}
	require.Equal(t, []Entry{one, {Rights: 2, Who: bob}, {Rights: 4, Who: bob}}, d.Seal(true).Rules.Entries)
}

// TestConditionsTellStepsApart: what an entry asks for is a part of what it decides, and one
// for a type of object that files aren't never counts.
func TestConditionsTellStepsApart(t *testing.T) {
	list := func(kind Kind, object, text string) *List {
		n, err := condition.Parse(text, account.ParseID)
		require.NoError(t, err)
		return Compile(&Descriptor{Rules: Rules{Entries: []Entry{{Kind: kind, Rights: 1, Who: bob, Extra: Extra{Object: object, Tail: string(n.Encode())}}}}}, Reading{Conditions: true})
	}
	a, b := list(AllowIf, "", "@User.a == 1"), list(AllowIf, "", "@User.a == 2")
	require.False(t, a.Decides(b))
	require.True(t, a.Decides(list(AllowIf, "", "@User.a == 1")))
	require.Len(t, list(AllowObjectIf, "\x00\x00\x00\x00", "@User.a").Steps, 1)
	require.Empty(t, list(AllowObjectIf, "\x01\x00\x00\x000123456789abcdef", "@User.a").Steps)
}

func TestAbsentRulesTakeNoEntry(t *testing.T) {
	d := &Descriptor{Rules: Rules{Absent: true}}
	_, _, err := d.Give([]Entry{{Who: bob, Rights: 1}}, Giving{})
	require.ErrorIs(t, err, ErrAbsent)
}

func TestPlaceInTheList(t *testing.T) {
	d := &Descriptor{Rules: Rules{Entries: []Entry{{Kind: Deny, Who: bob, Rights: 1}, {Who: bob, Rights: 2}, {Who: crew, Rights: 4, Flags: Inherited}}}}
	got, _, err := d.Give([]Entry{{Kind: Deny, Who: alice, Rights: 1}, {Who: alice, Rights: 2}}, Giving{})
	require.NoError(t, err)
	require.Equal(t, []account.ID{bob, alice, bob, alice, crew}, []account.ID{got.Rules.Entries[0].Who, got.Rules.Entries[1].Who, got.Rules.Entries[2].Who, got.Rules.Entries[3].Who, got.Rules.Entries[4].Who})
	got, _, err = d.Give([]Entry{{Kind: Deny, Who: alice, Rights: 1}}, Giving{At: 4})
	require.NoError(t, err)
	require.Equal(t, 3, got.Rules.Misplaced())
	_, _, err = d.Give([]Entry{{Who: alice, Rights: 1}}, Giving{At: 9})
	require.ErrorContains(t, err, "no place 9")
}

// TestOwnEntriesNeverMove: in a list out of order, what comes from above is
// renewed around the own entries.
func TestOwnEntriesNeverMove(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chain(t)
		d, parent := c[len(c)-1].Clone(), c[len(c)-2]
		for range rapid.IntRange(1, 4).Draw(t, "more") {
			e := anyEntry(t)
			if rapid.Bool().Draw(t, "inherited") {
				e.Flags |= Inherited
			}
			d.Rules.Entries = slices.Insert(d.Rules.Entries, rapid.IntRange(0, len(d.Rules.Entries)).Draw(t, "at"), e)
		}
		after := d.Renewed(parent, true)
		require.False(t, after.StaleUnder(parent, true))
		require.Equal(t, d.Rules.Own(), after.Rules.Own())
		if first := slices.IndexFunc(d.Rules.Entries, func(e Entry) bool { return !e.Own() }); first >= 0 {
			require.Equal(t, d.Rules.Entries[:first], after.Rules.Entries[:first], "what stood before all inherited ones still does")
		}
	})
}

// TestLastDaysStayApart: an entry with a last day takes no rights up, and is
// not taken up.
func TestLastDaysStayApart(t *testing.T) {
	dated := Entry{Flags: 3, Rights: 0x1200a9, Who: bob}
	d := &Descriptor{Rules: Rules{Entries: []Entry{dated}}}
	apart := Giving{Apart: func(e Entry) bool { return e == dated }}
	more := Entry{Flags: 3, Rights: 0x1301bf, Who: bob}
	got, stand, err := d.Give([]Entry{more}, apart)
	require.NoError(t, err)
	require.Equal(t, []Entry{dated, more}, got.Rules.Entries)
	require.Equal(t, []Entry{more}, stand)
	same, stand, err := d.Give([]Entry{dated}, apart)
	require.NoError(t, err)
	require.Same(t, d, same)
	require.Equal(t, []Entry{dated}, stand)
	// What a permanent entry grows into may be just what the dated one is.
	low := Entry{Flags: 3, Rights: 0x20, Who: bob}
	d = &Descriptor{Rules: Rules{Entries: []Entry{low, dated}}}
	got, stand, err = d.Give([]Entry{dated}, Giving{Apart: apart.Apart, Alone: true})
	require.NoError(t, err)
	require.Same(t, d, got)
	require.Equal(t, []Entry{dated}, stand)
	got, stand, err = d.Give([]Entry{{Flags: 3, Rights: 0x1200a9 &^ 0x20, Who: bob}}, apart)
	require.NoError(t, err)
	require.Equal(t, []Entry{dated}, got.Rules.Entries, "two that are the same are one")
	require.Equal(t, []Entry{dated}, stand)
}

func TestTakeFromGenericRightsAndFromShares(t *testing.T) {
	d := &Descriptor{Rules: Rules{Entries: []Entry{{Rights: right.GenericAll, Who: bob}}}}
	del := right.What{Folder: right.Delete, File: right.Delete}
	got := d.Take(Which{Who: bob, What: &del}, true)
	require.Equal(t, right.All&^right.Delete, got.Rules.Entries[0].Rights, "the rest of what the generic bit stood for stays")
	read := right.What{Folder: right.ReadData, File: right.ReadData}
	d.Rules.Entries[0].Rights = right.GenericWrite
	require.Same(t, d, d.Take(Which{Who: bob, What: &read}, true))
	// On a share both parts of a level are taken.
	add, ok := right.Builtin().Lookup("add")
	require.True(t, ok)
	what := right.What{Folder: add.Folder, File: add.File}
	d.Rules.Entries[0].Rights = right.All
	got = d.Take(Which{Who: bob, What: &what, Whole: true}, false)
	require.Zero(t, got.Rules.Entries[0].Rights&(add.Folder|add.File)&right.Access)
}

// TestSealedTakesNothing: whatever its folder hands down or comes to hand
// down, a sealed list stays as it is, and is never stale for it.
func TestSealedTakesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chain(t)
		parent, folder := c[0], rapid.Bool().Draw(t, "folder")
		more, _, err := parent.Give([]Entry{{Kind: Allow, Flags: ObjectInherit | ContainerInherit, Rights: right.All, Who: account.Everyone}}, Giving{})
		if err != nil {
			t.Skip("absent rules")
		}
		d := c[len(c)-1].Seal(rapid.Bool().Draw(t, "keep"))
		if len(d.Rules.FromAbove()) > 0 || d.Rules.Absent {
			t.Skip("sealed before")
		}
		require.False(t, (&Descriptor{Control: d.Control, Rules: d.Rules, Audit: Rules{Absent: true}}).StaleUnder(&Descriptor{Rules: more.Rules, Audit: Rules{Absent: true}}, folder))
		require.Equal(t, d.Rules, d.Follow(parent, more, folder).Rules)
		require.Equal(t, d.Rules, d.Renewed(more, folder).Rules)
	})
}

// TestCoversIsOnAllItIsHandedTo: an entry covers another only where that stands and as far
// down as it goes.
func TestCoversIsOnAllItIsHandedTo(t *testing.T) {
	e := func(rights right.Set, f Flags) Entry { return Entry{Rights: rights, Flags: f} }
	const tree = ObjectInherit | ContainerInherit
	for _, x := range []struct {
		over, under Entry
		covers      bool
	}{
		{e(right.All, tree), e(right.ReadData, tree), true},
		{e(right.All, tree), e(right.ReadData, 0), true},
		{e(right.All, 0), e(right.ReadData, tree), false},
		{e(right.All, tree|NoPropagate), e(right.ReadData, tree), false},
		{e(right.All, tree), e(right.ReadData, tree|NoPropagate), true},
		{e(right.All, tree|InheritOnly), e(right.ReadData, tree), false},
		{e(right.All, tree|Inherited), e(right.ReadData, tree), true},
		{e(right.GenericRead, tree), e(right.ReadData, tree), true},
		{e(right.ReadData, tree), e(right.GenericRead, tree), false},
	} {
		require.Equal(t, x.covers, x.over.Covers(x.under), "%v %v", x.over, x.under)
	}
}
