package rule

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
)

// HandDown gives the entries that a child inherits from entries of its
// folder, in order and marked inherited ([MS-DTYP] §2.5.3.4.2 and .3, where
// they are computed one by one). Placeholders become the child's owner and
// group, and generic bits are mapped, in an entry that takes effect; on a
// folder the original is handed on beside it. Of identical entries one is kept.
func HandDown(entries []Entry, folder bool, owner, group account.ID) []Entry {
	var out []Entry
	put := func(e Entry) {
		if !slices.Contains(out, e) {
			out = append(out, e)
		}
	}
	for _, e := range entries {
		if e.Kind.HasObject() && len(e.Extra.Object) >= 4 && e.Extra.Object[0]&2 != 0 {
			continue // for one type of child only, and files have none
		}
		reaches, onward := e.Flags&ObjectInherit != 0, Flags(0)
		if folder {
			reaches = e.Flags&ContainerInherit != 0
			if e.Flags&NoPropagate == 0 {
				onward = e.Flags & (ObjectInherit | ContainerInherit)
			}
		}
		onChild := e
		onChild.Flags = e.Flags&^inheritance | Inherited
		onChild.Rights = e.Rights.Map()
		switch e.Who {
		case account.Creator:
			onChild.Who = owner
		case account.CreatorGroup:
			onChild.Who = group
		}
		handed := e
		handed.Flags = onChild.Flags | onward
		switch {
		case !reaches && onward == 0:
		case !reaches: // for files further down
			handed.Flags |= InheritOnly
			put(handed)
		case onChild.Who == e.Who && onChild.Rights == e.Rights:
			put(handed)
		default:
			if !onChild.Who.IsZero() {
				put(onChild)
			}
			if onward != 0 {
				handed.Flags |= InheritOnly
				put(handed)
			}
		}
	}
	return out
}

// Inherits gives the entries d should have from above when its folder's
// descriptor is parent: none where d is sealed or has absent rules.
func (d *Descriptor) Inherits(parent *Descriptor, folder bool) []Entry {
	if d.Sealed() || d.Rules.Absent {
		return nil
	}
	return HandDown(parent.Rules.Entries, folder, d.Owner, d.Group)
}

func (d *Descriptor) inheritsAudit(parent *Descriptor, folder bool) []Entry {
	if d.Control&AuditSealed != 0 {
		return nil
	}
	return HandDown(parent.Audit.Entries, folder, d.Owner, d.Group)
}

// StaleUnder tells whether the inherited entries are not those the folder hands
// down now.
func (d *Descriptor) StaleUnder(parent *Descriptor, folder bool) bool {
	return !d.Rules.Absent && !slices.Equal(d.Rules.FromAbove(), d.Inherits(parent, folder)) ||
		!slices.Equal(d.Audit.FromAbove(), d.inheritsAudit(parent, folder))
}

// Renewed gives d with the inherited entries its folder hands down now, in
// the place of those it had; own entries never move. It is d itself where
// nothing changes.
func (d *Descriptor) Renewed(parent *Descriptor, folder bool) *Descriptor {
	if !d.StaleUnder(parent, folder) {
		return d
	}
	c := d.Clone()
	if !d.Rules.Absent {
		above := d.Inherits(parent, folder)
		c.Rules.Entries = replaceAbove(&d.Rules, above)
		if len(above) > 0 {
			c.Control |= RulesFollow
		}
	}
	c.setAudit(replaceAbove(&d.Audit, d.inheritsAudit(parent, folder)))
	return c
}

func (d *Descriptor) setAudit(es []Entry) {
	d.Audit.Entries = es
	if len(es) > 0 {
		d.Audit.Absent = false
		d.Control |= AuditPresent
	}
}

// Follow gives d as it is after its folder changed from one descriptor to
// another: what the folder newly hands down comes, what it no longer hands
// down goes, and everything else stays as it was, stale entries too. It is d
// itself where nothing changes.
func (d *Descriptor) Follow(from, to *Descriptor, folder bool) *Descriptor {
	rules := followed(&d.Rules, d.Inherits(from, folder), d.Inherits(to, folder))
	audit := followed(&d.Audit, d.inheritsAudit(from, folder), d.inheritsAudit(to, folder))
	if d.Rules.Absent || slices.Equal(rules, d.Rules.Entries) {
		if slices.Equal(audit, d.Audit.Entries) {
			return d
		}
		rules = d.Rules.Entries
	}
	c := d.Clone()
	c.Rules.Entries = rules
	c.setAudit(audit)
	return c
}

// followed brings a list from what was handed down to what is.
func followed(r *Rules, was, is []Entry) []Entry {
	if slices.Equal(was, is) {
		return r.Entries
	}
	above := r.FromAbove()
	if slices.Equal(above, was) {
		return replaceAbove(r, is)
	}
	// Stale: take out what went, put in what came behind its neighbour.
	above = slices.DeleteFunc(above, func(e Entry) bool { return slices.Contains(was, e) && !slices.Contains(is, e) })
	at := 0
	for _, e := range is {
		if i := slices.Index(above, e); i >= 0 {
			at = i + 1
			continue
		}
		if slices.Contains(was, e) {
			continue // it was missing before, and stays so
		}
		above = slices.Insert(above, at, e)
		at++
	}
	return replaceAbove(r, above)
}

// replaceAbove puts inherited entries in the place of the present ones. Where
// own entries stand between or behind inherited ones (a list out of order),
// those own entries keep their side: the inherited ones go where the first
// one stood.
func replaceAbove(r *Rules, above []Entry) []Entry {
	out := make([]Entry, 0, len(r.Entries)+len(above))
	placed := false
	for _, e := range r.Entries {
		if e.Own() {
			out = append(out, e)
		} else if !placed {
			out = append(out, above...)
			placed = true
		}
	}
	if !placed {
		out = append(out, above...)
	}
	return out
}

// Origin finds where an inherited entry is set. above holds the descriptors
// of the folders above the item, nearest first; folder tells whether the item
// is one. It gives the place in above and the entry's place in that list;
// ok is false where no folder above hands such an entry down now.
func Origin(e Entry, folder bool, above []*Descriptor) (place, index int, ok bool) {
	for i, d := range above {
		j := source(e, folder, d.Rules.Entries)
		if j < 0 {
			return 0, 0, false
		}
		if d.Rules.Entries[j].Own() {
			return i, j, true
		}
		e, folder = d.Rules.Entries[j], true
	}
	return 0, 0, false
}

// source finds the entry of a folder that a child's inherited entry comes
// from: an exact parent first, then a placeholder that may have stood for
// anyone.
func source(e Entry, folder bool, entries []Entry) int {
	placeholder := -1
	for j, p := range entries {
		one := [1]Entry{p}
		if p.Who == account.Creator || p.Who == account.CreatorGroup {
			if slices.Contains(HandDown(one[:], folder, account.ID{}, account.ID{}), e) {
				return j // the placeholder itself handed on
			}
			if placeholder < 0 && slices.Contains(HandDown(one[:], folder, e.Who, e.Who), e) {
				placeholder = j
			}
			continue
		}
		if slices.Contains(HandDown(one[:], folder, account.ID{}, account.ID{}), e) {
			return j
		}
	}
	return placeholder
}

// NewChild gives the descriptor of an item made in a folder by a user whose
// primary group is group ([MS-DTYP] §2.5.3.4.1): what the folder hands down,
// and nothing of its own. plain is what it gets where nothing is handed down.
func NewChild(parent *Descriptor, folder bool, owner, group account.ID, plain []Entry) *Descriptor {
	d := &Descriptor{Owner: owner, Group: group, Control: RulesPresent | RulesFollow}
	d.Audit.Absent = true
	d.Rules.Entries = d.Inherits(parent, folder)
	if len(d.Rules.Entries) == 0 {
		d.Rules.Entries = slices.Clone(plain)
		d.Control &^= RulesFollow
	}
	d.setAudit(d.inheritsAudit(parent, folder))
	return d
}

// PlainRules are the entries an item gets that inherits nothing: the owner
// has everything.
func PlainRules(owner account.ID) []Entry {
	return []Entry{{Kind: Allow, Rights: right.All, Who: owner}}
}
