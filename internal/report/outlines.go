package report

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/ask/census"
	"tarnwold/internal/report/doc"
)

func whoOutline(h *census.Having) *doc.Outline {
	o := &doc.Outline{Title: "Who has access to " + h.Where, Heads: []string{"who", "level", "because"}}
	o.Intro = append(o.Intro, fmt.Sprintf("A %s owned by %s.", h.Kind, h.Owner.Name))
	if h.Can != "" {
		o.Intro = append(o.Intro, "Only those who have or can: "+h.Can+".")
	}
	if h.Rules != "present" {
		o.Intro = append(o.Intro, "Its rules are "+h.Rules+".")
	}
	if h.Differ {
		o.Intro = append(o.Intro, "The routes to it don't give everybody the same.")
	}
	var shut []string
	for i := range h.Routes {
		shut = append(shut, h.Routes[i].Shut...)
	}
	slices.Sort(shut)
	outlineShutSome(o, slices.Compact(shut), shutCount)
	server := strings.SplitN(h.Item, ":", 2)[0]
	for i := range h.Routes {
		r := &h.Routes[i]
		o.Rows = append(o.Rows, doc.OutlineRow{Name: RouteSays(r.Route), Cells: []string{"open to " + r.Open, fmt.Sprintf("%d of %d users", r.Users, r.Of)}, Bad: r.Open == "everyone", Group: true})
		for _, l := range r.Levels {
			o.Rows = append(o.Rows, doc.OutlineRow{Depth: 1, Name: l.Level, Cells: []string{l.Level, Count(int64(l.Users), "user")}, Group: true})
			for _, b := range l.By {
				depth := 2
				if b.Account != nil && b.Account.Kind != "user" {
					of := "of " + b.Account.Name
					if b.Whole {
						of = "all of " + b.Account.Name
					}
					o.Rows = append(o.Rows, doc.OutlineRow{Depth: 2, Name: of, Cells: []string{l.Level, Count(int64(len(b.Users)), "user")}, Group: true})
					depth = 3
				}
				o.People = append(o.People, b.Users...)
				for _, u := range b.Users {
					o.Rows = append(o.Rows, doc.OutlineRow{Depth: depth, Name: u, Cells: []string{l.Level, reasoned(&b.Reason, server, false)}})
				}
			}
		}
	}
	return o
}

func reachOutline(r *census.Reaching, level func(*census.Reached) string) *doc.Outline {
	o := &doc.Outline{Title: "What " + r.User.Name + " can get to", Heads: []string{"where", "kind", headOf(r), "note"}}
	o.People = []string{r.User.Name}
	o.Intro = []string{"Each line holds for what is below it, until another says otherwise."}
	outlineShut(o, &r.User)
	if r.Under != "" {
		o.Intro = append(o.Intro, "Only at and below "+r.Under+".")
	}
	for i := range r.Routes {
		w := &r.Routes[i]
		server := ""
		if w.Route == "local" && len(w.Lines) > 0 {
			server = " " + w.Lines[0].Parts[0]
		}
		note := fmt.Sprintf("%d of %s", w.Items, Count(w.Of, "item"))
		if !w.Door.Open {
			o.Rows = append(o.Rows, doc.OutlineRow{Name: w.Route, Cells: []string{"", "", "the share refuses the connection"}, Bad: true, Group: true})
			continue
		}
		o.Rows = append(o.Rows, doc.OutlineRow{Name: RouteSays(w.Route) + server, Cells: []string{"", "", note}, Group: true})
		var tree nest
		for j := range w.Lines {
			l := &w.Lines[j]
			depth, name := tree.put(l.Parts, l.Kind == "folder")
			if depth == 0 {
				name = l.Where
			}
			note := ""
			if l.ByNameOnly {
				note = "by name only, not by browsing"
			}
			o.Rows = append(o.Rows, doc.OutlineRow{Depth: 1 + depth, Name: name, Cells: []string{l.Kind, level(l), note}, Bad: l.Level == "nothing" || l.Can != nil && !*l.Can})
		}
	}
	return o
}

func compareOutline(c *census.Comparison, why func(*census.Compared) string) *doc.Outline {
	o := &doc.Outline{Title: c.First.Name + " and " + c.Second.Name, Heads: []string{"where", c.First.Name, c.Second.Name, "because"}}
	o.Intro = append(o.Intro, fmt.Sprintf("Alike on %s by route, different on %d.", Count(c.Alike, "item"), c.Differ))
	o.People = []string{c.First.Name, c.Second.Name}
	outlineShut(o, &c.First)
	outlineShut(o, &c.Second)
	for i, name := range []string{c.First.Name, c.Second.Name} {
		var groups []string
		for _, g := range c.Only[i] {
			groups = append(groups, g.Name)
		}
		if len(groups) > 0 {
			o.Intro = append(o.Intro, "Only "+name+" is in "+doc.Join(groups, "and")+".")
		}
	}
	for _, w := range c.Like {
		o.Intro = append(o.Intro, "To make "+c.Second.Name+" like "+c.First.Name+": "+Command(w))
	}
	last := ""
	for i := range c.Lines {
		l := &c.Lines[i]
		route := RouteSays(l.Route)
		if l.Route == "local" {
			route += " " + l.Parts[0]
		}
		if route != last {
			o.Rows = append(o.Rows, doc.OutlineRow{Name: route, Cells: []string{"", "", ""}, Group: true})
			last = route
		}
		o.Rows = append(o.Rows, doc.OutlineRow{Depth: 1, Name: l.Where, Cells: []string{l.First, l.Second, why(l)}})
	}
	return o
}

func gridOutline(g *census.Gridded, rows []census.GridRow) *doc.Outline {
	heads := []string{"where", "rules"}
	for _, a := range g.Accounts {
		heads = append(heads, a.Name)
	}
	o := &doc.Outline{Title: "Who has what at and below " + g.Where, Heads: append(heads, "who else")}
	o.Intro = []string{"+ an entry set here names the account; - a deny entry takes something from it; a level without a mark comes " + unmarked(g) + ".",
		"A group's column is for somebody who is in that group and in no other."}
	o.People = slices.Clone(heads[2:])
	outlineShutSome(o, shutOf(g.Accounts), shutCells)
	var tree nest
	for i := range rows {
		r := &rows[i]
		depth, name := tree.put(r.Parts, r.Kind == "folder")
		if depth == 0 {
			name = r.Where
		}
		rules := r.Rules
		if r.Sealed && rules == "present" {
			rules = "sealed"
		} else if rules == "present" {
			rules = ""
		}
		cells := []string{rules}
		for j := range r.Cells {
			cells = append(cells, r.Cells[j].Text())
		}
		o.Rows = append(o.Rows, doc.OutlineRow{Depth: depth, Name: name, Cells: append(cells, strings.Join(r.Else, ", "))})
	}
	return o
}

func usesOutline(who string, rows [][]string) *doc.Outline {
	o := &doc.Outline{Title: "Where " + who + " is named", Heads: usesHeads}
	last := ""
	for _, r := range rows {
		if r[0] != last {
			o.Rows = append(o.Rows, doc.OutlineRow{Name: r[0], Cells: []string{"", "", ""}, Group: true})
			last = r[0]
		}
		o.Rows = append(o.Rows, doc.OutlineRow{Depth: 1, Name: "", Cells: r[1:]})
	}
	return o
}
