package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEveryPageHasItsSum: one bit flipped in any page, wherever in it, is
// found when the page is read.
func TestEveryPageHasItsSum(t *testing.T) {
	ctx := context.Background()
	file := filepath.Join(t.TempDir(), "e")
	require.NoError(t, Create(ctx, file))
	db := Raw(file)
	_, err := db.Exec("INSERT INTO levels(name, key, folder, file, about) WITH RECURSIVE n(i) AS (VALUES(1) UNION ALL SELECT i+1 FROM n WHERE i<2000) SELECT 'level '||i, 'level '||i, i, i, printf('%090d', i) FROM n")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Zero(t, len(data)%pageSize)
	pages := len(data) / pageSize
	require.Greater(t, pages, 50)
	look := func() error {
		db := Raw(file)
		defer db.Close()
		var said string
		if err := db.QueryRow("PRAGMA integrity_check").Scan(&said); err != nil {
			return err
		}
		if said != "ok" {
			return fmt.Errorf("the database's own check: %s", said)
		}
		return nil
	}
	require.NoError(t, look())
	for page := range pages {
		// Within rows the database's own check sees nothing: the sum has to.
		at := page*pageSize + pageSize/2 + page*37%1500
		data[at] ^= 1 << (page % 8)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		data[at] ^= 1 << (page % 8)
		require.Error(t, look(), "page %d, byte %d", page, at)
	}
	require.NoError(t, os.WriteFile(file, data, 0o600))
	require.NoError(t, look())
}
