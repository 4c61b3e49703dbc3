//go:build unix

package cli_test

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheTourAtATerminal: it goes chapter by chapter, on by Enter, anywhere by a number,
// and ends when that is said; no line is wider than the terminal.
func TestTheTourAtATerminal(t *testing.T) {
	t.Parallel()
	prog, dir := program(t), t.TempDir()
	m := atTerminal(t, dir, prog, "demo")
	m.until("1 of 7  An estate, from files")
	m.until("Enter goes on (2: Who may do what, and why), a number jumps, q ends.")
	require.NotContains(t, m.seen.String(), "2 of 7")
	answer := func(keys, then string) {
		m.seen.Reset()
		_, err := io.WriteString(m.side, keys)
		require.NoError(t, err)
		m.until(then)
		m.until("q ends.")
	}
	answer("\n", "2 of 7  Who may do what, and why")
	require.NotContains(t, m.seen.String(), "3 of 7")
	answer("7\n", "7 of 7  A server with owners, modes and lists")
	require.Contains(t, m.seen.String(), "Enter ends it")
	answer("3\n", "3 of 7  A change: seen before it is kept") // back: made anew
	require.Contains(t, m.seen.String(), "Kept as change 8.")
	answer("99\n", "Enter goes on (4: ")
	answer("x\n", "Enter goes on (4: ")
	for _, line := range strings.Split(strings.ReplaceAll(m.seen.String(), "\r", ""), "\n") {
		require.LessOrEqual(t, len([]rune(line)), 100, line)
	}
	said, code := m.says("q\n")
	require.Zero(t, code)
	require.Contains(t, said, "The estate is yours to try things on:")
	require.FileExists(t, filepath.Join(dir, "tarnwold-demo", "tarnwold.estate"))

	// Broken off by Ctrl-C it says so, and ends.
	m = atTerminal(t, dir, prog, "demo")
	m.until("q ends.")
	_, code = m.says("\x03")
	require.NotZero(t, code)
}

// TestOneChapter: what is before it is done unseen, and its own output is what the whole
// tour has there.
func TestOneChapter(t *testing.T) {
	t.Parallel()
	prog, dir := program(t), t.TempDir()
	whole := must(t, dir, prog, "demo", "whole")
	for _, name := range []string{"answers", "changes", "posix"} {
		out := must(t, dir, prog, "demo", name, "--chapter", name)
		body := strings.SplitN(out, "\n\n", 2)[1] // below its head
		body, _, _ = strings.Cut(body, "\nThe estate is yours")
		body, _, _ = strings.Cut(body, "$ tarnwold check")
		require.Contains(t, whole, strings.TrimSpace(body), name)
	}
	list := must(t, dir, prog, "demo", "--list", "--format", "csv")
	require.True(t, strings.HasPrefix(list, "chapter,title\nstart,"), list)
	_, err := os.Stat(filepath.Join(dir, "tarnwold-demo"))
	require.ErrorIs(t, err, os.ErrNotExist, "listing makes nothing")
}
