//go:build unix

package cli_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/proptest"
)

// terminal is a program run at a terminal of its own.
type terminal struct {
	t    *testing.T
	c    *exec.Cmd
	side *os.File
	seen bytes.Buffer
}

func atTerminal(t *testing.T, dir, prog string, args ...string) *terminal {
	c := exec.Command(prog, args...)
	c.Dir = dir
	c.Env = append(os.Environ(), "NO_COLOR=1")
	side, err := pty.StartWithSize(c, &pty.Winsize{Rows: 40, Cols: 100})
	require.NoError(t, err)
	t.Cleanup(func() { side.Close() })
	return &terminal{t: t, c: c, side: side}
}

// until reads the terminal until it shows a text.
func (m *terminal) until(text string) {
	b := make([]byte, 4096)
	for !strings.Contains(m.seen.String(), text) {
		n, err := m.side.Read(b)
		m.seen.Write(b[:n])
		require.NoError(m.t, err, "%q never came: %s", text, m.seen.String())
	}
}

// says types a line's answer and gives what came back and the exit code.
func (m *terminal) says(keys string) (string, int) {
	m.seen.Reset()
	_, err := io.WriteString(m.side, keys)
	require.NoError(m.t, err)
	_, _ = io.Copy(&m.seen, m.side) // ends with EIO when the program does
	_ = m.c.Wait()
	return strings.ReplaceAll(m.seen.String(), "\r\n", "\n"), m.c.ProcessState.ExitCode()
}

const question = "Keep this change? [y/N] "

// TestLongAnswersAreShownByPages: at a terminal what is longer than the screen goes to
// PAGER, and nothing else does; nor is anything coloured where the terminal only prints.
func TestLongAnswersAreShownByPages(t *testing.T) {
	t.Parallel()
	prog := program(t)
	dir := demo(t, prog)
	for _, c := range []struct {
		name  string
		env   []string
		args  []string
		paged bool
	}{
		{"long", []string{"PAGER=sed s/^/page:/"}, []string{"log", "--all"}, true},
		{"long list", []string{"PAGER=sed s/^/page:/"}, []string{"user", "list"}, true},
		{"short", []string{"PAGER=sed s/^/page:/"}, []string{"server", "list"}, false},
		{"not wanted", []string{"PAGER=sed s/^/page:/"}, []string{"log", "--all", "--no-pager"}, false},
		{"none", []string{"PAGER="}, []string{"log", "--all"}, false},
		{"cat", []string{"PAGER=cat"}, []string{"log", "--all"}, false},
		{"a terminal that only prints", []string{"PAGER=sed s/^/page:/", "TERM=dumb"}, []string{"log", "--all"}, false},
		{"a change", []string{"PAGER=sed s/^/page:/"}, []string{"grant", "foyer", "edit", "//flyloft/programme", "--dry-run"}, false},
		{"into a file", []string{"PAGER=sed s/^/page:/"}, []string{"grid", "//stagedoor/productions", "-o", "grid.csv"}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, code := seenAt(t, dir, prog, 12, append(c.env, "COLORTERM="), c.args...)
			require.Zero(t, code, out)
			require.Equal(t, c.paged, strings.Contains(out, "page:"), out)
			require.NotEmpty(t, strings.TrimSpace(out))
			if slices.Contains(c.env, "TERM=dumb") {
				require.NotContains(t, out, "\x1b[")
			}
		})
	}
	// Whoever reads may go away; a program that isn't there loses nothing.
	out, code := seenAt(t, dir, prog, 12, []string{"PAGER=head -n 2"}, "log", "--all")
	require.Zero(t, code)
	require.Len(t, strings.Split(strings.TrimSpace(out), "\n"), 2)
	out, code = seenAt(t, dir, prog, 12, []string{"PAGER=no-such-program"}, "log", "--all")
	require.Zero(t, code)
	require.Contains(t, out, "playhouse")
	require.NotContains(t, out, "no-such-program")
}

// seenAt gives what a terminal of some rows shows of a program, and its exit code.
func seenAt(t *testing.T, dir, prog string, rows uint16, env []string, args ...string) (string, int) {
	c := exec.Command(prog, args...)
	c.Dir, c.Env = dir, append(append(os.Environ(), "TERM=xterm"), env...)
	side, err := pty.StartWithSize(c, &pty.Winsize{Rows: rows, Cols: 100})
	require.NoError(t, err)
	defer side.Close()
	var seen bytes.Buffer
	_, _ = io.Copy(&seen, side) // ends with EIO when the program does
	_ = c.Wait()
	return strings.ReplaceAll(seen.String(), "\r\n", "\n"), c.ProcessState.ExitCode()
}

func TestAskedAtATerminal(t *testing.T) {
	t.Parallel()
	prog := program(t)
	grant := []string{"grant", "lighting", "read", "stagedoor:/srv/playhouse/Scripts"}
	for _, c := range []struct {
		name, keys, says string
		code             int
		kept             bool
	}{
		{"yes", "y\n", "y\nKept as change 19.", 0, true},
		{"the whole word", "Yes\n", "Yes\nKept as change 19.", 0, true},
		{"no", "n\n", "n\nNothing was kept.", run.ExitNo, false},
		{"nothing", "\n", "Nothing was kept.", run.ExitNo, false},
		{"something else", "yess\n", "yess\nNothing was kept.", run.ExitNo, false},
		{"end of input", "\x04", "Nothing was kept.", run.ExitNo, false},
		{"Ctrl-C", "\x03", "^C\ntarnwold: stopped; nothing was changed", run.ExitTrouble, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir := demo(t, prog)
			before := must(t, dir, prog, "log", "--format", "csv")
			m := atTerminal(t, dir, prog, grant...)
			m.until(question)
			require.Contains(t, m.seen.String(), "comes")
			out, code := m.says(c.keys)
			// Linux signals an interrupt before it flushes the terminal (n_tty): what a quick
			// program says of it meanwhile is flushed too.
			for try := 0; c.keys == "\x03" && out == "" && try < 4; try++ {
				require.Equal(t, c.code, code)
				m = atTerminal(t, dir, prog, grant...)
				m.until(question)
				out, code = m.says(c.keys)
			}
			require.Equal(t, c.says, strings.TrimSpace(out)[:min(len(c.says), len(strings.TrimSpace(out)))])
			require.Equal(t, c.code, code)
			require.Equal(t, c.kept, before != must(t, dir, prog, "log", "--format", "csv"))
		})
	}
}

// TestChangedWhileAsking: what a person said yes to is not kept on an estate
// that is another one by then.
func TestChangedWhileAsking(t *testing.T) {
	t.Parallel()
	prog := program(t)
	dir := demo(t, prog)
	m := atTerminal(t, dir, prog, "grant", "lighting", "read", "stagedoor:/srv/playhouse/Scripts")
	m.until(question)
	must(t, dir, prog, "grant", "stage", "read", "stagedoor:/srv/playhouse/Scripts", "--yes")
	log := must(t, dir, prog, "log", "--format", "csv")
	out, code := m.says("y\n")
	require.Contains(t, out, "nothing was kept")
	require.NotContains(t, out, "Kept")
	require.Equal(t, run.ExitTrouble, code)
	require.Equal(t, log, must(t, dir, prog, "log", "--format", "csv"))
}

// TestSignals: whenever a change is broken off, what is said of it is true.
func TestSignals(t *testing.T) {
	dir, prog := t.TempDir(), program(t)
	bigTree(t, filepath.Join(dir, "tree.csv"), 10_000)
	must(t, dir, prog, "init")
	must(t, dir, prog, "load", "tree", "tree.csv", "--at", "box:/srv")
	must(t, dir, prog, "group", "add", "crew")
	file := filepath.Join(dir, "tarnwold.estate")
	start, err := os.ReadFile(file)
	require.NoError(t, err)
	before := content(t, file)
	args := []string{"grant", "crew", "edit", "box:/srv", "--yes"}
	began := time.Now()
	must(t, dir, prog, args...)
	took := time.Since(began)
	after := content(t, file)

	was := map[string]int{}
	within := took * 12 / 10 // and as the machine is busier or idler, more or less
	for i := range many(t, 1000, 150) {
		require.NoError(t, os.WriteFile(file, start, 0o600))
		for _, s := range []string{"-wal", "-shm"} {
			_ = os.Remove(file + s)
		}
		c := exec.Command(prog, args...)
		c.Dir = dir
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(rand.Int64N(int64(within))))
		_ = c.Process.Signal([]os.Signal{syscall.SIGINT, syscall.SIGTERM}[i%2])
		_ = c.Wait()
		now := content(t, file)
		switch said := out.String(); {
		case strings.Contains(said, "Kept as change 3."):
			was["kept"]++
			within = max(within*8/10, took/4)
			require.Equal(t, after, now, said)
			require.Zero(t, c.ProcessState.ExitCode())
		case strings.Contains(said, "nothing was changed"):
			was["stopped"]++
			within = min(within*11/10, 20*took)
			require.Equal(t, before, now, said)
			require.Equal(t, run.ExitTrouble, c.ProcessState.ExitCode())
		default:
			was["killed before it heard"]++
			within = min(within*11/10, 20*took)
			require.Empty(t, said)
			require.Equal(t, before, now)
		}
	}
	t.Logf("signals within %v: %v", took, was)
	require.NotZero(t, was["kept"])
	require.NotZero(t, was["stopped"])
}

// TestNobodyReads: what is kept doesn't hang on whether somebody reads it.
func TestNobodyReads(t *testing.T) {
	t.Parallel()
	prog := program(t)
	dir := demo(t, prog)
	for i := range 20 {
		c := exec.Command(prog, "user", "add", fmt.Sprint("extra", i))
		switch i % 4 {
		case 1:
			c = exec.Command(prog, "grant", "lighting", "edit", "stagedoor:/srv/playhouse/Scripts", "--yes")
		case 3:
			c = exec.Command(prog, "revoke", "lighting", "stagedoor:/srv/playhouse/Scripts", "--yes")
		}
		c.Dir = dir
		r, w, err := os.Pipe()
		require.NoError(t, err)
		r.Close()
		c.Stdout = w
		require.NoError(t, c.Run())
		w.Close()
	}
	require.Equal(t, 1+18+20, strings.Count(must(t, dir, prog, "log", "--format", "csv"), "\n"))
}

// TestReaderLeftOpen: an answer that nobody goes on reading stops no writer,
// and stays the answer of the moment it was asked.
func TestReaderLeftOpen(t *testing.T) {
	t.Parallel()
	dir, prog := t.TempDir(), program(t)
	bigTree(t, filepath.Join(dir, "tree.csv"), 50_000)
	must(t, dir, prog, "init")
	must(t, dir, prog, "load", "tree", "tree.csv", "--at", "box:/srv")
	must(t, dir, prog, "user", "add", "olga")
	c := exec.Command(prog, "owned", "system@", "--format", "csv")
	c.Dir = dir
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	first := make([]byte, 10)
	_, err = io.ReadFull(out, first)
	require.NoError(t, err)
	must(t, dir, prog, "owner", "box:/srv", "--to", "olga", "--below", "--yes") // in between
	rest, err := io.ReadAll(out)
	require.NoError(t, err)
	require.NoError(t, c.Wait())
	require.Equal(t, 50_001, strings.Count(string(first)+string(rest), "\n"))
	require.Equal(t, 1, strings.Count(must(t, dir, prog, "owned", "system@", "--format", "csv"), "\n"))
}

// TestStoppedWhileReading: Ctrl-C works at once where nothing comes.
func TestStoppedWhileReading(t *testing.T) {
	t.Parallel()
	dir, prog := t.TempDir(), program(t)
	must(t, dir, prog, "init")
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "silent"), 0o600))
	r, w, err := os.Pipe()
	require.NoError(t, err)
	defer w.Close()
	for _, file := range []string{"silent", "/dev/stdin"} {
		for wait := 300 * time.Millisecond; ; wait *= 4 {
			c := exec.Command(prog, "load", "accounts", file)
			c.Dir, c.Stdin = dir, r
			var errs bytes.Buffer
			c.Stderr = &errs
			require.NoError(t, c.Start())
			time.Sleep(wait)
			require.NoError(t, c.Process.Signal(os.Interrupt))
			ended := make(chan error, 1)
			go func() { ended <- c.Wait() }()
			select {
			case <-ended:
			case <-time.After(10 * time.Second):
				_ = c.Process.Kill()
				t.Fatalf("reading %s goes on", file)
			}
			if c.ProcessState.Sys().(syscall.WaitStatus).Signaled() && wait < 10*time.Second {
				continue // it was not up yet
			}
			require.Equal(t, "tarnwold: stopped; nothing was changed\n", errs.String())
			require.Equal(t, run.ExitTrouble, c.ProcessState.ExitCode())
			break
		}
	}
}

// TestEndless: what never ends is not read for ever, and not echoed.
func TestEndless(t *testing.T) {
	proptest.Long(t)
	dir, prog := t.TempDir(), program(t)
	must(t, dir, prog, "init")
	for _, args := range [][]string{
		{"load", "accounts", "/dev/stdin"}, {"load", "accounts", "--passwd", "/dev/stdin"}, {"load", "tree", "/dev/stdin", "--at", "box:/srv"},
		{"apply", "/dev/stdin"}, {"explain", "--from", "/dev/stdin"}, {"grant", "x", "read", "--from", "/dev/stdin"},
	} {
		for _, fill := range []string{"x", "a,b,c,", "\"", "ab\n"} {
			if fill == "ab\n" && args[0] != "load" {
				continue // many short lines are many questions
			}
			c := exec.Command(prog, args...)
			c.Dir, c.Stdin = dir, endless(fill)
			var errs bytes.Buffer
			c.Stderr = &errs
			began := time.Now()
			require.NoError(t, c.Start())
			ended := make(chan error, 1)
			go func() { ended <- c.Wait() }()
			select {
			case <-ended:
			case <-time.After(60 * time.Second):
				_ = c.Process.Kill()
				t.Fatalf("%v never ends on %q", args, fill)
			}
			require.NotZero(t, c.ProcessState.ExitCode(), "%v", args)
			require.Less(t, errs.Len(), 4096, "%v %q after %v", args, fill, time.Since(began))
			require.NotEmpty(t, errs.String())
		}
	}
}

type endless string

func (e endless) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = e[i%len(e)]
	}
	return len(b) - len(b)%len(e), nil
}

// TestFlippedBits: one bit of an estate flipped is refused, or has no effect
// on any answer.
func TestFlippedBits(t *testing.T) {
	proptest.Long(t)
	prog := program(t)
	dir := demo(t, prog)
	var b strings.Builder
	b.WriteString("user,where\n")
	accounts, err := os.ReadFile(filepath.Join(dir, "accounts.csv"))
	require.NoError(t, err)
	for line := range strings.Lines(string(accounts)) {
		kind, rest, _ := strings.Cut(line, ",")
		u, _, _ := strings.Cut(rest, ",")
		if kind != "user" {
			continue
		}
		for _, p := range []string{"Wardrobe/Fittings/hire list.csv", "Box Office/Ledgers/2026-11.ods", "Scripts", "Casting/Contracts", "Timesheets"} {
			fmt.Fprintf(&b, "%s,stagedoor:/srv/playhouse/%s\n", u, p)
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "q.csv"), []byte(b.String()), 0o600))
	ask := []string{"explain", "--from", "q.csv", "--format", "csv", "--estate", "flipped"}
	data, err := os.ReadFile(filepath.Join(dir, "tarnwold.estate"))
	require.NoError(t, err)
	file := filepath.Join(dir, "flipped")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	base := must(t, dir, prog, ask...)
	refused := 0
	for range many(t, 1000, 100) {
		at, bit := rand.IntN(len(data)), rand.IntN(8)
		data[at] ^= 1 << bit
		require.NoError(t, os.WriteFile(file, data, 0o600))
		data[at] ^= 1 << bit
		_ = os.Remove(file + "-wal")
		_ = os.Remove(file + "-shm")
		c := exec.Command(prog, ask...)
		c.Dir = dir
		out, err := c.Output()
		if err != nil {
			refused++
			continue
		}
		require.Equal(t, base, string(out), "bit %d of byte %d", bit, at)
	}
	t.Logf("%d refused", refused)
	require.Positive(t, refused)
}

// TestErrorsFitTheTerminal: what went wrong is broken between words, and nowhere else.
func TestErrorsFitTheTerminal(t *testing.T) {
	t.Parallel()
	prog := program(t)
	dir := demo(t, prog)
	said, code := atTerminal(t, dir, prog, "who", "ines").says("")
	require.Equal(t, 2, code)
	lines := strings.Split(strings.TrimSpace(strings.ReplaceAll(said, "\r", "")), "\n")
	require.Greater(t, len(lines), 1, said)
	for i, l := range lines {
		require.LessOrEqual(t, len([]rune(l)), 100)
		lines[i] = strings.TrimSpace(l)
	}
	require.Equal(t, `tarnwold: "ines" is not an address: it names no server; write //server/share/folder or server:/folder; as in: tarnwold who WHERE`, strings.Join(lines, " "))
}
