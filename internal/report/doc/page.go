package doc

import (
	_ "embed"
	"html/template"
	"strings"
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("page").Parse(pageText))

// pageRow is a row as the page's template has it.
type pageRow struct {
	Level  int // 1: not below another
	Pad    int
	Name   string
	Cells  []pageCell
	Parent bool
	Class  string
}

type pageCell struct{ Text, Class string }

// pageCells marks what says little, and what is set on the very place.
func pageCells(in []string) []pageCell {
	out := make([]pageCell, len(in))
	for i, s := range in {
		out[i].Text = Clean(s)
		switch {
		case s == "nothing":
			out[i].Class = "faint"
		case strings.HasSuffix(s, " +") || strings.HasSuffix(s, " +-"):
			out[i].Class = "strong"
		}
	}
	return out
}

// Page writes an outline as one self-contained file of HTML.
func (p *Printer) Page(o *Outline) error {
	parents := o.parents()
	rows := make([]pageRow, len(o.Rows))
	clean := func(in []string) []string {
		out := make([]string, len(in))
		for i, s := range in {
			out[i] = Clean(s)
		}
		return out
	}
	tree := false
	for i, r := range o.Rows {
		rows[i] = pageRow{Level: r.Depth + 1, Pad: r.Depth, Name: Clean(r.Name), Cells: pageCells(r.Cells), Parent: parents[i]}
		tree = tree || parents[i]
		switch {
		case r.Bad && r.Group:
			rows[i].Class = "group bad"
		case r.Group:
			rows[i].Class = "group"
		case r.Bad:
			rows[i].Class = "bad"
		}
	}
	return pageTemplate.Execute(p.W, map[string]any{"Title": Clean(o.Title), "Intro": clean(o.Intro), "Heads": clean(o.Heads), "Rows": rows, "Tree": tree, "Count": len(rows)})
}
