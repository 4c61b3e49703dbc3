package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/census"
	"tarnwold/internal/report/doc"
)

var compareHeads = []string{"where", "route", "first", "second", "because"}

// Compared prints two users side by side.
func Compared(p *doc.Printer, c *census.Comparison) error {
	why := func(l *census.Compared) string {
		if l.Has == "" {
			return ""
		}
		other := c.First.Name
		if l.Has == other {
			other = c.Second.Name
		}
		return fmt.Sprintf("%s has %s: %s; %s hasn't: %s", l.Has, l.Right, reasoned(l.Why, l.Parts[0], false), other, reasoned(l.Not, l.Parts[0], l.Share))
	}
	return p.Outlined(func() *doc.Outline { return compareOutline(c, why) }).Give(c, compareHeads, func() (out [][]string) {
		for i := range c.Lines {
			l := &c.Lines[i]
			out = append(out, []string{l.Where, l.Route, l.First, l.Second, why(l)})
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, c.First.Name), doc.S(" and "), doc.In(doc.Strong, c.Second.Name), doc.S(": alike on %s by route, different on %d", Count(c.Alike, "item"), c.Differ))
		shutSays(p, &c.First)
		shutSays(p, &c.Second)
		for i, name := range []string{c.First.Name, c.Second.Name} {
			if len(c.Only[i]) == 0 {
				continue
			}
			var groups []string
			for _, g := range c.Only[i] {
				s := g.Name
				if !g.Direct {
					s += " (" + strings.Join(g.Chain[1:], " → ") + ")"
				}
				groups = append(groups, s)
			}
			p.Line(doc.S("  only %s is in %s", name, Some(groups, 12)))
		}
		if len(c.Like) > 0 {
			p.Blank()
			p.Line(doc.S("What would make %s equal to %s, or the last of these alone:", c.Second.Name, c.First.Name))
			for _, w := range c.Like {
				p.Line(doc.S("  "), doc.In(doc.Strong, Command(w)))
			}
		}
		if len(c.Lines) == 0 {
			return
		}
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 5}, {Head: "route", Weight: 2}, {Head: c.First.Name, Weight: 2}, {Head: c.Second.Name, Weight: 2}, {Head: "because", Weight: 7}}}
		for i := range c.Lines {
			l := &c.Lines[i]
			route := l.Route
			if route != "local" { // the address says it
				route = ""
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(l.Where), doc.C(route), doc.CI(levelStyle(l.First), l.First), doc.CI(levelStyle(l.Second), l.Second), doc.C(why(l))})
		}
		p.Grid(g)
		if c.More > 0 {
			p.Line(doc.S("  and %s more; --all shows them, as --format csv does", Count(c.More, "line")))
		}
	})
}

func levelStyle(level string) doc.Style {
	if level == "nothing" {
		return doc.Bad
	}
	return doc.Good
}
