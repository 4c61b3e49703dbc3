package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/census"
)

var compareHeads = []string{"where", "route", "first", "second", "because"}

// Compared prints two users side by side.
func (p *Printer) Compared(c *census.Comparison) error {
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
	return p.outlined(func() *Outline { return compareOutline(c, why) }).Give(c, compareHeads, func() (out [][]string) {
		for i := range c.Lines {
			l := &c.Lines[i]
			out = append(out, []string{l.Where, l.Route, l.First, l.Second, why(l)})
		}
		return out
	}, func() {
		p.Line(In(Strong, c.First.Name), S(" and "), In(Strong, c.Second.Name), S(": alike on %s by route, different on %d", Count(c.Alike, "item"), c.Differ))
		p.shutSays(&c.First)
		p.shutSays(&c.Second)
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
			p.Line(S("  only %s is in %s", name, Some(groups, 12)))
		}
		if len(c.Like) > 0 {
			p.Blank()
			p.Line(S("What would make %s equal to %s, or the last of these alone:", c.Second.Name, c.First.Name))
			for _, w := range c.Like {
				p.Line(S("  "), In(Strong, Command(w)))
			}
		}
		if len(c.Lines) == 0 {
			return
		}
		p.Blank()
		g := Grid{Cols: []Col{{"where", 5}, {"route", 2}, {c.First.Name, 2}, {c.Second.Name, 2}, {"because", 7}}}
		for i := range c.Lines {
			l := &c.Lines[i]
			route := l.Route
			if route != "local" { // the address says it
				route = ""
			}
			g.Rows = append(g.Rows, []Cell{C(l.Where), C(route), CI(levelStyle(l.First), l.First), CI(levelStyle(l.Second), l.Second), C(why(l))})
		}
		p.Grid(g)
		if c.More > 0 {
			p.Line(S("  and %s more; --all shows them, as --format csv does", Count(c.More, "line")))
		}
	})
}

func levelStyle(level string) Style {
	if level == "nothing" {
		return Bad
	}
	return Good
}
