package smb

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/right"
	"tarnwold/internal/format/smbconf"
	"tarnwold/internal/server/smb/smbtest"
)

// TestHomesAndVariables: who gets into a share of each user's own, into one whose lists name
// whoever connects, and into a copy, is what a configuration is read to say. Of whom the
// system says that the root is their folder has no share.
func TestHomesAndVariables(t *testing.T) {
	s := smbtest.Start(t, smbtest.Config{
		Users:  []string{"warden", "bram", "ines"},
		Groups: map[string][]string{"wardrobe": {"ines"}, "company": nil}, Homeless: []string{"bram"},
		Shares: map[string]string{
			"base":        "invalid users = bram",
			"copied":      "copy = base\npath = productions",
			"copiedless":  "copy = base\ninvalid users = ines\npath = productions",
			"homes":       "valid users = %S\npath = productions/%S",
			"productions": "",
			"whoever":     "valid users = %U\npath = productions",
			"itsgroup":    "valid users = @%G\npath = productions",
			"never":       "invalid users = %U\npath = productions",
			"nevergroup":  "invalid users = @%G\npath = productions",
			"neveru":      "invalid users = %u\npath = productions",
			"neverg":      "invalid users = @%g\npath = productions",
			"onlyu":       "valid users = %u\npath = productions",
			"onlyg":       "valid users = @%g\npath = productions",
			"onlybare":    "valid users = %G\npath = productions",
			"onlyplus":    "valid users = +%G\npath = productions",
			"onlyshare":   "valid users = %D%w%S ines\npath = productions",
			"reading":     "read list = %U\nread only = no\npath = productions",
			"readingu":    "read list = %u\nread only = no\npath = productions",
		},
	})
	for _, u := range []string{"ines", "bram"} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, "productions", u), 0o777))
		require.NoError(t, os.Chmod(filepath.Join(s.Dir, "productions", u), 0o777))
	}
	f, err := os.Open(filepath.Join(s.Dir, "smb.conf"))
	require.NoError(t, err)
	defer f.Close()
	conf, err := smbconf.Read(f, "smb.conf", nil)
	require.NoError(t, err)
	shares := conf.Shares
	for _, u := range []string{"ines", "bram"} {
		x, err := conf.Homes.Of(u, "")
		require.NoError(t, err)
		require.Equal(t, filepath.Join(s.Dir, "productions", u), x.Path)
		shares = append(shares, x)
	}
	listed := func(list []string, user string) (in bool) {
		for _, n := range list {
			in = in || n == user || n == "everyone@" || n == "@wardrobe" && user == "ines"
		}
		return in
	}
	tried := 0
	for _, user := range []string{"ines", "bram"} {
		x, err := DialExact(context.Background(), Link{Host: "127.0.0.1", Port: s.Port, User: user}, Secret{Password: smbtest.Password(user)})
		require.NoError(t, err)
		defer x.Close()
		for _, sh := range shares {
			want := sh.Name != "bram" && !listed(sh.Never, user) && (!sh.Limited || listed(sh.Only, user))
			said, err := x.Try(sh.Name, "", right.ReadData)
			require.NoError(t, err)
			require.Equal(t, want, said == 0, "%s to %s: %s", user, sh.Name, strings.TrimSpace(said.Error()))
			if want {
				said, err = x.Try(sh.Name, "", right.WriteData)
				require.NoError(t, err)
				require.Equal(t, !sh.ReadOnly && !listed(sh.Reading, user), said == 0, "%s to write in %s: %s", user, sh.Name, strings.TrimSpace(said.Error()))
			}
			tried++
		}
	}
	require.Equal(t, 2*(len(conf.Shares)+2), tried)
}
