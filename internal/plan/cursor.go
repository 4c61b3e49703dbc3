package plan

import (
	"tarnwold/internal/estate"
)

// SyncCursor is how far a directory was read the last time.
type SyncCursor struct {
	Directory string
	At        int64 // seconds since 1970; 0: never
	Changed   int64 // the highest of what grows there with every change; 0: not known
	Head      int64 // the journal's last change that what was read was held to
}

// marks are the names a reading is remembered under.
func (r *SyncCursor) marks() map[string]*int64 {
	at := "directory " + r.Directory
	return map[string]*int64{at: &r.At, at + " changed": &r.Changed, at + " head": &r.Head}
}

// CursorOf tells how far a directory was read.
func CursorOf(t *estate.Tx, name string) *SyncCursor {
	r := &SyncCursor{Directory: name}
	for mark, n := range r.marks() {
		*n = t.Marked(mark)
	}
	return r
}

// Remember writes a reading down; it is not a change of the estate.
func (r *SyncCursor) Remember(t *estate.Tx) error {
	for mark, n := range r.marks() {
		t.Mark(mark, *n)
	}
	return t.Err()
}

// TakenBack tells whether people that came from a directory were taken back since
// it was read, so that what changed there since then isn't all that is missing here.
func (r *SyncCursor) TakenBack(t *estate.Tx) bool {
	for _, x := range t.Log() {
		if x.ID <= r.Head {
			break
		}
		if x.Undoes != 0 && t.Origin(x.Undoes) == OriginDirectory+r.Directory {
			return true
		}
	}
	return false
}
