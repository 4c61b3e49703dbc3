package format

import (
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// rows makes a tree of distinct rows, folders before what is in them.
func rows(t *rapid.T) []TreeRow {
	out := []TreeRow{{Folder: true}}
	taken := map[string]bool{}
	for range rapid.IntRange(0, 60).Draw(t, "items") {
		up := rapid.IntRange(0, len(out)-1).Draw(t, "in")
		for !out[up].Folder {
			up--
		}
		name := rapid.SampledFrom([]string{"a", "b", "a b", "ä", "aa", "\xff", strings.Repeat("long", 60)}).Draw(t, "name")
		path := strings.TrimPrefix(out[up].Path+"/"+name, "/")
		if taken[path] {
			continue
		}
		taken[path] = true
		out = append(out, TreeRow{Path: path, Folder: rapid.Bool().Draw(t, "folder"), Body: int32(len(out)), Line: int32(len(out))})
	}
	return out
}

// TestTreesInAnyOrder: whatever order rows come in, each is given once, behind
// its folder, with the folder's place and what is below it.
func TestTreesInAnyOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := rows(t)
		came := slices.Clone(want)
		if rapid.Bool().Draw(t, "mixed") {
			r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
			r.Shuffle(len(came), func(i, j int) { came[i], came[j] = came[j], came[i] })
		}
		tree := &Tree{}
		for _, r := range came {
			require.NoError(t, tree.Add(r))
		}
		require.NoError(t, tree.Arrange())
		require.NoError(t, tree.Arrange(), "once is enough, twice is the same")
		require.Equal(t, len(came), tree.Len())
		for i, r := range came {
			require.Equal(t, r, tree.Row(i))
		}
		paths := map[int]string{-1: ""}
		seen := map[string]bool{}
		require.NoError(t, tree.Each(func(at int, r *Arranged) bool {
			up, ok := paths[r.Above]
			require.True(t, ok, "behind its folder")
			path := strings.TrimPrefix(up+"/"+r.Name, "/")
			paths[at], seen[path] = path, true
			w := want[r.Body]
			require.Equal(t, w.Path, path)
			require.Equal(t, w.Folder, r.Folder)
			below := 0
			if r.Folder {
				require.Equal(t, path, tree.Path(r.Self))
				for _, o := range want {
					if o.Path != path && (path == "" || strings.HasPrefix(o.Path, path+"/")) {
						below++
					}
				}
			}
			require.Equal(t, below, r.Below)
			return true
		}))
		require.Len(t, seen, len(want))
	})
}

// TestTreesThatDontHangTogether: what is wrong is said with its line.
func TestTreesThatDontHangTogether(t *testing.T) {
	top, d, f := TreeRow{Folder: true, Line: 2}, TreeRow{Path: "d", Folder: true, Line: 3}, TreeRow{Path: "d/f", Line: 4}
	again := func(r TreeRow) TreeRow { r.Line = 9; return r }
	asFolder := again(f)
	asFolder.Folder = true
	for what, c := range map[string]struct {
		rows []TreeRow
		want string
	}{
		"no rows":             {nil, "line 1: there is no row for the top of the tree: one with an empty path"},
		"no top":              {[]TreeRow{d, f}, "line 1: there is no row for the top of the tree: one with an empty path"},
		"a top that's a file": {[]TreeRow{{Line: 2}, d}, "line 2: the top (the row with an empty path) is a file, and there are other rows"},
		"no folder":           {[]TreeRow{top, f}, `line 4: "d/f" is in "d", and there is no row for that folder`},
		"in a file":           {[]TreeRow{top, {Path: "d", Line: 3}, f}, `line 4: "d/f" is in "d", and there is no row for that folder`},
		"a folder twice":      {[]TreeRow{top, d, f, again(d)}, `line 9: "d" appears twice`},
		"a file twice":        {[]TreeRow{top, d, f, again(f)}, `line 9: "d/f" appears twice`},
		"a file and a folder": {[]TreeRow{top, d, f, asFolder}, `line 9: "d/f" appears twice`},
		"the top twice":       {[]TreeRow{top, d, again(top)}, `line 9: "" appears twice`},
		"the top as both":     {[]TreeRow{top, again(TreeRow{})}, "line 9: the top (the row with an empty path) is a file, and there are other rows"},
	} {
		tree, err := NewTree(nil, c.rows)
		require.NoError(t, err)
		require.EqualError(t, tree.Arrange(), c.want, what)
	}
	alone, err := NewTree(nil, []TreeRow{{}})
	require.NoError(t, err)
	require.NoError(t, alone.Arrange(), "a file may be all there is")
}

// paper is a scratch file in memory, which may fail.
type paper struct {
	b          []byte
	puts, gets int // so many more go well; negative: all do
}

var errPaper = errors.New("no room")

func (p *paper) Put(b []byte) (int64, error) {
	if p.puts--; p.puts == -1 {
		return 0, errPaper
	}
	p.b = append(p.b, b...)
	return int64(len(p.b) - len(b)), nil
}

func (p *paper) Get(b []byte, at int64) error {
	if p.gets--; p.gets == -1 {
		return errPaper
	}
	copy(b, p.b[at:])
	return nil
}

// long goes past what one chunk of rows or names holds.
const manyRows = 3*pileSize + 5

func manyName(i int) string {
	if i == 40_000 {
		return strings.Repeat("n", 1<<namesBits+100)
	}
	return strings.Repeat("x", i%40) + string(rune('a'+i%26)) + string(rune(0x4e00+i/26))
}

func manyInOne(tree *Tree) error {
	if err := tree.Add(TreeRow{Folder: true}); err != nil {
		return err
	}
	for i := range manyRows {
		if err := tree.Add(TreeRow{Path: manyName(i), Body: int32(i), Facts: Facts{Size: int64(i)}}); err != nil {
			return err
		}
	}
	return nil
}

// TestManyRowsInOneFolder: in memory or in a scratch file, they are what came.
func TestManyRowsInOneFolder(t *testing.T) {
	on := &paper{puts: -1, gets: -1}
	for _, tree := range []*Tree{{}, NewTreeOn(on)} {
		require.NoError(t, manyInOne(tree))
		require.NoError(t, tree.Arrange())
		require.Equal(t, manyRows+1, tree.Len())
		got := 0
		require.NoError(t, tree.Each(func(at int, r *Arranged) bool {
			if r.Name != "" {
				require.Equal(t, int32(at-1), r.Body)
				require.Equal(t, manyName(at-1), r.Name)
				require.Equal(t, int64(at-1), r.Facts.Size)
				require.Zero(t, r.Above)
			}
			got++
			return at < manyRows/2
		}))
		require.Equal(t, manyRows/2+1, got, "until fn says no")
		for _, i := range []int{manyRows, 1, 40_001, pileSize, 2 * pileSize} { // from here and there
			require.Equal(t, manyName(i-1), tree.Row(i).Path)
		}
	}
	require.Greater(t, len(on.b), 3*pileSize*(16+24), "the rows lie there")
}

// TestAScratchFileThatFails: whenever it does, the tree says so, and gives no
// row that it doesn't have.
func TestAScratchFileThatFails(t *testing.T) {
	whole := &paper{puts: -1, gets: -1}
	tree := NewTreeOn(whole)
	require.NoError(t, manyInOne(tree))
	require.NoError(t, tree.Arrange())
	puts, gets := -1-whole.puts, -1-whole.gets
	require.Greater(t, puts, 6)
	require.Greater(t, gets, 6)
	for n := range puts {
		require.ErrorIs(t, manyInOne(NewTreeOn(&paper{puts: n, gets: -1})), errPaper)
	}
	for n := range gets {
		tree := NewTreeOn(&paper{puts: -1, gets: n})
		require.NoError(t, manyInOne(tree))
		require.Error(t, tree.Arrange(), n)
	}
	whole.gets = 2
	require.ErrorIs(t, tree.Each(func(at int, r *Arranged) bool {
		if at > 0 {
			require.Equal(t, manyName(at-1), r.Name)
		}
		return true
	}), errPaper)
}
