package edit

import (
	"slices"

	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// Share is a share that comes, goes or changes: its rules, its read-only switch,
// what a configuration says of it.
type Share struct {
	Server        estate.Server
	Before, After *estate.Share // nil: isn't there
	Days          *LastDays     // of its entries, where they change with it
}

// Changes tells whether the share is there before and after.
func (e *Share) Changes() bool { return e.Before != nil && e.After != nil }

// Either gives the share as it will be, or as it was where it goes.
func (e *Share) Either() *estate.Share {
	if e.After != nil {
		return e.After
	}
	return e.Before
}

// Sides gives the share before and after, as far as it is there.
func (e *Share) Sides() (out []*estate.Share) {
	for _, sh := range []*estate.Share{e.Before, e.After} {
		if sh != nil {
			out = append(out, sh)
		}
	}
	return out
}

// Of tells whether the edit is of a share, by its row.
func (e *Share) Of(row int64) bool {
	return e.Before != nil && e.Before.ID == row || e.After != nil && e.After.ID == row
}

// Describe implements Edit.
func (e *Share) Describe(w Words) Description {
	either := e.Either()
	out := Description{Kind: "share", Where: "share " + either.Address()}
	add := func(sign Sign, what, text string) {
		out.Lines = append(out.Lines, Line{Sign: sign, What: what, Text: text})
	}
	var before, after *rule.Descriptor
	switch {
	case e.Before == nil:
		after = e.After.Descriptor
		add(Comes, "share", "over "+e.After.Server+":"+e.After.Folder)
		if e.After.ReadOnly {
			add(Comes, "read-only", "")
		}
		if after.Rules.Absent {
			add(Comes, "absence", "")
		}
	case e.After == nil:
		before = e.Before.Descriptor
		add(Goes, "share", "over "+e.Before.Server+":"+e.Before.Folder)
	default:
		before, after = e.Before.Descriptor, e.After.Descriptor
		if e.Before.ReadOnly != e.After.ReadOnly {
			add(signOf(e.Before.ReadOnly, e.After.ReadOnly), "read-only", "")
		}
	}
	out.Lines = append(out.Lines, e.admissions(w)...)
	var was, is estate.Dated
	if e.Days != nil {
		was, is = e.Days.Before, e.Days.After
	}
	out.Lines = append(out.Lines, w.Diff(anyOf(before), anyOf(after), false, was, is)...)
	if after != nil {
		out.Lines = append(out.Lines, w.Dates(was, is, false, before, after)...)
	}
	return out
}

// anyOf gives a descriptor as rules of any kind; nil for nil.
func anyOf(d *rule.Descriptor) rule.Any {
	if d == nil {
		return nil
	}
	return d
}

// admissions tells what comes and goes of what a configuration says.
func (e *Share) admissions(w Words) (lines []Line) {
	var sides [2][]string
	for i, sh := range []*estate.Share{e.Before, e.After} {
		if sh != nil {
			sides[i] = w.Admitted(sh.Admission)
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

// Touches implements Edit: the folders it is over.
func (e *Share) Touches() Touch {
	t := Touch{Server: &e.Server}
	for _, sh := range e.Sides() {
		t.Paths = append(t.Paths, sh.Folder)
	}
	return t
}

// applyShares stores shares, once the folders they stand over are where they will be.
func (s *Set) applyShares(t *estate.Tx) {
	for i := range s.Shares {
		s.Shares[i].apply(t)
	}
	if !s.PutsBack("") && len(s.Moved)+len(s.Made) == 0 {
		return
	}
	for _, sv := range t.Servers() { // what came may be what a share stands over
		for _, sh := range t.Shares(sv) {
			if at, err := t.At(sv, sh.Folder); err == nil {
				t.Alone(at.Item)
			}
		}
	}
}

func (e *Share) apply(t *estate.Tx) {
	switch {
	case e.Before == nil:
		s := standing(t, e.Server)
		if e.After.ID == 0 {
			t.AddShare(s, *e.After)
		}
		if at, err := t.At(s, e.After.Folder); err == nil {
			t.Alone(at.Item) // routes end there
		}
	case e.After == nil:
		t.RemoveShare(e.Before.ID)
	default:
		t.SetShare(e.Before.ID, e.After.Descriptor)
		if e.Before.ReadOnly != e.After.ReadOnly {
			t.SetSwitch(e.Before.ID, e.After.ReadOnly)
		}
		if !e.Before.Admission.Same(e.After.Admission) {
			t.SetAdmission(e.Before.ID, e.After.Admission)
		}
	}
}
