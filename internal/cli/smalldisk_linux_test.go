package cli_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/rogpeppe/go-internal/testscript"
	"golang.org/x/sys/unix"
)

// smallDisk FOLDER SIZE puts a disk of its own on a folder.
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

// fillUp FOLDER leaves no room on the disk of a folder.
func fillUp(ts *testscript.TestScript, neg bool, args []string) {
	f, err := os.Create(filepath.Join(ts.MkAbs(args[0]), "filling"))
	ts.Check(err)
	defer f.Close()
	for err == nil {
		_, err = f.Write(make([]byte, 4096))
	}
}
