package cli

import (
	"fmt"
	"os"

	"github.com/rogpeppe/go-internal/testscript"
	"golang.org/x/sys/unix"
)

// smalldisk FOLDER SIZE puts a disk of its own on a folder.
func smallDisk(ts *testscript.TestScript, neg bool, args []string) {
	dir := ts.MkAbs(args[0])
	ts.Check(os.MkdirAll(dir, 0o700))
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size="+args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "SKIPPED: a full disk is not tested, for a small one can't be mounted here:", err)
		ts.Setenv("SKIP", "1")
		return
	}
	ts.Defer(func() { _ = unix.Unmount(dir, 0) })
}
