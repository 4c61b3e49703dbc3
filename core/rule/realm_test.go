package rule

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/right"
)

// TestNobodyIsCalledARealmsGroup: the identifier that a realm's built-in group has here
// means nobody where rules bring it, neither in an entry nor as an owner.
func TestNobodyIsCalledARealmsGroup(t *testing.T) {
	named := account.NewID(5, 32, 544)
	inner, ok := named.In(account.MachineRealm(3))
	require.True(t, ok)
	for _, who := range []account.ID{named, inner} {
		d := &Descriptor{Owner: who, Rules: Rules{Entries: []Entry{{Kind: Allow, Rights: right.All, Who: who}}}}
		steps := d.Steps(Reading{Owner: true})
		if who == named {
			require.Len(t, steps, 2)
			continue
		}
		require.Empty(t, steps)
		d = &Descriptor{Owner: who, Rules: Rules{Entries: []Entry{{Kind: Allow, Rights: right.All, Who: account.OwnerRights}}}}
		require.Empty(t, d.Steps(Reading{Owner: true}))
	}
}
