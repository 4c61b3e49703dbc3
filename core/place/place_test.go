package place

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func FuzzParse(f *testing.F) {
	for _, s := range []string{"//a/b/c", `\\a\b\c d`, "a:/b/c", "a:/", "//a", "x", "//a/b/../c", `//a/b/\*`, `a:\b\*`, `//s/x/a\\b`, "//a/b/[x]{y}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		a, err := Parse(s)
		if err != nil {
			require.LessOrEqual(t, len(err.Error()), 2000, "an error echoes no more than a line")
			return
		}
		again, err := Parse(a.String())
		require.NoError(t, err)
		require.Equal(t, a, again)
		require.NotContains(t, strings.Split(a.Path, "/"), "..")
		p, err := ParsePattern(a.Escaped())
		require.NoError(t, err)
		require.Equal(t, Pattern{Base: a}, p, "escaped it means itself alone")
		plain, err := ParsePlain(s)
		if err == nil {
			back, err := Parse(plain.String())
			require.NoError(t, err)
			require.Equal(t, plain, back)
		}
	})
}

func TestAddressesAreClean(t *testing.T) {
	for in, want := range map[string]string{
		`\\a\b\c`: "//a/b/c", "//a/b//c/./d/": "//a/b/c/d", "a:/": "a:/", "a:/x/y": "a:/x/y", "//a/b": "//a/b",
		`a:\x\y`: "a:/x/y", `//a/b/x\y`: "//a/b/x/y", `//a/b/x\\y`: `//a/b/x\\y`, `//a/b/x\*`: "//a/b/x*",
	} {
		a, err := Parse(in)
		require.NoError(t, err, in)
		require.Equal(t, want, a.String())
	}
	for _, bad := range []string{"", "x", "//a", "//a/", "a:b", ":/x", "a/b:/x", "//a/b/../c", "a:/x\x00y"} {
		_, err := Parse(bad)
		require.ErrorContains(t, err, "write //server/share/folder or server:/folder", bad)
	}
	require.True(t, Under("/a/b", "/a"))
	require.False(t, Under("/ab", "/a"))
	require.True(t, Under("/a", "/"))
	require.Equal(t, "/x", Join("/", "x"))
	require.Equal(t, "/", Dir("/x"))
	require.Equal(t, "/x", Dir("/x/y"))
}

func TestPatternsKnowWhereTheyBegin(t *testing.T) {
	for in, want := range map[string]Pattern{
		"//a/b/c/*.ods":   {Address{"a", "b", "c"}, []string{"*.ods"}},
		"a:/x/**/y":       {Address{"a", "", "/x"}, []string{"**", "y"}},
		`//a/b/\[c]/d`:    {Address{"a", "b", "[c]/d"}, nil},
		`//a/b/c\*/d*`:    {Address{"a", "b", "c*"}, []string{"d*"}},
		`\\a\b\*.ods`:     {Address{"a", "b", ""}, []string{"*.ods"}},
		"//a/b/{c,d}/e":   {Address{"a", "b", ""}, []string{"{c,d}", "e"}},
		`//a/b/x*/\{y\}z`: {Address{"a", "b", ""}, []string{"x*", `\{y\}z`}},
	} {
		got, err := ParsePattern(in)
		require.NoError(t, err, in)
		require.Equal(t, want, got, in)
	}
	a, err := ParsePlain(`//a/b/c\d*`)
	require.NoError(t, err)
	require.Equal(t, Address{"a", "b", `c\d*`}, a)
}
