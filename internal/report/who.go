package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/census"
)

var whoHeads = []string{"user", "where", "route", "level", "granted", "because"}

// Having prints everyone who has access to a place.
func (p *Printer) Having(h *census.Having) error {
	server := strings.SplitN(h.Item, ":", 2)[0]
	return p.outlined(func() *Outline { return whoOutline(h) }).Give(h, whoHeads, func() (out [][]string) {
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
		p.Line(In(Strong, h.Where), S(", a %s owned by %s", h.Kind, h.Owner.Name))
		switch h.Rules {
		case "absent":
			p.Line(S("  its rules are absent, which opens it to everyone"))
		case "empty":
			p.Line(S("  its rules are empty, which closes it to everyone"))
		}
		if h.Differ {
			p.Line(In(Bad, "  the routes to it don't give everybody the same"))
		}
		for i := range h.Routes {
			p.having(h, &h.Routes[i], server)
		}
	})
}

func (p *Printer) having(h *census.Having, r *census.HavingWay, server string) {
	p.Blank()
	does := "open to"
	if h.Can != "" {
		does = "for " + h.Can + ", open to"
	}
	style, open := Strong, ""
	switch r.Open {
	case "everyone":
		style, open = Bad, fmt.Sprintf("%s everyone: all %s", does, Count(int64(r.Of), "user"))
	case "nobody":
		open = does + " nobody"
	case "one":
		open = does + " one alone: " + r.Levels[0].By[0].Users[0]
	default:
		open = fmt.Sprintf("%s some: %d of %s", does, r.Users, Count(int64(r.Of), "user"))
	}
	p.Line(S("%s ", routeSays(r.Route)), In(style, open))
	p.shutSome(r.Shut, shutCount)
	if r.Stopped > 0 {
		p.Line(S("  the share stops %s at less than the %s's rules give", Count(int64(r.Stopped), "user"), h.Kind))
	}
	if len(r.Special) > 0 {
		p.Line(In(Bad, "  by an entry for "+join(r.Special, "and")))
	}
	defer p.beyond(r.Below, h.BelowAsked)
	if len(r.Levels) == 0 {
		return
	}
	g := Grid{Cols: []Col{{"level", 2}, {"who", 5}, {"because", 4}, {"set on", 4}}}
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
			why, set := because(&b.Reason, server, false)
			if set == h.Item {
				set = "here"
			}
			g.Rows = append(g.Rows, []Cell{CI(Good, level), C(who), C(why), C(set)})
			level = ""
		}
	}
	p.Grid(g)
}

// beyond tells what is below a folder and open to others.
func (p *Printer) beyond(b *census.OpenBelow, asked bool) {
	switch {
	case b == nil && asked:
		p.Line(S("  and nothing below is open to anybody else"))
		return
	case b == nil:
		return
	case b.Uncounted:
		p.Line(S("  what is below has too many rules of its own to be counted unasked; --below does"))
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
	p.Line(In(Bad, fmt.Sprintf("  and %s below %s open to %s more", places, verb, people)), S(": %s", Some(b.Names, 6)))
	if len(b.List) == 0 {
		return
	}
	g := Grid{Cols: []Col{{"below", 5}, {"also open to", 4}}}
	for _, x := range b.List {
		g.Rows = append(g.Rows, []Cell{C(alike(x.Where, x.Items)), C(Some(x.Who, 8))})
	}
	p.Grid(g)
}
