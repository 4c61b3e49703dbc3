package store

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestNamesThatMeet: names that differ in case, in any script and by full
// folding, or in how a letter is put together, have one key; others don't.
func TestNamesThatMeet(t *testing.T) {
	for _, same := range [][]string{
		{"Åsa", "åsa", "A\u030asa", "a\u030aSA"}, {"Straße", "STRASSE", "strasse"}, {"ΣΊΣΥΦΟΣ", "σίσυφος"}, {"ﬁlm", "FILM"}, {"plain", "PLAIN"},
	} {
		for _, name := range same {
			require.Equal(t, Key(same[0]), Key(name), name)
			require.Equal(t, Fold(same[0]), Fold(name), name)
		}
	}
	for _, other := range [][2]string{{"Åsa", "Asa"}, {"a\xffb", "a\xfeb"}, {"A\xff", "a\xff"}, {"strase", "straße"}, {"a ", "a"}} {
		require.NotEqual(t, Key(other[0]), Key(other[1]), "%q", other)
	}
}
