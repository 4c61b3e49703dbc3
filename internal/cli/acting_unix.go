//go:build unix

package cli

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
