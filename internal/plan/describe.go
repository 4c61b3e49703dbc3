package plan

import (
	"fmt"
	"slices"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/estate"
)

// describe puts into words of the entry language what a plan alters.
func (d *Planner) describe(p *Plan) {
	w := &p.Work
	f := w.Partition
	add := func(e Edit) {
		if len(e.Lines) > 0 {
			p.Edits = append(p.Edits, e)
		}
	}
	for _, e := range w.Servers {
		add(ServerLines(e))
	}
	records := func() {
		for _, e := range w.Records {
			add(e.Edit)
		}
	}
	if !w.FromDirectory { // who comes and joins is told first
		records()
	}
	for i, e := range w.Accounts {
		if i == mostTold {
			p.Untold += len(w.Accounts) - i
			break
		}
		add(d.AccountLines(e))
	}
	for i, e := range w.Members {
		if i == mostTold {
			p.Untold += len(w.Members) - i
			break
		}
		add(d.memberLines(e))
	}
	if w.FromDirectory {
		records()
	}
	for _, e := range w.Admins {
		sign := Goes
		if e.On {
			sign = Comes
		}
		add(Edit{Kind: "administrator", Where: "server " + e.Server.Name, Lines: []Line{{Sign: sign, What: "administrator", Text: d.AccountName(e.Who)}}})
	}
	for _, e := range w.Levels {
		sign := Goes
		if e.Add {
			sign = Comes
		}
		add(Edit{Kind: "level", Where: "level " + e.Level.Name, Lines: []Line{{Sign: sign, What: "level"}}})
	}
	for _, e := range w.Shares {
		add(d.shareLines(e, w.Dates))
	}
	dates := map[int][]DateEdit{}
	for _, e := range w.Dates {
		if e.Of.Share == 0 {
			dates[e.Node] = append(dates[e.Node], e)
		}
	}
	for _, n := range w.Named {
		node := &f.Nodes[n]
		e := Edit{Kind: "item", Where: d.Where(p, n), Items: node.Items, Lines: d.Diff(node.Before, node.After, node.Folder, nil, nil)}
		for _, x := range dates[n] {
			e.Lines = append(e.Lines, d.dateLines(x.Before, x.After, x.Folder, lists(node.Before), lists(node.After))...)
			if after := lists(node.After); after != nil { // a last day that goes with its entry
				for _, o := range union(x.Before, nil) {
					if !slices.Contains(after.Rules.Entries, o) {
						e.Lines = append(e.Lines, Line{Sign: Goes, What: "last-day", Text: d.EntryText(o, x.Folder) + " until " + string(x.Before[o]) + ", with its entry"})
					}
				}
			}
		}
		add(e)
	}
	if w.Renews {
		for i := range f.Nodes {
			if n := &f.Nodes[i]; n.Changed() && !w.IsNamed[i] && n.Before != nil && n.After != nil {
				add(Edit{Kind: "item", Where: d.Where(p, i), Items: n.Items, Below: true, Lines: d.Diff(n.Before, n.After, n.Folder, nil, nil)})
			}
		}
	}
	for i := range f.Nodes {
		if n := &f.Nodes[i]; n.Changed() && !w.IsNamed[i] && n.Before != nil && n.After != nil {
			p.Handed += n.Items
		}
	}
	for i := range p.Edits { // what is told of needn't be counted again
		if p.Edits[i].Below {
			p.Handed -= p.Edits[i].Items
		}
	}
}

// Diff lists what differs between two descriptors; nil: not there.
func (d *Planner) Diff(from, to rule.Any, folder bool, was, is estate.Dated) (lines []Line) {
	if from == to {
		return nil
	}
	_, x := from.(*posix.Rules)
	_, y := to.(*posix.Rules)
	if x || y {
		return d.DiffPosix(from, to)
	}
	before, after := Desc(from), Desc(to)
	lang := ask.Language(d.T)
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
			lines = append(lines, Line{Sign: Goes, What: "owner", Text: d.T.Name(before.Owner)})
		}
		if !after.Owner.IsZero() {
			lines = append(lines, Line{Sign: Comes, What: "owner", Text: d.T.Name(after.Owner)})
		}
	}
	if before.Sealed() != after.Sealed() {
		sign := Goes
		if after.Sealed() {
			sign = Comes
		}
		lines = append(lines, Line{Sign: sign, What: "seal"})
	}
	if before.Rules.Absent != after.Rules.Absent && !comesWhole {
		sign := Goes
		if after.Rules.Absent {
			sign = Comes
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
				lines = append(lines, Line{Sign: Goes, What: what, Text: text(e, was), FromAbove: !e.Own()})
			}
		}
		for _, e := range l[1].Entries {
			if !slices.Contains(l[0].Entries, e) {
				lines = append(lines, Line{Sign: Comes, What: what, Text: text(e, is), FromAbove: !e.Own()})
			}
		}
	}
	if len(lines) == 0 && !before.Equal(after) {
		lines = append(lines, Line{Sign: Changes, What: "order"})
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

// EntryText writes an entry, its account by name where a number stands for one.
func (d *Planner) EntryText(e rule.Entry, folder bool) string {
	e.Who = d.T.AccountOf(e.Who)
	return ask.Language(d.T).Write(e, folder)
}

// anyOf gives a descriptor as rules of any kind; nil for nil.
func anyOf(d *rule.Descriptor) rule.Any {
	if d == nil {
		return nil
	}
	return d
}

// dateLines tells of last days; those of entries that go or come are told with them.
func (d *Planner) dateLines(was, is estate.Dated, folder bool, before, after *rule.Descriptor) (lines []Line) {
	for _, e := range union(was, is) {
		u, had := was[e]
		v, has := is[e]
		text := d.EntryText(e, folder)
		gone := after == nil || !slices.Contains(after.Rules.Entries, e)
		switch {
		case gone:
		case has && !had:
			lines = append(lines, Line{Sign: Comes, What: "last-day", Text: text + " until " + string(v)})
		case had && !has:
			lines = append(lines, Line{Sign: Goes, What: "last-day", Text: text + ", which was until " + string(u) + ", stays for good"})
		case u != v:
			lines = append(lines, Line{Sign: Changes, What: "last-day", Text: text + " until " + string(v) + ", was " + string(u)})
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

func ServerLines(e ServerEdit) Edit {
	switch {
	case e.Before == nil:
		return Edit{Kind: "server", Where: "server " + e.After.Name, Lines: []Line{{Sign: Comes, What: "server", Text: "traits " + e.After.Traits.Name}}}
	case e.After == nil:
		return Edit{Kind: "server", Where: "server " + e.Before.Name, Lines: []Line{{Sign: Goes, What: "server"}}}
	}
	out := Edit{Kind: "server", Where: "server " + e.After.Name}
	was, is := show.TraitValues(e.Before.Traits), show.TraitValues(e.After.Traits)
	for _, name := range TraitNames() {
		if was[name] != is[name] {
			out.Lines = append(out.Lines, Line{Sign: Changes, What: "trait", Text: fmt.Sprintf("%s: %s, was %s", name, is[name], was[name])})
		}
	}
	return out
}

// mostTold is how many accounts, and memberships, a plan tells of one by one; a
// directory's first ones are hundreds of thousands.
const mostTold = 20_000

func (d *Planner) AccountLines(e AccountEdit) Edit {
	switch {
	case e.Before == nil:
		return Edit{Kind: "account", Where: fmt.Sprintf("%s %s", e.After.Kind, e.After.Name), Lines: []Line{{Sign: Comes, What: "account", Text: e.After.ID.String()}}}
	case e.After == nil:
		return Edit{Kind: "account", Where: fmt.Sprintf("%s %s", e.Before.Kind, e.Before.Name), Lines: []Line{{Sign: Goes, What: "account", Text: e.Before.ID.String()}}}
	}
	out := Edit{Kind: "account", Where: fmt.Sprintf("%s %s", e.After.Kind, e.After.Name)}
	change := func(what, was, is string) {
		if was != is {
			if was == "" {
				was = "none"
			}
			if is == "" {
				is = "none"
			}
			out.Lines = append(out.Lines, Line{Sign: Changes, What: what, Text: is + ", was " + was})
		}
	}
	b, a := e.Before, e.After
	change("name", b.Name, a.Name)
	change("purpose", string(b.Purpose), string(a.Purpose))
	name := func(id ID) string {
		if id.IsZero() {
			return ""
		}
		return d.T.Name(id)
	}
	change("primary-group", name(b.Primary), name(a.Primary))
	change("id", posixID(b.POSIX), posixID(a.POSIX))
	return out
}

func (d *Planner) memberLines(e MemberEdit) Edit {
	out := Edit{Kind: "membership", Where: "group " + d.AccountName(*e.Group)}
	line := Line{Sign: Comes, What: "membership", Text: d.AccountName(*e.Member)}
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
	case e.Is == nil:
		line.Sign = Goes
	case e.Was != nil:
		line.Sign = Changes
		line.Text += " " + until(e.Is) + ", was " + until(e.Was)
	case e.Is.Until != "":
		line.Text += " " + until(e.Is)
	}
	out.Lines = []Line{line}
	return out
}

// AccountName names an account as entries do; one that is only coming by its own name.
func (d *Planner) AccountName(a account) string {
	if _, ok := d.T.Account(a.ID); ok {
		return d.T.Name(a.ID)
	}
	return a.Name
}

// admissionLines tells what comes and goes of what a configuration says.
func admissionLines(e ShareEdit) (lines []Line) {
	var sides [2][]string
	for i, sh := range []*estate.Share{e.Before, e.After} {
		if sh != nil {
			sides[i] = ask.Admitted(sh.Admission)
		}
	}
	for i, sign := range []Sign{Goes, Comes} {
		for _, text := range sides[i] {
			if !slices.Contains(sides[1-i], text) {
				lines = append(lines, Line{Sign: sign, What: "configured", Text: text})
			}
		}
	}
	return lines
}

func (d *Planner) shareLines(e ShareEdit, dates []DateEdit) Edit {
	either := e.After
	if either == nil {
		either = e.Before
	}
	out := Edit{Kind: "share", Where: "share " + either.Address()}
	var before, after *rule.Descriptor
	switch {
	case e.Before == nil:
		after = e.After.Descriptor
		out.Lines = append(out.Lines, Line{Sign: Comes, What: "share", Text: "over " + e.After.Server + ":" + e.After.Folder})
		if e.After.ReadOnly {
			out.Lines = append(out.Lines, Line{Sign: Comes, What: "read-only"})
		}
		if after.Rules.Absent {
			out.Lines = append(out.Lines, Line{Sign: Comes, What: "absence"})
		}
	case e.After == nil:
		before = e.Before.Descriptor
		out.Lines = append(out.Lines, Line{Sign: Goes, What: "share", Text: "over " + e.Before.Server + ":" + e.Before.Folder})
	default:
		before, after = e.Before.Descriptor, e.After.Descriptor
		if e.Before.ReadOnly != e.After.ReadOnly {
			sign := Goes
			if e.After.ReadOnly {
				sign = Comes
			}
			out.Lines = append(out.Lines, Line{Sign: sign, What: "read-only"})
		}
	}
	out.Lines = append(out.Lines, admissionLines(e)...)
	var was, is estate.Dated
	for _, x := range dates {
		if x.Of.Share == either.ID && x.Of.Share != 0 {
			was, is = x.Before, x.After
		}
	}
	out.Lines = append(out.Lines, d.Diff(anyOf(before), anyOf(after), false, was, is)...)
	if after != nil {
		out.Lines = append(out.Lines, d.dateLines(was, is, false, before, after)...)
	}
	return out
}
