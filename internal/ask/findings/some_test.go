package findings

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/crowd"
)

// Sets that are listed and sets that are bits say the same, alone and together.
func TestSomeAreTheBitsTheyAreOf(t *testing.T) {
	const people = 64 * 40
	listed, asBits := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) crowd.Bits {
			b := make(crowd.Bits, people/64)
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
		list := func(b crowd.Bits) (out []int32) {
			b.Each(func(u int) bool { out = append(out, int32(u)); return true })
			return out
		}
		of := func(s *some) (out []int32) {
			s.each(func(u int) { out = append(out, int32(u)) })
			return out
		}
		a, b := draw("a"), draw("b")
		x, y := someOf(slices.Clone(a)), someOf(slices.Clone(b))
		if x.bits == nil {
			listed++
		} else {
			asBits++
		}
		require.Equal(t, list(a), of(x))
		require.Equal(t, a.Len(), x.len())
		both := x.and(y)
		require.Equal(t, list(a.And(b)), of(both))
		require.Equal(t, a.And(b).Len(), both.len())
		for _, u := range []int{0, 63, 64, people - 1, rapid.IntRange(0, people-1).Draw(t, "u")} {
			require.Equal(t, a.Has(u), x.has(u), u)
		}
		either := slices.Clone(a)
		either.Or(b)
		require.Equal(t, len(list(either)), len(with(list(a), list(b))))
		require.ElementsMatch(t, list(either), with(list(a), list(b)))
		require.True(t, slices.IsSorted(with(list(a), list(b))))
	})
	require.Positive(t, listed)
	require.Positive(t, asBits)
}
