package store

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestBesideSeesTheSame: what is read beside a transaction is what that sees itself,
// whatever others write in between, and where it is of an estate in memory.
func TestBesideSeesTheSame(t *testing.T) {
	ctx := context.Background()
	_, d, other := twice(t)
	change := func(d *DB, name string) {
		add(t, d, name)
		require.NoError(t, d.Write(ctx, false, func(tx *Tx) error {
			tx.Exec("INSERT INTO journal(at, actor, command, summary) VALUES('','','',?)", name)
			return tx.Err()
		}))
	}
	change(d, "first")
	seen := func(d *DB, between func()) (names []string, itself bool) {
		require.NoError(t, d.Read(ctx, func(tx *Tx) error {
			require.NotEmpty(t, tx.Strings("SELECT name FROM servers")) // from here on it sees one moment
			between()
			tx.Beside(func(b *Tx) {
				itself = b == tx
				names = b.Strings("SELECT name FROM servers ORDER BY id")
			})()
			require.Equal(t, tx.Strings("SELECT name FROM servers ORDER BY id"), names)
			return tx.Err()
		}))
		return names, itself
	}
	names, itself := seen(d, func() {})
	require.Equal(t, []string{"first"}, names)
	require.False(t, itself)
	names, itself = seen(d, func() { change(other, "meanwhile") })
	require.Equal(t, []string{"first"}, names)
	require.True(t, itself, "another connection sees more")
	require.NoError(t, d.Private(ctx, func(p *DB) error {
		change(p, "supposed")
		names, itself = seen(p, func() {})
		require.Equal(t, []string{"first", "meanwhile", "supposed"}, names)
		require.True(t, itself)
		return nil
	}))
	failed := d.Read(ctx, func(tx *Tx) error {
		tx.Beside(func(b *Tx) { b.Fail(context.Canceled) })()
		return tx.Err()
	})
	require.ErrorIs(t, failed, ErrStopped, "what fails beside is asked again, and told")
}
