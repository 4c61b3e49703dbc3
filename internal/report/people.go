package report

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tarnwold/internal/ask/show"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/report/doc"
)

func number(n *int64) string {
	if n == nil {
		return ""
	}
	return fmt.Sprint(*n)
}

// People prints a list of users, or of groups.
func People(p *doc.Printer, list []show.Person, groups bool, more int64) error {
	heads := []string{"user", "id", "primary group", "member of", "can't sign on", "identifier", "full name", "department", "title", "mail", "manager", "ends", "further"}
	beside := 6 // from which column on it is known of some alone
	if groups {
		heads = []string{"group", "id", "purpose", "members", "member of", "identifier"}
		beside = len(heads)
	}
	row := func(x show.Person) []string {
		of := strings.Join(x.In, ", ")
		if groups {
			return []string{x.Name, number(x.POSIX), x.Purpose, strings.Join(x.Members, ", "), of, x.ID}
		}
		return []string{x.Name, number(x.POSIX), x.Primary, of, x.Shut, x.ID, x.FullName, x.Department, x.Title, x.Mail, x.Manager, x.Ends, strings.Join(furtherOf(&x.Details), "; ")}
	}
	rows := func() (out [][]string) {
		for _, x := range list {
			out = append(out, row(x))
		}
		return out
	}
	return p.Give(list, heads, rows, func() {
		// Who they are stands behind their names, and the identifier last.
		turn := func(r []string) []string { return slices.Concat(r[:1], r[beside:], r[1:beside]) }
		all := rows()
		for i, r := range all {
			all[i] = turn(r)
		}
		cols := doc.Heads(turn(heads)...)
		cols[0].Weight, cols[1+len(heads)-beside].Weight = 1, 0
		p.Grid(doc.PlainGrid(cols, all))
		if more > 0 {
			p.Line(doc.S("and %s more; --all lists them", format.Number(more)))
		}
	})
}

func wayNote(w show.Way, user bool) string {
	switch {
	case w.Above:
		return "by the primary group"
	case w.Primary && user:
		return "primary group"
	case w.Primary:
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

// Presented prints what a user presents to a server.
func Presented(p *doc.Printer, x *show.Presented) error {
	says := map[string]string{"user": "their own", "member": "", "primary-group": "primary group", "same-account": "the same account", "route": "the way in"}
	not := map[string]string{"another-machine": "another machine's", "mail": "for mail alone", "first-group": "the primary group alone counts there", "too-deep": "too many groups between", "own-groups": "its own groups don't count in one another there"}
	whyNot := func(n show.NotInIt) string {
		if n.By != "" {
			return "by way of " + n.By + ", " + not[n.Why]
		}
		return not[n.Why]
	}
	way := func(chain []string, between int) string { return chainText(show.Way{Chain: chain, Between: between}) }
	return p.Give(x, []string{"counts", "name", "identifier", "by way of", "note"}, func() (out [][]string) {
		for _, t := range x.Token {
			out = append(out, []string{"yes", t.Name, t.ID, way(t.Chain, t.Between), says[t.By]})
		}
		for _, n := range x.Beside {
			out = append(out, []string{"no", n.Name, n.ID, way(n.Chain, 0), whyNot(n)})
		}
		return out
	}, func() {
		where := "through a share of " + x.Server
		if x.Local {
			where = "at " + x.Server + " itself"
		}
		if x.Nobody != "" {
			p.Line(doc.In(doc.Strong, x.Name), doc.S(" is %s's own account, and nobody on %s", x.Nobody, x.Server))
			return
		}
		p.Line(doc.In(doc.Strong, x.Name), doc.S(" %s has %s", where, Count(int64(len(x.Token)), "identifier")))
		if x.Shut != "" {
			p.Line(doc.In(doc.Bad, "  can't sign on: "+x.Shut))
		}
		for _, h := range x.Privileges {
			p.Line(doc.S("  %s, by %s", h.Privilege, h.By.Name))
		}
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "name", Weight: 2}, {Head: "identifier", Weight: 2}, {Head: "by way of", Weight: 4}, {Head: "note", Weight: 2}}}
		for _, t := range x.Token {
			chain := way(t.Chain, t.Between)
			if len(t.Chain) == 1 {
				chain = ""
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(t.Name), doc.CI(doc.Faint, t.ID), doc.C(chain), doc.C(says[t.By])})
		}
		p.Grid(g)
		if len(x.Beside) == 0 {
			return
		}
		p.Blank()
		p.Line(doc.S("Groups that don't count there:"))
		g = doc.Grid{Cols: []doc.Col{{Head: "name", Weight: 2}, {Head: "by way of", Weight: 4}, {Head: "why not", Weight: 2}}}
		for _, n := range x.Beside {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(n.Name), doc.C(way(n.Chain, 0)), doc.C(whyNot(n))})
		}
		p.Grid(g)
	})
}

var wayHeads = []string{"kind", "by way of", "until", "note"}

func ways(p *doc.Printer, first string, list []show.Way, user bool) {
	g := doc.Grid{Cols: []doc.Col{{Head: first, Weight: 2}, {Head: "kind", Weight: 0}, {Head: "by way of", Weight: 4}, {Head: "until", Weight: 0}, {Head: "note", Weight: 2}}}
	for _, w := range list {
		kind := w.Kind
		if user {
			kind = ""
		}
		g.Rows = append(g.Rows, []doc.Cell{doc.C(w.Name), doc.C(kind), doc.C(chainText(w)), doc.C(w.Until), doc.C(wayNote(w, user))})
	}
	p.Grid(g)
}

func wayRows(list []show.Way, user bool) (out [][]string) {
	for _, w := range list {
		out = append(out, []string{w.Name, w.Kind, chainText(w), w.Until, wayNote(w, user)})
	}
	return out
}

// User prints a user and every group they are in.
func User(p *doc.Printer, b *show.Belonging) error {
	return p.Give(b, append([]string{"group"}, wayHeads...), func() [][]string { return wayRows(b.Groups, true) }, func() {
		p.Line(doc.In(doc.Strong, b.Name), doc.S(", %s", b.ID))
		if b.POSIX != nil {
			p.Line(doc.S("  uid %d", *b.POSIX))
		}
		for _, line := range DetailLines(&b.Details) {
			p.Line(doc.S("  %s", line))
		}
		former(p, b.Former)
		if b.Shut != "" {
			p.Line(doc.In(doc.Bad, "  can't sign on: "+b.Shut))
		}
		limited(p, &b.Account)
		if len(b.Groups) == 0 {
			p.Line(doc.S("  in no group"))
			return
		}
		p.Blank()
		ways(p, "group", b.Groups, true)
	})
}

// DetailLines says who somebody is, in one line each.
func DetailLines(d *format.Details) (lines []string) {
	var is []string
	for _, s := range []string{d.FullName, d.Title, d.Department} {
		if s != "" {
			is = append(is, s)
		}
	}
	for _, x := range [][2]string{{"", strings.Join(is, ", ")}, {"", d.Mail}, {"works for ", d.Manager}, {"the account ends after ", d.Ends}} {
		if x[1] != "" {
			lines = append(lines, x[0]+x[1])
		}
	}
	return append(lines, furtherOf(d)...)
}

// furtherOf says what else is known of a user.
func furtherOf(d *format.Details) (said []string) {
	for _, name := range d.Further.Names() {
		said = append(said, name+": "+d.Get(name))
	}
	return said
}

// former tells which identifiers an account had elsewhere.
func former(p *doc.Printer, ids []string) {
	if len(ids) > 0 {
		p.Line(doc.S("  formerly %s", Some(ids, 4)))
	}
}

// Group prints a group and everyone in it.
func Group(p *doc.Printer, g *show.Gathering) error {
	return p.Give(g, append([]string{"member"}, wayHeads...), func() [][]string { return wayRows(g.All, false) }, func() {
		purpose := ""
		if g.Purpose != "" {
			purpose = ", purpose " + g.Purpose
		}
		p.Line(doc.In(doc.Strong, g.Name), doc.S(", %s%s", g.ID, purpose))
		if len(g.In) > 0 {
			p.Line(doc.S("  itself in %s", strings.Join(g.In, ", ")))
		}
		former(p, g.Former)
		if len(g.Loop) > 0 {
			p.Line(doc.S("  "), doc.In(doc.Bad, "holds itself: "+strings.Join(g.Loop, " in ")), doc.S("; followed once"))
		}
		p.Line(doc.S("  %s at any depth", Count(int64(g.Users), "user")))
		p.Blank()
		ways(p, "member", g.All, false)
	})
}

// Servers prints a list of servers.
func Servers(p *doc.Printer, list []show.Server) error {
	row := func(s show.Server) []string {
		var shares []string
		for _, sh := range s.Shares {
			shares = append(shares, sh.Address[strings.LastIndexByte(sh.Address, '/')+1:])
		}
		real, scanned := "", ""
		if s.Protocol != "" {
			real, scanned = s.Protocol, "never"
			if s.Scanned != "" {
				scanned = s.Scanned
				if p.Format == doc.Table {
					scanned = LocalTime(scanned)
				}
			}
		}
		return []string{s.Name, s.Set, strings.Join(shares, ", "), strings.Join(s.Trees, ", "), strings.Join(s.Administrators, ", "), real, scanned}
	}
	heads := []string{"server", "traits", "shares", "trees", "administrators", "real server over", "last scan"}
	return Rows(p, list, heads, func(i int) []string { return row(list[i]) }, len(list))
}

// Rows prints a plain list of rows.
func Rows(p *doc.Printer, v any, heads []string, row func(int) []string, n int) error {
	return p.Give(v, heads, func() (out [][]string) {
		for i := range n {
			out = append(out, row(i))
		}
		return out
	}, func() {
		g := doc.Grid{Cols: doc.Heads(heads...)}
		for i := range n {
			var r []doc.Cell
			for _, s := range row(i) {
				r = append(r, doc.C(s))
			}
			g.Rows = append(g.Rows, r)
		}
		p.Grid(g)
	})
}

var traitHeads = []string{"trait", "value", "meaning", "seen"}

// Traits prints a server's traits.
func Traits(p *doc.Printer, s *show.Server) error {
	return p.Give(s, traitHeads, func() [][]string { return traitRows(s) }, func() {
		p.Line(doc.In(doc.Strong, s.Name), doc.S(", traits %s", s.Set))
		p.Blank()
		traits(p, s)
	})
}

func traitRows(s *show.Server) (out [][]string) {
	for _, t := range s.Traits {
		out = append(out, []string{t.Name, t.Value, t.About, t.Seen})
	}
	return out
}

func traits(p *doc.Printer, s *show.Server) {
	g := doc.Grid{Cols: []doc.Col{{Head: "trait", Weight: 3}, {Head: "value", Weight: 2}, {Head: "meaning", Weight: 4}, {Head: "seen", Weight: 2}}}
	for _, t := range s.Traits {
		g.Rows = append(g.Rows, []doc.Cell{doc.C(t.Name), doc.C(t.Value), doc.C(t.About), doc.CI(doc.Faint, t.Seen)})
	}
	p.Grid(g)
}

// Server prints one server.
func Server(p *doc.Printer, s *show.Server) error {
	return p.Give(s, traitHeads, func() [][]string { return traitRows(s) }, func() {
		admins := strings.Join(s.Administrators, ", ")
		if admins == "" {
			admins = "none"
		}
		p.Line(doc.In(doc.Strong, s.Name), doc.S(", traits %s", s.Set))
		if s.Protocol != "" {
			var l struct {
				Host string
				Port int
				User string

				Domain, Realm string
				Encrypt       bool `json:"require-encryption"`
				Guest         bool `json:"guest"`
				Old           bool `json:"old-dialects"`

				PasswordAt string `json:"password-at"`
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
			if l.PasswordAt != "" {
				more += ", with the password in " + l.PasswordAt
			}
			if s.Protocol == estate.LocalLink {
				p.Line(doc.S("  this machine itself"))
			} else {
				p.Line(doc.S("  a real server, over %s: %s, port %d, as %s%s", s.Protocol, l.Host, l.Port, l.User, more))
			}
			scanned := "never; see: tarnwold scan " + s.Name
			if s.Scanned != "" {
				scanned = LocalTime(s.Scanned)
			}
			p.Line(doc.S("  last scan: %s", scanned))
		}
		p.Line(doc.S("  administrators: %s", admins))
		for _, what := range slices.Sorted(maps.Keys(s.Privileges)) {
			p.Line(doc.S("  %s: %s", what, strings.Join(s.Privileges[what], ", ")))
		}
		if len(s.Trees) > 0 {
			p.Line(doc.S("  trees: %s", strings.Join(s.Trees, ", ")))
		}
		for _, sh := range s.Shares {
			p.Line(doc.S("  share %s of %s", sh.Address, sh.Folder))
		}
		own := *s
		own.Traits = nil
		for _, t := range s.Traits {
			if t.Own {
				own.Traits = append(own.Traits, t)
			}
		}
		p.Blank()
		if len(own.Traits) > 0 {
			traits(p, &own)
		}
		p.Line(doc.S("All of its traits, and what each means: tarnwold server traits %s", s.Name))
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
func Shares(p *doc.Printer, list []show.Share) error {
	return p.Give(list, []string{"share", "folder", "read-only", "rules"}, func() (out [][]string) {
		for _, s := range list {
			out = append(out, []string{s.Address, s.Folder, YesNo(s.ReadOnly), strings.Join(shareRules(s), "; ")})
		}
		return out
	}, func() {
		g := doc.Grid{Cols: []doc.Col{{Head: "share", Weight: 3}, {Head: "folder", Weight: 3}, {Head: "read-only", Weight: 0}, {Head: "rules", Weight: 4}}}
		for _, s := range list {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(s.Address), doc.C(s.Folder), doc.C(YesNo(s.ReadOnly)), doc.Cs(shareRules(s)...)})
		}
		p.Grid(g)
	})
}

// Share prints one share.
func Share(p *doc.Printer, s *show.Share) error {
	return p.Give(s, entryHeads, func() [][]string { return entryRows(s.Entries) }, func() {
		p.Line(doc.In(doc.Strong, s.Address), doc.S(", over %s:%s", s.Server, s.Folder))
		if !s.Loaded {
			p.Line(doc.S("  that folder is not in the estate"))
		}
		if s.ReadOnly {
			p.Line(doc.S("  switched to read-only: takes away %s", s.Takes))
		}
		for _, c := range s.Configured {
			p.Line(doc.S("  %s: %s", s.ConfiguredIn, Admitted(c)))
		}
		if s.Owner.ID != "" {
			p.Line(doc.S("  its rules are owned by %s", s.Owner.Name))
		}
		if s.Rules == "absent" {
			p.Line(doc.S("  rules absent"))
		} else {
			ruleLines(p, s.Rules, s.Order, "the share")
		}
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "#", Weight: 0}, {Head: "entry", Weight: 4}, {Head: "account", Weight: 2}}}
		for _, e := range s.Entries {
			style, text := doc.Plain, e.Entry
			if e.Deny {
				style = doc.Bad
			}
			if e.Until != "" {
				text += " until " + e.Until
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(fmt.Sprint(e.Place)), doc.CI(style, text), doc.C(known(e.Who))})
		}
		p.Grid(g)
	})
}

// Owners prints who owns items.
func Owners(p *doc.Printer, list []show.Owner) error {
	return Rows(p, list, []string{"place", "kind", "owner", "which brings"}, func(i int) []string {
		o := list[i]
		brings := o.Brings
		if brings == "by-entries" {
			brings = "only what the entries for owner@ say"
		}
		return []string{o.Where, o.Kind, o.Owner.Name, brings}
	}, len(list))
}
