package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
)

// TestTheWayThatLetsUsWrite: of the shares that lead to a place, that is taken which lets
// who writes change rules and owners, however near another one is.
func TestTheWayThatLetsUsWrite(t *testing.T) {
	share := func(name, folder string, everyone right.Set) estate.Share {
		d := &rule.Descriptor{Control: rule.RulesPresent}
		d.Rules.Entries = []rule.Entry{{Kind: rule.Allow, Who: account.Everyone, Rights: everyone}}
		return estate.Share{Name: name, Folder: folder, Descriptor: d}
	}
	shares := []estate.Share{share("top", "/srv", 0x1200a9), share("open", "/srv/house", right.All), share("near", "/srv/house/cast", 0x1301bf), share("elsewhere", "/data", right.All)}
	lets := map[string]right.Set{}
	way := func(path string) string {
		name, rest, ok := plan.Way(shares, path, func(s *estate.Share) right.Set { return lets[s.Name] })
		if !ok {
			return "none"
		}
		return name + ":" + rest
	}
	require.Equal(t, "open:cast/list", way("/srv/house/cast/list"), "of which nothing is known, that which limits nobody")
	lets["top"] = right.All
	require.Equal(t, "top:house/cast/list", way("/srv/house/cast/list"), "others don't let them: they are listed, or it is read-only to them")
	lets["near"] = right.All &^ right.WriteOwner
	require.Equal(t, "top:house/cast/list", way("/srv/house/cast/list"))
	lets["near"] = right.All
	require.Equal(t, "near:list", way("/srv/house/cast/list"))
	require.Equal(t, "none", way("/other"))
	name, _, _ := plan.Way(shares, "/srv/house/cast/list", nil)
	require.Equal(t, "open", name)

	require.Equal(t, `QUILLFEATHER\warden`, estate.Link{Text: `{"user":"warden","domain":"QUILLFEATHER"}`}.SignsOnAs())
	require.Equal(t, "warden", estate.Link{Text: `{"user":"warden"}`}.SignsOnAs())
	require.Empty(t, estate.Link{Text: `x`}.SignsOnAs())
}
