package report

import (
	"fmt"

	"tarnwold/internal/ask/explain"
)

// History prints when an answer changed, newest first.
func (p *Printer) History(h *explain.History) error {
	heads := []string{"change", "at", "by", "route", "was", "becomes", "what"}
	return p.Give(h, heads, func() (out [][]string) {
		for _, t := range h.Turns {
			out = append(out, []string{fmt.Sprint(t.Change), At(t.At), t.By, t.Route, t.Was, t.Is, t.Summary})
		}
		return out
	}, func() {
		p.Line(In(Strong, h.User.Name), S(" on %s", h.Where))
		p.shutSays(&h.User)
		for _, n := range h.Now {
			p.Line(S("  now %s: ", routeSays(n.Route)), In(levelStyle(n.Is), n.Is))
		}
		p.Blank()
		if len(h.Turns) == 0 {
			p.Line(S("no change of the journal altered that"))
			return
		}
		g := Grid{Cols: []Col{{"change", 0}, {"at", 2}, {"by", 1}, {"route", 3}, {"was", 2}, {"becomes", 2}, {"what", 5}}}
		for _, t := range h.Turns {
			g.Rows = append(g.Rows, []Cell{C(fmt.Sprint(t.Change)), C(At(t.At)), C(t.By), C(t.Route), CI(levelStyle(t.Was), t.Was), CI(levelStyle(t.Is), t.Is), C(t.Summary)})
		}
		p.Grid(g)
	})
}
