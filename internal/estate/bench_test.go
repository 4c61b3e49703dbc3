package estate

import (
	"context"
	"database/sql"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// ofSize is an estate of n items to read from.
func ofSize(b *testing.B, n int) *Estate {
	e := newEstate(b)
	load(b, e, made(n, 600))
	return e
}

// read runs fn in a reading transaction again and again.
func read(b *testing.B, e *Estate, name string, fn func(*Tx)) {
	b.Run(name, func(b *testing.B) {
		for b.Loop() {
			require.NoError(b, e.View(context.Background(), func(tx *Tx) error {
				fn(tx)
				return tx.Err()
			}))
		}
	})
}

// names reads every item's name, which is the least a pattern has to see.
func names(tx *Tx) {
	tx.Each("SELECT id, parent, name, strand FROM items", nil, func(r *sql.Rows) error {
		var id, parent, strand int64
		var name string
		return r.Scan(&id, &parent, &name, &strand)
	})
}

// BenchmarkMatch finds files by a pattern over 100,000 items.
func BenchmarkMatch(b *testing.B) {
	e := ofSize(b, 100_000)
	p, err := place.ParsePattern("box:/srv/**/*1*")
	require.NoError(b, err)
	read(b, e, "match", func(tx *Tx) {
		_, found, err := tx.Match(p, Files)
		require.NoError(b, err)
		require.NotEmpty(b, found)
	})
	read(b, e, "least", names)
}

// BenchmarkOwned finds 200,000 items that one owns, each with its address.
func BenchmarkOwned(b *testing.B) {
	e := ofSize(b, 200_000)
	read(b, e, "owned", func(tx *Tx) {
		n := 0
		require.NoError(b, tx.Owned([]account.ID{account.System}, nil, func(Target, string) error { n++; return nil }))
		require.Equal(b, 200_000, n)
	})
	read(b, e, "least", names)
}

// BenchmarkKeep parts the strands of 1,000 items and keeps an entry on each; the
// least is the same entry on as many rows, one statement each.
func BenchmarkKeep(b *testing.B) {
	e := ofSize(b, 100_000)
	var targets []Target
	require.NoError(b, e.View(context.Background(), func(tx *Tx) error {
		tx.Each("SELECT i.id, i.strand, s.folder FROM items i JOIN strands s ON s.id=i.strand WHERE i.id%100=7", nil, func(r *sql.Rows) error {
			var x Target
			err := r.Scan(&x.Item, &x.Strand, &x.Folder)
			targets = append(targets, x)
			return err
		})
		return tx.Err()
	}))
	b.Run("keep", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			entry := rule.Entry{Rights: right.ReadData, Who: dom.Child(uint32(5000 + i))}
			_, err := e.Change(context.Background(), Meta{Actor: "t", Head: Any}, func(tx *Tx) (string, error) {
				var again []Target // strands are others since the last
				for _, x := range targets {
					x.Strand = tx.Int("SELECT strand FROM items WHERE id=?", x.Item)
					again = append(again, x)
				}
				f, err := tx.Partition([]Group{{Targets: again, Edit: func(a, _ rule.Any, _ bool) (rule.Any, error) {
					d, _, err := a.(*rule.Descriptor).Give([]rule.Entry{entry}, rule.Giving{})
					return d, err
				}}})
				if err == nil {
					err = f.Set.Work(context.Background())
				}
				if err == nil {
					tx.Keep(f)
				}
				return "kept", err
			})
			require.NoError(b, err)
		}
	})
	b.Run("least", func(b *testing.B) {
		for b.Loop() {
			_, err := e.Change(context.Background(), Meta{Actor: "t", Head: Any}, func(tx *Tx) (string, error) {
				for _, x := range targets {
					tx.Exec("UPDATE items SET strand=strand WHERE id=?", x.Item)
				}
				return "touched", tx.Err()
			})
			require.NoError(b, err)
		}
	})
}
