package doc

import (
	"fmt"
	"slices"
	"strings"
)

// Outline is an answer as a page shows it: rows under heads, some below
// others, which open and close.
type Outline struct {
	Title string
	Intro []string // lines before the rows
	Heads []string // the first is over the names
	Rows  []OutlineRow
	// Picks are what rows can be picked by, beside being searched: each row says under which of
	// each it is.
	Picks []string
	// People is whom it tells of by name: the page says who they are, where that is known.
	People []string
}

// OutlineRow is one row; its cells stand under all heads but the first.
type OutlineRow struct {
	Depth int // 0: not below another
	Name  string
	Cells []string
	Bad   bool       // nothing, or refused
	Group bool       // a heading over what is below it, not an answer
	Under [][]string // of each of the outline's picks; a group is shown where anything below it is
}

// under gives what a row is under of one of the picks; false for a group.
func (r *OutlineRow) under(pick int) ([]string, bool) {
	if pick >= len(r.Under) {
		return nil, false
	}
	return r.Under[pick], true
}

// flat is the outline of rows as CSV has them.
func flat(title string, heads []string, rows [][]string) *Outline {
	o := &Outline{Title: title, Heads: heads}
	for _, r := range rows {
		o.Rows = append(o.Rows, OutlineRow{Name: r[0], Cells: r[1:]})
	}
	return o
}

// Outlined keeps the outline of the answer that is given next.
func (p *Printer) Outlined(fn func() *Outline) *Printer {
	p.outline = fn
	return p
}

// Behind puts a sheet that isn't shown into a workbook.
func (p *Printer) Behind(name string, rows func() [][]string) { p.behindName, p.behind = name, rows }

// Choices says what is to be chosen from in a column of a workbook, from 0.
func (p *Printer) Choices(column int, of ...string) {
	if p.choices == nil {
		p.choices = map[int][]string{}
	}
	p.choices[column] = of
}

// parents tells of each row whether rows stand below it.
func (o *Outline) parents() []bool {
	out := make([]bool, len(o.Rows))
	for i := range o.Rows {
		out[i] = i+1 < len(o.Rows) && o.Rows[i+1].Depth > o.Rows[i].Depth
	}
	return out
}

// files are the formats an answer can be written to a file in, by its ending.
var files = map[string]Format{".xlsx": Workbook, ".html": Page, ".csv": CSV, ".json": JSON, ".md": Markdown}

// FormatOf tells the format of a file by its ending; checks may be written as
// JUnit too.
func FormatOf(file string, checks bool) (Format, error) {
	ending := ""
	if i := strings.LastIndexByte(file, '.'); i >= 0 {
		ending = strings.ToLower(file[i:])
	}
	if f, ok := files[ending]; ok {
		return f, nil
	}
	if checks && ending == ".xml" {
		return JUnit, nil
	}
	var ends []string
	for e := range files {
		ends = append(ends, e)
	}
	if checks {
		ends = append(ends, ".xml")
	}
	slices.Sort(ends)
	return "", fmt.Errorf("%q tells no format by its ending: %s", Clip(file), Join(ends, "or"))
}
