package estate

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// TestWhomTheEstateMadeUp: whoever is named anew is found wherever rules name somebody, and
// whoever was named already isn't.
func TestWhomTheEstateMadeUp(t *testing.T) {
	ours, theirs := ownDomain.Child(1100), account.NewID(5, 21, 1, 2, 3, 1100)
	require.True(t, MadeUp(ours))
	require.False(t, MadeUp(theirs))
	require.False(t, MadeUp(account.Everyone))
	of := func(id account.ID) map[string]*rule.Descriptor {
		entries := rule.Rules{Entries: []rule.Entry{{Who: theirs}, {Who: id}}}
		return map[string]*rule.Descriptor{"owner": {Owner: id}, "group": {Group: id}, "rules": {Rules: entries}, "audit": {Audit: entries}}
	}
	for what, d := range of(ours) {
		id, ok := MadeUpIn(&rule.Descriptor{}, d)
		require.True(t, ok, what)
		require.Equal(t, ours, id)
		for was, before := range of(ours) {
			_, ok := MadeUpIn(before, d)
			require.False(t, ok, "%s, and %s before", what, was)
		}
	}
	for what, d := range of(theirs) {
		_, ok := MadeUpIn(&rule.Descriptor{}, d)
		require.False(t, ok, what)
	}
}
