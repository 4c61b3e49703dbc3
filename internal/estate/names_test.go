package estate

import (
	"context"
	"math/rand/v2"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestFitsIsTheUsualPattern(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		want          bool
	}{
		{"*", "", true}, {"*", "anything", true}, {"?", "", false}, {"?", "é", true}, {"*.ods", "rota.ODS", true},
		{"a*b*c", "aXbYc", true}, {"a*b*c", "acb", false}, {"**", "x", true}, {"l?ght*", "Lighting", true}, {"x", "xy", false}, {"[a]", "[a]", true},
	} {
		require.Equal(t, c.want, fits(c.pattern, c.name), "%q %q", c.pattern, c.name)
	}
	rapid.Check(t, func(t *rapid.T) {
		pattern := rapid.StringMatching(`[ab*?]{0,8}`).Draw(t, "pattern")
		name := rapid.StringMatching(`[ab]{0,8}`).Draw(t, "name")
		want, err := path.Match(pattern, name)
		require.NoError(t, err)
		require.Equal(t, want, fits(pattern, name))
	})
}

func TestNearestNames(t *testing.T) {
	names := []string{"wardrobe", "warden", "lighting", "stage"}
	require.Equal(t, []string{"wardrobe"}, nearest("wardrob", names))
	require.Equal(t, []string{"stage"}, nearest("satge", names), "letters that changed places count one")
	require.Empty(t, nearest("zzz", names))
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.StringN(0, 8, -1).Draw(t, "a"), rapid.StringN(0, 8, -1).Draw(t, "b")
		require.Equal(t, distance(a, b), distance(b, a))
		require.Equal(t, a == b, distance(a, b) == 0)
		require.LessOrEqual(t, distance(a, b), max(len([]rune(a)), len([]rune(b))))
	})
}

// TestBelowDoesNotMindTheOrder: however many strands are named, and in
// whatever order, each is there once and parents come first.
func TestBelowDoesNotMindTheOrder(t *testing.T) {
	e := newEstate(t)
	load(t, e, made(3000, 300))
	require.NoError(t, e.View(context.Background(), func(tx *Tx) error {
		all := tx.ints("SELECT id FROM strands ORDER BY id")
		require.Greater(t, len(all), 20)
		whole := tx.Below(all[0])
		require.Len(t, whole.Nodes, len(all))
		for range 5 {
			rand.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
			f := tx.Below(all...)
			require.Len(t, f.Nodes, len(all))
			for i, n := range f.Nodes {
				require.Less(t, n.Parent, i)
				require.Equal(t, whole.Nodes[whole.Node(f.Strands[i])].Items, n.Items)
			}
		}
		few := tx.Below(all[:4]...)
		seen := map[int64]bool{}
		for i, s := range few.Strands {
			require.False(t, seen[s])
			seen[s] = true
			if few.Nodes[i].Parent < 0 && len(few.Above[i]) == 0 {
				require.Equal(t, whole.Strands[0], s, "only the tree's top has nothing above")
			}
		}
		return tx.Err()
	}))
}

func TestAddressesAreClean(t *testing.T) {
	for in, want := range map[string]string{
		`\\a\b\c`: "//a/b/c", "//a/b//c/./d/": "//a/b/c/d", "a:/": "a:/", "a:/x/y": "a:/x/y", "//a/b": "//a/b",
	} {
		a, err := ParseAddress(in)
		require.NoError(t, err)
		require.Equal(t, want, a.String())
	}
	for _, bad := range []string{"", "x", "//a", "//a/", "a:b", ":/x", "a/b:/x", "//a/b/../c"} {
		_, err := ParseAddress(bad)
		require.ErrorContains(t, err, "write //server/share/folder or server:/folder", bad)
	}
	require.True(t, Under("/a/b", "/a"))
	require.False(t, Under("/ab", "/a"))
	require.True(t, Under("/a", "/"))
	require.False(t, strings.Contains(join("/", "x"), "//"))
}
