package cli_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/server/smb/smbtest"
)

// TestSetupOfAServer: from nothing to the first answers of a real server, with every question
// answered at a terminal; a wrong password ends it, and the second time it goes on.
func TestSetupOfAServer(t *testing.T) {
	s := smbtest.Start(t, smbtest.Config{
		Users:  []string{"warden", "bram"},
		Shares: map[string]string{"productions": "", "small": ""},
	})
	for _, x := range []string{"productions/Wardrobe", "productions/Scripts", "small/One"} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, x), 0o777))
	}
	prog, dir := program(t), t.TempDir()
	answer := func(m *terminal, keys, then string) {
		m.seen.Reset()
		_, err := io.WriteString(m.side, keys+"\n")
		require.NoError(t, err)
		m.until(then)
	}
	at := fmt.Sprintf("127.0.0.1:%d", s.Port)
	questions := func(name string) *terminal {
		m := atTerminal(t, dir, prog, "setup")
		m.until("Where is the estate to live [tarnwold.estate]: ")
		answer(m, "no/such/place", "there is no folder no/such")
		answer(m, "mine.estate", "which folder of this machine (/…): ")
		answer(m, "no host", `"no host" is not a host`)
		answer(m, at, "a domain's controller (3) [1]: ")
		answer(m, "4", "wanted 1, 2 or 3")
		answer(m, "", "NAME@REALM [")
		answer(m, "warden", "What is it called in the estate [server]: ")
		answer(m, name, "Go on [yes]: ")
		return m
	}

	m := questions("stagedoor")
	said, code := m.says("no\n")
	require.Equal(t, 1, code, said)
	require.Contains(t, said, "Nothing was done.")
	require.NoFileExists(t, filepath.Join(dir, "mine.estate"))

	m = questions("stagedoor")
	answer(m, "y", "Password of warden on stagedoor: ")
	said, code = m.says("half a pass\x03") // broken off
	require.Equal(t, 3, code, said)
	require.Contains(t, said, "tarnwold: stopped; nothing was changed")
	require.NotContains(t, said, "half")

	m = questions("stagedoor")
	answer(m, "y", "Password of warden on stagedoor: ")
	said, code = m.says("not the one\n")
	require.Equal(t, 3, code, said)
	require.Contains(t, said, "setup ended at: tarnwold scan stagedoor --yes --estate mine.estate")
	require.NotContains(t, said, "not the one", "what is typed as a password isn't shown")

	m = questions("stagedoor")
	require.Contains(t, m.seen.String(), "use the server stagedoor in it")
	answer(m, "", "Password of warden on stagedoor: ")
	said, code = m.says(smbtest.Password("warden") + "\n")
	require.Zero(t, code, said)
	require.NotContains(t, said, "tarnwold init")
	require.Contains(t, said, "$ tarnwold grid //stagedoor/productions --estate mine.estate", "the larger share")
	require.Contains(t, said, "$ tarnwold findings --top 3 --estate mine.estate")
	require.Contains(t, said, "So that --estate needn't be given")

	// All that it ran is in the journal as it would be typed, and runs.
	require.Contains(t, must(t, dir, prog, "log", "show", "1", "--estate", "mine.estate"), "tarnwold server add stagedoor --smb "+at+" --user warden")
	must(t, dir, prog, "explain", "bram", "//stagedoor/productions/Wardrobe", "--estate", "mine.estate")
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.Equal(t, []string{filepath.Join(dir, "mine.estate")}, files, "nothing else stays")
}

// TestSetupOfATree: of this machine's own trees, with nobody there to answer.
func TestSetupOfATree(t *testing.T) {
	t.Parallel()
	prog, dir := program(t), t.TempDir()
	for _, x := range []string{"props/Workshop", "props/Loans", "attic/Old"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, x), 0o755))
	}
	out := must(t, dir, prog, "setup", "--root", "props", "--root", "attic", "--name", "propstore", "--yes")
	require.Contains(t, out, "2 folders and 0 files")
	require.Contains(t, out, "$ tarnwold grid propstore:"+filepath.Join(dir, "props")+"\n", "the larger tree")
	require.Contains(t, out, "finding")
	require.NotContains(t, out, "So that --estate")
	again := must(t, dir, prog, "setup", "--root", "props", "--root", "attic", "--name", "propstore", "--yes")
	require.Contains(t, again, "Nothing differs.")
	require.Equal(t, 1, strings.Count(must(t, dir, prog, "server", "list", "--format", "csv"), "propstore"))

	// Stopped before anything: nothing is there.
	m := atTerminal(t, t.TempDir(), prog, "setup")
	m.until("[tarnwold.estate]: ")
	said, code := m.says("\x04")
	require.Equal(t, 3, code, said)
	require.Contains(t, said, "stopped; nothing was changed")
}
