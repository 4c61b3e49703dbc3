package edit

import (
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// MadeItem is a file or folder that comes.
type MadeItem struct {
	In     estate.Place // the folder; used where InMade < 0
	InMade int          // which of those made is the folder, where that is new too
	Name   string
	Folder bool
	D      rule.Any
	Facts  format.Facts
}

// MovedItem is an item that gets another folder or name.
type MovedItem struct {
	Item, Folder int64
	Name         string
}

// LastDays are the last days of the entries of an item or a share.
type LastDays struct {
	Of     estate.Bearer
	Before estate.Dated
	After  estate.Dated
	Folder bool
	Node   int // of the plan's partition; -1: none
}

// applyItems stores items that come, move and go. What is in a folder that comes is
// made after it, and what is in one that goes is gone before it.
func (s *Set) applyItems(t *estate.Tx) {
	ids := make([]int64, len(s.Made))
	for i, m := range s.Made {
		if m.InMade >= 0 {
			ids[i] = t.MakeIn(ids[m.InMade], m.Name, m.Folder, m.D)
		} else {
			ids[i] = t.Make(m.In, m.Name, m.Folder, m.D)
		}
		if m.Facts != (format.Facts{}) {
			t.SetFacts(ids[i], m.Facts)
		}
	}
	for _, m := range s.Moved {
		t.Move(m.Item, m.Folder, m.Name)
	}
	if len(s.Removed) > 0 {
		t.Remove(s.Removed)
	}
	for i := range s.Rows {
		if s.Rows[i].After == nil {
			s.Rows[i].remove(t)
		}
	}
}

// Level is a level of the estate's own that comes or goes.
type Level struct {
	Level right.Level
	Add   bool
}

// Describe implements Edit.
func (e *Level) Describe(Words) Description {
	return Description{Kind: "level", Where: "level " + e.Level.Name, Lines: []Line{{Sign: signOf(!e.Add, e.Add), What: "level"}}}
}

// Touches implements Edit: nobody's access, for entries hold rights.
func (e *Level) Touches() Touch { return Touch{} }

func (e *Level) apply(t *estate.Tx) error {
	if e.Add {
		return t.AddLevel(e.Level)
	}
	return t.RemoveLevel(e.Level.Name)
}
