package crowd

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
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

// TestSomeHoldingKnowsTheRoute: who holds an identifier by one kind of route alone is granted
// what it brings by that alone.
func TestSomeHoldingKnowsTheRoute(t *testing.T) {
	d := account.NewDirectory()
	d.Add(account.Account{ID: dom.Child(1000), Kind: account.User, POSIX: account.NoPOSIX})
	tr, err := verdict.NamedTraits("plain")
	require.NoError(t, err)
	for _, local := range []bool{false, true} {
		for _, who := range []account.ID{account.Network, account.Interactive} {
			s := Situation{Item: &rule.List{Steps: []rule.Step{{Who: who, Rights: right.ReadData}}}}
			decider := NewDecider(Route{Local: local, Traits: &tr, People: NewPopulation(d, tr.Traits, nil)})
			want := local == (who == account.Interactive)
			require.Equal(t, want, decider.SomeHolding(s, right.ReadData).Has(0))
			require.Equal(t, want, decider.Holding(s, right.ReadData).Has(0))
		}
	}
}
