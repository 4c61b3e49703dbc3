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
