package rule

import (
	"errors"
	"fmt"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
)

// ErrAbsent is adding to absent rules, which would close for everybody else
// what they leave open.
var ErrAbsent = errors.New("the rules are absent, so everyone has everything; an entry would close it to everybody else")

// Giving says how entries are to be added.
type Giving struct {
	At int // against canonical order, to this place in the list; 0: where it belongs
	// Apart tells entries that stay as they are, those with a last day say:
	// rights are not merged into them. nil: none.
	Apart func(Entry) bool
	// Alone adds each entry as one of its own, merged into no other.
	Alone bool
}

// Give gives d with own entries added. An entry of the same kind, account and
// scope that is there already takes up the rights; d itself comes back where
// it had them all. Denying entries go behind the own denying ones, the others
// behind all own ones. stand are the entries that now carry what was given.
func (d *Descriptor) Give(entries []Entry, how Giving) (after *Descriptor, stand []Entry, err error) {
	if d.Rules.Absent {
		return nil, nil, ErrAbsent
	}
	c := d.Clone()
	changed := false
	at := how.At
	for _, e := range entries {
		if i := slices.Index(c.Rules.Entries, e); i >= 0 && at == 0 {
			stand = append(stand, e)
			continue
		}
		i := -1
		if !how.Alone && at == 0 {
			i = slices.IndexFunc(c.Rules.Entries, func(o Entry) bool {
				return o.Own() && o.Kind == e.Kind && o.Who == e.Who && o.Flags == e.Flags && o.Extra == e.Extra &&
					(how.Apart == nil || !how.Apart(o))
			})
		}
		if i >= 0 {
			o := &c.Rules.Entries[i]
			if with := o.Rights | e.Rights; with != o.Rights {
				o.Rights = with
				changed = true
				// It may have become what another entry is already.
				if j := slices.Index(c.Rules.Entries[i+1:], *o); j >= 0 {
					c.Rules.Entries = slices.Delete(c.Rules.Entries, i+1+j, i+2+j)
				} else if j := slices.Index(c.Rules.Entries[:i], *o); j >= 0 {
					c.Rules.Entries = slices.Delete(c.Rules.Entries, i, i+1)
					o = &c.Rules.Entries[j]
				}
			}
			stand = append(stand, *o)
			continue
		}
		place := c.Rules.place(e)
		if at > 0 {
			if at > len(c.Rules.Entries)+1 {
				return nil, nil, fmt.Errorf("the list has %d entries, so there is no place %d", len(c.Rules.Entries), at)
			}
			place = at - 1
			at++
		}
		c.Rules.Entries = slices.Insert(c.Rules.Entries, place, e)
		stand = append(stand, e)
		changed = true
	}
	if !changed {
		return d, stand, nil
	}
	return c, stand, nil
}

// place is where canonical order puts a new own entry.
func (r *Rules) place(e Entry) int {
	if e.Kind.Refuses() {
		i := slices.IndexFunc(r.Entries, func(o Entry) bool { return !o.Own() || !o.Kind.Refuses() })
		if i < 0 {
			return len(r.Entries)
		}
		return i
	}
	for i, o := range r.Entries {
		if !o.Own() {
			return i
		}
	}
	return len(r.Entries)
}

// Which picks entries to be taken away or changed. Zero fields pick all.
type Which struct {
	Who   account.ID
	Kinds []Kind      // none: allow and deny
	What  *right.What // only these rights are taken out of the entries
	Whole bool        // of What both parts, as entries of a share have no scope
	Scope *Scope
}

func (w Which) fits(e Entry) bool {
	if !e.Own() || !w.Who.IsZero() && e.Who != w.Who || w.Scope != nil && e.Scope() != *w.Scope {
		return false
	}
	if len(w.Kinds) > 0 {
		return slices.Contains(w.Kinds, e.Kind)
	}
	return e.Kind == Allow || e.Kind == Deny
}

// Take gives d without the own entries that are picked, or with fewer rights
// in them; d itself where none is.
func (d *Descriptor) Take(w Which, folder bool) *Descriptor {
	changed := false
	take := func(es []Entry) []Entry {
		var out []Entry
		for _, e := range es {
			if !w.fits(e) {
				out = append(out, e)
				continue
			}
			if w.What == nil {
				changed = true
				continue
			}
			off := w.What.File
			if p := e.part(folder); w.Whole || p == right.OnBoth {
				off = w.What.Folder | w.What.File
			} else if p == right.OnFolder {
				off = w.What.Folder
			}
			left := e.Rights
			if left&off == 0 && left.Map()&off&right.Access != 0 {
				left = left.Map() // a generic bit stands for what is taken
			}
			left &^= off
			if left&(right.Access|right.Generic) == 0 {
				left = 0
			} else {
				left |= e.Rights.Map() & right.Synchronize
			}
			if left&^right.Synchronize == e.Rights&^right.Synchronize {
				left = e.Rights
			}
			if left != e.Rights {
				changed = true
			}
			if e.Rights = left; left != 0 {
				out = append(out, e)
			}
		}
		return out
	}
	c := d.Clone()
	c.Rules.Entries = take(d.Rules.Entries)
	c.Audit.Entries = take(d.Audit.Entries)
	if !changed {
		return d
	}
	return c
}

// GiveAudit gives d with own audit entries added.
func (d *Descriptor) GiveAudit(entries []Entry) *Descriptor {
	c := d.Clone()
	changed := false
	for _, e := range entries {
		if slices.Contains(c.Audit.Entries, e) {
			continue
		}
		at := slices.IndexFunc(c.Audit.Entries, func(o Entry) bool { return !o.Own() })
		if at < 0 {
			at = len(c.Audit.Entries)
		}
		c.setAudit(slices.Insert(c.Audit.Entries, at, e))
		changed = true
	}
	if !changed {
		return d
	}
	return c
}

// Seal gives d taking no entries from above. With keep the inherited entries
// stay, as own ones; without it only the own ones do. Audit entries stay.
func (d *Descriptor) Seal(keep bool) *Descriptor {
	if d.Sealed() {
		return d
	}
	c := d.Clone()
	c.Control |= RulesSealed | RulesPresent
	if !keep {
		c.Rules.Entries = d.Rules.Own()
		return c
	}
	// One that is set on the item too is kept once: the second never decides anything, and
	// who takes the seal off again couldn't tell it from the first.
	c.Rules.Entries = c.Rules.Entries[:0]
	for _, e := range d.Rules.Entries {
		was := e
		if e.Flags &^= Inherited; was == e || !slices.Contains(c.Rules.Entries, e) {
			c.Rules.Entries = append(c.Rules.Entries, e)
		}
	}
	return c
}

// Ordered gives d with its own entries in canonical order, denying ones
// first; each kind keeps its order. d itself where they are.
func (d *Descriptor) Ordered() *Descriptor {
	if d.Rules.Misplaced() < 0 {
		return d
	}
	c := d.Clone()
	slices.SortStableFunc(c.Rules.Entries, func(a, b Entry) int { return a.stage() - b.stage() })
	return c
}

// Unseal gives d taking entries from above again; with clear its own entries
// go, the audit ones not.
func (d *Descriptor) Unseal(parent *Descriptor, folder, clear bool) *Descriptor {
	c := d.Clone()
	c.Control &^= RulesSealed
	c.Control |= RulesPresent
	if clear {
		c.Rules = Rules{}
	}
	if c.Rules.Absent {
		return c
	}
	return c.Renewed(parent, folder)
}

// OwnedBy gives d with another owner.
func (d *Descriptor) OwnedBy(owner account.ID) *Descriptor {
	if d.Owner == owner {
		return d
	}
	c := d.Clone()
	c.Owner = owner
	return c
}

// Without gives d without the own entries listed.
func (d *Descriptor) Without(gone []Entry) *Descriptor {
	c := d.Clone()
	c.Rules.Entries = slices.DeleteFunc(c.Rules.Entries, func(e Entry) bool { return e.Own() && slices.Contains(gone, e) })
	if len(c.Rules.Entries) == len(d.Rules.Entries) {
		return d
	}
	return c
}
