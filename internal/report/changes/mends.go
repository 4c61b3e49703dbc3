package changes

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/explain"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

// wanted is an explanation with what would give the level that is wanted.
type wanted struct {
	*explain.Explained
	Mending *review.Mending `json:"mending,omitempty"`
}

var mendHeads = []string{"where", "route", "want", "held", "commands", "counts", "others who gain", "items", "who loses", "guards"}

// Wanted prints explanations, each with what would mend it.
func Wanted(p *doc.Printer, list []*explain.Explained, mends []review.Mending) error {
	of := func(route string) *review.Mending {
		for i := range mends {
			if mends[i].Route == route {
				return &mends[i]
			}
		}
		return nil
	}
	all := make([]wanted, 0, len(list))
	for _, e := range list {
		all = append(all, wanted{e, of(e.Route)})
	}
	return p.Give(all, mendHeads, func() (out [][]string) {
		for i := range mends {
			m := &mends[i]
			if m.Held || len(m.Mends) == 0 {
				out = append(out, []string{m.Where, m.Route, m.Want, report.YesNo(m.Held), "", "", "", "", "", ""})
			}
			for j := range m.Mends {
				x := &m.Mends[j]
				out = append(out, []string{m.Where, m.Route, m.Want, "no", commands(x), strings.ReplaceAll(x.Counts, "-", " "), strings.Join(x.People, ", "),
					fmt.Sprint(x.Items), strings.Join(x.Loses, ", "), guards(x)})
			}
		}
		return out
	}, func() {
		for i, w := range all {
			if i > 0 {
				p.Blank()
			}
			report.DrawExplained(p, w.Explained)
			if w.Mending != nil {
				mending(p, w.User.Name, w.Mending)
				for _, names := range w.Mending.Marks {
					p.Line(doc.S("%s, on %s itself: no entry gives back what the mark takes", report.MarkMend(names, w.Item), w.Explained.Server))
				}
			}
		}
	})
}

func commands(m *review.Mended) string {
	var out []string
	for _, c := range m.Command {
		out = append(out, report.Command(c))
	}
	return strings.Join(out, " && ")
}

func guards(m *review.Mended) string {
	var out []string
	for _, g := range m.Guards {
		out = append(out, g.Guard)
	}
	return strings.Join(out, ", ")
}

func mending(p *doc.Printer, who string, m *review.Mending) {
	p.Blank()
	switch {
	case m.Held:
		p.Line(doc.In(doc.Good, fmt.Sprintf("%s has %s %s already", who, m.Want, report.RouteSays(m.Route))))
		return
	case m.Switched && len(m.Mends) == 0:
		p.Line(doc.S("%s is switched to read-only, which no entry and no group mends", m.Route))
		return
	case len(m.Mends) == 0:
		p.Line(doc.S("no single change was found that gives %s %s %s", who, m.Want, report.RouteSays(m.Route)))
		return
	}
	p.Line(doc.In(doc.Strong, fmt.Sprintf("What would give %s %s %s", who, m.Want, report.RouteSays(m.Route))), doc.S(", those that open least else first:"))
	g := doc.Grid{Cols: []doc.Col{{Head: "", Weight: 0}, {Head: "change", Weight: 6}, {Head: "counts", Weight: 2}, {Head: "opens", Weight: 2}, {Head: "to others", Weight: 4}}}
	for i := range m.Mends {
		x := &m.Mends[i]
		cell := doc.Cell{}
		for _, c := range x.Command {
			cell = append(cell, doc.Span{Text: report.Command(c)})
		}
		others := "nobody"
		if len(x.People) > 0 {
			others = report.Count(int64(len(x.People)), "person") + ": " + report.Some(x.People, 4)
		}
		if len(x.Loses) > 0 {
			others += "; loses: " + report.Some(x.Loses, 4)
		}
		if s := guards(x); s != "" {
			others += "; a guard warns: " + s
		}
		g.Rows = append(g.Rows, []doc.Cell{doc.C(fmt.Sprint(i + 1)), cell, doc.C(strings.ReplaceAll(x.Counts, "-", " ")), doc.C(report.Count(x.Items, "item")), doc.C(others)})
	}
	p.Grid(g)
}
