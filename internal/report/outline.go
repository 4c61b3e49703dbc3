package report

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/ask/census"
)

// Outline is an answer as a page shows it: rows under heads, some below
// others, which open and close.
type Outline struct {
	Title string
	Intro []string // lines before the rows
	Heads []string // the first is over the names
	Rows  []OutlineRow
}

// OutlineRow is one row; its cells stand under all heads but the first.
type OutlineRow struct {
	Depth int // 0: not below another
	Name  string
	Cells []string
	Bad   bool // nothing, or refused
	Group bool // a heading over what is below it, not an answer
}

// flat is the outline of rows as CSV has them.
func flat(title string, heads []string, rows [][]string) *Outline {
	o := &Outline{Title: title, Heads: heads}
	for _, r := range rows {
		o.Rows = append(o.Rows, OutlineRow{Name: r[0], Cells: r[1:]})
	}
	return o
}

// outlined keeps the outline of the answer that is given next.
func (p *Printer) outlined(fn func() *Outline) *Printer {
	p.outline = fn
	return p
}

func whoOutline(h *census.Having) *Outline {
	o := &Outline{Title: "Who has access to " + h.Where, Heads: []string{"who", "level", "because"}}
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
	o.shutSome(slices.Compact(shut), shutCount)
	server := strings.SplitN(h.Item, ":", 2)[0]
	for i := range h.Routes {
		r := &h.Routes[i]
		o.Rows = append(o.Rows, OutlineRow{Name: routeSays(r.Route), Cells: []string{"open to " + r.Open, fmt.Sprintf("%d of %d users", r.Users, r.Of)}, Bad: r.Open == "everyone", Group: true})
		for _, l := range r.Levels {
			o.Rows = append(o.Rows, OutlineRow{Depth: 1, Name: l.Level, Cells: []string{l.Level, Count(int64(l.Users), "user")}, Group: true})
			for _, b := range l.By {
				depth := 2
				if b.Account != nil && b.Account.Kind != "user" {
					of := "of " + b.Account.Name
					if b.Whole {
						of = "all of " + b.Account.Name
					}
					o.Rows = append(o.Rows, OutlineRow{Depth: 2, Name: of, Cells: []string{l.Level, Count(int64(len(b.Users)), "user")}, Group: true})
					depth = 3
				}
				for _, u := range b.Users {
					o.Rows = append(o.Rows, OutlineRow{Depth: depth, Name: u, Cells: []string{l.Level, reasoned(&b.Reason, server, false)}})
				}
			}
		}
	}
	return o
}

func reachOutline(r *census.Reaching, level func(*census.Reached) string) *Outline {
	o := &Outline{Title: "What " + r.User.Name + " can get to", Heads: []string{"where", "kind", headOf(r), "note"}}
	o.Intro = []string{"Each line holds for what is below it, until another says otherwise."}
	o.shutSays(&r.User)
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
		if w.Door.Open == "refused" {
			o.Rows = append(o.Rows, OutlineRow{Name: w.Route, Cells: []string{"", "", "the share refuses the connection"}, Bad: true, Group: true})
			continue
		}
		o.Rows = append(o.Rows, OutlineRow{Name: routeSays(w.Route) + server, Cells: []string{"", "", note}, Group: true})
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
			o.Rows = append(o.Rows, OutlineRow{Depth: 1 + depth, Name: name, Cells: []string{l.Kind, level(l), note}, Bad: l.Level == "nothing" || l.Can != nil && !*l.Can})
		}
	}
	return o
}

func compareOutline(c *census.Comparison, why func(*census.Compared) string) *Outline {
	o := &Outline{Title: c.First.Name + " and " + c.Second.Name, Heads: []string{"where", c.First.Name, c.Second.Name, "because"}}
	o.Intro = append(o.Intro, fmt.Sprintf("Alike on %s by route, different on %d.", Count(c.Alike, "item"), c.Differ))
	o.shutSays(&c.First)
	o.shutSays(&c.Second)
	for i, name := range []string{c.First.Name, c.Second.Name} {
		var groups []string
		for _, g := range c.Only[i] {
			groups = append(groups, g.Name)
		}
		if len(groups) > 0 {
			o.Intro = append(o.Intro, "Only "+name+" is in "+join(groups, "and")+".")
		}
	}
	for _, w := range c.Like {
		o.Intro = append(o.Intro, "To make "+c.Second.Name+" like "+c.First.Name+": "+Command(w))
	}
	last := ""
	for i := range c.Lines {
		l := &c.Lines[i]
		route := routeSays(l.Route)
		if l.Route == "local" {
			route += " " + l.Parts[0]
		}
		if route != last {
			o.Rows = append(o.Rows, OutlineRow{Name: route, Cells: []string{"", "", ""}, Group: true})
			last = route
		}
		o.Rows = append(o.Rows, OutlineRow{Depth: 1, Name: l.Where, Cells: []string{l.First, l.Second, why(l)}})
	}
	return o
}

func gridOutline(g *census.Gridded, rows []census.GridRow) *Outline {
	heads := []string{"where", "rules"}
	for _, a := range g.Accounts {
		heads = append(heads, a.Name)
	}
	o := &Outline{Title: "Who has what at and below " + g.Where, Heads: append(heads, "who else")}
	o.Intro = []string{"+ an entry set here names the account; - a deny entry takes something from it; a level without a mark comes " + unmarked(g) + ".",
		"A group's column is for somebody who is in that group and in no other."}
	o.shutSome(shutOf(g.Accounts), shutCells)
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
			cells = append(cells, cellText(&r.Cells[j]))
		}
		o.Rows = append(o.Rows, OutlineRow{Depth: depth, Name: name, Cells: append(cells, strings.Join(r.Else, ", "))})
	}
	return o
}

func usesOutline(who string, rows [][]string) *Outline {
	o := &Outline{Title: "Where " + who + " is named", Heads: usesHeads}
	last := ""
	for _, r := range rows {
		if r[0] != last {
			o.Rows = append(o.Rows, OutlineRow{Name: r[0], Cells: []string{"", "", ""}, Group: true})
			last = r[0]
		}
		o.Rows = append(o.Rows, OutlineRow{Depth: 1, Name: "", Cells: r[1:]})
	}
	return o
}

// parents tells of each row whether rows stand below it.
func (o *Outline) parents() []bool {
	out := make([]bool, len(o.Rows))
	for i := range o.Rows {
		out[i] = i+1 < len(o.Rows) && o.Rows[i+1].Depth > o.Rows[i].Depth
	}
	return out
}

// files are the formats an answer can be written to a file in, by its ending.
var files = map[string]Format{".xlsx": Workbook, ".html": Page, ".csv": CSV, ".json": JSON, ".md": Markdown}

// FormatOf tells the format of a file by its ending; checks may be written as
// JUnit too.
func FormatOf(file string, checks bool) (Format, error) {
	ending := ""
	if i := strings.LastIndexByte(file, '.'); i >= 0 {
		ending = strings.ToLower(file[i:])
	}
	if f, ok := files[ending]; ok {
		return f, nil
	}
	if checks && ending == ".xml" {
		return JUnit, nil
	}
	var ends []string
	for e := range files {
		ends = append(ends, e)
	}
	if checks {
		ends = append(ends, ".xml")
	}
	slices.Sort(ends)
	return "", fmt.Errorf("%q tells no format by its ending: %s", Clip(file), join(ends, "or"))
}
