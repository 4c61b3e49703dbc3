package report

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var nasty = Grid{Heads: []string{"name", "empty", "note"}, Rows: [][]string{{"a\x1b[31mb\u202ec", "", "=1+1"}, {"-x", "", "line one\nline two"}}}

func printed(format Format, screen bool) string {
	var b bytes.Buffer
	p := &Printer{W: &b, Format: format, Screen: screen}
	if err := p.Grid(nasty); err != nil {
		return err.Error()
	}
	return b.String()
}

func TestNothingRawReachesATerminal(t *testing.T) {
	for _, f := range []Format{Table, CSV, JSON} {
		out := printed(f, true)
		require.NotContains(t, out, "\x1b", f)
		require.NotContains(t, out, "\u202e", f)
		require.Contains(t, out, "31mb", f)
	}
	require.Contains(t, printed(CSV, false), "a\x1b[31mb\u202ec", "a file gets the very name")
}

func TestNothingIsAFormula(t *testing.T) {
	out := printed(CSV, false)
	require.Contains(t, out, ",'=1+1\n")
	require.Contains(t, out, "\n'-x,")
}

func TestTableLeavesEmptyColumnsOut(t *testing.T) {
	out := printed(Table, false)
	require.NotContains(t, out, "empty")
	require.Equal(t, 4, strings.Count(out, "\n"))
}

func TestMarksPaintOnlyInColour(t *testing.T) {
	var b bytes.Buffer
	(&Printer{W: &b, Format: Table}).Line("%s and %s", Good("yes"), Bad("no"))
	require.Equal(t, "yes and no\n", b.String())
	b.Reset()
	(&Printer{W: &b, Format: Table, Color: true}).Line("%s", Good("y\ue001es"))
	require.Equal(t, "\x1b[32my?es\x1b[0m\n", b.String())
}

func TestCleanIsSafeAndIdle(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Clean(rapid.String().Draw(t, "text"))
		require.Equal(t, s, Clean(s), "cleaning twice is cleaning once")
		require.False(t, strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f }))
	})
	require.Equal(t, "Ã–—→", Clean("Ã–—→"))
}

func TestCount(t *testing.T) {
	require.Equal(t, "1 item", Count(1, "item"))
	require.Equal(t, "1,234,567 items", Count(1234567, "item"))
	require.Equal(t, "2 entries", Count(2, "entry"))
}
