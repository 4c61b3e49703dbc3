package posix

import (
	"strings"

	"tarnwold/core/right"
)

// Marks are what stands beside the mode and the lists of an item and counts for everybody,
// root too: attributes of the item (chattr(1), statx(2)) and of what it is mounted from
// (statfs(2)). No rules give back what they take.
type Marks uint8

const (
	Immutable     Marks = 1 << iota // nobody changes it
	AppendOnly                      // it is only added to
	MountReadOnly                   // its file system is mounted read-only
	MountNoExec                     // and no program is run from it
	Held                            // the folder above is immutable or append-only: it isn't taken out
	marksEnd
)

// Known tells whether marks are those that are counted.
func (m Marks) Known() bool { return m < marksEnd }

const (
	itself = right.WriteNamedAttrs | right.WriteAttributes | right.WriteACL | right.WriteOwner | right.Delete
	inside = right.WriteData | right.AppendData | right.DeleteChild
)

// takes gives what one mark takes from everybody.
func (m Marks) takes(folder bool) right.Set {
	switch {
	case m == Immutable, m == MountReadOnly:
		return itself | inside
	case m == AppendOnly && folder: // what comes in stays
		return itself | right.DeleteChild
	case m == AppendOnly:
		return itself | right.WriteData
	case m == MountNoExec && !folder:
		return right.Execute
	case m == Held:
		return right.Delete
	}
	return 0
}

// Never gives what marks take from everybody.
func (m Marks) Never(folder bool) (s right.Set) {
	for one := Marks(1); one < marksEnd; one <<= 1 {
		if m&one != 0 {
			s |= one.takes(folder)
		}
	}
	return s
}

// Taking gives those marks that take a right.
func (m Marks) Taking(one right.Set, folder bool) (out Marks) {
	for x := Marks(1); x < marksEnd; x <<= 1 {
		if m&x != 0 && x.takes(folder)&one != 0 {
			out |= x
		}
	}
	return out
}

// Handed gives the marks of what comes into a folder that has some.
func (m Marks) Handed() Marks {
	out := m & (MountReadOnly | MountNoExec)
	if m&(Immutable|AppendOnly) != 0 {
		out |= Held
	}
	return out
}

var markNames = [...]string{"immutable", "append-only", "mounted-read-only", "mounted-noexec", "held-by-its-folder"}

// Names lists marks by name.
func (m Marks) Names() (out []string) {
	for i, name := range markNames {
		if m&(1<<i) != 0 {
			out = append(out, name)
		}
	}
	return out
}

func (m Marks) String() string { return strings.Join(m.Names(), ",") }

// Marked gives the rules with other marks.
func (r *Rules) Marked(m Marks) *Rules {
	if r.Marks == m {
		return r
	}
	c := *r
	c.Marks = m
	return &c
}
