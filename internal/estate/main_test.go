package estate

import (
	"testing"

	"tarnwold/core/verdict"
	"tarnwold/internal/proptest"
)

// TestMain keeps properties to fewer estates than rapid would make: each is a
// file of its own, written to disk.
func TestMain(m *testing.M) { proptest.Main(m, 30, 30) }

func testTraits() verdict.Traits {
	t, err := verdict.NamedTraits("smb-domain")
	if err != nil {
		panic(err)
	}
	return t
}
