package rule

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
)

// Control holds the control flags of a descriptor, [MS-DTYP] §2.4.6.
type Control uint16

const (
	OwnerDefaulted Control = 1 << iota
	GroupDefaulted
	RulesPresent
	RulesDefaulted
	AuditPresent
	AuditDefaulted
	TrustedRules
	ServerSecurity
	RulesInheritAsked
	AuditInheritAsked
	RulesFollow // entries come from above automatically
	AuditFollow
	RulesSealed // protected: takes no entries from above
	AuditSealed
	ManagerValid
	SelfRelative
)

// Rules are the entries of one item or share, in order. Absent rules and
// empty rules are opposites: absent opens everything to everyone, empty
// closes it. The zero value is empty.
type Rules struct {
	Absent  bool
	Entries []Entry
	// Four: the list says revision 4 where 2 would do ([MS-DTYP] §2.4.5), and is written
	// back so.
	Four bool
}

// Own lists the entries set on the item itself, in order.
func (r *Rules) Own() []Entry { return pick(r.Entries, true) }

// FromAbove lists the inherited entries, in order.
func (r *Rules) FromAbove() []Entry { return pick(r.Entries, false) }

func pick(es []Entry, own bool) []Entry {
	var out []Entry
	for _, e := range es {
		if e.Own() == own {
			out = append(out, e)
		}
	}
	return out
}

// Descriptor is the security descriptor of an item or share, [MS-DTYP] §2.4.6.
// One that is shared is never changed in place: Clone it first.
type Descriptor struct {
	Owner, Group account.ID // zero: not said
	Control      Control
	Rules        Rules // who may do what
	Audit        Rules // what is written down, kept through every change
	Manager      uint8 // the resource manager's byte, valid with ManagerValid
	Mark         Mark  // what stands beside the rules, and is not part of a descriptor
}

// Mark is what an item carries beside its rules and counts whatever they say.
type Mark uint8

const (
	// ReadOnly is the read-only mark ([MS-FSCC] §2.6, FILE_ATTRIBUTE_READONLY): nobody
	// writes to the item, and it isn't deleted.
	ReadOnly Mark = 1 + iota
	// ReadOnlyFolder is the same mark where it is known to stand on a folder, of which some
	// servers say nothing by it but that it isn't deleted (Reading.FoldersKept).
	ReadOnlyFolder
)

// Known tells whether a mark is one that is counted.
func (m Mark) Known() bool { return m <= ReadOnlyFolder }

// refuses are the rights that a mark takes from everybody, an administrator too.
func (m Mark) refuses(how Reading) right.Set {
	if m == ReadOnly || m == ReadOnlyFolder && !how.FoldersKept {
		return right.WriteData | right.AppendData
	}
	return 0
}

// NamesNow tells whether an entry that takes effect on the item itself names an account.
func (d *Descriptor) NamesNow(id account.ID) bool {
	for i := range d.Rules.Entries {
		if e := &d.Rules.Entries[i]; e.Who == id && e.Flags&InheritOnly == 0 {
			return true
		}
	}
	return false
}

// Marked gives the descriptor with another mark.
func (d *Descriptor) Marked(m Mark) *Descriptor {
	if d.Mark == m {
		return d
	}
	c := d.Clone()
	c.Mark = m
	return c
}

// Sealed tells whether the item takes no entries from above.
func (d *Descriptor) Sealed() bool { return d.Control&RulesSealed != 0 }

// Clone copies the descriptor, its lists too.
func (d *Descriptor) Clone() *Descriptor {
	c := *d
	c.Rules.Entries = slices.Clone(d.Rules.Entries)
	c.Audit.Entries = slices.Clone(d.Audit.Entries)
	return &c
}

// Renamed gives the descriptor with other identifiers in the place of some.
func (d *Descriptor) Renamed(as map[account.ID]account.ID) *Descriptor {
	c := d.Clone()
	names := []*account.ID{&c.Owner, &c.Group}
	for _, list := range [][]Entry{c.Rules.Entries, c.Audit.Entries} {
		for i := range list {
			names = append(names, &list[i].Who)
		}
	}
	for _, id := range names {
		if other, ok := as[*id]; ok {
			*id = other
		}
	}
	return c
}

// Equal tells whether two descriptors are the same in everything.
func (d *Descriptor) Equal(o *Descriptor) bool {
	return d.Owner == o.Owner && d.Group == o.Group && d.Control == o.Control && d.Manager == o.Manager && d.Mark == o.Mark &&
		d.Rules.Equal(&o.Rules) && d.Audit.Equal(&o.Audit)
}

// Equal tells whether two lists are the same, absence too.
func (r *Rules) Equal(o *Rules) bool {
	return r.Absent == o.Absent && r.Four == o.Four && slices.Equal(r.Entries, o.Entries)
}

// Misplaced gives the place of the first entry that is out of canonical
// order: own deny, own allow, then inherited. Inherited entries keep the
// order they came in, which is canonical folder by folder. -1: none is.
func (r *Rules) Misplaced() int {
	stage := 0
	for i, e := range r.Entries {
		at := e.stage()
		if at < stage {
			return i
		}
		stage = at
	}
	return -1
}

// stage is where canonical order has an entry: 0 own deny, 1 own allow, 2 inherited.
func (e Entry) stage() int {
	switch {
	case !e.Own():
		return 2
	case e.Kind.Refuses():
		return 0
	}
	return 1
}

// OwnersOwn gives the rights that owning brings before any entry is looked
// at: read-acl and write-acl, unless an entry for owner@ that takes effect
// stands in the list ([MS-DTYP] §2.5.3.2).
func OwnersOwn(d *Descriptor) right.Set {
	for i := range d.Rules.Entries {
		if e := &d.Rules.Entries[i]; e.Who == account.OwnerRights && e.Flags&InheritOnly == 0 {
			return 0
		}
	}
	return right.ReadACL | right.WriteACL
}
