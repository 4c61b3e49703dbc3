package posix

import (
	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// An SMB server over a POSIX tree that keeps no descriptors makes one of the
// list it finds and decides by that, and asks the kernel besides when it opens
// the file. The two differ: a descriptor's entries add up, a list's classes
// don't; and the kernel isn't asked for all that the descriptor speaks of. What
// it makes of each permission is in [MS-DTYP] §2.4.3's generic rights, as they
// were measured (docs/decisions.md).
const (
	servedR   right.Set = 0x120089
	servedW   right.Set = 0x120116
	servedX   right.Set = 0x1200a0
	servedAll right.Set = 0x1f01ff
)

func served(p Perm, folder, kept bool) (s right.Set) {
	switch {
	case p == R|W|X && (folder || kept):
		return servedAll
	case p == R|W|X: // whoever deletes it needs the folder above
		return servedAll &^ right.Delete
	}
	if p&R != 0 {
		s |= servedR
	}
	if p&W != 0 {
		if s |= servedW; folder {
			s |= right.DeleteChild
		}
		if kept {
			s |= right.Delete | right.WriteACL | right.WriteOwner
		}
	}
	if p&X != 0 {
		s |= servedX
	}
	return s
}

// served gives the steps of the descriptor that a server makes of the list.
func (r *Rules) served(how rule.Reading) []rule.Step {
	kept := how.Served == rule.ServedKept
	if kept && r.Kept != nil {
		return r.Kept.Steps(how)
	}
	l := r.list()
	mask := l.mask()
	var steps []rule.Step
	if how.Owner && !how.Adding && !r.Owner.IsZero() {
		steps = append(steps, rule.Step{Who: r.Owner, Rights: right.ReadACL | right.WriteACL, Entry: -1, Source: rule.OfOwner})
	}
	for i, e := range l {
		who := e.Who
		switch e.Tag {
		case Mask:
			continue
		case UserObj:
			who = r.Owner
		case GroupObj:
			who = r.Group
		case Other:
			who = account.Everyone
		}
		if m := served(e.counts(mask), r.Folder, kept) & right.All; m != 0 && !who.IsZero() {
			steps = append(steps, rule.Step{Who: who, Rights: m, Entry: i})
		}
	}
	return steps
}

// Beneath gives what the kernel is asked besides where an SMB server decides
// first. It opens a folder to read whatever is to be done with its names, a file
// to read for what reads or runs it, and to write for what writes it.
func (r *Rules) Beneath(how rule.Reading) []rule.Step {
	if how.Served == rule.NotServed {
		return nil
	}
	reads, writes := right.ReadData|right.Execute, right.WriteData|right.AppendData
	if r.Folder {
		reads, writes = right.ReadData|right.WriteData|right.AppendData, 0
	}
	if r.Folder && how.Adding { // it is opened by the name of what is made
		return r.classes(func(p Perm, _ bool) right.Set {
			if p&(W|X) != W|X {
				return right.All &^ reads
			}
			return right.All
		})
	}
	return r.classes(func(p Perm, _ bool) right.Set {
		s := right.All &^ (reads | writes)
		if p&R != 0 {
			s |= reads
		}
		if p&W != 0 {
			s |= writes
		}
		return s
	})
}
