package entry

import (
	"fmt"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
)

// Number gives the uid or gid of an account, as lists name it.
func Number(d *plan.Planner, id plan.ID) (plan.ID, error) {
	if _, _, ok := id.POSIX(); ok || id == acc.Everyone {
		return id, nil
	}
	a, ok := d.T.Account(id)
	switch {
	case !ok:
		return plan.ID{}, &estate.Refused{Why: fmt.Sprintf("%s has no number, and a POSIX list names accounts by theirs", d.T.Name(id)), Do: "name a user, a group, uid:N, gid:N or everyone@"}
	case a.POSIX == acc.NoPOSIX:
		kind := "uid"
		if a.Kind == acc.Group {
			kind = "gid"
		}
		return plan.ID{}, &estate.Refused{Why: fmt.Sprintf("%s has no %s, and a POSIX list names accounts by their numbers", d.T.Name(id), kind),
			Do: "take the account's number in, with tarnwold load accounts --passwd and --group"}
	case a.Kind == acc.Group:
		return acc.GID(uint32(a.POSIX)), nil
	}
	return acc.UID(uint32(a.POSIX)), nil
}

// granting is an entry as it is to come to a POSIX tree.
type granting struct {
	name    string // as it was typed
	who     plan.ID
	means   posix.Meaning
	here    bool
	below   bool
	level   string
	Exactly bool // in the place of what is there
}

// Granting reads a line for POSIX trees, and refuses what no list there can say.
func Granting(d *plan.Planner, l rule.Line, level, name string) (*granting, error) {
	if l.Kind != rule.Allow {
		do := fmt.Sprintf("take what %s has there with tarnwold revoke", name)
		if a, ok := d.T.Account(d.T.AccountOf(l.Who)); ok && a.Kind == acc.User {
			do += fmt.Sprintf(", or have them leave the group that gives it; an entry of their own comes before all groups': tarnwold mode WHERE --entry user:%s:--- closes it to them alone", a.Name)
		}
		return nil, &estate.Refused{Why: "a POSIX list has no entries that refuse", Do: do}
	}
	who, err := Number(d, l.Who)
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

// Give gives an item what was asked for.
func (w *granting) Give(r *posix.Rules) (*posix.Rules, error) {
	if !r.Folder && w.means.File == 0 {
		return nil, &estate.Refused{Why: rule.ErrFoldersOnly.Error()}
	}
	if r.Folder && w.means.TakesOut && w.who != (plan.ID{}) && w.level != "drop" && (w.below || r.Special&posix.Sticky == 0) {
		return nil, &estate.Refused{Why: fmt.Sprintf("on a POSIX tree who may put things into a folder may also take them out, which %s doesn't say", w.level),
			Do: "make the folder sticky (tarnwold mode WHERE --set +t), where everybody takes out only what is theirs, and grant " + w.level + " on it with --scope here; or grant edit"}
	}
	turn := posix.Adds
	if w.Exactly {
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
func givingPosix(d *plan.Planner, e *plan.ItemEdit, l rule.Line, level string, until estate.Day, exactly bool) {
	name := d.T.Name(l.Who)
	w, err := Granting(d, l, level, name)
	if err == nil {
		w.Exactly = exactly
	}
	e.Posix = func(r, _ *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
		if err != nil {
			return nil, err
		}
		if until != "" && !exactly && r.Turned(w.who, posix.Drops(), posix.Drops()) != r {
			return nil, &estate.Refused{Why: fmt.Sprintf("%s has an entry there already, and a POSIX list has one for each account, so that no part of it can have a last day", name),
				Do: "revoke it first, or use tarnwold replace"}
		}
		if err := w.Mixed(r, dated, until); until == "" && err != nil {
			return nil, err
		}
		return w.Give(r)
	}
	e.PosixDates = func(_, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
		if err != nil {
			return plan.Still(dated, after)
		}
		return w.Dates(after, folder, dated, until)
	}
	if err == nil && w.below && !exactly { // every item below gets it, whatever the default list said before
		e.Each = func(r *posix.Rules) *posix.Rules {
			w := *w
			w.here = true
			if after, err := w.Give(r); err == nil {
				return after
			}
			return r // a level that says nothing of files
		}
		return
	}
	e.Hands = true
}

// rewritePosix is rule.Rewriting for rules of POSIX trees.
func rewritePosix(d *plan.Planner, w *rule.Rewriting, x *posix.Rules) (*posix.Rules, error) {
	before := x
	for who := range w.Names {
		_, user, ok := who.POSIX()
		if !ok || !x.Mentions(who) {
			continue
		}
		s := posix.Swap{Beside: w.Beside}
		var err error
		if !w.To.IsZero() && x.Names(who) {
			if s.To, err = Number(d, w.To); err != nil {
				return nil, err
			}
		}
		if !w.Owner.IsZero() && (x.Owner == who || x.Group == who) {
			if s.Owner, err = ownsOn(d, w.Owner, user); err != nil {
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
// their owner, or as their group, which of a user is their first one.
func ownsOn(d *plan.Planner, id plan.ID, owner bool) (plan.ID, error) {
	n, err := Number(d, id)
	if err != nil {
		return n, err
	}
	uid, user, ok := n.POSIX()
	switch {
	case !ok || owner && !user:
		return n, &estate.Refused{Why: d.T.Name(id) + " can't own anything on a POSIX tree", Do: "name a user"}
	case owner || !user:
		return n, nil
	}
	a, known := d.T.Account(id)
	if !known || a.Primary.IsZero() {
		return acc.GID(uid), nil
	}
	return Number(d, a.Primary)
}

// meansAdvice tells what a level comes to on the POSIX trees a plan touches.
func meansAdvice(d *plan.Planner, p *plan.Plan, level string) {
	f := p.Work.Partition
	if f == nil {
		return
	}
	w, err := d.Level(level)
	if err != nil {
		return
	}
	m := posix.Means(w)
	for _, i := range p.Work.Named {
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
		p.Advice = append(p.Advice, plan.Advice{Kind: "means", Who: level, Text: text})
		return
	}
}

// takingPosix is what taking does on POSIX trees.
func takingPosix(d *plan.Planner, which rule.Which) func(r, up *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
	return func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		if len(which.Kinds) > 0 && !slices.Contains(which.Kinds, rule.Allow) {
			return r, nil
		}
		who, err := Number(d, which.Who)
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
func explained(d *plan.Planner, p *plan.Plan, err error, level string) (*plan.Plan, error) {
	if err == nil {
		meansAdvice(d, p, level)
	}
	return p, err
}

// Mixed refuses what would make one entry of two that end on different days: a
// POSIX list has one entry for each account, so that the part given for good would
// end with the rest, or the rest be for good with it.
func (w *granting) Mixed(r *posix.Rules, dated estate.Dated, until estate.Day) error {
	if w.Exactly {
		return nil // what was there goes
	}
	after, err := w.Give(r)
	if err != nil {
		return nil // that is said elsewhere
	}
	alone, err := w.Give(r.Turned(w.who, posix.Drops(), posix.Drops()))
	if err != nil {
		return nil
	}
	for _, o := range r.Listed().Rules.Entries {
		if !w.gives(o, r.Folder) || dated[o] == until {
			continue
		}
		if until == "" && slices.ContainsFunc(after.Listed().Rules.Entries, func(x rule.Entry) bool {
			return x.Who == w.who && x.Flags == o.Flags && slices.Contains(alone.Listed().Rules.Entries, x)
		}) {
			continue // all of it is for good then
		}
		has := "for good"
		if day := dated[o]; day != "" {
			has = "until " + string(day)
		}
		return &estate.Refused{Why: fmt.Sprintf("%s has an entry there %s, and a POSIX list has one for each account, so that no part of it can end on a day of its own", w.name, has),
			Do: "give it the same last day, or revoke it first"}
	}
	return nil
}

// gives tells whether an entry of what an item lists is one that is given: the one
// in the list itself, or the one in the default list.
func (w *granting) gives(e rule.Entry, folder bool) bool {
	if e.Who != w.who {
		return false
	}
	if e.Flags&rule.InheritOnly != 0 {
		return w.below
	}
	return w.here || !folder
}

// Dates gives the last days after something was given: what was given has the one
// it was given with.
func (w *granting) Dates(after *rule.Descriptor, folder bool, dated estate.Dated, until estate.Day) estate.Dated {
	out := plan.Still(dated, after)
	for _, o := range after.Rules.Entries {
		switch {
		case !w.gives(o, folder):
		case until == "":
			delete(out, o)
		default:
			out[o] = until
		}
	}
	return out
}
