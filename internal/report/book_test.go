package report

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/report/doc"
)

// TestWorkbookHoldsTheAnswer: every cell reads back as the text it was, and
// none is a formula, whatever a name looks like.
func TestWorkbookHoldsTheAnswer(t *testing.T) {
	list := []uses.UsedAs{
		{Account: ask.Account{Name: "=1+1"}, Where: "//s/@cmd", As: "entry", What: "allow \"a b\" read"},
		{Account: ask.Account{Name: "+bram"}, Where: "//s/-x\n\x1b[31m", As: "owner", Items: 7},
		{Account: ask.Account{Name: "001"}, Where: "//s/" + strings.Repeat("ä", 40_000), As: "owner"},
	}
	var b bytes.Buffer
	require.NoError(t, UsedAs((&doc.Printer{W: &b, Format: doc.Workbook, Title: "uses"}), "x", list))
	f, err := excelize.OpenReader(&b)
	require.NoError(t, err)
	rows, err := f.GetRows("Answer")
	require.NoError(t, err)
	require.Equal(t, []string{"account", "where", "as", "what"}, rows[0])
	require.Equal(t, []string{"=1+1", "//s/@cmd", "entry", `allow "a b" read`}, rows[1])
	require.Equal(t, []string{"+bram", `//s/-x\n\x1b[31m`, "owner", "7 items alike"}, rows[2])
	require.Equal(t, "001", rows[3][0], "a name of digits is not a number")
	require.Equal(t, doc.MostCellRunes, len([]rune(rows[3][1])), "as much as a cell holds")
	for _, cell := range []string{"A2", "A3", "B3", "A4"} {
		formula, err := f.GetCellFormula("Answer", cell)
		require.NoError(t, err)
		require.Empty(t, formula)
		kind, err := f.GetCellType("Answer", cell)
		require.NoError(t, err)
		require.Contains(t, []excelize.CellType{excelize.CellTypeInlineString, excelize.CellTypeSharedString}, kind)
	}
}

// TestMarkdownKeepsNamesWhole: what means something in Markdown is a sign like
// any other in a name.
func TestMarkdownKeepsNamesWhole(t *testing.T) {
	var b bytes.Buffer
	p := &doc.Printer{W: &b, Format: doc.Markdown}
	require.NoError(t, UsedAs(p, "x", []uses.UsedAs{{Account: ask.Account{Name: "a|b"}, Where: "//s/*x* <b>", As: "owner"}}))
	require.Equal(t, "| account | where | as | what |\n| --- | --- | --- | --- |\n| a\\|b | //s/\\*x\\* \\<b\\> | owner |  |\n", b.String())
}

// TestPageTakesNoNameForMarks: names are text on a page, and every row has one
// level more than the one it is below.
func TestPageTakesNoNameForMarks(t *testing.T) {
	var b bytes.Buffer
	h := &census.Having{Where: "//s/<script>alert(1)</script>", Item: "s:/x", Kind: "folder", Rules: "present", Routes: []census.HavingWay{{Route: "//s", Open: "one", Users: 1, Of: 2,
		Levels: []census.HavingLevel{{Level: "read", Users: 1, By: []census.ByWay{{Reason: ask.Reason{By: "entry", Entry: "allow \"</td>\u202e\" read"}, Users: []string{"a\u202eb"}}}}}}}}
	require.NoError(t, Having((&doc.Printer{W: &b, Format: doc.Page}), h))
	s := b.String()
	require.NotContains(t, s, "<script>alert")
	require.NotContains(t, s, "</td>\"")
	require.NotContains(t, s, "\u202e", "no mark that turns the writing")
	require.Equal(t, 1, strings.Count(s, "<script>"))
	require.Contains(t, s, `aria-level="3"`)
}
