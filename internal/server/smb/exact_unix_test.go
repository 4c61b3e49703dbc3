//go:build unix

package smb

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/right"
	"tarnwold/internal/server/smb/smbtest"
)

// TestOpensExactly: an open with exact rights is done or refused by the
// server's own rules, and leaves nothing behind.
func TestOpensExactly(t *testing.T) {
	s := smbtest.Start(t, playhouse)
	ctx := context.Background()
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "productions", "hire list.csv"), []byte("x"), 0o666))
	give(t, dial(t, s, "warden"), "productions", "hire list.csv", "D:P(A;;0x1;;;WD)")
	x, err := DialExact(ctx, Link{Host: "127.0.0.1", Port: s.Port, User: "bram"}, Secret{Password: smbtest.Password("bram")})
	require.NoError(t, err)
	defer x.Close()
	for _, c := range []struct {
		share, path string
		rights      right.Set
		want        Status
	}{
		{"productions", "", right.ReadData, 0},
		{"productions", "hire list.csv", right.ReadData, 0},
		{"PRODUCTIONS", "HIRE LIST.csv", right.ReadData, 0},
		{"productions", "hire list.csv", right.WriteData, StatusDenied},
		{"productions", "hire list.csv", right.ReadData | right.WriteACL, StatusDenied},
		{"productions", "nowhere", right.ReadData, StatusNoName},
		{"nowhere", "", right.ReadData, StatusNoShare},
	} {
		got, err := x.Try(c.share, c.path, c.rights)
		require.NoError(t, err)
		require.Equal(t, c.want, got, "%s %s %v", c.share, c.path, c.rights)
	}
	_, err = DialExact(ctx, Link{Host: "127.0.0.1", Port: s.Port, User: "bram"}, Secret{Password: "not that"})
	require.ErrorContains(t, err, "the user's name or password is wrong")
	_, err = DialExact(ctx, Link{Host: "127.0.0.1", Port: s.Port, User: "bram", Encrypt: true}, Secret{Password: "x"})
	require.ErrorContains(t, err, "only to be spoken to encrypted")
	s.Kill()
	_, err = x.Try("productions", "", right.ReadData)
	require.Error(t, err)
}

func FuzzAnswers(f *testing.F) {
	f.Add(append([]byte("\xfeSMB\x40\x00"), make([]byte, 80)...))
	f.Fuzz(func(t *testing.T, in []byte) {
		all, err := parseAnswers(in)
		if err != nil {
			return
		}
		n := 0
		for i := range all {
			n += len(all[i].packet)
			_, _ = all[i].buffer(4)
		}
		require.Equal(t, len(in), n, "every byte belongs to one answer")
	})
}
