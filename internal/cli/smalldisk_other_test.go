//go:build !linux

package cli_test

import "github.com/rogpeppe/go-internal/testscript"

func smallDisk(ts *testscript.TestScript, neg bool, args []string) {
	ts.Fatalf("no small disk can be made here")
}

func fillUp(ts *testscript.TestScript, neg bool, args []string) { smallDisk(ts, neg, args) }
