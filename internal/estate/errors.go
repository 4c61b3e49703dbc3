package estate

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sort"
	"strings"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// NotFound is a name that nothing in the estate has.
type NotFound struct {
	What string // user, group, account, server, share, place, …
	Name string
	In   string   // where it was looked for; may be empty
	Near []string // the nearest names there are
}

func (e *NotFound) Error() string {
	s := fmt.Sprintf("there is no %s %q", e.What, e.Name)
	if e.In != "" {
		s += " in " + e.In
	}
	switch len(e.Near) {
	case 0:
	case 1:
		s += fmt.Sprintf("; the nearest is %q", e.Near[0])
	default:
		quoted := make([]string, len(e.Near))
		for i, n := range e.Near {
			quoted[i] = fmt.Sprintf("%q", n)
		}
		s += "; the nearest are " + strings.Join(quoted[:len(quoted)-1], ", ") + " and " + quoted[len(quoted)-1]
	}
	return s
}

// Refused is a command that was understood and is not carried out.
type Refused struct {
	Why  string
	Do   string // what to do instead; may be empty
	When error  // what it rests on; may be nil
}

func (e *Refused) Error() string {
	if e.Do != "" {
		return e.Why + "; " + e.Do
	}
	return e.Why
}

func (e *Refused) Unwrap() error { return e.When }

func refuse(do, why string, args ...any) error {
	return &Refused{Why: fmt.Sprintf(why, args...), Do: do}
}

// The ways an estate file can be out of reach.
var (
	ErrBusy  = errors.New("another process is writing to the estate; try again when it is done")
	ErrFull  = errors.New("the disk is full; nothing was changed")
	ErrMoved = errors.New("the estate was changed by someone else meanwhile; look again, then try again")
)

// plain turns what the database says into words an administrator can act on.
func plain(err error) error {
	if errors.Is(err, context.Canceled) {
		return errStopped
	}
	var se *sqlite.Error
	if !errors.As(err, &se) {
		return err
	}
	switch se.Code() & 0xff {
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return ErrBusy
	case sqlite3.SQLITE_FULL:
		return ErrFull
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM:
		return fmt.Errorf("the estate can't be written: %w", fs.ErrPermission)
	case sqlite3.SQLITE_NOTADB:
		return errNotEstate
	case sqlite3.SQLITE_CORRUPT:
		return errors.New("the estate file is damaged; take it from a backup")
	case sqlite3.SQLITE_INTERRUPT:
		return errStopped
	}
	return err
}

var errStopped = errors.New("stopped; nothing was changed")

var errNotEstate = errors.New("the file is not an estate")

// Nearest picks up to three names that are close to one that isn't there.
func Nearest(name string, names []string) []string { return nearest(name, names) }

// nearest picks up to three names that are close to one that isn't there.
func nearest(name string, names []string) []string {
	type scored struct {
		name string
		far  int
	}
	limit := max(1, len(name)/3)
	var near []scored
	for _, n := range names {
		far := distance(strings.ToLower(name), strings.ToLower(n))
		if far > limit && len(name) > 2 && strings.HasPrefix(strings.ToLower(n), strings.ToLower(name)) {
			far = limit
		}
		if far <= limit {
			near = append(near, scored{n, far})
		}
	}
	sort.SliceStable(near, func(i, j int) bool { return near[i].far < near[j].far })
	var out []string
	for _, s := range near[:min(3, len(near))] {
		out = append(out, s.name)
	}
	return out
}

// distance counts the edits between two words; letters that changed places
// count one.
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	var before []int
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(x); i++ {
		next := make([]int, len(y)+1)
		next[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			next[j] = min(row[j]+1, next[j-1]+1, row[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				next[j] = min(next[j], before[j-2]+1)
			}
		}
		before, row = row, next
	}
	return row[len(y)]
}
