package posix

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// handed gives what an entry of a default list comes to on an item that is
// there: a file gets execute only where it has some already.
func (r *Rules) handed(p Perm) Perm {
	if !r.Folder && !r.runs() {
		return p &^ X
	}
	return p
}

// handsDown gives what a folder's default list stands for: where it has none,
// the classes of its access list.
func (r *Rules) handsDown() List {
	if r.Default != nil {
		return r.Default
	}
	return List{{Tag: UserObj, Perm: perm(r.Access, UserObj)}, {Tag: GroupObj, Perm: perm(r.Access, GroupObj) & r.Access.mask()},
		{Tag: Other, Perm: perm(r.Access, Other)}}
}

// Handed gives the rules of an item below a folder whose default list changes:
// what that gives more is given, what it gives no more goes where it stands
// just as it was handed down, and all else stays. A folder without a default
// list stands for its own classes.
func (r *Rules) Handed(from, to *Rules) *Rules {
	if slices.Equal(from.Default, to.Default) {
		return r
	}
	c := r
	was, is := from.handsDown(), to.handsDown()
	both := slices.Clone(is)
	for _, e := range was {
		if !slices.ContainsFunc(both, func(o Entry) bool { return o.Tag == e.Tag && o.Who == e.Who }) {
			both = append(both, e)
		}
	}
	for _, e := range both {
		if e.Tag == Mask {
			continue
		}
		had, there := of(was, e)
		has, stays := of(is, e)
		if had == has && there == stays {
			continue
		}
		who := e.Who
		switch e.Tag {
		case UserObj:
			who = r.Owner
		case GroupObj:
			if who = r.Group; to.Special&SetGID == 0 || r.Group != to.Group {
				continue // another group than the folder speaks of
			}
		case Other:
			who = account.Everyone
		}
		h, g := r.handed(had), r.handed(has)
		turn := func(now Perm, has bool) (Perm, bool) {
			if now == h && has == there && (e.Tag == UserObj || who != r.Owner) { // an owner keeps what they have
				return g, stays
			}
			return now | g&^h, has || stays
		}
		below := Turn(turn)
		if e.Tag == UserObj || e.Tag == GroupObj {
			below = nil
		}
		c = c.Turned(who, turn, nil)
		if r.Folder && r.Default != nil && below != nil {
			c = c.Turned(who, nil, below)
		} else if r.Folder && r.Default != nil {
			c = c.turnedClass(e.Tag, turn)
		} else if r.Folder && from.Default == nil && c.Default == nil {
			c = c.WithDefault(to.Default)
		}
	}
	return c
}

// WithDefault gives a folder's rules with another default list; nil: none.
func (r *Rules) WithDefault(l List) *Rules {
	if !r.Folder || slices.Equal(l, r.Default) && (l == nil) == (r.Default == nil) {
		return r
	}
	c := *r
	c.Default = l
	return &c
}

// Renewed gives the rules an item would have that is made now in a folder by
// its owner, with the execute it has: by the folder's default list, or by the
// folder's own classes where it has none.
func (r *Rules) Renewed(up *Rules) *Rules {
	l := up.handsDown()
	mode := uint16(0o777)
	if !r.Folder && !r.runs() {
		mode = 0o666
	}
	c := *r
	c.Access = l.with(mode, func(has, by Perm) Perm { return has & by })
	if c.Default = nil; r.Folder {
		c.Default = up.Default
	}
	if up.Special&SetGID != 0 {
		if c.Group = up.Group; r.Folder {
			c.Special |= SetGID
		}
	}
	if c.Same(r) {
		return r
	}
	return &c
}

// OwnedBy gives the rules with another owner or owning group; zero: as it is.
// Whoever had an entry of their own is the owner now, and has what that gave.
func (r *Rules) OwnedBy(owner, group account.ID) *Rules {
	c := *r
	if !owner.IsZero() {
		c.Owner = owner
	}
	if !group.IsZero() {
		c.Group = group
	}
	if c.Same(r) {
		return r
	}
	if !r.Folder { // as chown(2) leaves it
		c.Special &^= SetUID
		if r.Mode()&0o010 != 0 {
			c.Special &^= SetGID
		}
	}
	return &c
}

// TakingBack gives rules with what led from one to another taken out of them:
// class by class, where it stands as it was made then.
func (r *Rules) TakingBack(was, is *Rules) *Rules {
	c := *r
	if was.Owner != is.Owner && r.Owner == is.Owner {
		c.Owner = was.Owner
	}
	if was.Group != is.Group && r.Group == is.Group {
		c.Group = was.Group
	}
	c.Special = r.Special&^(was.Special^is.Special) | was.Special&(was.Special^is.Special)
	c.Access = back(r.Access, was.Access, is.Access)
	if r.Folder {
		switch {
		case slices.Equal(r.Default, is.Default):
			c.Default = was.Default
		case r.Default != nil && was.Default != nil && is.Default != nil:
			c.Default = back(r.Default, was.Default, is.Default)
		}
	}
	if !c.Access.Valid() || c.Default != nil && !c.Default.Valid() || c.Same(r) {
		return r
	}
	return &c
}

func back(now, was, is List) List {
	if slices.Equal(now, is) {
		return was
	}
	out := slices.Clone(now)
	at := func(l List, e Entry) int {
		return slices.IndexFunc(l, func(o Entry) bool { return o.Tag == e.Tag && o.Who == e.Who })
	}
	for _, e := range is {
		i, b := at(out, e), at(was, e)
		switch {
		case i < 0 || out[i] != e: // altered since
		case b >= 0:
			out[i].Perm = was[b].Perm
		case e.Tag == Mask && slices.ContainsFunc(out, func(o Entry) bool { return o.Tag.named() }):
		default:
			out = slices.Delete(out, i, i+1)
		}
	}
	for _, e := range was {
		if at(is, e) >= 0 || at(out, e) >= 0 {
			continue
		}
		i := slices.IndexFunc(out, func(o Entry) bool { return o.Tag > e.Tag })
		out = slices.Insert(out, max(i, 0), e)
	}
	named := slices.ContainsFunc(out, func(e Entry) bool { return e.Tag.named() })
	if m := index(out, Mask); named && m < 0 {
		p := perm(out, GroupObj)
		for _, e := range out {
			if e.Tag.named() {
				p |= e.Perm
			}
		}
		out = slices.Insert(out, index(out, Other), Entry{Tag: Mask, Perm: p})
	} else if !named && m >= 0 {
		out.cut(out[m].Perm)
		out = slices.Delete(out, m, m+1)
	}
	return out
}

// Names tells whether a list names somebody.
func (r *Rules) Names(who account.ID) bool {
	is := func(e Entry) bool { return e.Tag.named() && e.Who == who }
	return slices.ContainsFunc(r.Access, is) || slices.ContainsFunc(r.Default, is)
}

// Mentions tells whether a list names somebody, or they own the item.
func (r *Rules) Mentions(who account.ID) bool {
	return r.Owner == who || r.Group == who || r.Names(who)
}

// Swap is what becomes of every mention of an account.
type Swap struct {
	To     account.ID // who takes its place in lists; zero: entries go
	Beside bool       // the entry stays, and one for To comes beside it
	Owner  account.ID // who gets what it owns; zero: it stays
}

// Swapped gives rules with one account's mentions swapped.
func (r *Rules) Swapped(who account.ID, s Swap) *Rules {
	c := r
	for _, dflt := range []bool{false, true} {
		l := r.Access
		if dflt {
			l = r.Default
		}
		for _, e := range l {
			if !e.Tag.named() || e.Who != who {
				continue
			}
			two := func(who account.ID, t Turn) {
				if dflt {
					c = c.Turned(who, nil, t)
				} else {
					c = c.Turned(who, t, nil)
				}
			}
			if !s.To.IsZero() {
				two(s.To, Adds(l.gives(e)))
			}
			if !s.Beside {
				c = c.without(e, dflt)
			}
		}
	}
	if s.Owner.IsZero() {
		return c
	}
	_, user, _ := s.Owner.POSIX()
	switch {
	case c.Owner == who && user:
		c = c.OwnedBy(s.Owner, account.ID{})
	case c.Group == who && !user:
		c = c.OwnedBy(account.ID{}, s.Owner)
	}
	return c
}

// without gives rules without an entry of a list that names somebody.
func (r *Rules) without(e Entry, dflt bool) *Rules {
	l := r.Access
	if dflt {
		l = r.Default
	}
	return r.withList(l.turned(e.Tag, e.Who, Drops()), dflt)
}

// Renewing gives the rules as the folder above hands them down now.
func (r *Rules) Renewing(parent rule.Any, _ bool) rule.Any {
	if up, ok := parent.(*Rules); ok {
		return r.Renewed(up)
	}
	return r
}

// Handing gives a folder's rules with a default list, its own or what it would
// hand down.
func (r *Rules) Handing() *Rules { return r.WithDefault(r.handsDown()) }

// Following gives the rules themselves: nothing is handed down to what is there
// unless somebody does it (Handed, Renewed).
func (r *Rules) Following(_, _ rule.Any, _ bool) rule.Any { return r }

// WithEntry gives rules with one entry of a list just as it is given: a class's
// permissions, the mask itself, or what somebody who is named has. ok is false
// for a mask where nobody is named, which has none.
func (r *Rules) WithEntry(e Entry, dflt bool) (c *Rules, ok bool) {
	if e.Tag.named() {
		return r.turnedList(e, dflt), true
	}
	l := r.Access
	if dflt {
		l = r.handsDown()
	}
	i := index(l, e.Tag)
	if i < 0 {
		return r, false
	}
	out := slices.Clone(l)
	out[i].Perm = e.Perm
	return r.withList(out, dflt), true
}

func (r *Rules) turnedList(e Entry, dflt bool) *Rules {
	l := r.Access
	if dflt {
		l = r.handsDown()
	}
	if at := slices.IndexFunc(l, func(o Entry) bool { return o.Tag == e.Tag && o.Who == e.Who }); at >= 0 && l[at].Perm == e.Perm {
		return r
	}
	return r.withList(l.turned(e.Tag, e.Who, Sets(e.Perm)), dflt)
}

func (r *Rules) withList(l List, dflt bool) *Rules {
	c := *r
	if dflt {
		c.Default = l
	} else {
		c.Access = l
	}
	if c.Same(r) {
		return r
	}
	return &c
}

// Between tells whether rules are on their way from one to another: they are
// some that an item passes through (Passing), or each part, owner, group,
// special bits, access list and default list, is that of one of the two.
func (r *Rules) Between(from, to *Rules) bool {
	either := func(a, b List, n List) bool { return sameList(n, a) || sameList(n, b) }
	if r.Folder == from.Folder && (r.Owner == from.Owner || r.Owner == to.Owner) && (r.Group == from.Group || r.Group == to.Group) &&
		r.Special&^(from.Special|to.Special) == 0 && either(from.Access, to.Access, r.Access) && either(from.Default, to.Default, r.Default) {
		return true
	}
	for _, p := range from.Passing(to) {
		if p.SameLists(r) {
			return true
		}
	}
	for _, p := range to.Passing(from) { // it was being taken back
		if p.SameLists(r) {
			return true
		}
	}
	return false
}
