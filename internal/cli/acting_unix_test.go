//go:build unix

package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAsSomebodyElse: only who owns the estate's file acts as somebody else.
func TestAsSomebodyElse(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("*** SKIPPED: running as another user needs root ***")
	}
	dir, prog := t.TempDir(), program(t)
	for _, d := range []string{dir, filepath.Dir(dir)} { // so that another user comes here
		require.NoError(t, os.Chmod(d, 0o777))
	}
	text, err := os.ReadFile(prog)
	require.NoError(t, err)
	prog = filepath.Join(dir, "tarnwold")
	require.NoError(t, os.WriteFile(prog, text, 0o755))
	must(t, dir, prog, "init")
	file := filepath.Join(dir, "tarnwold.estate")
	require.NoError(t, os.Chmod(file, 0o666))
	other := func(args ...string) (string, error) {
		c := exec.Command(prog, append(args, "--estate", file)...)
		c.Dir = dir
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		out, err := c.CombinedOutput()
		return string(out), err
	}
	out, err := other("user", "add", "maud", "--as", "warden")
	require.Error(t, err)
	require.Contains(t, out, "only the owner of "+file+" may act as somebody else; leave --as out")
	out, err = other("user", "add", "maud")
	require.NoError(t, err, out)
	must(t, dir, prog, "user", "add", "nils", "--as", "warden")
	require.Contains(t, must(t, dir, prog, "log", "--format", "csv"), ",warden,")
}
