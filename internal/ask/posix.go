package ask

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// LevelOn names granted rights as a level of the kind of rules they come from.
func LevelOn(levels right.Levels, a rule.Any, s right.Set, folder bool) string {
	if _, ok := a.(*posix.Rules); ok {
		return posix.Level(s, folder)
	}
	return levels.Show(s, folder)
}

// AskedOf gives the rights that a level asks for on an item, by what it stands
// for in rules of its kind.
func AskedOf(l right.Level, a rule.Any, folder bool) right.Set {
	s := l.File
	if folder {
		s = l.Folder
	}
	if r, ok := a.(*posix.Rules); ok {
		return r.Asks(s) & right.Access
	}
	return s & right.Access
}

// NothingOn tells whether granted rights open nothing worth a name.
func NothingOn(a rule.Any, s right.Set) bool {
	if _, ok := a.(*posix.Rules); ok {
		return posix.Nothing(s)
	}
	return right.Nothing(s)
}

// Class is the part of a POSIX list that decided, by the access check algorithm
// (POSIX.1e draft 17 §23.1.5).
type Class struct {
	// Tag is owner, user, owning-group, group or other.
	Tag     string `json:"tag"`
	Who     string `json:"account,omitempty"`
	Entry   string `json:"entry"`             // group lighting r-x
	Perms   string `json:"permissions"`       // r-x, as the entry has them
	Counts  string `json:"counts,omitempty"`  // what the mask leaves of them, where that is less
	Skipped bool   `json:"skipped,omitempty"` // the mask is empty, and the list isn't looked at
	// Also are other groups of the list that he is in, where none has the right.
	Also []string `json:"also,omitempty"`
}

var tagWords = map[posix.Tag]string{posix.UserObj: "owner", posix.User: "user", posix.GroupObj: "owning-group", posix.Group: "group", posix.Other: "other"}

// class tells of an entry of the list that is looked at.
func (k *Asker) class(x *posix.Rules, entry int) *Class {
	l := x.Read()
	e := l[entry]
	c := &Class{Tag: tagWords[e.Tag], Perms: e.Perm.String(), Skipped: x.Skips()}
	switch e.Tag {
	case posix.UserObj:
		c.Who = k.t.PosixName(x.Owner)
		c.Entry = "owner " + c.Who
	case posix.User:
		c.Who = k.t.PosixName(e.Who)
		c.Entry = "user " + c.Who
	case posix.GroupObj:
		c.Who = k.t.PosixName(x.Group)
		c.Entry = "group " + c.Who
	case posix.Group:
		c.Who = k.t.PosixName(e.Who)
		c.Entry = "group " + c.Who
	default:
		c.Entry = "others"
	}
	c.Entry += " " + c.Perms
	if n := l.Counts(e); n != e.Perm {
		c.Counts = n.String()
	}
	return c
}

// alsoIn tells of the other groups of a list that somebody is in, where all of
// them together refuse.
func (k *Asker) alsoIn(r *Reason, a rule.Any, t *account.Token) {
	x, ok := a.(*posix.Rules)
	if !ok || r.Granted || r.Class == nil || r.Class.Tag != "group" && r.Class.Tag != "owning-group" {
		return
	}
	for i, e := range x.Read() {
		who := e.Who
		if e.Tag == posix.GroupObj {
			who = x.Group
		}
		if (e.Tag == posix.Group || e.Tag == posix.GroupObj) && t.Has(who) {
			if c := k.class(x, i); c.Entry != r.Class.Entry {
				r.Class.Also = append(r.Class.Also, c.Who)
			}
		}
	}
}

// ungiven says of a right that nothing grants on a POSIX tree why that is.
func (k *Asker) ungiven(r *Reason, q *verdict.Question, x *posix.Rules, p estate.Place, one right.Set, above []rule.Any) {
	switch {
	case x.Bounds().Never&one != 0:
		r.By = "never-runs"
	case one&(right.WriteACL|right.WriteAttributes) != 0:
		r.By = "owners-alone"
	case one == right.WriteOwner:
		r.By = "root-alone"
	case one == right.Delete && stopsTaking(r, q):
	case one == right.Delete && len(above) > 0:
		r.By = "folder"
		r.SetOn = p.Up(1)
		if up, ok := above[0].(*posix.Rules); ok && q.Parent != nil {
			if up.Bounds().OwnersOnly && verdict.Given(q.Parent, q.Token, right.WriteData) != 0 {
				r.By = "sticky"
				return
			}
			if c := k.decided(q.Parent, q.Token, right.WriteData); c >= 0 {
				r.Class = k.class(up, c)
				r.Entry = r.Class.Entry
			}
		}
	}
}

// stopsTaking tells whether a share doesn't let through what taking things out
// of a folder is, and says so.
func stopsTaking(r *Reason, q *verdict.Question) bool {
	if q.Share == nil {
		return false
	}
	door, through := q.Connect()
	if through&right.DeleteChild != 0 {
		return false
	}
	if r.By = "share-stops"; door.ReadOnly {
		r.By = "read-only"
	}
	return true
}

// decided gives the entry that decides a right by steps; -1: none.
func (k *Asker) decided(l *rule.List, t *account.Token, one right.Set) int {
	for i := range l.Steps {
		if s := &l.Steps[i]; s.Rights&one != 0 && (s.Who.IsZero() || t.Has(s.Who)) {
			return s.Entry
		}
	}
	return -1
}

// PosixShown is what stands on an item of a POSIX tree.
type PosixShown struct {
	Mode    string   `json:"mode"`    // octal, four digits
	Letters string   `json:"letters"` // rwxr-s---
	Access  []string `json:"access"`  // long text form (§23.3), an entry a line
	Default []string `json:"default,omitempty"`
	Skipped bool     `json:"skipped,omitempty"` // the mask is empty: a kernel passes over the list
	Sticky  bool     `json:"sticky,omitempty"`
	SetGID  bool     `json:"set-gid,omitempty"`
	Text    string   `json:"text"` // in one line: letters, and lists in the short form
	// Kept are the entries of a descriptor that an SMB server keeps beside, and
	// KeptOwner its owner; KeptRules is absent, empty or present.
	Kept      []string `json:"kept-beside,omitempty"`
	KeptOwner string   `json:"kept-beside-owner,omitempty"`
	KeptRules string   `json:"kept-beside-rules,omitempty"`
}

// write writes an entry as rules list it: of a POSIX list as its text form has
// it, and as the language has it anywhere else.
func (k *Asker) write(a rule.Any, e rule.Entry, folder bool) string {
	x, ok := a.(*posix.Rules)
	if !ok {
		return k.lang.Write(e, folder)
	}
	i := slices.Index(k.AsEntries(x).Rules.Entries, e)
	if i < 0 {
		return k.lang.Write(e, folder)
	}
	lines := append(k.t.PosixLines(x.Read(), false), k.t.PosixLines(x.Default, true)...)
	return estate.PosixEntry(lines[i])
}

// showPosix lists what stands on an item of a POSIX tree.
func (k *Asker) showPosix(x *posix.Rules) *PosixShown {
	octal, letters := estate.Mode(x.Mode())
	out := &PosixShown{Mode: octal, Letters: letters, Access: k.t.PosixLines(x.Access, false), Default: k.t.PosixLines(x.Default, true), Skipped: x.Skips(),
		Sticky: x.Folder && x.Special&posix.Sticky != 0, SetGID: x.Folder && x.Special&posix.SetGID != 0, Text: k.t.PosixText(x)}
	if x.Kept != nil {
		out.KeptOwner, out.KeptRules = k.t.Name(x.Kept.Owner), rulesAre(&x.Kept.Rules)
		for _, e := range x.Kept.Rules.Entries {
			out.Kept = append(out.Kept, k.lang.Write(e, x.Folder))
		}
	}
	return out
}

// whyPOSIX tells how an item of a POSIX tree differs from its folder: another
// owner or group, and a list that isn't what the folder's stands for.
func (k *Asker) whyPOSIX(x *posix.Rules, above rule.Any) (why []Why) {
	up, ok := above.(*posix.Rules)
	if !ok {
		return []Why{{By: "entry", Entry: k.t.PosixText(x)}}
	}
	if !x.Like(up) {
		why = append(why, Why{By: "entry", Entry: k.t.PosixText(x)})
	}
	if x.Owner != up.Owner {
		why = append(why, Why{By: "owner", Owner: k.t.PosixName(x.Owner)})
	}
	if x.Group != up.Group {
		why = append(why, Why{By: "group", Owner: k.t.PosixName(x.Group)})
	}
	return why
}

// Mode is the bits and lists of one item.
type Mode struct {
	Where string      `json:"where"`
	Kind  string      `json:"kind"`
	Owner Account     `json:"owner"`
	Group Account     `json:"group"`
	POSIX *PosixShown `json:"posix"`
}

// Modes tells the bits and lists of items of POSIX trees.
func (k *Asker) Modes(items []estate.Target) ([]Mode, error) {
	out := []Mode{}
	for _, x := range items {
		r, ok := k.t.Of(x.Strand).(*posix.Rules)
		if !ok {
			return nil, unfit("see: tarnwold show", "%s is no item of a POSIX tree: it has entries, and no mode", k.t.Where(x.Item))
		}
		d := k.AsEntries(r)
		out = append(out, Mode{k.t.Where(x.Item), Kind(x.Folder), k.Account(d.Owner), k.Account(d.Group), k.showPosix(r)})
	}
	return out, k.t.Err()
}
