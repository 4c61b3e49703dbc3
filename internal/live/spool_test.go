package live

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server"
)

func some(n int) *rule.Descriptor {
	return &rule.Descriptor{Owner: account.NewID(5, 21, 1, 2, 3, uint32(n)), Group: account.NewID(5, 21, 1, 2, 3, 513), Control: rule.RulesPresent,
		Rules: rule.Rules{Entries: []rule.Entry{{Rights: 0x1f01ff, Who: account.Everyone}}}, Audit: rule.Rules{Absent: true}}
}

// written is a tree told in the order a scan would, and put down.
func written(t require.TestingT, file string, say func(s *spool)) {
	s, err := newSpool(file, spoolHead{Server: "stagedoor", Reading: server.Reading{Depth: 3}})
	require.NoError(t, err)
	require.NoError(t, s.place())
	say(s)
	require.NoError(t, s.close())
}

// told is what a spool holds of its first share.
func told(file string) (h spoolHead, items []server.Item, err error) {
	h, err = readSpool(file, func(tree int, x server.Item) error {
		if tree == 0 && x.Err == nil && !x.Whole {
			items = append(items, x)
		}
		return nil
	})
	return h, items, err
}

// TestWhatStandsOfAScan: of one that was broken off, what is in folders that
// were read whole stands; the others are read again, and nothing twice.
func TestWhatStandsOfAScan(t *testing.T) {
	file := filepath.Join(t.TempDir(), "spool")
	at := time.Unix(1700000000, 0)
	d := some(1)
	folder := func(path string) server.Item {
		return server.Item{Path: path, Folder: true, Enter: true, Rules: d, Modified: at, Changed: at}
	}
	written(t, file, func(s *spool) {
		for _, x := range []server.Item{folder(""), folder("a"), {Path: "top.txt", Rules: some(2), Size: 7, Modified: at}, folder("shut"), {Path: "link", Folder: true, Rules: d, Notes: []server.Note{server.Mounted, server.Immutable}},
			{Path: "", Whole: true}, folder("a/b"), {Path: "shut", Folder: true, Err: errors.New("the user may not")}, {Path: "a/x", Rules: d}, folder("a/b/c"), {Path: "a/b/c", Whole: true},
			{Path: "a/b", Whole: true}} { // a was not read whole, so what is below it is read again
			require.NoError(t, s.item(0, x))
		}
	})
	h, of, err := standingIn(file)
	require.NoError(t, err)
	require.Equal(t, "stagedoor", h.Server)
	var items []server.Item
	var paths, bad, from, whole []string
	_, err = readSpool(file, func(tree int, x server.Item) error {
		require.Zero(t, tree)
		switch {
		case !of[0].keeps(x):
		case x.Whole:
			whole = append(whole, x.Path)
		case x.Err != nil:
			bad = append(bad, x.Path)
		default:
			items, paths = append(items, x), append(paths, x.Path)
			if of[0].open(x) {
				from = append(from, x.Path)
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.Equal(t, []string{"", "a", "top.txt", "shut", "link"}, paths)
	require.Equal(t, []string{"a"}, from)
	require.Equal(t, []string{"shut"}, bad)
	require.Equal(t, []string{""}, whole, "what is below a folder that is read again isn't whole any more")
	require.Equal(t, []server.Note{server.Mounted, server.Immutable}, items[4].Notes)
	require.Empty(t, items[3].Notes)
	require.Equal(t, int64(7), items[2].Size)
	require.True(t, items[2].Modified.Equal(at))
	require.True(t, items[2].Changed.IsZero())
	require.True(t, items[2].Rules.Same(some(2)))
}

// TestATornSpoolIsReadAsFarAsItIsWhole: cut anywhere, what is before stands; a
// bit that is another one is found.
func TestATornSpoolIsReadAsFarAsItIsWhole(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(rt *rapid.T) {
		file := filepath.Join(dir, "spool")
		n := rapid.IntRange(1, 30).Draw(rt, "items")
		written(rt, file, func(s *spool) {
			require.NoError(rt, s.item(0, server.Item{Folder: true, Enter: true, Rules: some(0)}))
			require.NoError(rt, s.item(0, server.Item{Whole: true}))
			for i := range n {
				require.NoError(rt, s.item(0, server.Item{Path: fmt.Sprint("f", i), Rules: some(i % 3)}))
			}
		})
		text, err := os.ReadFile(file)
		require.NoError(rt, err)
		head := bytes.IndexByte(text[len(spoolMark):], '\n') + len(spoolMark) + 1
		cut := rapid.IntRange(head, len(text)).Draw(rt, "cut")
		require.NoError(rt, os.WriteFile(file, text[:cut], 0o600))
		_, items, err := told(file)
		require.NoError(rt, err)
		for i, x := range items {
			if i > 0 {
				require.Equal(rt, fmt.Sprint("f", i-1), x.Path)
				require.True(rt, x.Rules.Same(some((i-1)%3)))
			}
		}
	})
}

// TestAFlippedBitOfASpoolIsFound: whichever it is, what is read was written.
func TestAFlippedBitOfASpoolIsFound(t *testing.T) {
	proptest.Long(t)
	file := filepath.Join(t.TempDir(), "spool")
	written(t, file, func(s *spool) {
		require.NoError(t, s.item(0, server.Item{Folder: true, Enter: true, Rules: some(0)}))
		for i := range 4 {
			require.NoError(t, s.item(0, server.Item{Path: fmt.Sprint("f", i), Rules: some(i % 2), Size: int64(i)}))
		}
		require.NoError(t, s.item(0, server.Item{Whole: true}))
	})
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	head := bytes.IndexByte(text[len(spoolMark):], '\n') + len(spoolMark) + 1
	refused := 0
	for at := head; at < len(text); at++ {
		for bit := range 8 {
			flipped := bytes.Clone(text)
			flipped[at] ^= 1 << bit
			require.NoError(t, os.WriteFile(file, flipped, 0o600))
			_, items, err := told(file)
			if err != nil {
				refused++
				continue
			}
			for i, x := range items { // fewer, where a length says the rest is missing
				if i > 0 {
					require.Equal(t, fmt.Sprint("f", i-1), x.Path)
					require.Equal(t, int64(i-1), x.Size)
					require.True(t, x.Rules.Same(some((i-1)%2)))
				}
			}
		}
	}
	require.Greater(t, refused, 500)
}

func FuzzSpool(f *testing.F) {
	file := filepath.Join(f.TempDir(), "spool")
	written(f, file, func(s *spool) { _ = s.item(0, server.Item{Folder: true, Rules: some(0)}) })
	text, err := os.ReadFile(file)
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		file := filepath.Join(t.TempDir(), "spool")
		require.NoError(t, os.WriteFile(file, text, 0o600))
		_, of, err := standingIn(file)
		if err != nil {
			return
		}
		_, err = readSpool(file, func(tree int, x server.Item) error {
			require.NotNil(t, of[tree])
			if of[tree].keeps(x) && x.Err == nil && !x.Whole {
				require.NotNil(t, x.Rules)
			}
			return nil
		})
		require.NoError(t, err)
	})
}

func TestSpoolsOfOtherScans(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"none": "", "other": "hello\n", "head": spoolMark + "{\n"} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := readSpool(file, nil)
		require.Error(t, err, name)
	}
	require.NotEqual(t, SpoolOf("e", "a/b"), SpoolOf("e", "a:b")+"x")
	require.NotContains(t, SpoolOf("e", "../x")[1:], "/")
}
