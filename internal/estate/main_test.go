package estate

import (
	"flag"
	"os"
	"testing"

	"tarnwold/core/verdict"
)

// TestMain keeps properties to fewer estates than rapid would make: each is a
// file of its own, written to disk.
func TestMain(m *testing.M) {
	flag.Parse()
	if f := flag.Lookup("rapid.checks"); f != nil && f.Value.String() == f.DefValue {
		_ = f.Value.Set("30")
	}
	os.Exit(m.Run())
}

func testTraits() verdict.Traits {
	t, err := verdict.NamedTraits("smb-domain")
	if err != nil {
		panic(err)
	}
	return t
}
