package estate

import (
	"flag"
	"os"
	"testing"
)

// TestMain keeps properties to fewer estates than rapid would make: each is a
// file of its own, written to disk.
func TestMain(m *testing.M) {
	flag.Parse()
	if f := flag.Lookup("rapid.checks"); f != nil && f.Value.String() == f.DefValue {
		_ = f.Value.Set("40")
	}
	os.Exit(m.Run())
}
