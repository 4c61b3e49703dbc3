// Package drawn settles which random worlds properties are tried on, for tests.
package drawn

import (
	"flag"
	"os"
	"strconv"
	"testing"
)

// Main runs a package's tests on the same worlds in every run, so that what a
// property reaches once it reaches always, and on so many of them. -rapid.seed
// and -rapid.checks draw others.
func Main(m *testing.M, checks int) {
	flag.Parse()
	for name, value := range map[string]string{"rapid.seed": "20261125", "rapid.checks": strconv.Itoa(checks)} {
		if f := flag.Lookup(name); f != nil && f.Value.String() == f.DefValue {
			_ = f.Value.Set(value)
		}
	}
	os.Exit(m.Run())
}
