//go:build unix

package run

import (
	"os"
	"syscall"
)

// owns tells whether a file belongs to who runs the program.
func owns(path string) bool {
	info, err := os.Stat(path)
	if err != nil {
		return true // that it isn't there is told elsewhere
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	return !ok || int(s.Uid) == os.Geteuid()
}

// trusted tells whether a file is the user's, or root's.
func trusted(info os.FileInfo) bool {
	s, ok := info.Sys().(*syscall.Stat_t)
	return !ok || s.Uid == 0 || int(s.Uid) == os.Geteuid()
}

// others gives the mode of a file that others than its owner may read or write;
// 0: nobody else may.
func others(path string) os.FileMode {
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm()&0o077 == 0 {
		return 0
	}
	return info.Mode().Perm()
}
