package account

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func FuzzParseID(f *testing.F) {
	for _, s := range []string{"S-1-5-21-1-2-3-1000", "S-1-1-0", "uid:4001", "gid:5", "S-1-0x123456789a-1", "S-1-5", "S-1-5-", "S-2-5-1"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		id, err := ParseID(s)
		if err != nil {
			return
		}
		again, err := ParseID(id.String())
		require.NoError(t, err)
		require.Equal(t, id, again)
		b := id.AppendBinary(nil)
		require.Len(t, b, id.Size())
		got, n, err := FromBinary(append(b, 0xff))
		require.NoError(t, err)
		require.Equal(t, len(b), n)
		require.Equal(t, id, got)
	})
}

func FuzzFromBinary(f *testing.F) {
	f.Add(Everyone.AppendBinary(nil))
	f.Add([]byte{1, 15, 0, 0, 0, 0, 0, 5})
	f.Fuzz(func(t *testing.T, b []byte) {
		if id, n, err := FromBinary(b); err == nil {
			require.Equal(t, n, id.Size())
			if b[1] <= MaxSubs {
				require.Equal(t, b[:n], id.AppendBinary(nil))
			}
		}
	})
}

// people makes a directory of users and groups with any memberships, loops too.
func people(t *rapid.T) (*Directory, []ID, []ID) {
	d := NewDirectory()
	var us, gs []ID
	dom := NewID(5, 21, 1, 2, 3)
	for i := range rapid.IntRange(1, 5).Draw(t, "users") {
		id := dom.Child(uint32(1000 + i))
		us = append(us, id)
		d.Add(Account{ID: id, Kind: User, POSIX: int64(4000 + i)})
	}
	for i := range rapid.IntRange(1, 8).Draw(t, "groups") {
		id := dom.Child(uint32(2000 + i))
		gs = append(gs, id)
		d.Add(Account{ID: id, Kind: Group, POSIX: NoPOSIX})
	}
	for range rapid.IntRange(0, 20).Draw(t, "memberships") {
		d.Join(rapid.SampledFrom(gs).Draw(t, "group"), rapid.SampledFrom(append(slices.Clone(us), gs...)).Draw(t, "member"))
	}
	return d, us, gs
}

func TestTokenFollowsGroupsToAnyDepth(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d, us, gs := people(t)
		for _, u := range us {
			tok := NewToken(d, u, Traits{}, Everyone)
			require.True(t, tok.Has(Everyone))
			for _, g := range gs {
				in := slices.ContainsFunc(d.MembersBelow(g), func(m Membership) bool { return m.ID == u })
				require.Equal(t, in, tok.Has(g))
				chain := tok.Chain(g)
				if !in {
					require.Nil(t, chain)
					continue
				}
				require.Equal(t, u, chain[0].ID)
				require.Equal(t, g, chain[len(chain)-1].ID)
				for i := 1; i < len(chain); i++ {
					require.Contains(t, d.MembersOf(chain[i].ID), chain[i-1].ID)
				}
			}
		}
	})
}

func TestLoopIsWhatClosesACircle(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d, _, gs := people(t)
		g, m := rapid.SampledFrom(gs).Draw(t, "g"), rapid.SampledFrom(gs).Draw(t, "m")
		loop := d.Loop(g, m)
		inside := g == m || slices.ContainsFunc(d.MembersBelow(m), func(x Membership) bool { return x.ID == g })
		require.Equal(t, inside, loop != nil)
		if loop != nil {
			require.Equal(t, g, loop[0])
			require.Equal(t, g, loop[len(loop)-1])
			for i := 1; i < len(loop)-1; i++ {
				require.Contains(t, d.MembersOf(loop[i]), loop[i-1])
			}
		}
	})
}

// TestManyLeaveAsOneByOne: memberships ended and accounts taken out at once leave
// what one after the other leaves.
func TestManyLeaveAsOneByOne(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d, us, gs := people(t)
		all := append(slices.Clone(us), gs...)
		for _, g := range gs {
			for _, m := range d.MembersOf(g) {
				d.SetLocal(g, m, rapid.Bool().Draw(t, "local"))
			}
		}
		one, many := d.Clone(), d.Clone()
		var pairs [][2]ID
		for range rapid.IntRange(0, 12).Draw(t, "left") {
			pairs = append(pairs, [2]ID{rapid.SampledFrom(gs).Draw(t, "g"), rapid.SampledFrom(all).Draw(t, "m")})
		}
		for _, p := range pairs {
			one.Leave(p[0], p[1])
		}
		many.LeaveAll(pairs)
		same := func() {
			require.Equal(t, one.All(), many.All())
			for _, id := range all {
				_, is := one.Account(id)
				_, too := many.Account(id)
				require.Equal(t, is, too)
				require.ElementsMatch(t, one.GroupsOf(id), many.GroupsOf(id))
				require.ElementsMatch(t, one.MembersOf(id), many.MembersOf(id))
				for _, g := range gs {
					require.Equal(t, one.Local(g, id), many.Local(g, id))
				}
			}
		}
		same()
		gone := rapid.SliceOfDistinct(rapid.SampledFrom(all), func(id ID) ID { return id }).Draw(t, "gone")
		for _, id := range gone {
			one.Remove(id)
		}
		many.RemoveAll(gone)
		same()
	})
}

// TestAllJoinAsOneByOne: memberships that come all at once are those that come one by one,
// and others can come and go after them.
func TestAllJoinAsOneByOne(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		one, us, gs := people(t)
		all := append(slices.Clone(us), gs...)
		many := NewDirectory()
		place := map[ID]int32{}
		for i, id := range one.All() {
			a, _ := one.Account(id)
			many.Add(a)
			place[id] = int32(i)
		}
		var pairs [][2]int32
		for _, g := range gs {
			for _, m := range one.MembersOf(g) {
				pairs = append(pairs, [2]int32{place[g], place[m]})
			}
		}
		many.JoinAll(pairs)
		same := func() {
			for _, id := range all {
				require.Equal(t, len(one.MembersOf(id)), len(many.MembersOf(id)))
				require.ElementsMatch(t, one.GroupsOf(id), many.GroupsOf(id))
				for i, m := range one.MembersOf(id) {
					require.Equal(t, m, many.MembersOf(id)[i], "in their order")
				}
			}
		}
		same()
		for range rapid.IntRange(0, 8).Draw(t, "more") {
			g, m := rapid.SampledFrom(gs).Draw(t, "g"), rapid.SampledFrom(all).Draw(t, "m")
			leaves := rapid.Bool().Draw(t, "leaves")
			for _, d := range []*Directory{one, many} {
				if leaves {
					d.Leave(g, m)
				} else {
					d.Join(g, m)
				}
			}
			same()
		}
	})
}

func TestTokenHasThePrimaryGroup(t *testing.T) {
	d := NewDirectory()
	dom := NewID(5, 21, 7, 7, 7)
	u, g, above := dom.Child(1000), dom.Child(2000), dom.Child(2001)
	d.Add(Account{ID: u, Kind: User, POSIX: 4000, Primary: g})
	d.Add(Account{ID: g, Kind: Group, POSIX: 5000})
	d.Join(above, g)
	tok := NewToken(d, u, Traits{POSIXIDs: true, DomainUsers: true})
	for _, id := range []ID{u, g, above, UID(4000), GID(5000), dom.Child(DomainUsersRID)} {
		require.True(t, tok.Has(id), id)
	}
	require.False(t, tok.Has(GID(4000)), "the private group is only guessed where no primary group is known")
	require.Equal(t, []Link{{u, Self}, {g, PrimaryOf}, {above, Member}}, tok.Chain(above))
}

// TestEndsAreTheChains: both ends of a way are those of the whole chain, of users
// and of members, however long it is.
func TestEndsAreTheChains(t *testing.T) {
	d := NewDirectory()
	id := func(i int) ID { return NewID(5, 21, 1, 2, 3, uint32(1000+i)) }
	d.Add(Account{ID: id(0), Kind: User, POSIX: NoPOSIX})
	for i := 1; i < 40; i++ {
		d.Add(Account{ID: id(i), Kind: Group, POSIX: NoPOSIX})
		d.Join(id(i), id(i-1))
	}
	tok := NewToken(d, id(0), Traits{})
	for each := 1; each < 25; each++ {
		ends := tok.Ends(each)
		for _, i := range rand.New(rand.NewPCG(1, uint64(each))).Perm(40) {
			whole := tok.Chain(id(i))
			links, between := ends.Of(id(i))
			require.Len(t, whole, len(links)+between)
			want := whole
			if len(whole) > 2*each {
				want = append(slices.Clone(whole[:each]), whole[len(whole)-each:]...)
			}
			require.Equal(t, want, links, "%d of %d", each, i)
		}
		for _, m := range d.MembersBelow(id(39)) {
			whole := m.Chain()
			require.Equal(t, m.ID, whole[0])
			require.Equal(t, id(39), whole[len(whole)-1])
			require.Equal(t, whole[1], m.Direct())
			ids, between := m.Ends(each)
			want := whole
			if len(whole) > 2*each {
				want = append(slices.Clone(whole[:each]), whole[len(whole)-each:]...)
			}
			require.Equal(t, want, ids)
			require.Len(t, whole, len(ids)+between)
		}
	}
	require.Nil(t, d.Loop(id(39), id(5)))
	require.Len(t, d.Loop(id(5), id(39)), 36)
}

// TestNoIdentifier: what is asked of the zero ID is answered, and gives nothing.
func TestNoIdentifier(t *testing.T) {
	var id ID
	require.True(t, id.IsZero())
	require.Zero(t, id.Size())
	require.Empty(t, id.AppendBinary(nil))
	require.Empty(t, id.AppendText(nil))
	require.Empty(t, id.String())
	require.True(t, id.Child(7).IsZero())
	_, _, ok := id.Domain()
	require.False(t, ok)
	_, _, ok = id.POSIX()
	require.False(t, ok)
	require.False(t, id.SameDomain(UID(1)))
	require.Negative(t, Compare(id, UID(1)))
	_, named := SpecialName(id)
	require.False(t, named)
	require.False(t, Open(id))
	dir := NewDirectory()
	require.False(t, NewToken(dir, id, Traits{}).Has(UID(0)))
	require.Empty(t, dir.GroupsOf(id))
	require.Empty(t, dir.MembersBelow(id))
}

// TestOwnGroupsOnce: a machine's own groups count for users and for groups of elsewhere,
// and not in one another; its built-in ones for its own too. Another machine's own are as
// any group of elsewhere.
func TestOwnGroupsOnce(t *testing.T) {
	d := NewDirectory()
	house, machine, other := NewID(5, 21, 1, 2, 3), NewID(5, 21, 4, 5, 6), NewID(5, 21, 7, 8, 9)
	realm := MachineRealm(1)
	add := func(id ID, kind Kind, name string) ID {
		d.Add(Account{ID: id, Kind: kind, Name: name, POSIX: NoPOSIX})
		return id
	}
	anna := add(house.Child(1001), User, "anna")
	prompter := add(machine.Child(1003), User, "prompter")
	cast, crew := add(house.Child(2001), Group, "cast"), add(house.Child(2002), Group, "crew")
	l0, l1, l2 := add(machine.Child(1000), Group, "l0"), add(machine.Child(1001), Group, "l1"), add(machine.Child(1002), Group, "l2")
	theirs := add(other.Child(1000), Group, "theirs")
	users, backup := NewID(5, 32, 545), NewID(5, 32, 551)
	inUsers, _ := users.In(realm)
	inBackup, _ := backup.In(realm)
	add(inUsers, Group, "users")
	add(inBackup, Group, "backup")
	shipped := add(machine.Child(513), Group, "of the machine from the start")
	for _, m := range [][2]ID{{cast, anna}, {crew, cast}, {l0, crew}, {l1, l0}, {inUsers, l0}, {l2, inUsers}, {inBackup, inUsers}, {theirs, cast}, {l1, shipped}, {l2, prompter}} {
		d.Join(m[0], m[1])
	}
	tr := Traits{OwnGroupsOnce: true, Own: machine, Realm: realm}
	held := func(tr Traits, user ID) (out []string) {
		tok := NewToken(d, user, tr)
		for _, x := range []struct {
			name string
			id   ID
		}{{"cast", cast}, {"crew", crew}, {"l0", l0}, {"l1", l1}, {"l2", l2}, {"users", users}, {"backup", backup}, {"theirs", theirs}} {
			if tok.Has(x.id) {
				out = append(out, x.name)
			}
		}
		return out
	}
	require.Equal(t, []string{"cast", "crew", "l0", "users", "theirs"}, held(tr, anna))
	d.Join(l2, anna)
	require.Equal(t, []string{"cast", "crew", "l0", "l2", "users", "theirs"}, held(tr, anna), "listed themselves")
	require.Equal(t, []string{"l2"}, held(tr, prompter), "who is the machine's own is listed like anybody")
	d.Join(shipped, prompter)
	require.Equal(t, []string{"l1", "l2"}, held(tr, prompter), "groups a machine comes with count in its own")
	tr.OwnGroupsOnce = false
	require.Equal(t, []string{"cast", "crew", "l0", "l1", "l2", "users", "backup", "theirs"}, held(tr, anna))
	tr.OwnGroupsOnce, tr.Own = true, ID{}
	require.Equal(t, []string{"cast", "crew", "l0", "l1", "l2", "users", "theirs"}, held(tr, anna), "which are its own isn't known, but of the built-in ones")
}

// TestBuiltInGroupsComeLast: where layers are counted a machine's built-in groups count for
// whatever is in the token by then, however deep, and pass nothing on, not to one another.
func TestBuiltInGroupsComeLast(t *testing.T) {
	d := NewDirectory()
	house, realm := NewID(5, 21, 1, 2, 3), MachineRealm(1)
	add := func(id ID, kind Kind) ID {
		d.Add(Account{ID: id, Kind: kind, POSIX: NoPOSIX})
		return id
	}
	anna, bea := add(house.Child(1001), User), add(house.Child(1002), User)
	cast, wings, deep := add(house.Child(2001), Group), add(house.Child(2002), Group), add(house.Child(2003), Group)
	administrators, users, backup := NewID(5, 32, 544), NewID(5, 32, 545), NewID(5, 32, 551)
	in := map[ID]ID{}
	for _, id := range []ID{administrators, users, backup} {
		in[id], _ = id.In(realm)
		add(in[id], Group)
	}
	// anna in cast in wings in deep: one layer reaches wings.
	for _, m := range [][2]ID{{cast, anna}, {wings, cast}, {deep, wings}, {in[users], wings}, {in[backup], deep}, {in[administrators], bea}, {in[users], in[administrators]}, {cast, in[administrators]}} {
		d.Join(m[0], m[1])
	}
	d.SetLocal(in[administrators], bea, true)
	held := func(tr Traits, user ID) (out []ID) {
		tok := NewToken(d, user, tr)
		for _, id := range []ID{cast, wings, deep, administrators, users, backup} {
			if tok.Has(id) {
				out = append(out, id)
			}
		}
		return out
	}
	one := Traits{Layers: 1, Realm: realm}
	require.Equal(t, []ID{cast, wings, users}, held(one, anna))
	require.Equal(t, []ID{administrators}, held(one, bea))
	require.Equal(t, []ID{cast, wings, deep, users, backup}, held(Traits{Realm: realm}, anna))
	require.Equal(t, []ID{cast, wings, deep, administrators, users, backup}, held(Traits{Realm: realm}, bea))
}
