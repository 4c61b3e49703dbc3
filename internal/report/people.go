package report

import (
	"encoding/json"
	"fmt"
	"strings"

	"tarnwold/internal/ask/show"
	"tarnwold/internal/format"
)

func number(n *int64) string {
	if n == nil {
		return ""
	}
	return fmt.Sprint(*n)
}

// People prints a list of users, or of groups.
func (p *Printer) People(list []show.Person, groups bool) error {
	heads := []string{"user", "id", "primary group", "member of", "identifier"}
	if groups {
		heads = []string{"group", "id", "purpose", "members", "member of", "identifier"}
	}
	row := func(x show.Person) []string {
		of := strings.Join(x.In, ", ")
		if groups {
			return []string{x.Name, number(x.POSIX), x.Purpose, strings.Join(x.Members, ", "), of, x.ID}
		}
		return []string{x.Name, number(x.POSIX), x.Primary, of, x.ID}
	}
	rows := func() (out [][]string) {
		for _, x := range list {
			out = append(out, row(x))
		}
		return out
	}
	return p.Give(list, heads, rows, func() {
		cols := Heads(heads...)
		cols[0].Weight, cols[1].Weight = 1, 0
		p.Grid(plain(cols, rows()))
	})
}

func wayNote(w show.Way, user bool) string {
	switch {
	case w.Primary == "above":
		return "by the primary group"
	case w.Primary == "yes" && user:
		return "primary group"
	case w.Primary == "yes":
		return "primary group, on no list"
	}
	return ""
}

// chainText writes a chain of groups; of a long one the middle is counted.
func chainText(w show.Way) string {
	if w.Between == 0 {
		return strings.Join(w.Chain, " → ")
	}
	half := len(w.Chain) / 2
	return fmt.Sprintf("%s → (%s more) → %s", strings.Join(w.Chain[:half], " → "), format.Number(int64(w.Between)), strings.Join(w.Chain[half:], " → "))
}

var wayHeads = []string{"kind", "by way of", "until", "note"}

func (p *Printer) ways(first string, list []show.Way, user bool) {
	g := Grid{Cols: []Col{{first, 2}, {"kind", 0}, {"by way of", 4}, {"until", 0}, {"note", 2}}}
	for _, w := range list {
		kind := w.Kind
		if user {
			kind = ""
		}
		g.Rows = append(g.Rows, []Cell{C(w.Name), C(kind), C(chainText(w)), C(w.Until), C(wayNote(w, user))})
	}
	p.Grid(g)
}

func wayRows(list []show.Way, user bool) (out [][]string) {
	for _, w := range list {
		out = append(out, []string{w.Name, w.Kind, chainText(w), w.Until, wayNote(w, user)})
	}
	return out
}

// User prints a user and every group he is in.
func (p *Printer) User(b *show.Belonging) error {
	return p.Give(b, append([]string{"group"}, wayHeads...), func() [][]string { return wayRows(b.Groups, true) }, func() {
		p.Line(In(Strong, b.Name), S(", %s", b.ID))
		if b.POSIX != nil {
			p.Line(S("  uid %d", *b.POSIX))
		}
		p.former(b.Former)
		if b.Shut != "" {
			p.Line(In(Bad, "  can't sign on: "+b.Shut))
		}
		if len(b.Groups) == 0 {
			p.Line(S("  in no group"))
			return
		}
		p.Blank()
		p.ways("group", b.Groups, true)
	})
}

// former tells which identifiers an account had elsewhere.
func (p *Printer) former(ids []string) {
	if len(ids) > 0 {
		p.Line(S("  formerly %s", Some(ids, 4)))
	}
}

// Group prints a group and everyone in it.
func (p *Printer) Group(g *show.Gathering) error {
	return p.Give(g, append([]string{"member"}, wayHeads...), func() [][]string { return wayRows(g.All, false) }, func() {
		purpose := ""
		if g.Purpose != "" {
			purpose = ", purpose " + g.Purpose
		}
		p.Line(In(Strong, g.Name), S(", %s%s", g.ID, purpose))
		if len(g.In) > 0 {
			p.Line(S("  itself in %s", strings.Join(g.In, ", ")))
		}
		p.former(g.Former)
		if len(g.Loop) > 0 {
			p.Line(S("  "), In(Bad, "holds itself: "+strings.Join(g.Loop, " in ")), S("; followed once"))
		}
		p.Line(S("  %s at any depth", Count(int64(g.Users), "user")))
		p.Blank()
		p.ways("member", g.All, false)
	})
}

// Servers prints a list of servers.
func (p *Printer) Servers(list []show.Server) error {
	row := func(s show.Server) []string {
		var shares []string
		for _, sh := range s.Shares {
			shares = append(shares, sh.Address[strings.LastIndexByte(sh.Address, '/')+1:])
		}
		return []string{s.Name, s.Set, strings.Join(shares, ", "), strings.Join(s.Trees, ", "), strings.Join(s.Administrators, ", ")}
	}
	heads := []string{"server", "traits", "shares", "trees", "administrators"}
	return p.rows(list, heads, func(i int) []string { return row(list[i]) }, len(list))
}

// rows prints a plain list of rows.
func (p *Printer) rows(v any, heads []string, row func(int) []string, n int) error {
	return p.Give(v, heads, func() (out [][]string) {
		for i := range n {
			out = append(out, row(i))
		}
		return out
	}, func() {
		g := Grid{Cols: Heads(heads...)}
		for i := range n {
			var r []Cell
			for _, s := range row(i) {
				r = append(r, C(s))
			}
			g.Rows = append(g.Rows, r)
		}
		p.Grid(g)
	})
}

var traitHeads = []string{"trait", "value", "meaning", "seen"}

// Traits prints a server's traits.
func (p *Printer) Traits(s *show.Server) error {
	return p.Give(s, traitHeads, func() [][]string { return traitRows(s) }, func() {
		p.Line(In(Strong, s.Name), S(", traits %s", s.Set))
		p.Blank()
		p.traits(s)
	})
}

func traitRows(s *show.Server) (out [][]string) {
	for _, t := range s.Traits {
		out = append(out, []string{t.Name, t.Value, t.About, t.Seen})
	}
	return out
}

func (p *Printer) traits(s *show.Server) {
	g := Grid{Cols: []Col{{"trait", 3}, {"value", 2}, {"meaning", 4}, {"seen", 2}}}
	for _, t := range s.Traits {
		g.Rows = append(g.Rows, []Cell{C(t.Name), C(t.Value), C(t.About), CI(Faint, t.Seen)})
	}
	p.Grid(g)
}

// Server prints one server.
func (p *Printer) Server(s *show.Server) error {
	return p.Give(s, traitHeads, func() [][]string { return traitRows(s) }, func() {
		admins := strings.Join(s.Administrators, ", ")
		if admins == "" {
			admins = "none"
		}
		p.Line(In(Strong, s.Name), S(", traits %s", s.Set))
		if s.Protocol != "" {
			var l struct {
				Host string
				Port int
				User string

				Domain, Realm string
				Encrypt       bool `json:"require-encryption"`
				Guest         bool `json:"guest"`
				Old           bool `json:"old-dialects"`
			}
			_ = json.Unmarshal(s.Link, &l)
			more := ""
			if l.Domain != "" {
				more = " of " + l.Domain
			}
			if l.Realm != "" {
				more = "@" + l.Realm
			}
			if l.Encrypt {
				more += ", encrypted or not at all"
			}
			if l.Guest {
				more += ", as a guest too"
			}
			if l.Old {
				more += ", in dialects before 3.1.1 too"
			}
			p.Line(S("  a real server, over %s: %s, port %d, as %s%s", s.Protocol, l.Host, l.Port, l.User, more))
		}
		p.Line(S("  administrators: %s", admins))
		p.Line(S("  trees: %s", strings.Join(s.Trees, ", ")))
		for _, sh := range s.Shares {
			p.Line(S("  share %s of %s", sh.Address, sh.Folder))
		}
		p.Blank()
		p.traits(s)
	})
}

func shareRules(s show.Share) []string {
	switch s.Rules {
	case "absent":
		return []string{"absent"}
	case "empty":
		return []string{"empty: closed to everyone"}
	}
	var out []string
	for _, e := range s.Entries {
		text := e.Entry
		if e.Until != "" {
			text += " until " + e.Until
		}
		out = append(out, text)
	}
	return out
}

// Shares prints a list of shares.
func (p *Printer) Shares(list []show.Share) error {
	return p.Give(list, []string{"share", "folder", "read-only", "rules"}, func() (out [][]string) {
		for _, s := range list {
			out = append(out, []string{s.Address, s.Folder, yesNo(s.ReadOnly), strings.Join(shareRules(s), "; ")})
		}
		return out
	}, func() {
		g := Grid{Cols: []Col{{"share", 3}, {"folder", 3}, {"read-only", 0}, {"rules", 4}}}
		for _, s := range list {
			g.Rows = append(g.Rows, []Cell{C(s.Address), C(s.Folder), C(yesNo(s.ReadOnly)), Cs(shareRules(s)...)})
		}
		p.Grid(g)
	})
}

// Share prints one share.
func (p *Printer) Share(s *show.Share) error {
	return p.Give(s, entryHeads, func() [][]string { return entryRows(s.Entries) }, func() {
		p.Line(In(Strong, s.Address), S(", over %s:%s", s.Server, s.Folder))
		if !s.Loaded {
			p.Line(S("  that folder is not in the estate"))
		}
		if s.ReadOnly {
			p.Line(S("  switched to read-only: takes away %s", s.Takes))
		}
		for _, c := range s.Configured {
			p.Line(S("  %s: %s", s.ConfiguredIn, admitted(c)))
		}
		if s.Owner.ID != "" {
			p.Line(S("  its rules are owned by %s", s.Owner.Name))
		}
		if s.Rules == "absent" {
			p.Line(S("  rules absent"))
		} else {
			p.ruleLines(s.Rules, s.Order, "the share")
		}
		p.Blank()
		g := Grid{Cols: []Col{{"#", 0}, {"entry", 4}, {"account", 2}}}
		for _, e := range s.Entries {
			style, text := Plain, e.Entry
			if e.Deny {
				style = Bad
			}
			if e.Until != "" {
				text += " until " + e.Until
			}
			g.Rows = append(g.Rows, []Cell{C(fmt.Sprint(e.Place)), CI(style, text), C(known(e.Who))})
		}
		p.Grid(g)
	})
}

// Owners prints who owns items.
func (p *Printer) Owners(list []show.Owner) error {
	return p.rows(list, []string{"place", "kind", "owner", "which brings"}, func(i int) []string {
		o := list[i]
		brings := o.Brings
		if brings == "by-entries" {
			brings = "only what the entries for owner@ say"
		}
		return []string{o.Where, o.Kind, o.Owner.Name, brings}
	}, len(list))
}
