package store

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func servers(t *testing.T, d *DB) (names []string) {
	require.NoError(t, d.Read(context.Background(), func(tx *Tx) error {
		names = tx.Strings("SELECT name FROM servers ORDER BY id")
		return tx.Err()
	}))
	return names
}

func add(t *testing.T, d *DB, name string) {
	require.NoError(t, d.Write(context.Background(), false, func(tx *Tx) error {
		tx.Exec("INSERT INTO servers(name, key, traits) VALUES(?,?,'{}')", name, name)
		return tx.Err()
	}))
}

// twice makes an estate and opens it twice.
func twice(t *testing.T) (path string, d, other *DB) {
	path = filepath.Join(t.TempDir(), "a.estate")
	require.NoError(t, Create(context.Background(), path))
	for _, to := range []**DB{&d, &other} {
		db, err := Open(context.Background(), path, noKeys)
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
		*to = db
	}
	return path, d, other
}

func noKeys([]byte) []string { return nil }

// TestPrivateIsNobodyElses: what is written to a private estate is seen there
// alone, what others write meanwhile isn't, nobody waits, and the file stays
// as it is to the byte.
func TestPrivateIsNobodyElses(t *testing.T) {
	ctx := context.Background()
	path, d, other := twice(t)
	add(t, other, "in the log") // the log isn't folded back while others have the file open
	log, err := os.Stat(path + "-wal")
	require.NoError(t, err)
	require.NotZero(t, log.Size())
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, d.Private(ctx, func(p *DB) error {
		require.Equal(t, []string{"in the log"}, servers(t, p))
		add(t, p, "supposed")
		add(t, other, "meanwhile")
		for i := range 3000 { // past what the cache holds of small pages
			if i%1000 == 0 {
				add(t, p, string(rune('a'+i/1000)))
			}
		}
		require.Equal(t, []string{"in the log", "supposed", "a", "b", "c"}, servers(t, p))
		require.Equal(t, []string{"in the log", "meanwhile"}, servers(t, other))
		require.NoError(t, p.Private(ctx, func(q *DB) error { // supposed on top of what is supposed
			require.Equal(t, []string{"in the log", "supposed", "a", "b", "c"}, servers(t, q))
			add(t, q, "deeper")
			require.Equal(t, []string{"in the log", "supposed", "a", "b", "c", "deeper"}, servers(t, q))
			return nil
		}))
		require.Equal(t, []string{"in the log", "supposed", "a", "b", "c"}, servers(t, p))
		now, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, before, now, "the file is not written to")
		return nil
	}))
	require.Equal(t, []string{"in the log", "meanwhile"}, servers(t, d))
	add(t, d, "after")
	require.NoError(t, d.Private(ctx, func(p *DB) error {
		require.Equal(t, []string{"in the log", "meanwhile", "after"}, servers(t, p))
		return nil
	}))
	require.NoError(t, other.Close())
	require.NoError(t, d.Close())
	again, err := Open(ctx, path, noKeys)
	require.NoError(t, err)
	defer again.Close()
	require.Equal(t, []string{"in the log", "meanwhile", "after"}, servers(t, again))
	require.NoError(t, again.Read(ctx, func(tx *Tx) error {
		require.Empty(t, tx.Integrity()())
		return nil
	}))
}

// TestPrivateHoldsPagesToTheirSums: a bit that flipped is an error there too.
func TestPrivateHoldsPagesToTheirSums(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "a.estate")
	require.NoError(t, Create(ctx, path))
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	keys := func([]byte) []string { return nil }
	d, err := Open(ctx, path, keys)
	require.NoError(t, err)
	defer d.Close()
	refused := 0
	for page := 1; page < len(b)/pageSize; page++ {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(t, err)
		at := int64(page*pageSize + 20)
		_, err = f.WriteAt([]byte{b[at] ^ 4}, at)
		require.NoError(t, err)
		if err := d.Private(ctx, func(p *DB) error {
			return p.Read(ctx, func(tx *Tx) error {
				for _, name := range tx.Strings("SELECT name FROM sqlite_schema WHERE type='table' AND name NOT LIKE 'sqlite%'") {
					tx.Int("SELECT count(*) FROM " + name)
				}
				return tx.Err()
			})
		}); err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			refused++
		}
		_, err = f.WriteAt([]byte{b[at]}, at)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	require.Greater(t, refused, 5)
}
