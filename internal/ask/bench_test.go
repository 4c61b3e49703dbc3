package ask_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

// BenchmarkAnswers asks each question of big estates, and gives the time as a
// ratio to the least work possible: a bare read, through the same driver, of
// the rows the question is about. TARNWOLD_BIG names estates that make big
// made, joined by commas; from one to the next the time follows the distinct
// descriptors and the differing items, not the items.
func BenchmarkAnswers(b *testing.B) {
	names := os.Getenv("TARNWOLD_BIG")
	if names == "" {
		b.Skip("*** SKIPPED: name estates made by make big in TARNWOLD_BIG ***")
	}
	const (
		accounts = "SELECT id, kind, name, sid, posix, primary_group, purpose FROM accounts"
		strands  = "SELECT s.id, s.parent, s.descriptor, s.folder, w.items, 0, 0 FROM strands s JOIN weights w ON w.strand=s.id"
		bodies   = "SELECT id, kind, hash, body, 0, 0, 0 FROM descriptors"
	)
	for _, file := range strings.Split(names, ",") {
		for _, q := range []struct {
			name string
			rows []string
			ask  func(k *ask.Asker) error
		}{
			{"explain", nil, func(k *ask.Asker) error { _, err := explain.Explain(k, "user7", "//box/all/room 1", false); return err }},
			{"try", nil, func(k *ask.Asker) error {
				_, err := explain.Try(k, "user7", "list", "//box/all/room 1", "", false)
				return err
			}},
			{"who", []string{accounts}, func(k *ask.Asker) error { _, err := census.Who(k, "//box/all/room 1", "", false); return err }},
			{"who can", []string{accounts}, func(k *ask.Asker) error { _, err := census.Who(k, "//box/all/room 1", "create", false); return err }},
			{"uses", []string{bodies}, func(k *ask.Asker) error { _, err := uses.UsesOf(k, "user7", true); return err }},
			{"reach", []string{strands, bodies}, func(k *ask.Asker) error { _, err := census.ReachOf(k, "user7", "", "", 200); return err }},
			{"compare", []string{strands, bodies}, func(k *ask.Asker) error { _, err := census.Compare(k, "user7", "user8", "", 200); return err }},
			{"grid of two layers", []string{accounts}, func(k *ask.Asker) error {
				var groups []string
				for i := range 20 {
					groups = append(groups, fmt.Sprintf("group %d", i))
				}
				return census.Grid(k, census.Gridding{Where: "//box/all", Depth: 2, For: groups}, func(*census.Gridded) error { return nil }, func(*census.GridRow) error { return nil })
			}},
			{"findings", []string{accounts, strands, bodies}, func(k *ask.Asker) error {
				_, err := findings.Findings(k, findings.FindingsOptions{Today: "2026-01-01"})
				return err
			}},
			{"a thousand expectations", []string{accounts}, func(k *ask.Asker) error {
				x := expect.NewExpecting(k)
				for i := range 1000 {
					if _, err := x.Expect(&expect.Expectation{Names: []string{fmt.Sprintf("group %d", i)}, Named: true, What: "read", Where: "//box/all/room 1"}); err != nil {
						return err
					}
				}
				return nil
			}},
			{"grid of everything", []string{accounts, strands, bodies}, func(k *ask.Asker) error {
				return census.Grid(k, census.Gridding{Where: "//box/all", Distinct: true, Everyone: true}, func(*census.Gridded) error { return nil }, func(*census.GridRow) error { return nil })
			}},
		} {
			b.Run(filepath.Base(filepath.Dir(file))+"/"+q.name, func(b *testing.B) {
				e, err := estate.Open(context.Background(), file)
				require.NoError(b, err)
				defer e.Close()
				var took time.Duration
				for b.Loop() {
					start := time.Now()
					require.NoError(b, e.View(context.Background(), func(t *estate.Tx) error { return q.ask(ask.New(t)) }))
					took += time.Since(start)
				}
				took /= time.Duration(b.N)
				b.ReportMetric(float64(took.Microseconds())/1000, "ms/answer")
				if len(q.rows) == 0 {
					return
				}
				var bare time.Duration
				for range 3 {
					bare += read(b, file, q.rows)
				}
				b.ReportMetric(float64(bare.Microseconds())/3000, "ms/bare")
				b.ReportMetric(took.Seconds()*3/bare.Seconds(), "ratio")
			})
		}
	}
}

// read reads rows and does nothing with them.
func read(b *testing.B, file string, queries []string) time.Duration {
	db := store.Raw(file)
	defer db.Close()
	require.NoError(b, db.Ping())
	start := time.Now()
	for _, q := range queries {
		rows, err := db.Query(q)
		require.NoError(b, err)
		var cells [7]sql.RawBytes
		for rows.Next() {
			require.NoError(b, rows.Scan(&cells[0], &cells[1], &cells[2], &cells[3], &cells[4], &cells[5], &cells[6]))
		}
		require.NoError(b, rows.Err())
		require.NoError(b, rows.Close())
	}
	return time.Since(start)
}
