//go:build unix

package newfile

import (
	"io/fs"
	"os"
	"syscall"
)

// own tells whether a file is this user's, and nobody else may write it.
func own(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(st.Uid) == os.Geteuid() && info.Mode().Perm()&0o022 == 0
}
