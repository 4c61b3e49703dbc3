//go:build unix

package smb

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb/smbtest"
)

// TestOddNames: whatever things are called on the server, a scan tells of each
// once, by a name it can be asked for by, and looks at it by that.
func TestOddNames(t *testing.T) {
	c := playhouse
	c.Global = "host msdfs = yes"
	c.Shares = map[string]string{"productions": "msdfs root = yes", "Spaced Share": ""}
	s := smbtest.Start(t, c)
	top := filepath.Join(s.Dir, "productions")
	deep := top
	for range 25 {
		deep = filepath.Join(deep, strings.Repeat("lång-", 20))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(top, "Act One"), 0o777))
	require.NoError(t, os.MkdirAll(deep, 0o777))
	names := []string{"colon:file", "back\\slash", "trailing dot.", "trailing blank ", " leading", "CON", "line\nbreak", "über", "u\u0308ber", "quo\"te", "star*", "a", "A"}
	for _, n := range names {
		require.NoError(t, os.WriteFile(filepath.Join(top, "Act One", n), nil, 0o666))
	}
	require.NoError(t, os.Symlink(`msdfs:elsewhere\share`, filepath.Join(top, "referral")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(top, "out")))
	cli := dial(t, s, "warden")
	ctx := context.Background()
	seen := map[string]bool{}
	longest := 0
	require.NoError(t, cli.Scan(ctx, "productions", server.Reading{}, func(x server.Item) error {
		if x.Whole {
			return nil
		}
		require.False(t, seen[x.Path] && x.Err == nil, x.Path)
		seen[x.Path] = true
		longest = max(longest, len(x.Path))
		if x.Err != nil {
			require.Contains(t, []string{"referral", "out"}, strings.SplitN(x.Path, "/", 2)[0], x.Err.Error())
		}
		return nil
	}))
	require.Greater(t, longest, 2500)
	act := 0
	for path := range seen {
		if strings.HasPrefix(path, "Act One/") {
			act++
			_, err := cli.Look(ctx, "productions", path, false)
			require.NoError(t, err, "%q", path)
		}
		require.NotContains(t, path, "passwd")
	}
	require.Equal(t, len(names), act)
	require.NoError(t, cli.Scan(ctx, "spaced share", server.Reading{}, func(server.Item) error { return nil }))
}

// TestHowFarAScanGoes: folders alone, so many layers, or what was left.
func TestHowFarAScanGoes(t *testing.T) {
	s := smbtest.Start(t, playhouse)
	for _, p := range []string{"a/b/c/d", "a/x", "e"} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, "productions", p), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "productions", p, "f"), nil, 0o666))
	}
	cli := dial(t, s, "warden")
	told := func(how server.Reading) (items, whole []string) {
		require.NoError(t, cli.Scan(context.Background(), "productions", how, func(x server.Item) error {
			if x.Whole {
				whole = append(whole, x.Path)
			} else {
				items = append(items, x.Path)
			}
			return nil
		}))
		return items, whole
	}
	items, _ := told(server.Reading{FoldersOnly: true})
	require.ElementsMatch(t, []string{"", "a", "a/b", "a/b/c", "a/b/c/d", "a/x", "e"}, items)
	items, whole := told(server.Reading{Depth: 2})
	require.ElementsMatch(t, []string{"", "a", "a/b", "a/x", "e", "e/f"}, items)
	require.ElementsMatch(t, []string{"", "a", "e"}, whole)
	items, _ = told(server.Reading{From: []string{"a/b/c", "e"}})
	require.ElementsMatch(t, []string{"a/b/c/d", "a/b/c/d/f", "e/f"}, items)
	stop := errors.New("enough")
	n := 0
	require.ErrorIs(t, cli.Scan(context.Background(), "productions", server.Reading{}, func(server.Item) error {
		if n++; n == 3 {
			return stop
		}
		return nil
	}), stop)
	require.Equal(t, 3, n, "nothing is told after the end")
}

// TestWhatIsWrittenComesBack: of any rules, written as a change writes them, the
// server has just these afterwards, and putting back the old ones gives the very
// bytes there were.
func TestWhatIsWrittenComesBack(t *testing.T) {
	w := &trial{t: t, r: seed(t), users: []string{"bram", "ines"}}
	w.s = smbtest.Start(t, playhouse)
	w.admin = dial(t, w.s, "warden")
	ctx := context.Background()
	w.names()
	var err error
	w.fs, err = w.admin.session.Mount("productions")
	require.NoError(t, err)
	require.NoError(t, w.fs.Mkdir("folder", 0o777))
	require.NoError(t, w.fs.WriteFile("file", nil, 0o666))
	n := 0
	for range times(300) {
		for _, path := range []string{"folder", "file"} {
			was, err := w.admin.Look(ctx, "productions", path, false)
			require.NoError(t, err)
			old, err := w.fs.SecurityInfoRaw(path, everything)
			require.NoError(t, err)
			to := w.rules(path == "folder")
			to.Group = was.Rules.Listed().Group
			for i := range to.Rules.Entries { // as a server keeps them, and as every change gives them
				to.Rules.Entries[i].Rights = to.Rules.Entries[i].Rights.Map()
			}
			if to.Sealed() { // what is sealed keeps no entries as inherited
				to.Control &^= rule.RulesFollow
			}
			require.NoError(t, w.admin.Write(ctx, server.Writing{Share: "productions", Path: path, Before: was.Rules, To: to}))
			now, err := w.admin.Look(ctx, "productions", path, false)
			require.NoError(t, err)
			if !server.Same(to, now.Rules, false) {
				require.Equal(t, to.Control, now.Rules.Listed().Control)
				require.Equal(t, to.Owner, now.Rules.Listed().Owner)
				require.Len(t, now.Rules.Listed().Rules.Entries, len(to.Rules.Entries))
				for i := range to.Rules.Entries {
					require.Equal(t, fmt.Sprint(to.Rules.Entries[i]), fmt.Sprint(now.Rules.Listed().Rules.Entries[i]))
				}
				require.Fail(t, "otherwise")
			}
			if n++; n%2 == 0 {
				require.NoError(t, w.admin.Write(ctx, server.Writing{Share: "productions", Path: path, Before: to, To: was.Rules}))
				back, err := w.fs.SecurityInfoRaw(path, everything)
				require.NoError(t, err)
				require.Equal(t, old, back)
			}
		}
	}
	t.Logf("%d descriptors written and read", n)
	// What isn't as it was said to be is left as it is, whatever is asked for.
	is, err := w.fs.SecurityInfoRaw("file", everything)
	require.NoError(t, err)
	require.ErrorIs(t, w.admin.Write(ctx, server.Writing{Share: "productions", Path: "file", Before: w.rules(false), To: w.rules(false)}), server.ErrChanged)
	still, err := w.fs.SecurityInfoRaw("file", everything)
	require.NoError(t, err)
	require.Equal(t, is, still)
	d := w.rules(false)
	d.Control &= rule.RulesPresent
	d.Rules.Absent = false
	for i := range d.Rules.Entries {
		d.Rules.Entries[i].Rights = d.Rules.Entries[i].Rights.Map()
	}
	was, err := w.admin.ShareRules(ctx, "vault")
	require.NoError(t, err)
	require.NoError(t, w.admin.Write(ctx, server.Writing{Share: "vault", OfShare: true, Before: was, To: d}))
	got, err := w.admin.ShareRules(ctx, "vault")
	require.NoError(t, err)
	require.True(t, d.Rules.Equal(&got.Rules))
}

// TestAFolderBehindShutShares: a folder is read by whichever of its shares lets
// one in, once; one that no share leads to is told of.
func TestAFolderBehindShutShares(t *testing.T) {
	s := smbtest.Start(t, smbtest.Config{Users: []string{"warden"}, Groups: map[string][]string{"g": nil},
		Shares: map[string]string{"aa": "path = mm", "mm": "", "zz": "path = mm", "in": "path = mm/in", "shut": ""}})
	require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, "mm", "in", "below"), 0o777))
	cli := dial(t, s, "warden")
	ctx := context.Background()
	for _, name := range []string{"aa", "zz", "shut"} {
		was, err := cli.ShareRules(ctx, name)
		require.NoError(t, err)
		require.NoError(t, cli.Write(ctx, server.Writing{Share: name, OfShare: true, Before: was, To: &rule.Descriptor{Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}}))
	}
	cli = dial(t, s, "warden")
	seen, err := (&live.Scan{Server: estate.Server{Name: "box"}}).Read(ctx, cli)
	require.NoError(t, err)
	require.Len(t, seen.Shares, 5)
	require.Len(t, seen.Trees, 1)
	require.Equal(t, "mm", seen.Trees[0].Share)
	require.Equal(t, 3, seen.Trees[0].Tree.Len())
	require.Equal(t, []live.Unread{{Where: "shut", Why: "share shut: the user may not"}}, seen.Unread)
}

// TestWhatAScanEnters: folders, but no links, none that can't be read, none too
// deep; and a name told twice in one folder ends it.
func TestWhatAScanEnters(t *testing.T) {
	const dir, link = 0x10, 0x400
	d := &rule.Descriptor{Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
	raw, err := secdesc.Encode(d)
	require.NoError(t, err)
	entry := func(name string, attributes uint32, raw []byte) smb2.DirEntryPlus {
		return smb2.DirEntryPlus{FileInfo: &smb2.FileStat{FileName: name, FileAttributes: attributes}, RawSecurityDescriptor: raw}
	}
	tell := func(depth int, in string, entries ...smb2.DirEntryPlus) (enters []string, names []string, err error) {
		how := server.Reading{Depth: depth, From: []string{}}
		walk, ctx, end, err := server.StartWalk(context.Background(), how, nil, nil)
		require.NoError(t, err)
		defer end()
		s := &scanning{Walk: walk, how: how, bodies: map[string]*rule.Descriptor{}}
		items, err := s.items(ctx, in, entries, map[string]bool{})
		for _, x := range items {
			names = append(names, x.Path)
			if x.Enter {
				enters = append(enters, x.Path)
			}
		}
		return enters, names, err
	}
	enters, names, err := tell(0, "a", entry("folder", dir, raw), entry("link", dir|link, raw), entry("file", 0, raw), entry("closed", dir, []byte{1}), entry("..", dir, raw),
		entry(`up\and away`, dir, raw), entry("zero\x00", 0, raw), entry("", dir, raw))
	require.NoError(t, err)
	require.Equal(t, []string{"a/folder"}, enters)
	require.Equal(t, []string{"a/folder", "a/link", "a/file", "a/closed"}, names)
	enters, _, err = tell(2, "a", entry("folder", dir, raw))
	require.NoError(t, err)
	require.Empty(t, enters)
	enters, _, err = tell(3, "a", entry("folder", dir, raw))
	require.NoError(t, err)
	require.Len(t, enters, 1)
	_, _, err = tell(0, "a", entry("x", 0, raw), entry("x", 0, raw))
	require.ErrorContains(t, err, `tells of "a/x" twice`)
	enters, _, err = tell(0, strings.Repeat("a/", 17000)+"a", entry("x", dir, raw))
	require.NoError(t, err)
	require.Empty(t, enters, "a server that goes on and on downward comes to an end")
}

// TestDescriptorsThatCantBeRead: malformed ones are told of as such, each alone.
func TestDescriptorsThatCantBeRead(t *testing.T) {
	s := &scanning{bodies: map[string]*rule.Descriptor{}}
	for _, raw := range [][]byte{{1}, make([]byte, 20), {1, 0, 4, 0x80, 255, 255, 255, 255, 0, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0}} {
		_, err := s.body(raw, 0)
		require.ErrorContains(t, err, "the server's descriptor can't be read")
	}
	require.Empty(t, s.bodies)
}

// TestNonsenseIsNoAnswer: an answer that can't be read says nothing of the item,
// and what follows on that connection isn't trusted.
func TestNonsenseIsNoAnswer(t *testing.T) {
	require.True(t, lost(&os.PathError{Op: "stat", Path: "x", Err: &smb2.InvalidResponseError{Message: "NextCommand offset out of bounds"}}))
	require.False(t, lost(&smb2.ResponseError{Code: 0xC0000022})) // it answered: access denied
}

// TestAGroupIsWrittenByWhoMay: who has every right on an item and is not an administrator
// changes its group.
func TestAGroupIsWrittenByWhoMay(t *testing.T) {
	w := &trial{t: t, r: seed(t), users: []string{"bram", "ines"}}
	w.s = smbtest.Start(t, playhouse)
	w.admin = dial(t, w.s, "warden")
	w.names()
	var err error
	w.fs, err = w.admin.session.Mount("productions")
	require.NoError(t, err)
	require.NoError(t, w.fs.WriteFile("file", nil, 0o666))
	d := &rule.Descriptor{Control: rule.RulesPresent, Owner: w.ids["bram"], Audit: rule.Rules{Absent: true}}
	d.Rules.Entries = []rule.Entry{{Kind: rule.Allow, Who: w.ids["bram"], Rights: right.All}}
	w.give("file", d)
	ctx := context.Background()
	bram := dial(t, w.s, "bram")
	was, err := bram.Look(ctx, "productions", "file", false)
	require.NoError(t, err)
	to := was.Rules.Listed().Clone()
	to.Group = w.ids["bram"]
	require.NotEqual(t, to.Group, was.Rules.Listed().Group)
	require.NoError(t, bram.Write(ctx, server.Writing{Share: "productions", Path: "file", Before: was.Rules, To: to}))
	now, err := bram.Look(ctx, "productions", "file", false)
	require.NoError(t, err)
	require.Equal(t, w.ids["bram"], now.Rules.Listed().Owner)
	require.Equal(t, to.Group, now.Rules.Listed().Group)
}
