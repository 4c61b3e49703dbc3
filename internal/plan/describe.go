package plan

import (
	"fmt"
	"slices"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// describe puts into words of the entry language what a plan alters.
func (d *Desk) describe(p *Plan) {
	w := &p.work
	f := w.forest
	add := func(e Edit) {
		if len(e.Lines) > 0 {
			p.Edits = append(p.Edits, e)
		}
	}
	for _, e := range w.servers {
		add(serverLines(e))
	}
	papers := func() {
		for _, e := range w.papers {
			add(e.edit)
		}
	}
	if !w.fromDirectory { // who comes and joins is told first
		papers()
	}
	for i, e := range w.accounts {
		if i == mostTold {
			p.Untold += len(w.accounts) - i
			break
		}
		add(d.accountLines(e))
	}
	for i, e := range w.members {
		if i == mostTold {
			p.Untold += len(w.members) - i
			break
		}
		add(d.memberLines(e))
	}
	if w.fromDirectory {
		papers()
	}
	for _, e := range w.admins {
		sign := "goes"
		if e.on {
			sign = "comes"
		}
		add(Edit{Kind: "administrator", Where: "server " + e.server.Name, Lines: []Line{{Sign: sign, What: "administrator", Text: d.accountName(e.who)}}})
	}
	for _, e := range w.levels {
		sign := "goes"
		if e.add {
			sign = "comes"
		}
		add(Edit{Kind: "level", Where: "level " + e.level.Name, Lines: []Line{{Sign: sign, What: "level"}}})
	}
	for _, e := range w.shares {
		add(d.shareLines(e, w.dates))
	}
	dates := map[int][]dateEdit{}
	for _, e := range w.dates {
		if e.of.Share == 0 {
			dates[e.node] = append(dates[e.node], e)
		}
	}
	for _, n := range w.named {
		node := &f.Nodes[n]
		e := Edit{Kind: "item", Where: d.where(p, n), Items: node.Items, Lines: d.Turned(node.Before, node.After, node.Folder, nil, nil)}
		for _, x := range dates[n] {
			e.Lines = append(e.Lines, d.dateLines(x.before, x.after, x.folder, lists(node.Before), lists(node.After))...)
			if after := lists(node.After); after != nil { // a last day that goes with its entry
				for _, o := range union(x.before, nil) {
					if !slices.Contains(after.Rules.Entries, o) {
						e.Lines = append(e.Lines, Line{Sign: "goes", What: "last-day", Text: d.entryText(o, x.folder) + " until " + string(x.before[o]) + ", with its entry"})
					}
				}
			}
		}
		add(e)
	}
	if w.renews {
		for i := range f.Nodes {
			if n := &f.Nodes[i]; n.Changed() && !w.isNamed[i] && n.Before != nil && n.After != nil {
				add(Edit{Kind: "item", Where: d.where(p, i), Items: n.Items, Below: true, Lines: d.Turned(n.Before, n.After, n.Folder, nil, nil)})
			}
		}
	}
	for i := range f.Nodes {
		if n := &f.Nodes[i]; n.Changed() && !w.isNamed[i] && n.Before != nil && n.After != nil {
			p.Handed += n.Items
		}
	}
	for i := range p.Edits { // what is told of needn't be counted again
		if p.Edits[i].Below {
			p.Handed -= p.Edits[i].Items
		}
	}
}

// Turned lists what differs between two descriptors; nil: not there.
func (d *Desk) Turned(from, to rule.Any, folder bool, was, is estate.Dated) (lines []Line) {
	if from == to {
		return nil
	}
	_, x := from.(*posix.Rules)
	_, y := to.(*posix.Rules)
	if x || y {
		return d.turnedPosix(from, to)
	}
	before, after := desc(from), desc(to)
	lang := ask.Language(d.t)
	empty := &rule.Descriptor{}
	comesWhole := before == nil
	if before == nil && after == nil || before == after {
		return nil
	}
	if before == nil {
		before = empty
	}
	if after == nil {
		after = empty
	}
	if before.Owner != after.Owner {
		if !before.Owner.IsZero() {
			lines = append(lines, Line{Sign: "goes", What: "owner", Text: d.t.Name(before.Owner)})
		}
		if !after.Owner.IsZero() {
			lines = append(lines, Line{Sign: "comes", What: "owner", Text: d.t.Name(after.Owner)})
		}
	}
	if before.Sealed() != after.Sealed() {
		sign := "goes"
		if after.Sealed() {
			sign = "comes"
		}
		lines = append(lines, Line{Sign: sign, What: "seal"})
	}
	if before.Rules.Absent != after.Rules.Absent && !comesWhole {
		sign := "goes"
		if after.Rules.Absent {
			sign = "comes"
		}
		lines = append(lines, Line{Sign: sign, What: "absence"})
	}
	for i, l := range [][2]*rule.Rules{{&before.Rules, &after.Rules}, {&before.Audit, &after.Audit}} {
		what := [...]string{"entry", "audit"}[i]
		text := func(e rule.Entry, dated estate.Dated) string {
			s := lang.Write(e, folder)
			if u, ok := dated[e]; ok {
				s += " until " + string(u)
			}
			return s
		}
		for _, e := range l[0].Entries {
			if !slices.Contains(l[1].Entries, e) {
				lines = append(lines, Line{Sign: "goes", What: what, Text: text(e, was), FromAbove: !e.Own()})
			}
		}
		for _, e := range l[1].Entries {
			if !slices.Contains(l[0].Entries, e) {
				lines = append(lines, Line{Sign: "comes", What: what, Text: text(e, is), FromAbove: !e.Own()})
			}
		}
	}
	if len(lines) == 0 && !before.Equal(after) {
		lines = append(lines, Line{Sign: "changes", What: "order"})
	}
	return lines
}

// lists gives what rules list; nil for none.
func lists(a rule.Any) *rule.Descriptor {
	if a == nil {
		return nil
	}
	return a.Listed()
}

// entryText writes an entry, its account by name where a number stands for one.
func (d *Desk) entryText(e rule.Entry, folder bool) string {
	e.Who = d.t.AccountOf(e.Who)
	return ask.Language(d.t).Write(e, folder)
}

// anyOf gives a descriptor as rules of any kind; nil for nil.
func anyOf(d *rule.Descriptor) rule.Any {
	if d == nil {
		return nil
	}
	return d
}

// dateLines tells of last days; those of entries that go or come are told with them.
func (d *Desk) dateLines(was, is estate.Dated, folder bool, before, after *rule.Descriptor) (lines []Line) {
	for _, e := range union(was, is) {
		u, had := was[e]
		v, has := is[e]
		text := d.entryText(e, folder)
		gone := after == nil || !slices.Contains(after.Rules.Entries, e)
		switch {
		case gone:
		case has && !had:
			lines = append(lines, Line{Sign: "comes", What: "last-day", Text: text + " until " + string(v)})
		case had && !has:
			lines = append(lines, Line{Sign: "goes", What: "last-day", Text: text + ", which was until " + string(u) + ", stays for good"})
		case u != v:
			lines = append(lines, Line{Sign: "changes", What: "last-day", Text: text + " until " + string(v) + ", was " + string(u)})
		}
	}
	return lines
}

func union(a, b estate.Dated) (out []rule.Entry) {
	for e := range a {
		out = append(out, e)
	}
	for e := range b {
		if _, ok := a[e]; !ok {
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(x, y rule.Entry) int {
		if c := int(x.Kind) - int(y.Kind); c != 0 {
			return c
		}
		return int(int64(x.Rights) - int64(y.Rights))
	})
	return out
}

func serverLines(e serverEdit) Edit {
	switch {
	case e.before == nil:
		return Edit{Kind: "server", Where: "server " + e.after.Name, Lines: []Line{{Sign: "comes", What: "server", Text: "traits " + e.after.Traits.Name}}}
	case e.after == nil:
		return Edit{Kind: "server", Where: "server " + e.before.Name, Lines: []Line{{Sign: "goes", What: "server"}}}
	}
	out := Edit{Kind: "server", Where: "server " + e.after.Name}
	was, is := ask.TraitValues(e.before.Traits), ask.TraitValues(e.after.Traits)
	for _, name := range traitNames() {
		if was[name] != is[name] {
			out.Lines = append(out.Lines, Line{Sign: "changes", What: "trait", Text: fmt.Sprintf("%s: %s, was %s", name, is[name], was[name])})
		}
	}
	return out
}

// mostTold is how many accounts, and memberships, a plan tells of one by one; a
// directory's first ones are hundreds of thousands.
const mostTold = 20_000

func (d *Desk) accountLines(e accountEdit) Edit {
	switch {
	case e.before == nil:
		return Edit{Kind: "account", Where: fmt.Sprintf("%s %s", e.after.Kind, e.after.Name), Lines: []Line{{Sign: "comes", What: "account", Text: e.after.ID.String()}}}
	case e.after == nil:
		return Edit{Kind: "account", Where: fmt.Sprintf("%s %s", e.before.Kind, e.before.Name), Lines: []Line{{Sign: "goes", What: "account", Text: e.before.ID.String()}}}
	}
	out := Edit{Kind: "account", Where: fmt.Sprintf("%s %s", e.after.Kind, e.after.Name)}
	change := func(what, was, is string) {
		if was != is {
			if was == "" {
				was = "none"
			}
			if is == "" {
				is = "none"
			}
			out.Lines = append(out.Lines, Line{Sign: "changes", What: what, Text: is + ", was " + was})
		}
	}
	b, a := e.before, e.after
	change("name", b.Name, a.Name)
	change("purpose", string(b.Purpose), string(a.Purpose))
	name := func(id ID) string {
		if id.IsZero() {
			return ""
		}
		return d.t.Name(id)
	}
	change("primary-group", name(b.Primary), name(a.Primary))
	change("id", posixID(b.POSIX), posixID(a.POSIX))
	return out
}

func (d *Desk) memberLines(e memberEdit) Edit {
	out := Edit{Kind: "membership", Where: "group " + d.accountName(*e.group)}
	line := Line{Sign: "comes", What: "membership", Text: d.accountName(*e.member)}
	until := func(m *estate.Membership) string {
		s := "for good"
		if m.Until != "" {
			s = "until " + string(m.Until)
		}
		if m.Local {
			s += ", of a local group"
		}
		return s
	}
	switch {
	case e.is == nil:
		line.Sign = "goes"
	case e.was != nil:
		line.Sign = "changes"
		line.Text += " " + until(e.is) + ", was " + until(e.was)
	case e.is.Until != "":
		line.Text += " " + until(e.is)
	}
	out.Lines = []Line{line}
	return out
}

// accountName names an account as entries do; one that is only coming by its own name.
func (d *Desk) accountName(a account) string {
	if _, ok := d.t.Account(a.ID); ok {
		return d.t.Name(a.ID)
	}
	return a.Name
}

// admissionLines tells what comes and goes of what a configuration says.
func admissionLines(e shareEdit) (lines []Line) {
	var sides [2][]string
	for i, sh := range []*estate.Share{e.before, e.after} {
		if sh != nil {
			sides[i] = ask.Admitted(sh.Admission)
		}
	}
	for i, sign := range []string{"goes", "comes"} {
		for _, text := range sides[i] {
			if !slices.Contains(sides[1-i], text) {
				lines = append(lines, Line{Sign: sign, What: "configured", Text: text})
			}
		}
	}
	return lines
}

func (d *Desk) shareLines(e shareEdit, dates []dateEdit) Edit {
	either := e.after
	if either == nil {
		either = e.before
	}
	out := Edit{Kind: "share", Where: "share " + either.Address()}
	var before, after *rule.Descriptor
	switch {
	case e.before == nil:
		after = e.after.Descriptor
		out.Lines = append(out.Lines, Line{Sign: "comes", What: "share", Text: "over " + e.after.Server + ":" + e.after.Folder})
		if e.after.ReadOnly {
			out.Lines = append(out.Lines, Line{Sign: "comes", What: "read-only"})
		}
		if after.Rules.Absent {
			out.Lines = append(out.Lines, Line{Sign: "comes", What: "absence"})
		}
	case e.after == nil:
		before = e.before.Descriptor
		out.Lines = append(out.Lines, Line{Sign: "goes", What: "share", Text: "over " + e.before.Server + ":" + e.before.Folder})
	default:
		before, after = e.before.Descriptor, e.after.Descriptor
		if e.before.ReadOnly != e.after.ReadOnly {
			sign := "goes"
			if e.after.ReadOnly {
				sign = "comes"
			}
			out.Lines = append(out.Lines, Line{Sign: sign, What: "read-only"})
		}
	}
	out.Lines = append(out.Lines, admissionLines(e)...)
	var was, is estate.Dated
	for _, x := range dates {
		if x.of.Share == either.ID && x.of.Share != 0 {
			was, is = x.before, x.after
		}
	}
	out.Lines = append(out.Lines, d.Turned(anyOf(before), anyOf(after), false, was, is)...)
	if after != nil {
		out.Lines = append(out.Lines, d.dateLines(was, is, false, before, after)...)
	}
	return out
}
