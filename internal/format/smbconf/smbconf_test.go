package smbconf

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const playhouse = `# the box office
[global]
	workgroup = QUILLFEATHER
	Admin Users = warden
	invalid users = guest1
[Productions]
	path = /srv/playhouse/Productions
	writeable = yes
	valid users = @wardrobe, "lena may" \
		+stage QUILLFEATHER\bram
	hosts allow = 10.0.0.0/8
; off for the summer
[vault]
	path = /srv/vault
	read list = @volunteers
	write list = ines %U
	force user = keeper
	force group = +board
	hide unreadable = on
	admin users =
	invalid users = lark &net
[old]
	path = /srv/old
	available = no
[homes]
	browseable = no
[productions]
	read only = true
`

func TestWhatAConfigurationSays(t *testing.T) {
	shares, notes, err := Read(strings.NewReader(playhouse), "smb.conf")
	require.NoError(t, err)
	require.Equal(t, []Share{
		{Name: "vault", Line: 13, Path: "/srv/vault", ReadOnly: true, Never: []string{"lark", "@net"}, Reading: []string{"@volunteers"}, Writing: []string{"ines"},
			As: "keeper", Group: "@board", Passes: true, GroupOfMembers: true, Hides: true},
		{Name: "Productions", Line: 6, Path: "/srv/playhouse/Productions", ReadOnly: true, Limited: true, Only: []string{"@wardrobe", "lena may", "@stage", `QUILLFEATHER\bram`},
			Never: []string{"guest1"}, Administrators: []string{"warden"}, Passes: true},
	}, shares)
	require.Equal(t, []Note{
		{16, `"%U" isn't understood, and fits nobody`},
		{22, "share old is not available, and left out"},
		{25, "[homes] makes a share for each user, which isn't counted"},
		{11, "from which machines one may connect isn't counted"},
	}, notes)
}

func TestConfigurationsThatCantBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"[a\n":                   "line 1: wanted [NAME] of a share",
		"[]\n":                   "line 1: wanted [NAME] of a share",
		"[a]\npath\n":            "line 2: wanted NAME = VALUE",
		"[a]\n\nread only = ja":  `line 3: "ja" is neither yes nor no`,
		"[a]\nwritable = maybe":  `line 2: "maybe" is neither yes nor no`,
		"[a]\n = x":              "line 2: wanted NAME = VALUE",
		strings.Repeat("x", 1e5): "too long",
	} {
		_, _, err := Read(strings.NewReader(text), "smb.conf")
		require.ErrorContains(t, err, want, text[:min(len(text), 40)])
	}
}

func FuzzRead(f *testing.F) {
	f.Add(playhouse)
	f.Fuzz(func(t *testing.T, text string) {
		shares, _, err := Read(strings.NewReader(text), "f")
		if err != nil {
			require.Empty(t, shares)
		}
		for _, s := range shares {
			require.NotEmpty(t, s.Name)
			for _, n := range append(append(s.Only, s.Never...), s.Writing...) {
				require.NotContains(t, n, "%")
			}
		}
	})
}
