package report

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/report/doc"
)

var reachHeads = []string{"user", "where", "kind", "route", "level", "granted"}

// Reaching prints all a user can get to.
func Reaching(p *doc.Printer, r *census.Reaching) error {
	level := func(l *census.Reached) string {
		if l.Can != nil {
			return YesNo(*l.Can)
		}
		return l.Level
	}
	return p.Outlined(func() *doc.Outline { return reachOutline(r, level) }).Give(r, reachHeads, func() (out [][]string) {
		for _, w := range r.Routes {
			for i := range w.Lines {
				l := &w.Lines[i]
				out = append(out, []string{r.User.Name, l.Where, l.Kind, w.Route, level(l), l.Granted})
			}
		}
		return out
	}, func() {
		before, after := "What ", " can get to"
		if r.Can != "" {
			before, after = "Where ", " has "+r.Can
			if isAct(r.Can) {
				after = " can " + r.Can
			}
		}
		p.Line(doc.S("%s", before), doc.In(doc.Strong, r.User.Name), doc.S("%s; each line holds for what is below it, until another says otherwise", after))
		shutSays(p, &r.User)
		for i := range r.Routes {
			w := &r.Routes[i]
			p.Blank()
			if !w.Door.Open {
				p.Line(doc.In(doc.Strong, w.Route), doc.In(doc.Bad, " refuses the connection"))
				continue
			}
			server := ""
			if w.Route == "local" && len(w.Lines) > 0 {
				server = " " + w.Lines[0].Parts[0]
			}
			p.Line(doc.S("%s%s: %s of %s", RouteSays(w.Route), server, fmt.Sprint(w.Items), Count(w.Of, "item")))
			g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 6}, {Head: "kind", Weight: 0}, {Head: headOf(r), Weight: 3}, {Head: "note", Weight: 2}}}
			var tree nest
			for j := range w.Lines {
				l := &w.Lines[j]
				depth, name := tree.put(l.Parts, l.Kind == "folder")
				if depth == 0 {
					name = l.Where
				}
				name = strings.Repeat("  ", depth) + name
				style := doc.Good
				if l.Level == "nothing" || l.Can != nil && !*l.Can {
					style = doc.Bad
				}
				note := ""
				if l.ByNameOnly {
					note = "by name only, not by browsing"
				}
				g.Rows = append(g.Rows, []doc.Cell{doc.C(name), doc.C(l.Kind), doc.CI(style, level(l)), doc.C(note)})
			}
			p.Grid(g)
			if w.More > 0 {
				p.Line(doc.S("  and %s more; --all shows them, as --format csv does", Count(w.More, "line")))
			}
		}
	})
}

func under(parts, top []string) bool {
	return len(parts) > len(top) && slices.Equal(parts[:len(top)], top)
}

// isAct tells whether a word means an act, and not a level of that name.
func isAct(word string) bool {
	return slices.Contains(ask.ActNames(), word) && word != "list" && word != "read"
}

func headOf(r *census.Reaching) string {
	if r.Can != "" {
		return r.Can
	}
	return "level"
}
