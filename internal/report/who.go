package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/census"
	"tarnwold/internal/report/doc"
)

var whoHeads = []string{"user", "where", "route", "level", "granted", "because"}

// Having prints everyone who has access to a place.
func Having(p *doc.Printer, h *census.Having) error {
	server := strings.SplitN(h.Item, ":", 2)[0]
	return p.Outlined(func() *doc.Outline { return whoOutline(h) }).Give(h, whoHeads, func() (out [][]string) {
		for _, r := range h.Routes {
			for _, l := range r.Levels {
				for _, b := range l.By {
					for _, u := range b.Users {
						out = append(out, []string{u, h.Where, r.Route, l.Level, l.Granted, reasoned(&b.Reason, server, false)})
					}
				}
			}
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, h.Where), doc.S(", a %s owned by %s", h.Kind, h.Owner.Name))
		switch h.Rules {
		case "absent":
			p.Line(doc.S("  its rules are absent, which opens it to everyone"))
		case "empty":
			p.Line(doc.S("  its rules are empty, which closes it to everyone"))
		}
		if h.Differ {
			p.Line(doc.In(doc.Bad, "  the routes to it don't give everybody the same"))
		}
		for i := range h.Routes {
			having(p, h, &h.Routes[i], server)
		}
		if len(h.Routes) > 0 && h.Routes[0].AsSpecified {
			asSpecified(p)
		}
	})
}

func having(p *doc.Printer, h *census.Having, r *census.HavingWay, server string) {
	p.Blank()
	does := "open to"
	if h.Can != "" {
		does = "for " + h.Can + ", open to"
	}
	style, open := doc.Strong, ""
	switch r.Open {
	case "everyone":
		style, open = doc.Bad, fmt.Sprintf("%s everyone: all %s", does, Count(int64(r.Of), "user"))
	case "nobody":
		open = does + " nobody"
	case "one":
		open = does + " one alone: " + r.Levels[0].By[0].Users[0]
	default:
		open = fmt.Sprintf("%s some: %d of %s", does, r.Users, Count(int64(r.Of), "user"))
	}
	p.Line(doc.S("%s ", RouteSays(r.Route)), doc.In(style, open))
	shutSome(p, r.Shut, shutCount)
	notCounted(p, r.NotCounted)
	if r.Stopped > 0 {
		p.Line(doc.S("  the share limits %s to less than the %s's rules grant", Count(int64(r.Stopped), "user"), h.Kind))
	}
	if len(r.Special) > 0 {
		p.Line(doc.In(doc.Bad, "  by an entry for "+doc.Join(r.Special, "and")))
	}
	defer beyond(p, r.Below, h.BelowAsked)
	if len(r.Levels) == 0 {
		return
	}
	g := doc.Grid{Cols: []doc.Col{{Head: "level", Weight: 2}, {Head: "who", Weight: 5}, {Head: "because", Weight: 4}, {Head: "set on", Weight: 4}}}
	for _, l := range r.Levels {
		level := l.Level
		for _, b := range l.By {
			who := Some(b.Users, 8)
			if b.Account != nil && b.Account.Kind != "user" {
				switch {
				case b.Whole:
					who = fmt.Sprintf("all of %s: %s", b.Account.Name, who)
				default:
					who = fmt.Sprintf("of %s: %s", b.Account.Name, who)
				}
			}
			why, set := Because(&b.Reason, server, false)
			if set == h.Item {
				set = "here"
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.CI(doc.Good, level), doc.C(who), doc.C(why), doc.C(set)})
			level = ""
		}
	}
	p.Grid(g)
}

// beyond tells what is below a folder and open to others.
func beyond(p *doc.Printer, b *census.OpenBelow, asked bool) {
	switch {
	case b == nil && asked:
		p.Line(doc.S("  and nothing below is open to anybody else"))
		return
	case b == nil:
		return
	case b.Uncounted:
		p.Line(doc.S("  what is below has too many rules of its own to be counted unasked; --below does"))
		return
	}
	places, verb := "1 place", "is"
	if b.Places != 1 {
		places, verb = Count(b.Places, "place"), "are"
	}
	people := "1 person"
	if b.Users != 1 {
		people = Count(int64(b.Users), "person")
	}
	p.Line(doc.In(doc.Bad, fmt.Sprintf("  and %s below %s open to %s more", places, verb, people)), doc.S(": %s", Some(b.Names, 6)))
	if len(b.List) == 0 {
		return
	}
	g := doc.Grid{Cols: []doc.Col{{Head: "below", Weight: 5}, {Head: "also open to", Weight: 4}}}
	for _, x := range b.List {
		g.Rows = append(g.Rows, []doc.Cell{doc.C(Alike(x.Where, x.Items)), doc.C(Some(x.Who, 8))})
	}
	p.Grid(g)
}
