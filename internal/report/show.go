package report

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/ask/show"
)

// Shown prints an item's owner and rules; with audit its audit entries.
func (p *Printer) Shown(s *show.Shown, audit bool) error {
	list := s.Entries
	if audit {
		list = s.Audit
	}
	return p.Give(s, entryHeads, func() [][]string { return entryRows(list) }, func() { p.shown(s, audit) })
}

var entryHeads = []string{"place", "entry", "set on", "until", "note"}

func entryRows(list []show.ShownEntry) (out [][]string) {
	for _, e := range list {
		from, note := e.From, ""
		if e.Stale {
			from, note = "", "stale"
		}
		out = append(out, []string{fmt.Sprint(e.Place), e.Entry, from, e.Until, note})
	}
	return out
}

func (p *Printer) shown(s *show.Shown, audit bool) {
	p.Line(In(Strong, s.Where), S(", a %s", s.Kind))
	if audit {
		if len(s.Audit) == 0 {
			p.Line(S("  no audit entries: nothing is written down"))
		}
		p.entries(s.Audit, s.Item)
		return
	}
	if s.Size != nil {
		p.Line(S("  %s, contents changed %s", Count(*s.Size, "byte"), localTime(s.Modified)))
	}
	if s.Where != s.Item {
		p.Line(S("  at the server: %s", s.Item))
	}
	p.Line(S("  owner %s, group %s", s.Owner.Name, s.Group.Name))
	switch {
	case s.POSIX != nil:
		p.posixShown(s)
		return
	case s.Sealed:
		p.Line(S("  sealed: takes no entries from above"))
	case s.Top:
		p.Line(S("  the top of its tree"))
	default:
		p.Line(S("  takes entries from %s", s.Above))
	}
	if len(s.Shares) > 0 {
		p.Line(S("  reached through %s", strings.Join(s.Shares, ", ")))
	}
	p.ruleLines(s.Rules, s.Order, "it")
	p.Blank()
	p.entries(s.Entries, s.Item)
}

// posixShown prints the mode and the lists of an item of a POSIX tree.
func (p *Printer) posixShown(s *show.Shown) {
	x := s.POSIX
	p.Line(S("  mode %s, %s", x.Mode, x.Letters))
	if x.Sticky {
		p.Line(S("  sticky: everybody renames and deletes only what is his"))
	}
	if x.SetGID {
		p.Line(S("  set-gid: what comes is of group %s", s.Group.Name))
	}
	if x.Skipped {
		p.Line(S("  "), In(Bad, "the mask is empty, so that the access list isn't looked at: the mode alone decides"))
	}
	switch {
	case len(x.Default) > 0:
		p.Line(S("  hands a default list to what comes"))
	case s.Kind == "folder":
		p.Line(S("  sealed: hands no list to what comes; its maker's umask decides"))
	}
	if len(s.Shares) > 0 {
		p.Line(S("  reached through %s", strings.Join(s.Shares, ", ")))
	}
	p.Blank()
	g := Grid{Cols: []Col{{"#", 0}, {"entry", 5}, {"what counts", 3}}}
	for i, text := range append(slices.Clone(x.Access), x.Default...) {
		text, counts, _ := strings.Cut(text, "\t#effective:")
		if counts != "" {
			counts += ", by the mask"
		}
		for _, e := range s.Entries {
			if e.Place == i+1 && e.Until != "" {
				text += " until " + e.Until
			}
		}
		g.Rows = append(g.Rows, []Cell{C(fmt.Sprint(i + 1)), C(text), C(counts)})
	}
	p.Grid(g)
	if x.KeptRules == "" {
		return
	}
	p.Blank()
	p.Line(S("An SMB server keeps a descriptor beside it, owned by %s; its rules are %s:", x.KeptOwner, x.KeptRules))
	for _, e := range x.Kept {
		p.Line(S("  %s", e))
	}
}

// ruleLines says of rules what a list of entries can't show.
func (p *Printer) ruleLines(rules string, order int, what string) {
	switch rules {
	case "absent":
		p.Line(S("  rules absent: %s is ", what), In(Bad, "open to everyone, wholly"))
	case "empty":
		p.Line(S("  rules empty: %s is ", what), In(Bad, "closed to everyone"))
	}
	if order > 0 {
		p.Line(S("  entry %d is out of order (own deny, own allow, then inherited); entries are taken as they stand", order))
	}
}

func (p *Printer) entries(list []show.ShownEntry, item string) {
	g := Grid{Cols: []Col{{"#", 0}, {"entry", 5}, {"set on", 4}, {"note", 3}}}
	for _, e := range list {
		text, style := e.Entry, Plain
		if e.Deny {
			style = Bad
		}
		if e.Until != "" {
			text += " until " + e.Until
		}
		from, note := e.From, ""
		if from == item {
			from = "here"
		}
		switch {
		case e.Stale:
			from, note = "from above, nowhere now", "stale: no folder above hands it down"
		case e.Who == "unknown" || strings.Contains(e.Who, "-of:") || e.Who == "domain-users":
			note = known(e.Who)
		}
		g.Rows = append(g.Rows, []Cell{C(fmt.Sprint(e.Place)), CI(style, text), C(from), C(note)})
	}
	p.Grid(g)
}

// Differing prints the places that differ, as a tree.
func (p *Printer) Differing(d *show.Differing) error {
	return p.Give(d, []string{"where", "kind", "why"}, func() (out [][]string) {
		for _, x := range d.Places {
			var why []string
			for _, w := range x.Why {
				s, _ := whyDiffers(w)
				why = append(why, s)
			}
			out = append(out, []string{x.Where, x.Kind, strings.Join(why, "; ")})
		}
		return out
	}, func() { p.differing(d) })
}

func whyDiffers(w show.Why) (string, Style) {
	switch w.By {
	case "absent":
		return "rules absent: open to everyone", Bad
	case "closed":
		return "sealed, rules empty: closed to everyone", Strong
	case "sealed":
		return "sealed", Strong
	case "owner":
		return "owner " + w.Owner, Plain
	case "group":
		return "owning group " + w.Owner, Plain
	case "stale":
		if w.Owner != "" {
			return "stale: the owner changed afterwards, from " + w.Owner, Bad
		}
		return "stale: moved here, or the folder changed without handing down", Bad
	}
	if w.Deny {
		return w.Entry, Bad
	}
	return w.Entry, Plain
}

func (p *Printer) differing(d *show.Differing) {
	if len(d.Places) == 0 {
		p.Line(S("Nothing at or below %s differs from its folder.", d.Where))
		return
	}
	p.Line(In(Strong, d.Where))
	g := Grid{Cols: []Col{{"place", 3}, {"differs by", 4}}}
	var at []string
	for _, x := range d.Places {
		same := 0
		for same < len(at) && same < len(x.Parts)-1 && at[same] == x.Parts[same] {
			same++
		}
		for ; same < len(x.Parts)-1; same++ {
			g.Rows = append(g.Rows, []Cell{CI(Faint, strings.Repeat("   ", same+1)+x.Parts[same]+"/"), C("")})
		}
		name := "(the folder itself)"
		if len(x.Parts) > 0 {
			name = x.Parts[len(x.Parts)-1]
			if x.Kind == "folder" {
				name += "/"
			}
		}
		var why Cell
		for _, w := range x.Why {
			s, style := whyDiffers(w)
			why = append(why, In(style, s))
		}
		g.Rows = append(g.Rows, []Cell{C(strings.Repeat("   ", len(x.Parts)) + name), why})
		at = x.Parts
	}
	p.Grid(g)
	if d.More > 0 {
		p.Line(S("and %s more; --all lists them", Count(d.More, "place")))
	}
}

// Modes prints the bits and lists of items of POSIX trees.
func (p *Printer) Modes(list []show.Mode) error {
	row := func(m *show.Mode) []string {
		return []string{m.Where, m.POSIX.Mode, m.POSIX.Text, m.Owner.Name, m.Group.Name}
	}
	heads := []string{"where", "octal", "mode and lists", "owner", "group"}
	return p.Give(list, heads, func() (out [][]string) {
		for i := range list {
			out = append(out, row(&list[i]))
		}
		return out
	}, func() {
		g := Grid{Cols: []Col{{"where", 3}, {"octal", 0}, {"mode and lists", 5}, {"owner", 1}, {"group", 1}}}
		for i := range list {
			var cells []Cell
			for _, s := range row(&list[i]) {
				cells = append(cells, C(s))
			}
			g.Rows = append(g.Rows, cells)
		}
		p.Grid(g)
	})
}
