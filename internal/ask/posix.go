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
	// Also are other groups of the list that they are in, where none has the right.
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
		c.Who = k.T.PosixName(x.Owner)
		c.Entry = "owner " + c.Who
	case posix.User:
		c.Who = k.T.PosixName(e.Who)
		c.Entry = "user " + c.Who
	case posix.GroupObj:
		c.Who = k.T.PosixName(x.Group)
		c.Entry = "group " + c.Who
	case posix.Group:
		c.Who = k.T.PosixName(e.Who)
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
	case q.Item.Never&one != 0:
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
			if q.Parent.OwnersOnly && verdict.Given(q.Parent, q.Token, right.WriteData) != 0 {
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
		if s := &l.Steps[i]; s.Rights&one != 0 && s.Fits(t) {
			return s.Entry
		}
	}
	return -1
}

// Write writes an entry as rules list it: of a POSIX list as its text form has
// it, and as the language has it anywhere else.
func (k *Asker) Write(a rule.Any, e rule.Entry, folder bool) string {
	x, ok := a.(*posix.Rules)
	if !ok {
		return k.Lang.Write(e, folder)
	}
	i := slices.Index(k.AsEntries(x).Rules.Entries, e)
	if i < 0 {
		return k.Lang.Write(e, folder)
	}
	lines := append(k.T.PosixLines(x.Read(), false), k.T.PosixLines(x.Default, true)...)
	return estate.PosixEntry(lines[i])
}
