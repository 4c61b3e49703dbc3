package cli_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/proptest"
	"tarnwold/internal/store"
)

// program gives a path that runs as the built program.
func program(t testing.TB) string { return programAs(t, "tarnwold") }

// programAs gives another of the programs that TestMain knows.
func programAs(t testing.TB, name string) string {
	self, err := os.Executable()
	require.NoError(t, err)
	link := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.Symlink(self, link))
	return link
}

// demo gives a folder with the playhouse's estate in it.
func demo(t *testing.T, prog string) (dir string) {
	dir = filepath.Join(t.TempDir(), "d")
	played.once.Do(func() {
		made := filepath.Join(t.TempDir(), "d")
		must(t, t.TempDir(), prog, "demo", made)
		all := fstest.MapFS{}
		require.NoError(t, fs.WalkDir(os.DirFS(made), ".", func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			data, err := os.ReadFile(filepath.Join(made, path))
			all[path] = &fstest.MapFile{Data: data, Mode: 0o600}
			return err
		}))
		played.files = all
	})
	require.NoError(t, os.CopyFS(dir, played.files))
	require.NoError(t, os.Chmod(filepath.Join(dir, "tarnwold.estate"), 0o600))
	return dir
}

// played is the demo as it was played once; each test has a copy.
var played struct {
	once  sync.Once
	files fs.FS
}

func must(t *testing.T, dir, prog string, args ...string) string {
	c := exec.Command(prog, args...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%v: %s", args, out)
	return string(out)
}

// content sums up every row of an estate that says something.
func content(t *testing.T, file string) string {
	db := store.Raw(file)
	defer db.Close()
	h := sha256.New()
	for _, q := range []string{
		"SELECT count(*), sum(id*parent%1000003), sum(id*descriptor%1000003), sum(id*folder) FROM strands",
		"SELECT count(*), sum(id*parent%1000003), sum(id*length(name)), sum(id*strand%1000003) FROM items",
		"SELECT count(*), sum(strand*items%1000003), 0, 0 FROM weights", "SELECT id, summary, 0, 0 FROM journal ORDER BY id",
		"SELECT count(*), sum(row), sum(length(before)), sum(length(after)) FROM journal_rows",
	} {
		rows, err := db.Query(q)
		require.NoError(t, err)
		for rows.Next() {
			var a, b, c, d any
			require.NoError(t, rows.Scan(&a, &b, &c, &d))
			fmt.Fprintln(h, a, b, c, d)
		}
		require.NoError(t, rows.Err())
		rows.Close()
	}
	var ok string
	require.NoError(t, db.QueryRow("PRAGMA quick_check").Scan(&ok))
	require.Equal(t, "ok", ok)
	return hex.EncodeToString(h.Sum(nil))
}

// bigTree writes a tree of n items; every tenth folder has an entry of its own.
func bigTree(t *testing.T, file string, n int) {
	var b bytes.Buffer
	b.WriteString("path,kind,sddl\n,folder,O:SYG:SYD:P(A;OICI;FA;;;SY)(A;OICI;0x1200a9;;;AU)\n")
	own := 0
	paths := []string{""}
	count := 1
	for at := 0; count < n; at++ {
		for k := 0; k < 10 && count < n; k++ {
			p := strings.TrimPrefix(fmt.Sprintf("%s/i%d", paths[at], k), "/")
			kind, flags, body := "file", "", ""
			if k < 2 {
				kind, flags = "folder", "OICI"
				paths = append(paths, p)
				if len(paths)%10 == 0 {
					own++
					body = fmt.Sprintf("(A;OICI;0x1301bf;;;S-1-5-21-8-8-8-%d)", 1000+own%500)
				}
			}
			fmt.Fprintf(&b, "%s,%s,O:SYG:SYD:AI%s(A;%sID;FA;;;SY)(A;%sID;0x1200a9;;;AU)\n", p, kind, body, flags, flags)
			count++
		}
	}
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
}

// TestKilledAtAnyMoment: whenever a change over 100,000 items is killed, the
// estate is as before it or as after it.
func TestKilledAtAnyMoment(t *testing.T) {
	dir, prog := t.TempDir(), program(t)
	bigTree(t, filepath.Join(dir, "tree.csv"), 100_000)
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
	require.NotEqual(t, before, after)

	kills := many(t, 200, 25)
	was := map[string]int{}
	for range kills {
		require.NoError(t, os.WriteFile(file, start, 0o600))
		for _, s := range []string{"-journal", "-wal", "-shm"} {
			_ = os.Remove(file + s)
		}
		c := exec.Command(prog, args...)
		c.Dir = dir
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(rand.Int64N(int64(took) * 13 / 10)))
		_ = c.Process.Kill()
		_ = c.Wait()
		must(t, dir, prog, "server", "list") // whoever comes next mends what was left
		switch now := content(t, file); now {
		case before:
			was["before"]++
		case after:
			was["after"]++
		default:
			t.Fatal("the estate is neither as before nor as after")
		}
	}
	t.Logf("%d kills within %v: %v", kills, took, was)
	require.NotZero(t, was["before"])
}

// TestTwoAtOnce: of changes made at once none is lost; who can't get in is
// told plainly to try again.
func TestTwoAtOnce(t *testing.T) {
	t.Parallel()
	dir, prog := t.TempDir(), program(t)
	must(t, dir, prog, "init")
	var wg sync.WaitGroup
	var mu sync.Mutex
	kept := 0
	for i := range 24 {
		wg.Go(func() {
			c := exec.CommandContext(context.Background(), prog, "group", "add", fmt.Sprint("g", i))
			c.Dir = dir
			out, err := c.CombinedOutput()
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				kept++
				return
			}
			require.Equal(t, run.ExitTrouble, c.ProcessState.ExitCode())
			require.Regexp(t, "(another process is writing to the estate; try again|changed by someone else meanwhile and nothing was kept; look again)", string(out))
		})
	}
	wg.Wait()
	require.Greater(t, kept, 12, "they wait for each other")
	out := must(t, dir, prog, "group", "list", "--format", "csv")
	require.Equal(t, kept+1, strings.Count(out, "\n"))
	out = must(t, dir, prog, "log", "--format", "csv")
	require.Equal(t, kept+1, strings.Count(out, "\n"))
}

// many is how often a test of chances tries: as said with TARNWOLD_LONG set,
// fewer otherwise, and fewer still in the short run.
func many(t *testing.T, long, usual int) int {
	switch {
	case os.Getenv("TARNWOLD_LONG") != "":
		return long
	case proptest.Short():
		return usual / 4
	}
	return usual
}
