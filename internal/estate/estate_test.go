package estate

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/format"
)

func newEstate(t testing.TB) *Estate {
	path := filepath.Join(t.TempDir(), "t.estate")
	require.NoError(t, Create(context.Background(), path))
	e, err := Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	return e
}

// made is a tree of n items: folders of 9 files and a folder each below, with
// distinct descriptors spread over it.
func made(n, distinct int) *format.Tree {
	tree := &format.Tree{}
	dom := account.NewID(5, 21, 5, 5, 5)
	for i := range distinct {
		d := &rule.Descriptor{Owner: account.System, Group: account.System, Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
		for j := range 1 + i%8 {
			d.Rules.Entries = append(d.Rules.Entries, rule.Entry{Flags: 3, Rights: 0x1200a9, Who: dom.Child(uint32(1000 + i + j))})
		}
		tree.Bodies = append(tree.Bodies, d)
	}
	paths := []string{""}
	tree.Rows = append(tree.Rows, format.TreeRow{Folder: true, Line: 2})
	for at := 0; len(tree.Rows) < n; at++ {
		for k := 0; k < 10 && len(tree.Rows) < n; k++ {
			p := fmt.Sprintf("%s/item %d", paths[at], k)
			folder := k < 2
			if folder {
				paths = append(paths, p)
			}
			// A body of its own every few hundred folders, else the folder's.
			body := int32((at / max(1, n/10/distinct)) % distinct)
			tree.Rows = append(tree.Rows, format.TreeRow{Path: strings.TrimPrefix(p, "/"), Folder: folder, Body: body, Line: int32(len(tree.Rows) + 2)})
		}
	}
	return tree
}

func load(t testing.TB, e *Estate, tree *format.Tree) {
	_, err := e.Change(context.Background(), Meta{Actor: "t", Command: "load", Bulk: true}, true, func(tx *Tx) (string, error) {
		s, _, err := tx.ServerOrNew("box")
		if err != nil {
			return "", err
		}
		return "loaded", tx.LoadTree(s, "/srv", tree, nil)
	})
	require.NoError(t, err)
}

// check holds an estate to what must always be true of strands.
func check(t require.TestingT, tx *Tx) {
	require.Zero(t, tx.int(`SELECT count(*) FROM items i JOIN items p ON p.id=i.parent JOIN strands s ON s.id=i.strand WHERE s.parent<>p.strand`),
		"an item's strand hangs from its folder's strand")
	require.Zero(t, tx.int(`SELECT count(*) FROM (SELECT strand, count(*) n FROM items GROUP BY strand) c LEFT JOIN weights w ON w.strand=c.strand WHERE coalesce(w.items,0)<>c.n`),
		"the weight of a strand is its number of items")
	require.NoError(t, tx.Err())
}

func TestIsolateChangesNoDescriptor(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		e := newEstate(t)
		tree := made(rapid.IntRange(20, 200).Draw(rt, "items"), rapid.IntRange(1, 6).Draw(rt, "bodies"))
		load(t, e, tree)
		all := func(tx *Tx) (out []string) {
			return tx.strings("SELECT i.id||' '||s.descriptor||' '||s.folder FROM items i JOIN strands s ON s.id=i.strand ORDER BY i.id")
		}
		_, err := e.Change(context.Background(), Meta{}, true, func(tx *Tx) (string, error) {
			before := all(tx)
			check(rt, tx)
			for range rapid.IntRange(1, 4).Draw(rt, "times") {
				item := int64(rapid.IntRange(1, len(tree.Rows)).Draw(rt, "item"))
				strand := tx.Isolate(item)
				require.Equal(rt, int64(1), tx.weight(strand))
				require.Equal(rt, before, all(tx))
				check(rt, tx)
			}
			return "isolated", tx.Err()
		})
		require.NoError(rt, err)
	})
}

func TestOneDescriptorIsStoredOnce(t *testing.T) {
	e := newEstate(t)
	load(t, e, made(5000, 40))
	require.NoError(t, e.View(context.Background(), func(tx *Tx) error {
		require.Equal(t, int64(5000), tx.int("SELECT count(*) FROM items"))
		require.Equal(t, int64(40), tx.int("SELECT count(*) FROM descriptors"))
		check(t, tx)
		return nil
	}))
}

func TestAChangeIsWholeOrNotAtAll(t *testing.T) {
	e := newEstate(t)
	ctx := context.Background()
	_, err := e.Change(ctx, Meta{Actor: "a", Command: "c"}, true, func(tx *Tx) (string, error) {
		_, err := tx.AddAccount(account.Account{Kind: account.User, Name: "ada", POSIX: account.NoPOSIX})
		require.NoError(t, err)
		return "", fmt.Errorf("no further")
	})
	require.EqualError(t, err, "no further")
	stopped, cancel := context.WithCancel(ctx)
	_, err = e.Change(stopped, Meta{}, true, func(tx *Tx) (string, error) {
		_, err := tx.AddAccount(account.Account{Kind: account.User, Name: "ada", POSIX: account.NoPOSIX})
		require.NoError(t, err)
		cancel()
		return "added", nil
	})
	require.ErrorIs(t, err, errStopped)
	id, err := e.Change(ctx, Meta{Actor: "a", Command: "c"}, true, func(tx *Tx) (string, error) {
		require.Empty(t, tx.Accounts(0))
		_, err := tx.AddAccount(account.Account{Kind: account.User, Name: "ada", POSIX: account.NoPOSIX})
		return "added", err
	})
	require.NoError(t, err)
	require.NoError(t, e.View(ctx, func(tx *Tx) error {
		var before sql.NullString
		var after string
		require.True(t, tx.one("SELECT before, after FROM journal_rows WHERE change=?", []any{id}, &before, &after))
		require.False(t, before.Valid)
		require.Contains(t, after, `"ada"`)
		require.Equal(t, int64(1), tx.int("SELECT count(*) FROM journal"))
		return nil
	}))
}

func FuzzParseAddress(f *testing.F) {
	for _, s := range []string{"//a/b/c", `\\a\b\c d`, "a:/b/c", "a:/", "//a", "x", "//a/b/../c"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		a, err := ParseAddress(s)
		if err != nil {
			return
		}
		again, err := ParseAddress(a.String())
		require.NoError(t, err)
		require.Equal(t, a, again)
		require.NotContains(t, strings.Split(a.Path, "/"), "..")
	})
}

// bare puts the same rows in through the same driver and nothing else.
func bare(b *testing.B, tree *format.Tree) time.Duration {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "bare.db")+"?_pragma=synchronous(full)&_pragma=cache_size(-65536)")
	require.NoError(b, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	_, err = db.Exec("CREATE TABLE rows(path TEXT, folder INTEGER, body INTEGER)")
	require.NoError(b, err)
	start := time.Now()
	tx, err := db.Begin()
	require.NoError(b, err)
	st, err := tx.Prepare("INSERT INTO rows VALUES(?,?,?)")
	require.NoError(b, err)
	for i := range tree.Rows {
		r := &tree.Rows[i]
		_, err := st.Exec(r.Path, r.Folder, r.Body)
		require.NoError(b, err)
	}
	require.NoError(b, tx.Commit())
	return time.Since(start)
}

// BenchmarkLoad loads 1,000,000 items with 2,000 distinct descriptors, and
// gives the time as a ratio to inserting the same rows bare in the same run.
func BenchmarkLoad(b *testing.B) {
	tree := made(1_000_000, 2000)
	for b.Loop() {
		e := newEstate(b)
		start := time.Now()
		load(b, e, tree)
		took := time.Since(start)
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		base := bare(b, tree)
		b.ReportMetric(took.Seconds(), "s/load")
		b.ReportMetric(base.Seconds(), "s/bare")
		b.ReportMetric(took.Seconds()/base.Seconds(), "ratio")
		b.ReportMetric(float64(m.Sys)/1e6, "MB-sys")
		require.NoError(b, e.View(context.Background(), func(tx *Tx) error {
			b.ReportMetric(float64(tx.int("SELECT count(*) FROM strands")), "strands")
			return nil
		}))
	}
}
