//go:build unix

package newfile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPlanted: whatever somebody has put where a file is to stand, nothing else
// is written, and nothing is left behind.
func TestPlanted(t *testing.T) {
	dir, victim := t.TempDir(), filepath.Join(t.TempDir(), "victim")
	require.NoError(t, os.WriteFile(victim, []byte("mine"), 0o640))
	at := filepath.Join(dir, "page.html")
	for what, plant := range map[string]func() error{
		"a link":         func() error { return os.Symlink(victim, at) },
		"a hard link":    func() error { return os.Link(victim, at) },
		"a folder":       func() error { return os.Mkdir(at, 0o777) },
		"a dangling one": func() error { return os.Symlink(filepath.Join(dir, "nowhere"), at) },
		"a file":         func() error { return os.WriteFile(at, []byte("old"), 0o666) },
		"nothing":        func() error { return nil },
	} {
		require.NoError(t, plant())
		err := Write(at, 0o640, []byte("new"))
		text, rerr := os.ReadFile(victim)
		require.NoError(t, rerr)
		require.Equal(t, "mine", string(text), what)
		if what == "a file" || what == "nothing" || what == "a hard link" {
			require.NoError(t, err, what)
			info, err := os.Lstat(at)
			require.NoError(t, err)
			require.Equal(t, os.FileMode(0o640), info.Mode(), what)
			f, err := Open(at)
			require.NoError(t, err)
			f.Close()
		} else {
			require.Error(t, err, what)
			_, err := Open(at)
			require.Error(t, err, what)
		}
		require.NoError(t, os.RemoveAll(at))
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Empty(t, left, what)
	}
}

// TestFolderExchanged: the folder that was opened is written to, wherever its
// name leads by then.
func TestFolderExchanged(t *testing.T) {
	top := t.TempDir()
	dir, other := filepath.Join(top, "dir"), filepath.Join(top, "other")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.Mkdir(other, 0o755))
	f, err := Create(filepath.Join(dir, "x"))
	require.NoError(t, err)
	info, err := f.Stat()
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode())
	require.NoError(t, os.Rename(dir, dir+".aside"))
	require.NoError(t, os.Symlink(other, dir))
	require.NoError(t, f.Keep(0o600))
	left, err := os.ReadDir(other)
	require.NoError(t, err)
	require.Empty(t, left)
	require.FileExists(t, filepath.Join(dir+".aside", "x"))
	// What others may write, or own, isn't read.
	require.NoError(t, os.Chmod(filepath.Join(dir+".aside", "x"), 0o622))
	_, err = Open(filepath.Join(dir+".aside", "x"))
	require.ErrorContains(t, err, "others may write it")
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chmod(filepath.Join(dir+".aside", "x"), 0o600))
		require.NoError(t, os.Chown(filepath.Join(dir+".aside", "x"), 4711, 0))
		_, err = Open(filepath.Join(dir+".aside", "x"))
		require.ErrorContains(t, err, "another user's")
	}
}
