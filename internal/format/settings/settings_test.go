package settings

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/format"
)

func TestRead(t *testing.T) {
	list, err := Read(strings.NewReader(`# ours
estate: /var/lib/tarnwold/tarnwold.estate
color: no
passwords:
  stagedoor: "/etc/tarnwold/stage door.secret"
commands:
  server add:
    user: warden
    require-encryption: true
    patience: 30s
  nightly: {expect: [a.expect, b.expect]}
`), "x.yaml")
	require.NoError(t, err)
	var got []string
	for _, s := range list {
		got = append(got, s.Name()+"="+strings.Join(s.Values, "|"))
	}
	require.Equal(t, []string{"estate=/var/lib/tarnwold/tarnwold.estate", "color=no", "passwords.stagedoor=/etc/tarnwold/stage door.secret",
		"commands.server add.user=warden", "commands.server add.require-encryption=true", "commands.server add.patience=30s", "commands.nightly.expect=a.expect|b.expect"}, got)
	require.Equal(t, [2]int{8, 5}, [2]int{list[3].Line, list[3].Column})
	for _, none := range []string{"", "# nothing\n", "commands:\n", "passwords: {}\n"} {
		list, err := Read(strings.NewReader(none), "x.yaml")
		require.NoError(t, err, "%q", none)
		require.Empty(t, list)
	}
}

func TestWhereItIsWrong(t *testing.T) {
	for text, want := range map[string]string{
		"estate: a\nformt: csv\n":            `x.yaml: line 2, column 1: "formt" is not a setting`,
		"- a\n":                              "x.yaml: line 1, column 1: wanted keys",
		"estate: [a]\n":                      "x.yaml: line 1, column 9: wanted one value for estate",
		"estate:\n":                          "x.yaml: line 1, column 1: estate has no value",
		"color: sometimes\n":                 "x.yaml: line 1, column 8: wanted yes or no",
		"passwords: secret\n":                "x.yaml: line 1, column 12: wanted keys",
		"commands:\n  grant: {yes: [[a]]}\n": "wanted a value",
		"estate: a\nestate: b\n":             "x.yaml: line 2",
		"estate: 'a\n":                       "x.yaml: line 1",
		"a: &x b\n":                          "x.yaml: line 1, column 1",
		"estate: a\n---\nestate: b\n":        "more than one document",
		"estate: &x a\n":                     "wanted one value",
		"estate: a\ncommands: " + strings.Repeat("{a: ", 20) + "\n": "x.yaml: line 2: more than 8 brackets",
		"estate: \"a\\0b\"\n":                       "NUL",
		"estate: " + strings.Repeat("a", most) + "": "longer than",
	} {
		_, err := Read(strings.NewReader(text), "x.yaml")
		require.ErrorContains(t, err, want, "%.40q", text)
		var e *format.Error
		require.True(t, errors.As(err, &e))
	}
}

func FuzzRead(f *testing.F) {
	f.Add("estate: a\ncommands: {x: {y: [1, 2]}}\n")
	f.Add("a: &b [*b]\n")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := Read(strings.NewReader(text), "x")
		for _, s := range list {
			if err == nil && (len(s.Key) != depth(s.Key[0]) || s.Line < 1) {
				t.Fatalf("%q: %+v", text, s)
			}
		}
	})
}
