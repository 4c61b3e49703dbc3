//go:build unix

package smb

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/rule/sddl"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb/smbtest"
)

var playhouse = smbtest.Config{
	Users:  []string{"warden", "bram", "ines"},
	Groups: map[string][]string{"wardrobe": {"bram", "ines"}, "company": nil},
	Shares: map[string]string{"productions": "", "vault": "read only = yes"},
}

func dial(t *testing.T, s *smbtest.Server, user string) *Client {
	c, err := Dial(context.Background(), Link{Host: "127.0.0.1", Port: s.Port, User: user}, Secret{Password: smbtest.Password(user)})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// TestARealServer: what a real server has is read as it is: shares, folders and
// files with their rules, accounts, names; a wrong password and a closed door
// are said as such.
func TestARealServer(t *testing.T) {
	s := smbtest.Start(t, playhouse)
	ctx := context.Background()
	require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, "productions", "Wardrobe", "Fittings"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "productions", "Wardrobe", "hire list.csv"), []byte("x"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "productions", "ärger.txt"), nil, 0o666))
	require.NoError(t, os.Symlink("/etc", filepath.Join(s.Dir, "productions", "out")))
	c := dial(t, s, "warden")

	shares, err := c.Shares(ctx)
	require.NoError(t, err)
	byName := map[string]server.Share{}
	for _, x := range shares {
		byName[x.Name] = x
	}
	require.Len(t, byName, 2, "the system's own shares are left out")
	require.True(t, byName["vault"].Told && byName["vault"].ReadOnly && byName["productions"].Told && !byName["productions"].ReadOnly)
	posix, told := c.OnPOSIX(ctx)
	require.True(t, posix && told, "it says what it stands on")
	require.Equal(t, filepath.Join(s.Dir, "productions"), byName["productions"].Folder)
	text, err := sddl.Format(byName["productions"].Rules)
	require.NoError(t, err)
	require.Contains(t, text, "(A;;0x001f01ff;;;WD)")

	met := map[string]server.Item{}
	require.NoError(t, c.Scan(ctx, "productions", server.Reading{}, func(x server.Item) error {
		if x.Whole {
			return nil
		}
		if x.Path != "" {
			_, ok := met[filepath.ToSlash(filepath.Dir("/" + x.Path))[1:]]
			require.True(t, ok, "%s comes behind its folder", x.Path)
		}
		met[x.Path] = x
		return nil
	}))
	for path, folder := range map[string]bool{"": true, "Wardrobe": true, "Wardrobe/Fittings": true, "Wardrobe/hire list.csv": false, "ärger.txt": false} {
		x, ok := met[path]
		require.True(t, ok, path)
		require.NoError(t, x.Err)
		require.Equal(t, folder, x.Folder, path)
		require.NotNil(t, x.Rules)
		require.False(t, x.Rules.Listed().Owner.IsZero())
	}
	require.Equal(t, int64(1), met["Wardrobe/hire list.csv"].Size)
	require.NotContains(t, met, "out/passwd", "links out of the share are not followed")

	all, _, err := c.Accounts(ctx)
	require.NoError(t, err)
	names := map[string]server.Account{}
	for _, a := range all {
		names[a.Name] = a
	}
	require.Equal(t, account.User, names["bram"].Kind)
	require.Equal(t, account.Group, names["wardrobe"].Kind)
	called, err := c.Names(ctx, []account.ID{names["bram"].ID, names["wardrobe"].ID, account.NewID(5, 21, 1, 2, 3, 4)})
	require.NoError(t, err)
	require.ElementsMatch(t, []server.Account{names["bram"], names["wardrobe"]}, called)

	_, err = Dial(ctx, Link{Host: "127.0.0.1", Port: s.Port, User: "warden"}, Secret{Password: "not that"})
	require.ErrorContains(t, err, "refused the sign-on: the user's name or password is wrong")
	_, err = Dial(ctx, Link{Host: "127.0.0.1", Port: 1, User: "warden"}, Secret{Password: "x"})
	require.ErrorContains(t, err, "127.0.0.1:1 can't be reached: connect: connection refused")
	require.ErrorContains(t, c.Scan(ctx, "nowhere", server.Reading{}, nil), "share nowhere: there is no such share")
}

// TestAServerThatGoesAway: killed in the middle of a scan it is an error, soon,
// and what can't be read before is told of item by item.
func TestAServerThatGoesAway(t *testing.T) {
	s := smbtest.Start(t, playhouse)
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	for i := range 30 {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, "productions", fmt.Sprint("folder ", i), "below"), 0o777))
	}
	c := dial(t, s, "warden")
	n := 0
	err := c.Scan(ctx, "productions", server.Reading{}, func(x server.Item) error {
		if n++; n == 5 {
			s.Kill()
		}
		if x.Err != nil {
			return x.Err
		}
		return nil
	})
	require.Error(t, err)
	require.NoError(t, ctx.Err(), "it is over at once, not when patience is")
	require.Less(t, n, 61)
}

// TestWhatAUserMayNotSee: a folder whose rules or contents are closed to who
// scans is told of, and the rest is read.
func TestWhatAUserMayNotSee(t *testing.T) {
	s := smbtest.Start(t, playhouse)
	ctx := context.Background()
	admin := dial(t, s, "warden")
	for _, dir := range []string{"open", "closed/below"} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, "productions", dir), 0o777))
	}
	give(t, admin, "productions", "closed", "D:P")
	bad, met := []string{}, []string{}
	require.NoError(t, dial(t, s, "bram").Scan(ctx, "productions", server.Reading{}, func(x server.Item) error {
		if x.Whole {
			return nil
		}
		if x.Err != nil {
			bad = append(bad, x.Path+": "+x.Err.Error())
		} else {
			met = append(met, x.Path)
		}
		return nil
	}))
	require.Equal(t, []string{"closed: the user may not"}, bad)
	require.ElementsMatch(t, []string{"", "open"}, met)
}

// give gives an item rules written in the standard's text form.
func give(t *testing.T, c *Client, share, path, text string) {
	fs, err := c.session.Mount(share)
	require.NoError(t, err)
	d, err := sddl.Parse(text, account.ID{})
	require.NoError(t, err)
	b, err := secdesc.Encode(d)
	require.NoError(t, err)
	require.NoError(t, fs.SetSecurityInfoRaw(path, smb2.DACLSecurityInformation, blob(b)))
}

func TestFoldersOfShares(t *testing.T) {
	for path, want := range map[string]string{`C:\srv\play house`: "/srv/play house", `C:\`: "/", `D:\Data\`: "/D:/Data", `d:\`: "/D:", "": "/", `\\odd`: "/odd"} {
		require.Equal(t, want, folder(path), path)
	}
}
