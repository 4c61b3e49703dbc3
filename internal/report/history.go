package report

import (
	"fmt"

	"tarnwold/internal/ask/explain"
	"tarnwold/internal/report/doc"
)

// History prints when an answer changed, newest first.
func History(p *doc.Printer, h *explain.History) error {
	heads := []string{"change", "at", "by", "route", "was", "becomes", "what"}
	return p.Give(h, heads, func() (out [][]string) {
		for _, t := range h.Turns {
			out = append(out, []string{fmt.Sprint(t.Change), At(t.At), t.By, t.Route, t.Was, t.Is, t.Summary})
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, h.User.Name), doc.S(" on %s", h.Where))
		shutSays(p, &h.User)
		for _, n := range h.Now {
			p.Line(doc.S("  now %s: ", RouteSays(n.Route)), doc.In(levelStyle(n.Is), n.Is))
		}
		p.Blank()
		if len(h.Turns) == 0 {
			p.Line(doc.S("no change of the journal altered that"))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "change", Weight: 0}, {Head: "at", Weight: 2}, {Head: "by", Weight: 1}, {Head: "route", Weight: 3}, {Head: "was", Weight: 2}, {Head: "becomes", Weight: 2}, {Head: "what", Weight: 5}}}
		for _, t := range h.Turns {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(fmt.Sprint(t.Change)), doc.C(At(t.At)), doc.C(t.By), doc.C(t.Route), doc.CI(levelStyle(t.Was), t.Was), doc.CI(levelStyle(t.Is), t.Is), doc.C(t.Summary)})
		}
		p.Grid(g)
	})
}
