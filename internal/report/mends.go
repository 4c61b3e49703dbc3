package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/explain"
	"tarnwold/internal/plan/review"
)

// Command writes arguments as they could be typed.
func Command(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		if w == "" || strings.ContainsAny(w, " \t\n'\"$&|;<>()*?[]{}#~\\`!") {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		out[i] = w
	}
	return strings.Join(out, " ")
}

// wanted is an explanation with what would give the level that is wanted.
type wanted struct {
	*explain.Explained
	Mending *review.Mending `json:"mending,omitempty"`
}

var mendHeads = []string{"where", "route", "want", "held", "commands", "counts", "others who gain", "items", "who loses", "guards"}

// Wanted prints explanations, each with what would mend it.
func (p *Printer) Wanted(list []*explain.Explained, mends []review.Mending) error {
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
				out = append(out, []string{m.Where, m.Route, m.Want, yesNo(m.Held), "", "", "", "", "", ""})
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
			p.explained(w.Explained)
			if w.Mending != nil {
				p.mending(w.User.Name, w.Mending)
			}
		}
	})
}

func commands(m *review.Mended) string {
	var out []string
	for _, c := range m.Command {
		out = append(out, Command(c))
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

func (p *Printer) mending(who string, m *review.Mending) {
	p.Blank()
	switch {
	case m.Held:
		p.Line(In(Good, fmt.Sprintf("%s has %s %s already", who, m.Want, routeSays(m.Route))))
		return
	case m.Switched && len(m.Mends) == 0:
		p.Line(S("%s is switched to read-only, which no entry and no group mends", m.Route))
		return
	case len(m.Mends) == 0:
		p.Line(S("no single change was found that gives %s %s %s", who, m.Want, routeSays(m.Route)))
		return
	}
	p.Line(In(Strong, fmt.Sprintf("What would give %s %s %s", who, m.Want, routeSays(m.Route))), S(", the least else first:"))
	g := Grid{Cols: []Col{{"", 0}, {"change", 6}, {"counts", 2}, {"opens", 2}, {"to others", 4}}}
	for i := range m.Mends {
		x := &m.Mends[i]
		cell := Cell{}
		for _, c := range x.Command {
			cell = append(cell, Span{Text: Command(c)})
		}
		others := "nobody"
		if len(x.People) > 0 {
			others = Count(int64(len(x.People)), "person") + ": " + Some(x.People, 4)
		}
		if len(x.Loses) > 0 {
			others += "; loses: " + Some(x.Loses, 4)
		}
		if s := guards(x); s != "" {
			others += "; a guard warns: " + s
		}
		g.Rows = append(g.Rows, []Cell{C(fmt.Sprint(i + 1)), cell, C(strings.ReplaceAll(x.Counts, "-", " ")), C(Count(x.Items, "item")), C(others)})
	}
	p.Grid(g)
}
