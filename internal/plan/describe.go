package plan

import (
	"cmp"
	"fmt"
	"slices"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
)

// describe puts into words of the entry language what a plan alters.
func (d *Planner) describe(p *Plan) {
	w := &p.Work
	f := w.Partition
	add := func(e edit.Description) {
		if len(e.Lines) > 0 {
			p.Edits = append(p.Edits, e)
		}
	}
	for i := range w.Shares {
		e := &w.Shares[i]
		for k := range w.Dates {
			if x := &w.Dates[k]; x.Of.Share != 0 && x.Of.Share == e.Either().ID {
				e.Days = x
			}
		}
	}
	accounts, members := 0, 0
	for e := range w.All(w.FromDirectory) {
		var nth int
		switch e.(type) {
		case *edit.Account:
			accounts++
			nth = accounts
		case *edit.Membership:
			members++
			nth = members
		}
		if nth > mostTold {
			p.Untold++
			continue
		}
		add(e.Describe(Words{d}))
	}
	dates := map[int][]edit.LastDays{}
	for _, e := range w.Dates {
		if e.Of.Share == 0 {
			dates[e.Node] = append(dates[e.Node], e)
		}
	}
	for _, n := range w.Named {
		node := &f.Nodes[n]
		e := edit.Description{Kind: "item", Where: d.Where(p, n), Items: node.Items, Lines: d.Diff(node.Before, node.After, node.Folder, nil, nil)}
		for _, x := range dates[n] {
			e.Lines = append(e.Lines, d.dateLines(x.Before, x.After, x.Folder, lists(node.Before), lists(node.After))...)
			if after := lists(node.After); after != nil { // a last day that goes with its entry
				for _, o := range union(x.Before, nil) {
					if !slices.Contains(after.Rules.Entries, o) {
						e.Lines = append(e.Lines, edit.Line{Sign: edit.Goes, What: "last-day", Text: d.EntryText(o, x.Folder) + " until " + string(x.Before[o]) + ", with its entry"})
					}
				}
			}
		}
		add(e)
	}
	if w.Renews {
		for i := range f.Nodes {
			if n := &f.Nodes[i]; n.Changed() && !w.IsNamed[i] && n.Before != nil && n.After != nil {
				add(edit.Description{Kind: "item", Where: d.Where(p, i), Items: n.Items, Below: true, Lines: d.Diff(n.Before, n.After, n.Folder, nil, nil)})
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
func (d *Planner) Diff(from, to rule.Any, folder bool, was, is estate.Dated) (lines []edit.Line) {
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
			lines = append(lines, edit.Line{Sign: edit.Goes, What: "owner", Text: d.T.Name(before.Owner)})
		}
		if !after.Owner.IsZero() {
			lines = append(lines, edit.Line{Sign: edit.Comes, What: "owner", Text: d.T.Name(after.Owner)})
		}
	}
	switch {
	case before.Mark == after.Mark:
	case before.Mark == 0:
		lines = append(lines, edit.Line{Sign: edit.Comes, What: "read-only-mark"})
	case after.Mark == 0:
		lines = append(lines, edit.Line{Sign: edit.Goes, What: "read-only-mark"})
	default: // an older scan didn't tell files and folders apart
		lines = append(lines, edit.Line{Sign: edit.Comes, What: "read-only-mark", Text: "known to be a folder's"})
	}
	if before.Sealed() != after.Sealed() {
		sign := edit.Goes
		if after.Sealed() {
			sign = edit.Comes
		}
		lines = append(lines, edit.Line{Sign: sign, What: "seal"})
	}
	if before.Rules.Absent != after.Rules.Absent && !comesWhole {
		sign := edit.Goes
		if after.Rules.Absent {
			sign = edit.Comes
		}
		lines = append(lines, edit.Line{Sign: sign, What: "absence"})
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
				lines = append(lines, edit.Line{Sign: edit.Goes, What: what, Text: text(e, was), FromAbove: !e.Own()})
			}
		}
		for _, e := range l[1].Entries {
			if !slices.Contains(l[0].Entries, e) {
				lines = append(lines, edit.Line{Sign: edit.Comes, What: what, Text: text(e, is), FromAbove: !e.Own()})
			}
		}
	}
	if len(lines) == 0 && !before.Equal(after) {
		lines = append(lines, edit.Line{Sign: edit.Changes, What: "order"})
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

// dateLines tells of last days; those of entries that go or come are told with them.
func (d *Planner) dateLines(was, is estate.Dated, folder bool, before, after *rule.Descriptor) (lines []edit.Line) {
	for _, e := range union(was, is) {
		u, had := was[e]
		v, has := is[e]
		text := d.EntryText(e, folder)
		gone := after == nil || !slices.Contains(after.Rules.Entries, e)
		switch {
		case gone:
		case has && !had:
			lines = append(lines, edit.Line{Sign: edit.Comes, What: "last-day", Text: text + " until " + string(v)})
		case had && !has:
			lines = append(lines, edit.Line{Sign: edit.Goes, What: "last-day", Text: text + ", which was until " + string(u) + ", stays for good"})
		case u != v:
			lines = append(lines, edit.Line{Sign: edit.Changes, What: "last-day", Text: text + " until " + string(v) + ", was " + string(u)})
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
		return cmp.Or(cmp.Compare(x.Kind, y.Kind), cmp.Compare(x.Rights, y.Rights), cmp.Compare(x.Flags, y.Flags), cmp.Compare(estate.EntryKey(x), estate.EntryKey(y)))
	})
	return out
}

// mostTold is how many accounts, and memberships, a plan tells of one by one; a
// directory's first ones are hundreds of thousands.
const mostTold = 20_000

// AccountName names an account as entries do; one that is only coming by its own name.
func (d *Planner) AccountName(a account) string {
	if _, ok := d.T.Account(a.ID); ok {
		return d.T.Name(a.ID)
	}
	return a.Name
}

// Words are what edits are described in: the estate's names and languages, as they
// are now.
type Words struct{ *Planner }

// Name implements edit.Words.
func (w Words) Name(id ID) string { return w.T.Name(id) }

// Dates implements edit.Words.
func (w Words) Dates(was, is estate.Dated, folder bool, before, after *rule.Descriptor) []edit.Line {
	return w.dateLines(was, is, folder, before, after)
}

// Traits implements edit.Words.
func (w Words) Traits(before, after *estate.Server) (lines []edit.Line) {
	was, is := show.TraitValues(before.Traits), show.TraitValues(after.Traits)
	for _, name := range TraitNames() {
		if was[name] != is[name] {
			lines = append(lines, edit.Line{Sign: edit.Changes, What: "trait", Text: fmt.Sprintf("%s: %s, was %s", name, is[name], was[name])})
		}
	}
	had, has := before.Traits.Held().List(), after.Traits.Held().List()
	say := func(sign edit.Sign, list, other []verdict.Power) {
		for _, p := range list {
			if !slices.Contains(other, p) {
				lines = append(lines, edit.Line{Sign: sign, What: "privilege", Text: string(p.Privilege) + " for " + w.Name(p.Who)})
			}
		}
	}
	say(edit.Goes, had, has)
	say(edit.Comes, has, had)
	return lines
}

// Admitted implements edit.Words.
func (w Words) Admitted(a *estate.Admission) []string { return ask.Admitted(a) }
