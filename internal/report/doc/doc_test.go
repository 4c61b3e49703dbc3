package doc

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func anyGrid(t *rapid.T) Grid {
	word := rapid.SampledFrom([]string{"stagedoor:/srv/playhouse/Wardrobe", "ines", "allow acc-wardrobe-edit edit tree", "nothing", "//stagedoor/productions",
		"read-data, write-data, append-data", "日本語の名前", "d'été", "a\tb\x1b[31m", "x\u202ey", "", "42"})
	n := rapid.IntRange(1, 6).Draw(t, "columns")
	g := Grid{}
	for i := range n {
		g.Cols = append(g.Cols, Col{fmt.Sprint("head", i), rapid.IntRange(0, 4).Draw(t, "weight")})
	}
	g.Cols[n-1].Weight = 3
	for range rapid.IntRange(1, 8).Draw(t, "rows") {
		var r []Cell
		for i := range n {
			s := word.Draw(t, "cell")
			if g.Cols[i].Weight == 0 { // short by nature
				s = "yes"
			}
			r = append(r, C(s))
		}
		g.Rows = append(g.Rows, r)
	}
	return g
}

// TestTablesFitAndAreWhole: at any width no line is wider than the terminal,
// nothing raw is in it, and every cell's text is there, in its own column or list.
func TestTablesFitAndAreWhole(t *testing.T) {
	listed, tabled := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		g := anyGrid(t)
		width := rapid.SampledFrom([]int{40, 60, 80, 100, 140, 200}).Draw(t, "width")
		var b bytes.Buffer
		p := &Printer{W: &b, Format: Table, Screen: true, Width: width}
		p.Grid(g)
		require.NoError(t, p.Err())
		out := b.String()
		for _, l := range strings.Split(out, "\n") {
			require.LessOrEqual(t, text.StringWidth(l), width, "%q", l)
			for _, r := range l {
				require.True(t, unicode.IsPrint(r), "%q", l)
			}
		}
		squeeze := func(s string) string {
			return strings.Map(func(r rune) rune {
				if unicode.IsSpace(r) {
					return -1
				}
				return r
			}, s)
		}
		// Every rune of every cell is there: as many of each as the cells have.
		have := map[rune]int{}
		for _, r := range squeeze(out) {
			have[r]++
		}
		for _, r := range g.Rows {
			for _, c := range r {
				for _, s := range c {
					for _, x := range squeeze(Clean(s.Text)) {
						have[x]--
					}
				}
			}
		}
		for r, n := range have {
			require.GreaterOrEqual(t, n, 0, "%q is missing", r)
		}
		if strings.HasPrefix(out, "head") && strings.Count(out, "head0") <= 1 {
			tabled++
		} else {
			listed++
		}
	})
	t.Log(tabled, "tables,", listed, "lists")
	require.Positive(t, tabled)
}

// TestFitGivesWhatIsNeeded: a column of weight keeps its least, others share.
func TestFitGivesWhatIsNeeded(t *testing.T) {
	cols := []Col{{"change", 0}, {"at", 0}, {"by", 1}, {"what", 6}, {"note", 2}}
	got, ok := fit(cols, []int{6, 19, 6, 60, 10}, 80)
	require.True(t, ok)
	require.Equal(t, []int{6, 19, 6}, got[:3])
	sum := Gap * (len(cols) - 1)
	for _, n := range got {
		sum += n
	}
	require.LessOrEqual(t, sum, 80)
	_, ok = fit(cols, []int{6, 19, 6, 60, 10}, 30)
	require.False(t, ok)
	got, ok = fit(cols, []int{6, 19, 6, 60, 10}, 0)
	require.True(t, ok)
	require.Equal(t, []int{6, 19, 6, 60, 10}, got, "no terminal: as wide as it gets")
}

func TestWrapBreaksWhereOneReads(t *testing.T) {
	for _, c := range []struct {
		text  string
		width int
		want  []string
	}{
		{"a b", 80, []string{"a b"}},
		{"stagedoor:/srv/playhouse/Wardrobe", 18, []string{"stagedoor:/srv/", "playhouse/Wardrobe"}},
		{"on //stagedoor/productions", 14, []string{"on", "//stagedoor/", "productions"}},
		{"bram → wardrobe → acc-wardrobe-edit", 15, []string{"bram → wardrobe", "→", "acc-wardrobe-", "edit"}},
		{"  indented words go on", 12, []string{"  indented", "  words go", "  on"}},
		{"abcdefghij", 4, []string{"abcd", "efgh", "ij"}},
		{"日本語の名前", 5, []string{"日本", "語の", "名前"}},
	} {
		require.Equal(t, c.want, wrap(c.text, c.width), c.text)
	}
}

// TestCleanIsSafeAndKeepsText: what is printed can't steer a terminal, and
// what can be printed stays as it is.
func TestCleanIsSafeAndKeepsText(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.OneOf(rapid.String(), rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) })).Draw(t, "text")
		got := Clean(s)
		require.True(t, utf8.ValidString(got))
		for _, r := range got {
			require.True(t, unicode.IsPrint(r), "%q", got)
		}
		printable := utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool { return !unicode.IsPrint(r) })
		if printable {
			require.Equal(t, s, got)
		} else {
			require.NotEqual(t, s, got)
		}
	})
}

// TestProgramsGetItWhole: JSON and CSV read back as what was given.
func TestProgramsGetItWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cell := rapid.SampledFrom([]string{"plain", "a,b", "quo\"te", "two\nlines", "日本", "", "<tag>&", "x\u202ey"})
		rows := rapid.SliceOfN(rapid.SliceOfN(cell, 2, 2), 0, 5).Draw(t, "rows")
		var b bytes.Buffer
		(&Printer{W: &b, Format: CSV}).Sheet([]string{"one", "two"}, rows)
		read, err := csv.NewReader(&b).ReadAll()
		require.NoError(t, err)
		require.Len(t, read, 1+len(rows))
		for i, r := range rows {
			require.Equal(t, r, read[i+1])
		}
		b.Reset()
		(&Printer{W: &b, Format: JSON}).Value(rows)
		var back [][]string
		require.NoError(t, json.Unmarshal(b.Bytes(), &back))
		require.Equal(t, len(rows), len(back))
		for i := range rows {
			require.Equal(t, rows[i], back[i])
		}
	})
}

// TestFormulasAreText: a spreadsheet takes no cell for a formula.
func TestFormulasAreText(t *testing.T) {
	for _, s := range []string{"=2+2", "+1", "-1", "@x", "=cmd|' /C calc'!A0"} {
		var b bytes.Buffer
		(&Printer{W: &b, Format: CSV}).Sheet([]string{"a"}, [][]string{{s}})
		read, err := csv.NewReader(&b).ReadAll()
		require.NoError(t, err)
		require.Equal(t, "'"+s, read[1][0])
	}
}

// TestHeadsAreNamesToo: what stands above columns may be the name of a group,
// and neither moves a terminal nor is taken for a formula.
func TestHeadsAreNamesToo(t *testing.T) {
	var out strings.Builder
	p := &Printer{W: &out, Format: CSV, Screen: true}
	p.Sheet([]string{"a\x1b[2Jb", "=1+1"}, [][]string{{"c\x1b[2Jd", "=2"}})
	require.NotContains(t, out.String(), "\x1b")
	require.NotRegexp(t, `(?m)(^|,)"?=`, out.String())
}
