package cli_test

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEstatesOfEveryLayout: the playhouse as earlier programs kept it answers as they
// answered, stays as it is while it is only asked, and its changes are undone and redone.
// Layouts 1, 2 and 5 have stories of their own.
func TestEstatesOfEveryLayout(t *testing.T) {
	t.Parallel()
	prog := program(t)
	kept, err := filepath.Abs("../estate/testdata")
	require.NoError(t, err)
	unpacked := func(name string) []byte {
		f, err := os.Open(filepath.Join(kept, "layouts", name+".gz"))
		require.NoError(t, err)
		defer f.Close()
		r, err := gzip.NewReader(f)
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		return data
	}
	type change []string
	for layout, of := range map[string]struct {
		answers   string
		does, not change
	}{
		"3": {"3.answers.csv", change{"redo", "8"}, change{"undo", "12"}},
		"4": {"answers.csv", change{"undo", "15"}, change{"redo", "15"}},
		"6": {"answers.csv", change{"undo", "15"}, change{"redo", "15"}},
		"7": {"answers.csv", change{"undo", "15"}, change{"redo", "15"}},
	} {
		t.Run(layout, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			old := unpacked(layout + ".estate")
			require.NoError(t, os.WriteFile(filepath.Join(dir, "tarnwold.estate"), old, 0o600))
			ask := func() string {
				c := exec.Command(prog, "explain", "--from", filepath.Join(kept, "version1", "questions.csv"), "--format", "csv")
				c.Dir = dir
				out, _ := c.Output() // some questions are about what isn't there
				return string(out)
			}
			want := string(unpacked(of.answers))
			require.True(t, want == ask(), "it answers as it did")
			must(t, dir, prog, "check")
			now, err := os.ReadFile(filepath.Join(dir, "tarnwold.estate"))
			require.NoError(t, err)
			require.True(t, bytes.Equal(old, now), "who asks changes nothing")

			must(t, dir, prog, append(of.does, "--yes", "--as", "warden")...)
			require.False(t, want == ask(), "a change counts")
			must(t, dir, prog, append(of.not, "--yes", "--as", "warden")...)
			require.True(t, want == ask(), "and is taken back")
			require.Contains(t, must(t, dir, prog, "check"), "is whole")
			require.Contains(t, must(t, dir, prog, "log", "--proof"), "change ")
		})
	}
}
