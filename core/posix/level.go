package posix

import (
	"tarnwold/core/right"
)

// Nothing tells whether granted rights open nothing worth a name: whoever gets
// to an item sees what it is and reads its list.
func Nothing(s right.Set) bool { return s&right.Access&^everyones == 0 }

const notAtOnce = " and -w-, not at once"

// LevelApart is Level of a file that somebody reads by one group and writes by another: they
// open it for either.
func LevelApart(s right.Set) string { return Level(s&^writes, false) + notAtOnce }

// Level names granted rights for a reader: the level they come to and the
// permissions, "edit rw-", "read r-x as owner".
func Level(s right.Set, folder bool) string {
	if Nothing(s) {
		return "nothing"
	}
	if s&right.WriteOwner != 0 { // root
		return "full"
	}
	var p Perm
	for _, x := range []struct {
		right right.Set
		bit   Perm
	}{{right.ReadData, R}, {right.WriteNamedAttrs, W}, {right.Execute, X}} {
		if s&x.right != 0 {
			p |= x.bit
		}
	}
	word, takesOut := "", false
	// Writing into a folder takes write and execute of one entry of the list: who has them
	// by two has both, and puts nothing in.
	apart := folder && p&(W|X) == W|X && s&right.WriteData == 0
	if apart {
		p &^= W
	}
	switch {
	case folder && p == R|W|X && s&right.DeleteChild == 0:
		word = "add"
	case folder && p == R|W|X:
		word, takesOut = "edit", true
	case folder && p == R|X, !folder && p&(R|W) == R:
		word = "read"
	case folder && p == W|X:
		word = "drop"
	case folder && p == X:
		word = "pass"
	case !folder && p&(R|W) == R|W && s&right.Delete == 0:
		word = "revise"
	case !folder && p&(R|W) == R|W:
		word, takesOut = "edit", true
	}
	out := p.String()
	if apart {
		out += notAtOnce
	}
	if word != "" {
		out = word + " " + out
	}
	if s&right.Delete != 0 && !takesOut {
		out += " + delete"
	}
	if s&right.WriteACL != 0 {
		out += " as owner"
	}
	return out
}

// Meaning is what a level stands for on a POSIX tree.
type Meaning struct {
	Folder, File Perm
	// Runs: on a file execute comes too where it stands already for anybody.
	Runs bool
	// TakesOut: on a folder it lets things be taken out too, which the level
	// doesn't say; a sticky folder lets everybody take out only what is theirs.
	TakesOut bool
	// Over are rights of the level that no list gives: they are the owner's.
	Over right.Set
}

// Nothing tells whether no list can give any of it.
func (m Meaning) Nothing() bool { return m.Folder|m.File == 0 }

// adds are the rights of changing what is in something.
const adds = right.WriteData | right.AppendData

// Means says what rights stand for as permissions: on a folder reading is no
// use without going through, and adding none either.
func Means(w right.What) Meaning {
	var m Meaning
	if w.Folder&right.ReadData != 0 {
		m.Folder |= R | X
	}
	if w.Folder&right.Execute != 0 {
		m.Folder |= X
	}
	if w.Folder&(adds|right.DeleteChild) != 0 {
		m.Folder |= W | X
		m.TakesOut = w.Folder&(right.Delete|right.DeleteChild) == 0
	}
	if w.File&right.ReadData != 0 {
		m.File |= R
		m.Runs = w.File&right.Execute != 0
	} else if w.File&right.Execute != 0 {
		m.File |= X
	}
	if w.File&adds != 0 {
		m.File |= W
	}
	m.Over = (w.Folder | w.File) & (owners | right.WriteOwner)
	return m
}

// Asks gives the rights that are asked for on an item where somebody asks for a
// set of rights, as far as lists give them; deleting a folder is left out, for
// that is the folder's above. Rights that no list gives are asked for where
// they are asked for alone, or owning is.
func (r *Rules) Asks(s right.Set) right.Set {
	what := right.What{File: s}
	if r.Folder {
		what = right.What{Folder: s}
	}
	m := Means(what)
	if m.Nothing() {
		return s
	}
	out := r.rights(m.On(r), false) | s&(right.WriteACL|right.WriteOwner)
	if s&(right.Delete|right.DeleteChild) == 0 {
		out &^= right.DeleteChild
	}
	if !r.Folder {
		out |= s & right.Delete
	}
	return out
}

// On gives what it stands for on an item: as it would be given to it.
func (m Meaning) On(r *Rules) Perm {
	if r.Folder {
		return m.Folder
	}
	if m.Runs && r.runs() {
		return m.File | X
	}
	return m.File
}
