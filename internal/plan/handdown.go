package plan

import (
	"slices"
	"strings"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
)

// Descs gives the security descriptors among rules; one of nothing for others.
func Descs(all []rule.Any) []*rule.Descriptor {
	out := make([]*rule.Descriptor, len(all))
	for i, a := range all {
		if out[i] = Desc(a); out[i] == nil {
			out[i] = &rule.Descriptor{}
		}
	}
	return out
}

// Made gives the rules of an item that somebody makes in a folder.
func Made(parent rule.Any, folder bool, m verdict.Maker, tr *verdict.Traits) rule.Any {
	up, ok := parent.(*posix.Rules)
	if !ok {
		return verdict.Made(Desc(parent), folder, m, tr)
	}
	mode := uint16(0o666)
	if folder {
		mode = 0o777
	}
	return posix.NewChild(up, folder, m.UID, m.GID, mode, tr.Umask)
}

// handDown gives what is below folders whose default lists a plan changes what
// those give more, and takes what they give no more: on a POSIX tree nothing
// of that comes by itself to what is there.
func (d *Planner) handDown(p *Plan, hands, back map[int]bool, each map[int][]func(*posix.Rules) *posix.Rules) error {
	f := p.Work.Partition
	type turn struct {
		from, to *posix.Rules
		give     func(*posix.Rules) *posix.Rules // in their place
	}
	turns := make([][]turn, len(f.Nodes))
	any := false
	for i := range f.Nodes {
		n := &f.Nodes[i]
		if n.Parent >= 0 {
			turns[i] = turns[n.Parent]
		}
		if all := turns[i]; len(all) > 0 {
			own := f.Edits[i]
			f.Edits[i] = func(x, parent rule.Any, folder bool) (rule.Any, error) {
				if r, ok := x.(*posix.Rules); ok {
					for _, t := range all {
						if t.give != nil {
							r = t.give(r)
						} else {
							r = r.Handed(t.from, t.to)
						}
					}
					x = r
				}
				if own == nil {
					return x, nil
				}
				return own(x, parent, folder)
			}
			any = true
		}
		from, ok := n.Before.(*posix.Rules)
		to, also := n.After.(*posix.Rules)
		if ok && also && n.Folder && hands[i] && from != to && (to.Default != nil || back[i]) && !slices.Equal(from.Default, to.Default) {
			turns[i] = append(slices.Clip(turns[i]), turn{from: from, to: to})
		}
		for _, give := range each[i] {
			if ok {
				turns[i] = append(slices.Clip(turns[i]), turn{give: give})
			}
		}
	}
	if !any {
		return nil
	}
	return f.Work(d.Ctx)
}

// DiffPosix tells what differs between two items' rules where one at least is
// of a POSIX tree.
func (d *Planner) DiffPosix(from, to rule.Any) (lines []edit.Line) {
	before, _ := from.(*posix.Rules)
	after, _ := to.(*posix.Rules)
	name := func(id ID) string { return d.T.PosixName(id) }
	line := func(sign edit.Sign, what, text string) {
		lines = append(lines, edit.Line{Sign: sign, What: what, Text: text})
	}
	switch {
	case before == nil && after == nil:
		return nil
	case before == nil:
		line(edit.Comes, "mode", d.T.PosixText(after)+", owner "+name(after.Owner)+", group "+name(after.Group))
		return lines
	case after == nil:
		line(edit.Goes, "mode", d.T.PosixText(before)+", owner "+name(before.Owner)+", group "+name(before.Group))
		return lines
	}
	for _, o := range []struct {
		what     string
		was, are ID
	}{{"owner", before.Owner, after.Owner}, {"owning-group", before.Group, after.Group}} {
		if o.was != o.are {
			line(edit.Goes, o.what, name(o.was))
			line(edit.Comes, o.what, name(o.are))
		}
	}
	for _, x := range (before.Marks &^ after.Marks).Names() {
		line(edit.Goes, "mark", x)
	}
	for _, x := range (after.Marks &^ before.Marks).Names() {
		line(edit.Comes, "mark", x)
	}
	if before.Special != after.Special {
		line(edit.Goes, "special", specialWords(before.Special))
		line(edit.Comes, "special", specialWords(after.Special))
	}
	for _, l := range []struct {
		dflt     bool
		was, are posix.List
	}{{false, before.Access, after.Access}, {true, before.Default, after.Default}} {
		was, are := d.T.PosixLines(l.was, l.dflt), d.T.PosixLines(l.are, l.dflt)
		if l.dflt && len(are) == 0 && len(was) > 0 {
			line(edit.Goes, "default-list", "")
			continue
		}
		for _, s := range was {
			if !slices.Contains(are, s) {
				line(edit.Goes, "list-entry", estate.PosixEntry(s))
			}
		}
		for _, s := range are {
			if !slices.Contains(was, s) {
				line(edit.Comes, "list-entry", estate.PosixEntry(s))
			}
		}
	}
	return lines
}

func specialWords(s uint16) string {
	var w []string
	for _, x := range []struct {
		bit  uint16
		word string
	}{{posix.SetUID, "set-uid"}, {posix.SetGID, "set-gid"}, {posix.Sticky, "sticky"}} {
		if s&x.bit != 0 {
			w = append(w, x.word)
		}
	}
	if len(w) == 0 {
		return "none"
	}
	return strings.Join(w, ", ")
}

// noPosix refuses what has no meaning on a POSIX tree.
func noPosix() error {
	return &estate.Refused{Why: "that can't be done on a POSIX tree: its lists have no such entries"}
}
