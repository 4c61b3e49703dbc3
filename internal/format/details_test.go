package format

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Details stay what they were set to through any order of setting, and through what is written
// down; two that say the same are equal.
func TestDetailsKept(t *testing.T) {
	names := []string{"title", "ends", "Shift", "badge no", "Ä\"}"}
	rapid.Check(t, func(t *rapid.T) {
		want := map[string]string{}
		var d Details
		for range rapid.IntRange(0, 12).Draw(t, "steps") {
			name, value := rapid.SampledFrom(names).Draw(t, "name"), rapid.SampledFrom([]string{"", "night", `a "b" \c`, "é"}).Draw(t, "value")
			want[name] = value
			d.Set(name, value)
		}
		b, err := json.Marshal(d)
		require.NoError(t, err)
		var back Details
		require.NoError(t, json.Unmarshal(b, &back))
		require.Equal(t, d, back)
		var anew Details
		for i := len(names) - 1; i >= 0; i-- {
			require.Equal(t, want[names[i]], back.Get(names[i]))
			anew.Set(names[i], want[names[i]])
		}
		require.Equal(t, anew, d)
	})
}

func TestDetailNames(t *testing.T) {
	for _, bad := range []string{"", " x", "a=b", "a\nb", "\xff"} {
		require.Error(t, GoodDetailName(bad), "%q", bad)
	}
	require.NoError(t, GoodDetailName("badge no"))
	var d Details
	require.Error(t, json.Unmarshal([]byte(`{"further":{"a":1}}`), &d))
}
