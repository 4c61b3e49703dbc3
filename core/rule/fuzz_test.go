package rule

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/right"
)

// FuzzParseLine: what is read as an entry and written again reads the same.
func FuzzParseLine(f *testing.F) {
	for _, s := range []string{"allow wardrobe edit tree", "deny volunteers full here+files once", `allow "Ada Quill" read,add-file folders`,
		"audit everyone@ delete on failure", "allow x 0x1f", "deny x list below once", `allow "a""b" read`} {
		f.Add(s)
	}
	names := map[string]account.ID{}
	back := map[account.ID]string{}
	g := Language{Levels: right.Builtin(), Name: func(id account.ID) string { return back[id] }, Who: func(n string) (account.ID, error) {
		if n == "" {
			return account.ID{}, errors.New("nobody")
		}
		if _, ok := names[n]; !ok {
			id := account.NewID(5, 21, uint32(len(names)))
			names[n], back[id] = id, n
		}
		return names[n], nil
	}}
	f.Fuzz(func(t *testing.T, s string) {
		l, err := g.ParseLine(s)
		if err != nil {
			return
		}
		es, err := l.Entries(true)
		if err != nil {
			return
		}
		for _, e := range es {
			again, err := g.ParseLine(g.Write(e, true))
			require.NoError(t, err, g.Write(e, true))
			got, err := again.Entries(true)
			require.NoError(t, err)
			require.Equal(t, []Entry{e}, got, g.Write(e, true))
		}
	})
}
