package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/format"
)

// FuzzReadChange: a file of any content is a change set or an error that says where.
func FuzzReadChange(f *testing.F) {
	f.Add(`{"tarnwold":"change-set 1","items":[{"where":"a:/b","before":"AQAEgA==","after":""}],"shares":[]}`)
	f.Add(`{"tarnwold":"change-set 2"}`)
	f.Add(`[`)
	f.Fuzz(func(t *testing.T, text string) {
		s, err := readChange(strings.NewReader(text), "f")
		if err != nil {
			var fe *format.Error
			require.ErrorAs(t, err, &fe)
			return
		}
		for _, e := range s.Items {
			_, _ = decoded(e.Before)
		}
	})
}
