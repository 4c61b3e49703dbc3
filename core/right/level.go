package right

import (
	"fmt"
	"sort"
	"strings"
)

// Level is a named set of rights with a part for folders and a part for
// files. An empty File part means the level says nothing about files.
type Level struct {
	Name         string
	Folder, File Set
	About        string // what it lets a person do, in a few words
}

// What is what an entry allows or denies before it has a scope: one set of
// rights for folders and one for files.
type What struct{ Folder, File Set }

// Part says which part of a level counts.
type Part uint8

const (
	OnFolder Part = 1 << iota
	OnFile
	OnBoth = OnFolder | OnFile
)

// The sets the built-in levels are made of.
const (
	pass   = Execute | ReadAttributes | Synchronize
	list   = ReadData | ReadNamedAttrs | ReadAttributes | ReadACL | Synchronize
	read   = list | Execute
	drop   = pass | WriteData | AppendData
	add    = read | drop
	revise = add | WriteNamedAttrs | WriteAttributes
	edit   = revise | Delete
)

var builtin = [...]Level{
	{"pass", pass, 0, "go through, no names shown"},
	{"list", list, 0, "see names and details"},
	{"drop", drop, 0, "put new things in, see nothing"},
	{"read", read, read, "list and go through; read and run files"},
	{"add", add, read, "read, and put new things in; files as they are"},
	{"revise", revise, revise, "add, and change contents; no delete"},
	{"edit", edit, edit, "revise, and delete"},
	{"full", All, All, "everything, rules and owner too"},
}

// Levels is a list of levels in use, none twice.
type Levels []Level

// Builtin gives the levels that come built in, weakest first.
func Builtin() Levels { return append(Levels(nil), builtin[:]...) }

// IsBuiltin tells whether a level's name is one of the built-in ones.
func IsBuiltin(name string) bool {
	_, ok := Levels(builtin[:]).Lookup(name)
	return ok
}

// With gives the list with further levels, weakest first.
func (ls Levels) With(more ...Level) Levels {
	all := append(append(Levels(nil), ls...), more...)
	sort.SliceStable(all, func(i, j int) bool {
		return all[i].Folder.Len()+all[i].File.Len() < all[j].Folder.Len()+all[j].File.Len()
	})
	return all
}

// Lookup finds a level by name.
func (ls Levels) Lookup(name string) (Level, bool) {
	for _, l := range ls {
		if strings.EqualFold(l.Name, name) {
			return l, true
		}
	}
	return Level{}, false
}

// Parse reads levels and rights joined by commas: "read,add-file".
func (ls Levels) Parse(s string) (What, error) {
	var w What
	for _, word := range strings.Split(s, ",") {
		word = strings.TrimSpace(word)
		if l, ok := ls.Lookup(word); ok {
			w.Folder |= l.Folder
			w.File |= l.File
			continue
		}
		set, err := Parse(word)
		if err != nil {
			return What{}, err
		}
		w.Folder |= set
		w.File |= set
	}
	if w == (What{}) {
		return What{}, fmt.Errorf("%q holds no right", s)
	}
	return w, nil
}

// part gives the rights a level must find covered, and whether it speaks of
// that part at all.
func (l Level) part(p Part) (Set, bool) {
	switch p {
	case OnFolder:
		return l.Folder, l.Folder != 0
	case OnFile:
		return l.File, l.File != 0
	}
	return l.Folder | l.File, l.Folder == l.File
}

// Fold finds the strongest level that s covers, and the rights over it.
// ok is false where s covers no level; over is then the whole of s. Only the
// rights in count are looked at.
func (ls Levels) Fold(s Set, p Part, count Set) (l Level, over Set, ok bool) {
	best := -1
	for _, c := range ls {
		set, speaks := c.part(p)
		if set &= count; speaks && set != 0 && s.Has(set) && set.Len() > best {
			l, best, ok = c, set.Len(), true
		}
	}
	if !ok {
		return Level{}, s & count, false
	}
	set, _ := l.part(p)
	return l, s & count &^ set, true
}

// Write names a set the way an entry is typed: "read,add-file". Parse of it
// gives the same set again.
func (ls Levels) Write(s Set, p Part) string {
	if s == 0 {
		return "0x0"
	}
	l, over, ok := ls.Fold(s, p, ^Set(0))
	names := over.Names(p == OnFolder)
	if ok {
		names = append([]string{l.Name}, names...)
	}
	return strings.Join(names, ",")
}

// Nothing tells whether a set of granted rights opens nothing worth a name:
// none, or no more than what a server shows of an item to whoever can name it.
// Synchronize is left out of account.
func Nothing(s Set) bool { return s&Access&^ReadAttributes == 0 }

// Show names a set of granted rights for a reader: "read + write-attributes",
// "nothing" (see Nothing).
func (ls Levels) Show(s Set, folder bool) string {
	p := OnFile
	if folder {
		p = OnFolder
	}
	s &= Access
	if Nothing(s) {
		return "nothing"
	}
	l, over, ok := ls.Fold(s, p, Access)
	names := over.Names(folder)
	if ok {
		names = append([]string{l.Name}, names...)
	}
	return strings.Join(names, " + ")
}
