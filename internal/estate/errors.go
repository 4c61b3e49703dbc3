package estate

import (
	"errors"
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"

	"tarnwold/core/right"
	"tarnwold/internal/format"
	"tarnwold/internal/store"
)

// ErrMoved is a change worked out on an estate that is another one now.
var ErrMoved = errors.New("the estate was changed by someone else meanwhile and nothing was kept; look again, then try again")

// NotFound is a name that nothing in the estate has.
type NotFound struct {
	What string   `json:"what"` // user, group, account, server, share, place, …
	Name string   `json:"name"`
	In   string   `json:"in,omitempty"`   // where it was looked for
	Near []string `json:"near,omitempty"` // the nearest names there are
}

func (e *NotFound) Error() string {
	s := fmt.Sprintf("there is no %s %q", e.What, format.Clip(e.Name))
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

// levelMeant are words that other systems have for a level, and the built-in level nearest.
var levelMeant = map[string]string{
	"modify": "edit", "change": "edit", "write": "edit", "read-write": "edit", "readwrite": "edit", "rw": "edit", "rwx": "edit", "m": "edit", "w": "edit", "c": "edit", "contribute": "edit",
	"full-control": "full", "fullcontrol": "full", "full control": "full", "all": "full", "everything": "full", "owner": "full", "admin": "full", "f": "full", "fa": "full",
	"read-only": "read", "readonly": "read", "ro": "read", "r": "read", "rx": "read", "r-x": "read", "r--": "read", "view": "read", "read-execute": "read",
	"list-folder": "list", "browse": "list", "traverse": "pass", "enter": "pass", "x": "pass", "append": "add", "upload": "drop",
}

// NoLevel says that a word is neither a level nor a right, and which is nearest to it or
// to what it means elsewhere.
func NoLevel(word string, levels right.Levels) *NotFound {
	e := &NotFound{What: "level or right", Name: word}
	if level := levelMeant[strings.ToLower(strings.TrimSpace(word))]; level != "" {
		e.Near = []string{level}
		return e
	}
	names := right.AllNames()
	for _, l := range levels {
		names = append(names, l.Name)
	}
	if e.Near = Nearest(word, names); len(e.Near) == 0 {
		e.In = "the estate; see: tarnwold level list"
	}
	return e
}

// Refused is a command that was understood and is not carried out.
type Refused struct {
	Why string `json:"why"`
	Do  string `json:"do,omitempty"` // what to do instead
}

func (e *Refused) Error() string {
	if e.Do != "" {
		return e.Why + "; " + e.Do
	}
	return e.Why
}

func refuse(do, why string, args ...any) error {
	return &Refused{Why: fmt.Sprintf(why, args...), Do: do}
}

// Nearest picks up to three names that are close to one that isn't there.
func Nearest(name string, names []string) []string {
	type scored struct {
		name string
		far  int
	}
	if len(name) > 256 {
		return nil
	}
	low := store.Key(name)
	limit := max(1, utf8.RuneCountInString(name)/3)
	var near []scored
	for _, n := range names {
		key := store.Key(n)
		begins := utf8.RuneCountInString(name) > 2 && strings.HasPrefix(key, low)
		if d := len(key) - len(low); !begins && (d > 4*limit || -d > 4*limit) {
			continue
		}
		far := distance(low, key)
		if far > limit && begins {
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
