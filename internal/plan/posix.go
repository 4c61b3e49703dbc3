package plan

import (
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// Edits of POSIX trees: what levels and entries stand for there, and what is
// handed down to what is there.

// descs gives the security descriptors among rules; one of nothing for others.
func descs(all []rule.Any) []*rule.Descriptor {
	out := make([]*rule.Descriptor, len(all))
	for i, a := range all {
		if out[i] = desc(a); out[i] == nil {
			out[i] = &rule.Descriptor{}
		}
	}
	return out
}

// made gives the rules of an item that somebody makes in a folder.
func made(parent rule.Any, folder bool, m verdict.Maker, tr *verdict.Traits) rule.Any {
	up, ok := parent.(*posix.Rules)
	if !ok {
		return verdict.Made(desc(parent), folder, m, tr)
	}
	mode := uint16(0o666)
	if folder {
		mode = 0o777
	}
	return posix.NewChild(up, folder, m.UID, m.GID, mode, tr.Umask)
}

// number gives the uid or gid of an account, as lists name it.
func (d *Desk) number(id ID) (ID, error) {
	if _, _, ok := id.POSIX(); ok || id == acc.Everyone {
		return id, nil
	}
	a, ok := d.t.Account(id)
	switch {
	case !ok:
		return ID{}, &estate.Refused{Why: fmt.Sprintf("%s has no number, and a POSIX list names accounts by theirs", d.t.Name(id)), Do: "name a user, a group, uid:N, gid:N or everyone@"}
	case a.POSIX == acc.NoPOSIX:
		kind := "uid"
		if a.Kind == acc.Group {
			kind = "gid"
		}
		return ID{}, &estate.Refused{Why: fmt.Sprintf("%s has no %s, and a POSIX list names accounts by their numbers", d.t.Name(id), kind),
			Do: "take the account's number in, with tarnwold load accounts --passwd and --group"}
	case a.Kind == acc.Group:
		return acc.GID(uint32(a.POSIX)), nil
	}
	return acc.UID(uint32(a.POSIX)), nil
}

// granting is an entry as it is to come to a POSIX tree.
type granting struct {
	name    string // as it was typed
	who     ID
	means   posix.Meaning
	here    bool
	below   bool
	level   string
	exactly bool // in the place of what is there
}

// granting reads a line for POSIX trees, and refuses what no list there can say.
func (d *Desk) granting(l rule.Line, level, name string) (*granting, error) {
	if l.Kind != rule.Allow {
		do := fmt.Sprintf("take what %s has there with tarnwold revoke", name)
		if a, ok := d.t.Account(d.t.AccountOf(l.Who)); ok && a.Kind == acc.User {
			do += fmt.Sprintf(", or have him leave the group that gives it; an entry of his own comes before all groups': tarnwold mode WHERE --entry user:%s:--- closes it to him alone", a.Name)
		}
		return nil, &estate.Refused{Why: "a POSIX list has no entries that refuse", Do: do}
	}
	who, err := d.number(l.Who)
	if err != nil {
		return nil, err
	}
	w := &granting{name: name, who: who, level: level, means: posix.Means(l.What)}
	if w.means.Nothing() {
		return nil, &estate.Refused{Why: fmt.Sprintf("no POSIX list gives %s: changing the mode and the lists is the owner's, and giving an item away root's", level), Do: "see: tarnwold owner"}
	}
	s := l.Scope
	w.here = s&rule.Here != 0
	w.below = s&(rule.Folders|rule.Files) != 0
	switch {
	case s&rule.Once != 0:
		return nil, &estate.Refused{Why: "what a POSIX folder hands down is handed on: once can't be said there", Do: "use the scopes here, below or tree"}
	case w.below && s&(rule.Folders|rule.Files) != rule.Folders|rule.Files:
		return nil, &estate.Refused{Why: "a POSIX folder hands the same list to folders and to files", Do: "use the scopes here, below or tree"}
	}
	return w, nil
}

// give gives an item what was asked for.
func (w *granting) give(r *posix.Rules) (*posix.Rules, error) {
	if !r.Folder && w.means.File == 0 {
		return nil, &estate.Refused{Why: rule.ErrFoldersOnly.Error()}
	}
	if r.Folder && w.means.TakesOut && w.who != (ID{}) && w.level != "drop" && (w.below || r.Special&posix.Sticky == 0) {
		return nil, &estate.Refused{Why: fmt.Sprintf("on a POSIX tree who may put things into a folder may also take them out, which %s doesn't say", w.level),
			Do: "make the folder sticky (tarnwold mode WHERE --set +t), where everybody takes out only what is his, and grant " + w.level + " on it with --scope here; or grant edit"}
	}
	turn := posix.Adds
	if w.exactly {
		turn = posix.Sets
	}
	var here, below posix.Turn
	if w.here || !r.Folder {
		here = turn(w.means.On(r))
	}
	if w.below {
		below = turn(w.means.Folder | w.means.File)
		if w.means.Folder == 0 {
			below = turn(w.means.File)
		}
	}
	return r.Turned(w.who, here, below), nil
}

// givingPosix is what giving does on POSIX trees.
func (d *Desk) givingPosix(e *itemEdit, l rule.Line, level string, until estate.Day, exactly bool) {
	name := d.t.Name(l.Who)
	w, err := d.granting(l, level, name)
	e.posix = func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		if err != nil {
			return nil, err
		}
		if until != "" && r.Turned(w.who, posix.Drops(), posix.Drops()) != r {
			return nil, &estate.Refused{Why: fmt.Sprintf("%s has an entry there already, and a POSIX list has one for each account, so that no part of it can have a last day", name),
				Do: "revoke it first, or use tarnwold replace"}
		}
		w := *w
		w.exactly = exactly
		return w.give(r)
	}
	e.posixDates = func(before, after *rule.Descriptor, dated estate.Dated) estate.Dated {
		if err != nil {
			return still(dated, after)
		}
		return w.dates(before, after, dated, until)
	}
	if err == nil && w.below && !exactly { // every item below gets it, whatever the default list said before
		e.each = func(r *posix.Rules) *posix.Rules {
			w := *w
			w.here = true
			if after, err := w.give(r); err == nil {
				return after
			}
			return r // a level that says nothing of files
		}
		return
	}
	e.hands = true
}

// handDown gives what is below folders whose default lists a plan changes what
// those give more, and takes what they give no more: on a POSIX tree nothing
// of that comes by itself to what is there.
func (d *Desk) handDown(p *Plan, hands, back map[int]bool, each map[int][]func(*posix.Rules) *posix.Rules) error {
	f := p.work.forest
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
	return f.Work(d.ctx)
}

// rewritePosix is rule.Rewriting for rules of POSIX trees.
func (d *Desk) rewritePosix(w *rule.Rewriting, x *posix.Rules) (*posix.Rules, error) {
	before := x
	for who := range w.Names {
		_, user, ok := who.POSIX()
		if !ok || !x.Mentions(who) {
			continue
		}
		s := posix.Swap{Beside: w.Beside}
		var err error
		if !w.To.IsZero() && x.Names(who) {
			if s.To, err = d.number(w.To); err != nil {
				return nil, err
			}
		}
		if !w.Owner.IsZero() && (x.Owner == who || x.Group == who) {
			if s.Owner, err = d.ownsOn(w.Owner, user); err != nil {
				return nil, err
			}
		}
		x = x.Swapped(who, s)
	}
	if x.Same(before) {
		return before, nil
	}
	return x, nil
}

// ownsOn gives the number by which an account owns items of POSIX trees: as
// their owner, or as their group, which of a user is his first one.
func (d *Desk) ownsOn(id ID, owner bool) (ID, error) {
	n, err := d.number(id)
	if err != nil {
		return n, err
	}
	uid, user, ok := n.POSIX()
	switch {
	case !ok || owner && !user:
		return n, &estate.Refused{Why: d.t.Name(id) + " can't own anything on a POSIX tree", Do: "name a user"}
	case owner || !user:
		return n, nil
	}
	a, known := d.t.Account(id)
	if !known || a.Primary.IsZero() {
		return acc.GID(uid), nil
	}
	return d.number(a.Primary)
}

// turnedPosix tells what differs between two items' rules where one at least is
// of a POSIX tree.
func (d *Desk) turnedPosix(from, to rule.Any) (lines []Line) {
	before, _ := from.(*posix.Rules)
	after, _ := to.(*posix.Rules)
	name := func(id ID) string { return d.t.PosixName(id) }
	line := func(sign, what, text string) { lines = append(lines, Line{Sign: sign, What: what, Text: text}) }
	switch {
	case before == nil && after == nil:
		return nil
	case before == nil:
		line("comes", "mode", d.t.PosixText(after)+", owner "+name(after.Owner)+", group "+name(after.Group))
		return lines
	case after == nil:
		line("goes", "mode", d.t.PosixText(before)+", owner "+name(before.Owner)+", group "+name(before.Group))
		return lines
	}
	for _, o := range []struct {
		what     string
		was, are ID
	}{{"owner", before.Owner, after.Owner}, {"owning-group", before.Group, after.Group}} {
		if o.was != o.are {
			line("goes", o.what, name(o.was))
			line("comes", o.what, name(o.are))
		}
	}
	if before.Special != after.Special {
		line("goes", "special", specialWords(before.Special))
		line("comes", "special", specialWords(after.Special))
	}
	for _, l := range []struct {
		dflt     bool
		was, are posix.List
	}{{false, before.Access, after.Access}, {true, before.Default, after.Default}} {
		was, are := d.t.PosixLines(l.was, l.dflt), d.t.PosixLines(l.are, l.dflt)
		if l.dflt && len(are) == 0 && len(was) > 0 {
			line("goes", "default-list", "")
			continue
		}
		for _, s := range was {
			if !slices.Contains(are, s) {
				line("goes", "list-entry", estate.PosixEntry(s))
			}
		}
		for _, s := range are {
			if !slices.Contains(was, s) {
				line("comes", "list-entry", estate.PosixEntry(s))
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

// meansAdvice tells what a level comes to on the POSIX trees a plan touches.
func (d *Desk) meansAdvice(p *Plan, level string) {
	f := p.work.forest
	if f == nil {
		return
	}
	w, err := d.Level(level)
	if err != nil {
		return
	}
	m := posix.Means(w)
	for _, i := range p.work.named {
		r, ok := f.Nodes[i].After.(*posix.Rules)
		if !ok {
			continue
		}
		text := m.File.String() + " on files"
		if m.Runs {
			text += ", x kept where it stands"
		}
		if r.Folder {
			folder := m.Folder.String() + " on folders"
			if m.File == 0 {
				text = folder
			} else {
				text = folder + ", " + text
			}
		}
		if m.Over&(right.WriteACL|right.WriteOwner) != 0 {
			text += "; mode, lists and owner stay the owner's and root's affair"
		}
		p.Advice = append(p.Advice, Advice{Kind: "means", Who: level, Text: text})
		return
	}
}

// noPosix refuses what has no meaning on a POSIX tree.
func noPosix() error {
	return &estate.Refused{Why: "that can't be done on a POSIX tree: its lists have no such entries"}
}

// takingPosix is what taking does on POSIX trees.
func (d *Desk) takingPosix(which rule.Which) func(r, up *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
	return func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		if len(which.Kinds) > 0 && !slices.Contains(which.Kinds, rule.Allow) {
			return r, nil
		}
		who, err := d.number(which.Who)
		if err != nil {
			return nil, err
		}
		here, below := posix.Drops(), posix.Drops()
		if which.What != nil {
			m := posix.Means(*which.What)
			if m.Nothing() {
				return nil, &estate.Refused{Why: "no POSIX list gives that, so that none of it can be taken away"}
			}
			here, below = posix.Takes(m.On(r)), posix.Takes(m.Folder|m.File)
		}
		if which.Scope != nil {
			s := *which.Scope
			if s&rule.Once != 0 || s&(rule.Folders|rule.Files) != 0 && s&(rule.Folders|rule.Files) != rule.Folders|rule.Files {
				return nil, &estate.Refused{Why: "a POSIX folder hands the same list to folders and to files, and on", Do: "use the scopes here, below or tree"}
			}
			if s&rule.Here == 0 {
				here = nil
			}
			if s&rule.Folders == 0 {
				below = nil
			}
		}
		if r.Default == nil {
			below = nil
		}
		return r.Turned(who, here, below), nil
	}
}

// withoutListed gives rules without an entry of what they list that names somebody.
func withoutListed(r *posix.Rules, e rule.Entry) *posix.Rules {
	if e.Flags&rule.InheritOnly != 0 {
		return r.Turned(e.Who, nil, posix.Drops())
	}
	return r.Turned(e.Who, posix.Drops(), nil)
}

// explained adds to a plan what a level came to on POSIX trees.
func (d *Desk) explained(p *Plan, err error, level string) (*Plan, error) {
	if err == nil {
		d.meansAdvice(p, level)
	}
	return p, err
}

// dates gives the last days after something was given.
func (w *granting) dates(before, after *rule.Descriptor, dated estate.Dated, until estate.Day) estate.Dated {
	out := still(dated, after)
	for _, o := range after.Rules.Entries {
		if o.Who != w.who {
			continue
		}
		if until == "" {
			delete(out, o)
		} else if w.exactly || !slices.Contains(before.Rules.Entries, o) {
			out[o] = until
		}
	}
	return out
}
