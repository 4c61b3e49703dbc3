package exception

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/format"
	"tarnwold/internal/format/lexer"
)

func TestWhatIsMeantSo(t *testing.T) {
	l, err := Read(strings.NewReader(`# meant so
except single-user "Ada Quill" //stagedoor/productions until 2027-03-31 because it is, hers
except * stagedoor:/srv because all of it is
except stale because nothing moves # at all
except single-user "flyloft:/srv/Plans [old]" because a name may have such signs
`), "f")
	require.NoError(t, err)
	require.Equal(t, "it is, hers", l[0].Because)
	require.Equal(t, "nothing moves", l[2].Because)
	for _, x := range []struct {
		kind, today string
		about       []string
		fits        bool
	}{
		{"single-user", "2027-03-31", []string{"ada quill", "//stagedoor/productions/Scripts"}, true},
		{"single-user", "2027-04-01", []string{"ada quill", "//stagedoor/productions/Scripts"}, false},
		{"single-user", "2026-01-01", []string{"bram", "//stagedoor/productions/Scripts"}, false},
		{"single-user", "2026-01-01", []string{"ada quill", "//stagedoor/productionsx"}, false},
		{"owner-left", "2026-01-01", []string{"ada quill", "//stagedoor/productions"}, false},
		{"owner-left", "2026-01-01", []string{"stagedoor:/srv/a/b"}, true},
		{"stale", "2026-01-01", nil, true},
		{"single-user", "2026-01-01", []string{"bram", "flyloft:/srv/Plans [old]/2019"}, true},
		{"single-user", "2026-01-01", []string{"bram", "flyloft:/srv/Plans o"}, true},
		{"single-user", "2026-01-01", []string{"bram", "flyloft:/srv/Plans"}, false},
	} {
		require.Equal(t, x.fits, l.Fits(x.kind, x.today, x.about...), "%+v", x)
	}
	found := []string{"a", "b"}
	left, meant := Split(List{{Kind: "x", Of: []string{"a"}}}, found, "2026-01-01", func(s *string) (string, []string) { return "x", []string{*s} })
	require.Equal(t, []string{"b"}, left)
	require.Equal(t, 1, meant)
	require.Equal(t, []string{"y"}, List{{Kind: "x", Text: "y"}}.Unused())
	require.Empty(t, l.Unused(), "each has fitted something")
}

func TestMistakesSayWhere(t *testing.T) {
	for text, want := range map[string]string{
		"allow x":                            `f: line 1, column 1: "allow"; wanted except`,
		"except":                             `f: line 1, column 7: the line ends; wanted the kind`,
		"\nexcept x":                         `f: line 2, column 9: the line ends; wanted because`,
		"except x because":                   `f: line 1, column 17: the line ends; wanted the reason`,
		"except x until now because y":       `f: line 1, column 16: "now"; wanted a day`,
		"except x until 2027-01-01 y":        `f: line 1, column 27: "y"; wanted because`,
		"except x, y because z":              `f: line 1, column 9: ","; wanted whom`,
		"except x \"y because z":             `f: line 1, column 10: the quote is not closed`,
		strings.Repeat("x", lexer.Longest+1): `f: line 1: the line is longer than 65536 bytes`,
	} {
		_, err := Read(strings.NewReader(text), "f")
		require.ErrorContains(t, err, want, format.Clip(text))
	}
}

func TestManyLines(t *testing.T) {
	var b strings.Builder
	for i := range most {
		fmt.Fprintf(&b, "except stale %d because x\n", i)
	}
	l, err := Read(strings.NewReader(b.String()), "f")
	require.NoError(t, err)
	require.Len(t, l, most)
	_, err = Read(strings.NewReader(b.String()+"except x because y\n"), "f")
	require.ErrorContains(t, err, "more than 100000 exceptions")
}

func FuzzRead(f *testing.F) {
	f.Add("except single-user \"Ada Quill\" //a/b until 2027-03-31 because x")
	f.Fuzz(func(t *testing.T, text string) {
		l, err := Read(strings.NewReader(text), "f")
		var e *format.Error
		require.True(t, err == nil || errors.As(err, &e), "%v", err)
		for _, x := range l {
			require.NotEmpty(t, x.Because)
			require.True(t, l.Fits(x.Kind, "0000-01-01", x.Of...) || x.Kind == "", "%+v", x)
		}
	})
}
