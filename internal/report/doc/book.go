package doc

import (
	"fmt"
	"strings"

	"github.com/xuri/excelize/v2"
)

// The most a sheet of a workbook holds (ECMA-376, as programs take it).
const (
	mostSheetRows = 1_048_576
	mostSheetCols = 16_384
	MostCellRunes = 32_767
)

// book writes rows as a workbook: one sheet, its header row fixed and filtered.
// Every cell is text, so that none is ever a formula.
func (p *Printer) book(title string, heads []string, rows [][]string) error {
	if len(rows)+1 > mostSheetRows || len(heads) > mostSheetCols {
		return fmt.Errorf("a sheet holds %d rows and %d columns at most, and this has %d and %d; write it as CSV", mostSheetRows, mostSheetCols, len(rows)+1, len(heads))
	}
	f := excelize.NewFile()
	defer f.Close()
	const sheet = "Answer"
	if err := f.SetSheetName("Sheet1", sheet); err != nil {
		return err
	}
	if err := f.SetDocProps(&excelize.DocProperties{Title: Clean(title), Creator: "tarnwold"}); err != nil {
		return err
	}
	head, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}, Alignment: &excelize.Alignment{Vertical: "top", WrapText: true}})
	if err != nil {
		return err
	}
	body, err := f.NewStyle(&excelize.Style{Alignment: &excelize.Alignment{Vertical: "top"}, NumFmt: 49}) // text
	if err != nil {
		return err
	}
	w, err := f.NewStreamWriter(sheet)
	if err != nil {
		return err
	}
	widths := make([]int, len(heads))
	for i, h := range heads {
		widths[i] = min(14, columns(Clean(h)))
	}
	for _, r := range rows[:min(len(rows), 2000)] {
		for i, c := range r {
			widths[i] = max(widths[i], min(60, columns(Clean(c))))
		}
	}
	for i, n := range widths {
		if err := w.SetColWidth(i+1, i+1, float64(n+2)); err != nil {
			return err
		}
	}
	if err := w.SetPanes(&excelize.Panes{Freeze: true, XSplit: 1, YSplit: 1, TopLeftCell: "B2", ActivePane: "bottomRight"}); err != nil {
		return err
	}
	put := func(at int, cells []string, style int) error {
		row := make([]any, len(cells))
		for i, c := range cells {
			row[i] = excelize.Cell{Value: sheetText(c), StyleID: style}
		}
		cell, err := excelize.CoordinatesToCellName(1, at)
		if err != nil {
			return err
		}
		return w.SetRow(cell, row)
	}
	if err := put(1, heads, head); err != nil {
		return err
	}
	for i, r := range rows {
		if err := put(i+2, r, body); err != nil {
			return err
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	for at, of := range p.choices {
		name, err := excelize.ColumnNumberToName(at + 1)
		if err != nil {
			return err
		}
		v := excelize.NewDataValidation(true)
		v.Sqref = fmt.Sprintf("%s2:%s%d", name, name, max(2, len(rows)+1))
		if err := v.SetDropList(of); err != nil {
			return err
		}
		if err := f.AddDataValidation(sheet, v); err != nil {
			return err
		}
	}
	if p.behind != nil {
		if err := hidden(f, p.behindName, p.behind()); err != nil {
			return err
		}
	}
	last, err := excelize.CoordinatesToCellName(len(heads), len(rows)+1)
	if err == nil {
		err = f.AutoFilter(sheet, "A1:"+last, nil)
	}
	if err != nil {
		return err
	}
	return f.Write(p.W)
}

// sheetText is a text as a cell holds it.
func sheetText(c string) string {
	c = Clean(c)
	if r := []rune(c); len(r) > MostCellRunes {
		c = string(r[:MostCellRunes-1]) + "…"
	}
	return c
}

// hidden writes a sheet that isn't shown.
func hidden(f *excelize.File, name string, rows [][]string) error {
	if _, err := f.NewSheet(name); err != nil {
		return err
	}
	w, err := f.NewStreamWriter(name)
	if err != nil {
		return err
	}
	for i, r := range rows {
		row := make([]any, len(r))
		for j, c := range r {
			row[j] = sheetText(c)
		}
		cell, err := excelize.CoordinatesToCellName(1, i+1)
		if err != nil {
			return err
		}
		if err := w.SetRow(cell, row); err != nil {
			return err
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.SetSheetVisible(name, false)
}

// markdown writes rows as a table of Markdown (GFM §4.10).
func (p *Printer) markdown(heads []string, rows [][]string) {
	p.write(markdownRow(heads) + "|" + strings.Repeat(" --- |", len(heads)) + "\n")
	for _, r := range rows {
		p.write(markdownRow(r))
	}
}

func markdownRow(cells []string) string {
	var b strings.Builder
	b.WriteByte('|')
	for _, c := range cells {
		b.WriteByte(' ')
		for _, r := range Clean(c) {
			if strings.ContainsRune("\\|`*_[]<>#~&", r) {
				b.WriteByte('\\')
			}
			b.WriteRune(r)
		}
		b.WriteString(" |")
	}
	return b.String() + "\n"
}
