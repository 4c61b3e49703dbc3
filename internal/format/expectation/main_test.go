package expectation

import (
	"flag"
	"os"
	"testing"
)

// TestMain draws the same worlds in every run, so that what a property reaches
// once it reaches always; -rapid.seed=N draws others.
func TestMain(m *testing.M) {
	flag.Parse()
	for name, value := range map[string]string{"rapid.seed": "20261125", "rapid.checks": "2000"} {
		if f := flag.Lookup(name); f != nil && f.Value.String() == f.DefValue {
			_ = f.Value.Set(value)
		}
	}
	os.Exit(m.Run())
}
