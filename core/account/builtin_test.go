package account

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestARealmsGroupIsToldByIts: a built-in group of a realm leads back to the realm and to
// the identifier that rules have, and to nothing else that is asked of identifiers.
func TestARealmsGroupIsToldByIts(t *testing.T) {
	domain := NewID(5, 21, 1, 2, 3)
	for _, realm := range []ID{MachineRealm(1), MachineRealm(1<<32 - 1), domain} {
		for _, name := range BuiltinNames() {
			named, ok := ParseSpecial(name)
			require.True(t, ok, name)
			group, ok := named.In(realm)
			require.True(t, ok)
			of, by, ok := group.Realm()
			require.True(t, ok)
			require.Equal(t, [2]ID{realm, named}, [2]ID{of, by})
			require.Equal(t, named, group.Named())
			again, err := ParseID(group.String())
			require.NoError(t, err)
			require.Equal(t, group, again)
			_, _, ok = group.Domain()
			require.False(t, ok)
			_, ok = SpecialName(group)
			require.False(t, ok)
			back, _ := SpecialName(named)
			require.Equal(t, name, back)
		}
	}
	for _, id := range []ID{{}, Everyone, UID(7), domain, domain.Child(544), NewID(5, 32), NewID(5, 32, 544, 1), MachineRealm(4), NewID(5, 21, 1, 2, 3, 33, 544)} {
		_, _, ok := id.Realm()
		require.False(t, ok, id)
		require.Equal(t, id, id.Named())
		_, ok = id.In(domain)
		require.False(t, ok, id)
	}
	_, ok := NewID(5, 32, 544).In(ID{})
	require.False(t, ok)
	old, ok := ParseSpecial("Machine-Administrators@")
	require.True(t, ok)
	require.Equal(t, NewID(5, 32, 544), old)
}

func TestAMachinesOwnIsToldByItsNumber(t *testing.T) {
	for _, realm := range []ID{MachineRealm(0), MachineRealm(1), MachineRealm(1<<32 - 1)} {
		for _, named := range []ID{UID(0), UID(MostPOSIX), GID(0), GID(4001)} {
			own, ok := named.On(realm)
			require.True(t, ok)
			of, by, ok := own.Machine()
			require.True(t, ok)
			require.Equal(t, [2]ID{realm, named}, [2]ID{of, by})
			require.Equal(t, named, own.Named())
			require.True(t, own.Inner())
			again, err := ParseID(own.String())
			require.NoError(t, err)
			require.Equal(t, own, again)
			_, _, posix := own.POSIX()
			_, _, group := own.Realm()
			require.False(t, posix || group)
		}
	}
	group, _ := NewID(5, 32, 544).In(MachineRealm(1))
	for _, id := range []ID{{}, Everyone, UID(7), group, MachineRealm(1), MachineRealm(1).Child(22).Child(3).Child(7), NewID(5, 21, 1, 2, 3, 22, 1, 7)} {
		_, _, ok := id.Machine()
		require.False(t, ok, id)
	}
	for _, realm := range []ID{{}, NewID(5, 21, 1, 2, 3), group} {
		_, ok := UID(7).On(realm)
		require.False(t, ok, realm)
	}
	_, ok := Everyone.On(MachineRealm(1))
	require.False(t, ok)
}

func TestAMachinesOwnIsNobodyElsewhere(t *testing.T) {
	d := NewDirectory()
	here, there := MachineRealm(1), MachineRealm(2)
	daemon, _ := UID(1).On(here)
	adm, _ := GID(4).On(here)
	other, _ := GID(4).On(there)
	d.Add(Account{ID: daemon, Kind: User, POSIX: 1, Primary: adm})
	d.Add(Account{ID: adm, Kind: Group, POSIX: 4})
	d.Add(Account{ID: other, Kind: Group, POSIX: 4})
	person := NewID(5, 21, 1, 2, 3, 1000)
	d.Add(Account{ID: person, Kind: User, POSIX: NoPOSIX})
	d.Join(adm, person)
	tr := Traits{POSIXIDs: true, Machine: here}
	for _, id := range []ID{UID(1), GID(4), daemon, Everyone} {
		require.True(t, NewToken(d, daemon, tr, Everyone).Has(id), id)
	}
	require.True(t, NewToken(d, person, tr).Has(GID(4)))
	for _, elsewhere := range []ID{there, Nowhere} {
		tr.Machine = elsewhere
		require.True(t, NewToken(d, daemon, tr, Everyone).Nobody())
		require.False(t, NewToken(d, person, tr, Everyone).Nobody())
		require.False(t, NewToken(d, person, tr).Has(GID(4)))
	}
	require.True(t, NewToken(d, daemon, Traits{}).Has(daemon), "nobody presents it")
}
