package rule

import (
	"tarnwold/core/account"
	"tarnwold/core/right"
)

// A mandatory label ([MS-DTYP] §2.4.4.13) says how trustworthy somebody has to be to write
// to an item, or to read or run it, whatever its rules say (§2.5.3.3). Who signs on from
// elsewhere is of medium integrity, and of high where they are an administrator of the
// machine.

// labels is the authority of integrity levels, S-1-16-….
const labels = 16

const (
	medium = 0x2000
	high   = 0x3000
)

// The policies of a label, in the mask of its entry.
const (
	noWriteUp right.Set = 1 << iota
	noReadUp
	noExecuteUp
)

// What each policy takes if it is set: all that isn't given by the others.
const (
	readsUp    right.Set = 0x120089
	writesUp   right.Set = 0x120116
	executesUp right.Set = 0x1200a0
)

// label gives what the first label that takes effect leaves, as steps that are asked
// besides; nil: it takes nothing from anybody.
func (d *Descriptor) label() []Step {
	for i := range d.Audit.Entries {
		e := &d.Audit.Entries[i]
		if e.Kind != Label || e.Flags&InheritOnly != 0 {
			continue
		}
		level, ok := e.Who.Last(labels)
		if !ok || level <= medium {
			return nil
		}
		var left right.Set
		for _, p := range []struct{ policy, gives right.Set }{{noReadUp, readsUp}, {noWriteUp, writesUp}, {noExecuteUp, executesUp}} {
			if e.Rights&p.policy == 0 {
				left |= p.gives
			}
		}
		var steps []Step
		if level <= high {
			steps = append(steps, Step{Who: account.MustID("S-1-5-32-544"), Rights: right.All, Source: OfLabel, Entry: -1})
		}
		return append(steps, Step{Rights: right.All &^ left, Refuses: true, Source: OfLabel, Entry: -1}, Step{Rights: left, Source: OfLabel, Entry: -1})
	}
	return nil
}
