package report

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/ask/show"
	"tarnwold/internal/report/doc"
)

// Shown prints an item's owner and rules; with audit its audit entries.
func Shown(p *doc.Printer, s *show.Shown, audit bool) error {
	list := s.Entries
	if audit {
		list = s.Audit
	}
	return p.Give(s, entryHeads, func() [][]string { return entryRows(list) }, func() { shown(p, s, audit) })
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

func shown(p *doc.Printer, s *show.Shown, audit bool) {
	p.Line(doc.In(doc.Strong, s.Where), doc.S(", a %s", s.Kind))
	if audit {
		if len(s.Audit) == 0 {
			p.Line(doc.S("  no audit entries: nothing is written down"))
		}
		entries(p, s.Audit, s.Item)
		return
	}
	if s.Size != nil {
		p.Line(doc.S("  %s, contents changed %s", Count(*s.Size, "byte"), LocalTime(s.Modified)))
	}
	if s.Where != s.Item {
		p.Line(doc.S("  at the server: %s", s.Item))
	}
	p.Line(doc.S("  owner %s, group %s", s.Owner.Name, s.Group.Name))
	switch {
	case s.POSIX != nil:
		posixShown(p, s)
		return
	case s.Sealed:
		p.Line(doc.S("  sealed: takes no entries from above"))
	case s.Top:
		p.Line(doc.S("  the top of its tree"))
	default:
		p.Line(doc.S("  takes entries from %s", s.Above))
	}
	if len(s.Shares) > 0 {
		p.Line(doc.S("  reached through %s", strings.Join(s.Shares, ", ")))
	}
	ruleLines(p, s.Rules, s.Order, "it")
	p.Blank()
	entries(p, s.Entries, s.Item)
}

// posixShown prints the mode and the lists of an item of a POSIX tree.
func posixShown(p *doc.Printer, s *show.Shown) {
	x := s.POSIX
	p.Line(doc.S("  mode %s, %s", x.Mode, x.Letters))
	for _, m := range x.Marks {
		p.Line(doc.S("  %s", markWords[m].is))
	}
	if x.Sticky {
		p.Line(doc.S("  sticky: everybody renames and deletes only what is theirs"))
	}
	if x.SetGID {
		p.Line(doc.S("  set-gid: what comes is of group %s", s.Group.Name))
	}
	if x.Skipped {
		p.Line(doc.S("  "), doc.In(doc.Bad, "the mask is empty, so that the access list isn't looked at: the mode alone decides"))
	}
	switch {
	case len(x.Default) > 0:
		p.Line(doc.S("  hands a default list to what comes"))
	case s.Kind == "folder":
		p.Line(doc.S("  sealed: hands no list to what comes; its maker's umask decides"))
	}
	if len(s.Shares) > 0 {
		p.Line(doc.S("  reached through %s", strings.Join(s.Shares, ", ")))
	}
	p.Blank()
	g := doc.Grid{Cols: []doc.Col{{Head: "#", Weight: 0}, {Head: "entry", Weight: 5}, {Head: "what counts", Weight: 3}}}
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
		g.Rows = append(g.Rows, []doc.Cell{doc.C(fmt.Sprint(i + 1)), doc.C(text), doc.C(counts)})
	}
	p.Grid(g)
	if x.KeptRules == "" {
		return
	}
	p.Blank()
	p.Line(doc.S("An SMB server keeps a descriptor beside it, owned by %s; its rules are %s:", x.KeptOwner, x.KeptRules))
	for _, e := range x.Kept {
		p.Line(doc.S("  %s", e))
	}
}

// ruleLines says of rules what a list of entries can't show.
func ruleLines(p *doc.Printer, rules string, order int, what string) {
	switch rules {
	case "absent":
		p.Line(doc.S("  rules absent: %s is ", what), doc.In(doc.Bad, "open to everyone, wholly"))
	case "empty":
		p.Line(doc.S("  rules empty: %s is ", what), doc.In(doc.Bad, "closed to everyone"))
	}
	if order > 0 {
		p.Line(doc.S("  entry %d is out of order (own deny, own allow, then inherited); entries are taken as they stand", order))
	}
}

func entries(p *doc.Printer, list []show.ShownEntry, item string) {
	g := doc.Grid{Cols: []doc.Col{{Head: "#", Weight: 0}, {Head: "entry", Weight: 5}, {Head: "set on", Weight: 4}, {Head: "note", Weight: 3}}}
	for _, e := range list {
		text, style := e.Entry, doc.Plain
		if e.Deny {
			style = doc.Bad
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
		g.Rows = append(g.Rows, []doc.Cell{doc.C(fmt.Sprint(e.Place)), doc.CI(style, text), doc.C(from), doc.C(note)})
	}
	p.Grid(g)
}

// Differing prints the places that differ, as a tree.
func Differing(p *doc.Printer, d *show.Differing) error {
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
	}, func() { differing(p, d) })
}

func whyDiffers(w show.Why) (string, doc.Style) {
	switch w.By {
	case "absent":
		return "rules absent: open to everyone", doc.Bad
	case "closed":
		return "sealed, rules empty: closed to everyone", doc.Strong
	case "sealed":
		return "sealed", doc.Strong
	case "owner":
		return "owner " + w.Owner, doc.Plain
	case "group":
		return "owning group " + w.Owner, doc.Plain
	case "stale":
		if w.Owner != "" {
			return "stale: the owner changed afterwards, from " + w.Owner, doc.Bad
		}
		return "stale: moved here, or the folder changed without handing down", doc.Bad
	}
	if w.Deny {
		return w.Entry, doc.Bad
	}
	return w.Entry, doc.Plain
}

func differing(p *doc.Printer, d *show.Differing) {
	if len(d.Places) == 0 {
		p.Line(doc.S("Nothing at or below %s differs from its folder.", d.Where))
		return
	}
	p.Line(doc.In(doc.Strong, d.Where))
	g := doc.Grid{Cols: []doc.Col{{Head: "place", Weight: 3}, {Head: "differs by", Weight: 4}}}
	var at []string
	for _, x := range d.Places {
		same := 0
		for same < len(at) && same < len(x.Parts)-1 && at[same] == x.Parts[same] {
			same++
		}
		for ; same < len(x.Parts)-1; same++ {
			g.Rows = append(g.Rows, []doc.Cell{doc.CI(doc.Faint, strings.Repeat("   ", same+1)+x.Parts[same]+"/"), doc.C("")})
		}
		name := "(the folder itself)"
		if len(x.Parts) > 0 {
			name = x.Parts[len(x.Parts)-1]
			if x.Kind == "folder" {
				name += "/"
			}
		}
		var why doc.Cell
		for _, w := range x.Why {
			s, style := whyDiffers(w)
			why = append(why, doc.In(style, s))
		}
		g.Rows = append(g.Rows, []doc.Cell{doc.C(strings.Repeat("   ", len(x.Parts)) + name), why})
		at = x.Parts
	}
	p.Grid(g)
	if d.More > 0 {
		p.Line(doc.S("and %s more; --all lists them", Count(d.More, "place")))
	}
}

// Modes prints the bits and lists of items of POSIX trees.
func Modes(p *doc.Printer, list []show.Mode) error {
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
		g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 3}, {Head: "octal", Weight: 0}, {Head: "mode and lists", Weight: 5}, {Head: "owner", Weight: 1}, {Head: "group", Weight: 1}}}
		for i := range list {
			var cells []doc.Cell
			for _, s := range row(&list[i]) {
				cells = append(cells, doc.C(s))
			}
			g.Rows = append(g.Rows, cells)
		}
		p.Grid(g)
	})
}
