// Package proptest settles which random worlds properties are tried on, and which
// trials are left to the long run, for tests.
package proptest

import (
	"flag"
	"os"
	"strconv"
	"testing"
)

// Main runs a package's tests on the same worlds in every run, so that what a
// property reaches once it reaches always, and on so many of them, or on as few
// as short says in the short run. -rapid.seed and -rapid.checks draw others.
func Main(m *testing.M, checks, short int) {
	flag.Parse()
	usual = checks
	if Short() {
		checks = short
	}
	for name, value := range map[string]string{"rapid.seed": "20261125", "rapid.checks": strconv.Itoa(checks)} {
		if f := flag.Lookup(name); f != nil && f.Value.String() == f.DefValue {
			_ = f.Value.Set(value)
		}
	}
	os.Exit(m.Run())
}

// usual is on how many worlds a package's properties are tried otherwise.
var usual int

// Reached holds a property to having met what it is about more often than want
// says. A run on fewer worlds than usual can't promise that.
func Reached(t testing.TB, got, want int, what string) {
	t.Helper()
	if f := flag.Lookup("rapid.checks"); f != nil {
		if n, err := strconv.Atoi(f.Value.String()); err != nil || n < usual {
			return
		}
	}
	if !Short() && got <= want {
		t.Errorf("%s: met %d times, wanted more than %d", what, got, want)
	}
}

// Short tells whether this is the short run: TARNWOLD_SHORT is set. It isn't -short
// that says so, for by that quick properties are tried on fewer worlds too.
func Short() bool { return os.Getenv("TARNWOLD_SHORT") != "" }

// Long leaves a trial that takes long to the long run, and says so.
func Long(t testing.TB) {
	t.Helper()
	if Short() {
		t.Skip("*** LEFT to make test-long ***")
	}
}
