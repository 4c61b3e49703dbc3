package doc

import (
	"cmp"
	_ "embed"
	"html/template"
	"maps"
	"slices"
	"strconv"
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
	Parts  []string // of the name, between which a line may end
	Cells  []pageCell
	Parent bool
	Class  string
	Under  string // places in the picks' choices, as 0,2|1; empty: a group
}

// pagePick is one thing rows can be picked by.
type pagePick struct {
	Name    string
	Key     string // in the page's address
	Choices []pageChoice
}

type pageChoice struct {
	Name string
	Rows int
}

// picks lists what rows can be picked by, and writes down which of it each row is under. What
// leaves no choice is left out.
func picks(o *Outline, rows []pageRow) (out []pagePick) {
	for n, name := range o.Picks {
		count := map[string]int{}
		for i := range o.Rows {
			under, _ := o.Rows[i].under(n)
			for _, x := range under {
				count[Clean(x)]++
			}
		}
		if len(count) < 2 {
			continue
		}
		p, at := pagePick{Name: name, Key: strings.ToLower(name)}, map[string]int{}
		for _, x := range slices.SortedFunc(maps.Keys(count), func(a, b string) int { return cmp.Or(count[b]-count[a], strings.Compare(a, b)) }) {
			at[x] = len(p.Choices)
			p.Choices = append(p.Choices, pageChoice{x, count[x]})
		}
		for i := range o.Rows {
			under, ok := o.Rows[i].under(n)
			if !ok {
				continue
			}
			var in []string
			for _, x := range under {
				in = append(in, strconv.Itoa(at[Clean(x)]))
			}
			if len(out) > 0 {
				rows[i].Under += "|"
			}
			rows[i].Under += strings.Join(in, ",")
		}
		out = append(out, p)
	}
	return out
}

type pageCell struct {
	Parts []string // of the text, between which a line may end
	Class string
}

// parted lets a line end behind each slash, for places have no spaces where one would.
func parted(s string) []string { return strings.SplitAfter(Clean(s), "/") }

// pageCells marks what says little, and what is set on the very place.
func pageCells(in []string) []pageCell {
	out := make([]pageCell, len(in))
	for i, s := range in {
		out[i].Parts = parted(s)
		switch {
		case s == "nothing":
			out[i].Class = "faint"
		case strings.HasSuffix(s, " +") || strings.HasSuffix(s, " +-"):
			out[i].Class = "strong"
		}
	}
	return out
}

// pagePerson is somebody a page tells of, and who they are.
type pagePerson struct{ Name, Is string }

// mostPeople is of how many a page says who they are.
const mostPeople = 1000

// people says who they are, each once, in the order of their names.
func (p *Printer) people(names []string) (out []pagePerson) {
	if p.WhoIs == nil {
		return nil
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(names))) {
		if is := p.WhoIs(name); is != "" && len(out) < mostPeople {
			out = append(out, pagePerson{Clean(name), Clean(is)})
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
	tree, answers := false, 0
	for i, r := range o.Rows {
		if !r.Group {
			answers++
		}
		rows[i] = pageRow{Level: r.Depth + 1, Pad: r.Depth, Name: Clean(r.Name), Parts: parted(r.Name), Cells: pageCells(r.Cells), Parent: parents[i]}
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
	return pageTemplate.Execute(p.W, map[string]any{"Picks": picks(o, rows), "People": p.people(o.People),
		"Title": Clean(o.Title), "Intro": clean(o.Intro), "Heads": clean(o.Heads), "Rows": rows, "Tree": tree, "Count": answers})
}
