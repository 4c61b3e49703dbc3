package smbconf

import (
	"slices"
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
	got, err := Read(strings.NewReader(playhouse), "smb.conf", nil)
	require.NoError(t, err)
	shares, notes := got.Shares, got.Notes
	require.Equal(t, []Share{
		{Name: "vault", Line: 13, Path: "/srv/vault", ReadOnly: true, Never: []string{"lark"}, Reading: []string{"@volunteers"}, Writing: []string{"ines", "everyone@"},
			As: "keeper", Group: "@board", Passes: true, GroupOfMembers: true, Hides: true},
		{Name: "Productions", Line: 6, Path: "/srv/playhouse/Productions", ReadOnly: true, Limited: true, Only: []string{"@wardrobe", "lena may", "@stage", `QUILLFEATHER\bram`},
			Never: []string{"guest1"}, Administrators: []string{"warden"}, Passes: true, Uncounted: []string{"hosts allow = 10.0.0.0/8"}},
	}, shares)
	require.Equal(t, []Note{
		{"", 21, `"&net" is a group of a name service for networks, of whom nothing is known, and fits nobody`},
		{"", 22, "share old is not available, and left out"},
		{"", 11, "from which machines one may connect isn't counted"},
	}, notes)
}

// TestWhatNoAnswerCountsIsSaid: a parameter that changes an answer is counted, or told
// with its value.
func TestWhatNoAnswerCountsIsSaid(t *testing.T) {
	const global = "[global]\nnetbios name = STAGEDOOR\nvfs objects = acl_xattr\n[s]\npath = /srv\nread only = no\n"
	for line, want := range map[string]Share{
		"recycle = x":                                                   {},
		"hosts deny = ALL":                                              {NoMachine: true},
		"hosts deny = all\nhosts allow = 10.1.":                         {Uncounted: []string{"hosts allow = 10.1.", "hosts deny = all"}},
		"hosts deny = 10.":                                              {Uncounted: []string{"hosts deny = 10."}},
		"acl allow execute always = yes":                                {Runs: true},
		"acl allow execute always = no":                                 {},
		"vfs objects = acl_xattr recycle":                               {},
		"vfs objects = acl_xattr worm":                                  {Uncounted: []string{"vfs objects = worm"}},
		"vfs objects = recycle":                                         {Uncounted: []string{"vfs objects = recycle"}},
		"vfs objects = acl_xattr readonly":                              {ReadOnly: true},
		"vfs objects = acl_xattr readonly\nreadonly:period = today":     {Uncounted: []string{"vfs objects = readonly"}},
		"veto files = /x/":                                              {Uncounted: []string{"veto files = /x/"}},
		"veto files = /":                                                {},
		"acl_xattr:default acl style = windows":                         {Uncounted: []string{"acl_xattr:default acl style = windows"}},
		"acl_xattr:default acl style = posix":                           {},
		"acl_xattr:ignore system acls = no":                             {Uncounted: []string{"acl_xattr:ignore system acls = no"}},
		"inherit owner = unix only":                                     {Uncounted: []string{"inherit owner = unix only"}},
		"inherit owner = no":                                            {},
		"root preexec close = yes":                                      {Uncounted: []string{"root preexec close = yes"}},
		"delete readonly = yes":                                         {Uncounted: []string{"delete readonly = yes"}},
		"guest only = yes":                                              {Uncounted: []string{"guest only = yes"}},
		"valid users = everyone@ ines":                                  {Limited: true, Only: []string{"ines"}},
		"copy = other":                                                  {Uncounted: []string{"copy = other"}},
		"valid users = STAGEDOOR\\ines @stagedoor\\stage &+net ELSE\\x": {Limited: true, Only: []string{"ines", "@stage", "@net", `ELSE\x`}},
	} {
		got, err := Read(strings.NewReader(global+line), "smb.conf", nil)
		require.NoError(t, err, line)
		shares := got.Shares
		want.Name, want.Line, want.Path = "s", 4, "/srv"
		require.Equal(t, []Share{want}, shares, line)
	}
}

// TestACopySaysLess: what a share says itself goes before what it copies, and it copies
// what stands before it alone.
func TestACopySaysLess(t *testing.T) {
	got, err := Read(strings.NewReader("[a]\npath = /a\nvalid users = x\nread only = no\n[b]\npath = /b\ncopy = A\nvalid users = y\n[c]\npath = /c\ncopy = d\n[d]\npath = /d\nvalid users = z\n"), "smb.conf", nil)
	require.NoError(t, err)
	require.Equal(t, []Share{
		{Name: "a", Line: 1, Path: "/a", Limited: true, Only: []string{"x"}},
		{Name: "b", Line: 5, Path: "/b", Limited: true, Only: []string{"y"}},
		{Name: "c", Line: 9, Path: "/c", ReadOnly: true, Uncounted: []string{"copy = d"}},
		{Name: "d", Line: 12, Path: "/d", ReadOnly: true, Limited: true, Only: []string{"z"}},
	}, got.Shares)
}

// TestNoMachineIsCountedAndNotNoted: a note says only what isn't counted.
func TestNoMachineIsCountedAndNotNoted(t *testing.T) {
	why := "from which machines one may connect isn't counted"
	for text, want := range map[string][]Note{
		"[s]\npath = /srv\nhosts deny = ALL\n":                              nil,
		"[global]\nhosts deny = ALL\n[s]\npath = /srv\n":                    nil,
		"[s]\npath = /srv\nhosts deny = 10.\n":                              {{"", 3, why}},
		"[s]\npath = /srv\nhosts deny = ALL\nhosts allow = 10.\n":           {{"", 3, why}, {"", 4, why}},
		"[global]\nhosts allow = 10.\n[s]\npath = /srv\nhosts deny = ALL\n": {{"", 2, why}, {"", 5, why}},
		"[global]\nhosts deny = ALL\n[s]\npath = /srv\nhosts allow = 10.\n": {{"", 5, why}},
	} {
		got, err := Read(strings.NewReader(text), "smb.conf", nil)
		require.NoError(t, err, text)
		notes := got.Notes
		slices.SortFunc(notes, func(a, b Note) int { return a.Line - b.Line })
		require.Equal(t, want, notes, text)
	}
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
		_, err := Read(strings.NewReader(text), "smb.conf", nil)
		require.ErrorContains(t, err, want, text[:min(len(text), 40)])
	}
}

func FuzzRead(f *testing.F) {
	f.Add(playhouse)
	f.Fuzz(func(t *testing.T, text string) {
		got, err := Read(strings.NewReader(text), "f", nil)
		if err != nil {
			require.Nil(t, got)
			return
		}
		if got.Homes != nil {
			_, _ = got.Homes.Of("ines", "/home/ines")
		}
		for _, s := range got.Shares {
			require.NotEmpty(t, s.Name)
			for _, n := range append(append(s.Only, s.Never...), s.Writing...) {
				require.NotContains(t, n, "%")
			}
		}
	})
}
