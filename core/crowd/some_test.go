package crowd

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Sets that are listed and sets that are bits say the same, alone and together.
func TestSomeAreTheBitsTheyAreOf(t *testing.T) {
	const people = 64 * 40
	listed, asBits := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) Bits {
			b := make(Bits, people/64)
			if rapid.Bool().Draw(t, name+" are many") {
				for i := range b {
					b[i] = rapid.Uint64().Draw(t, name)
				}
				return b
			}
			for _, u := range rapid.SliceOfN(rapid.IntRange(0, people-1), 0, 20).Draw(t, name) {
				b.Set(u)
			}
			return b
		}
		list := func(b Bits) (out []int32) {
			b.Each(func(u int) bool { out = append(out, int32(u)); return true })
			return out
		}
		of := (*Some).places
		a, b := draw("a"), draw("b")
		x, y := SomeOf(slices.Clone(a)), SomeOf(slices.Clone(b))
		if x.bits == nil {
			listed++
		} else {
			asBits++
		}
		require.Equal(t, list(a), of(x))
		require.Equal(t, a.Len(), x.Len())
		both := x.And(y)
		require.Equal(t, list(a.And(b)), of(both))
		require.Equal(t, a.And(b).Len(), both.Len())
		for _, u := range []int{0, 63, 64, people - 1, rapid.IntRange(0, people-1).Draw(t, "u")} {
			require.Equal(t, a.Has(u), x.Has(u), u)
		}
		require.Equal(t, list(slices.Clone(a).Minus(b)), of(x.Minus(y)))
		require.Equal(t, a.Minus(b).Len(), x.Minus(y).Len())
		require.Equal(t, a.Minus(b).Len() == 0, x.Within(y))
		require.True(t, both.Within(x))
		either := slices.Clone(a)
		either.Or(b)
		require.Equal(t, list(either), of(x.Plus(y)))
		require.Equal(t, either.Len(), x.Plus(y).Len())
	})
	require.Positive(t, listed)
	require.Positive(t, asBits)
}

// places lists who is in a set.
func (s *Some) places() (out []int32) {
	for u := range s.All() {
		out = append(out, int32(u))
	}
	return out
}
