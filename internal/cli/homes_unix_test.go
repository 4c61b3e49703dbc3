//go:build unix

package cli_test

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/playhouse/estates"
	"tarnwold/internal/proptest"
	"tarnwold/internal/store"
)

// homes is an estate in which everybody has a home with rules of its own.
type homes struct {
	prog, peak string
	dir, file  string
	users      int
}

const itemsPerHome = 10

func (h *homes) items() int64 { return int64(h.users) * (1 + itemsPerHome) }

func newHomes(t testing.TB, users int) *homes {
	dir := t.TempDir()
	h := &homes{prog: program(t), peak: programAs(t, "peak"), dir: dir,
		file: filepath.Join(dir, "homes.estate"), users: users}
	require.NoError(t, estates.Homes{Users: users, PerHome: itemsPerHome, Groups: max(40, users/10)}.Write(dir))
	h.run(t, "init")
	h.run(t, "load", "accounts", filepath.Join(dir, "accounts.csv"), filepath.Join(dir, "members.csv"))
	h.run(t, "load", "shares", filepath.Join(dir, "shares.csv"), "--server", "box")
	h.run(t, "load", "tree", filepath.Join(dir, "tree.csv"), "--at", "box:/homes")
	return h
}

// run gives how long a command took that is to go well, and how many bytes it held at most.
func (h *homes) run(t testing.TB, args ...string) (took time.Duration, most int64) {
	took, most, code := h.ran(t, args...)
	require.Zero(t, code, "%v", args)
	return took, most
}

// ran is run, of a command that may answer no.
func (h *homes) ran(t testing.TB, args ...string) (took time.Duration, most int64, code int) {
	result := filepath.Join(h.dir, "peak")
	c := exec.Command(h.peak, append([]string{result, h.prog, "--estate", h.file}, args...)...)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%v %s", args, out)
	figures, err := os.ReadFile(result)
	require.NoError(t, err)
	_, err = fmt.Sscan(string(figures), (*int64)(&took), &most, &code)
	require.NoError(t, err)
	require.Less(t, code, 2, "%v %s", args, out)
	return took, most, code
}

// bench runs a command as often as a benchmark wants, and gives the time of one run.
func (h *homes) bench(b *testing.B, args ...string) time.Duration {
	var all time.Duration
	var most int64
	for b.Loop() {
		took, held, _ := h.ran(b, args...)
		all, most = all+took, max(most, held)
	}
	b.ReportMetric(float64(most)/(1<<20), "MB")
	return all / time.Duration(b.N)
}

func init() { programs["peak"] = peak }

// peak runs the program its second argument names, and writes the nanoseconds it took, the
// bytes it held at most and its exit code to the file its first names. Linux counts what whoever
// starts a program holds as that program's own at first, and the tests hold what all
// their stories left: only a small program beside them sees what another held.
func peak() {
	c := exec.Command(os.Args[2], os.Args[3:]...)
	c.Stderr = os.Stderr
	begun := time.Now()
	err := c.Run()
	took := time.Since(begun)
	var no *exec.ExitError
	if err == nil || errors.As(err, &no) {
		most := c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10 // in KB on Linux
		err = os.WriteFile(os.Args[1], fmt.Appendln(nil, int64(took), most, c.ProcessState.ExitCode()), 0o600)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// homesRows are what is asked and tried of such an estate.
var homesRows = [][]string{
	{"explain", "user5", "box:/homes/user5/sheet 0.odt"},
	{"who", "box:/homes/user5/sheet 0.odt"},
	{"reach", "user5"},
	{"compare", "user5", "user6"},
	{"files", "user5", "--count"},
	{"uses", "user5"},
	{"user", "show", "user5"},
	{"group", "show", "group 3"},
	{"user", "list"},
	{"group", "join", "group 7", "user9", "--dry-run"},
	{"deny", "user5", "read", "box:/homes", "--dry-run"},
	{"grant", "group 3", "read", "box:/homes", "--dry-run"},
}

// TestMemoryFollowsTheQuestion: what a command holds at most grows with the index of items
// alone, by some bytes for each, and never with what everybody gets everywhere.
func TestMemoryFollowsTheQuestion(t *testing.T) {
	proptest.Long(t)
	const base, each = 56 << 20, 400 // the program itself; bytes for each item
	for _, users := range []int{2_000, 8_000} {
		h := newHomes(t, users)
		for _, args := range homesRows {
			_, most := h.run(t, args...)
			require.Less(t, most, base+each*h.items(), "%v of %d users: %d MB", args, users, most>>20)
		}
	}
}

// BenchmarkHomes prints, for each row, its time, the memory it holds at most, and how many
// times as long it takes as reading all descriptors and memberships once, which no
// answer for everybody can do without. TARNWOLD_HOMES says how many homes there are.
func BenchmarkHomes(b *testing.B) {
	users := 5_000
	if n, err := strconv.Atoi(os.Getenv("TARNWOLD_HOMES")); err == nil {
		users = n
	}
	h := newHomes(b, users)
	least := h.least(b)
	for _, args := range homesRows {
		b.Run(strings.Join(args, "_"), func(b *testing.B) {
			b.ReportMetric(h.bench(b, args...).Seconds()/least.Seconds(), "least-works")
		})
	}
}

// least is how long it takes to read every descriptor and membership.
func (h *homes) least(b *testing.B) time.Duration {
	db := store.Raw(h.file)
	defer db.Close()
	begun := time.Now()
	for _, query := range []string{"SELECT body FROM descriptors", "SELECT holder || ' ' || member FROM members"} {
		rows, err := db.Query(query)
		require.NoError(b, err)
		var body sql.RawBytes
		for rows.Next() {
			require.NoError(b, rows.Scan(&body))
		}
		require.NoError(b, rows.Close())
	}
	took := time.Since(begun)
	fmt.Printf("%d homes: all descriptors and memberships are read in %s\n", h.users, took.Round(time.Millisecond))
	return took
}
