package posix

import (
	"slices"

	"tarnwold/core/account"
)

// Turn is what is to become of what a list gives somebody.
type Turn func(has Perm, there bool) (gets Perm, stays bool)

// Adds gives more.
func Adds(p Perm) Turn { return func(has Perm, _ bool) (Perm, bool) { return has | p, true } }

// Sets gives just so much.
func Sets(p Perm) Turn { return func(Perm, bool) (Perm, bool) { return p, true } }

// Takes takes some away; the entry stays, for without it others' may count.
func Takes(p Perm) Turn { return func(has Perm, there bool) (Perm, bool) { return has &^ p, there } }

// Drops takes the entry away; a class that is always there is left with nothing.
func Drops() Turn { return func(Perm, bool) (Perm, bool) { return 0, false } }

// slot finds the tag by which somebody is meant in a list: the owner and the
// owning group by theirs, where the list has no other entry for them.
func slot(l List, who, owner, group account.ID) Tag {
	if who == account.Everyone {
		return Other
	}
	_, user, _ := who.POSIX()
	switch {
	case user && who == owner:
		return UserObj
	case !user && who == group && !slices.ContainsFunc(l, func(e Entry) bool { return e.Tag == Group && e.Who == who }):
		return GroupObj
	case user:
		return User
	}
	return Group
}

// turned gives a list with what it gives somebody turned. Where that takes a
// wider mask, what the mask cut before is cut in the entries themselves, so
// that nobody else gains; where nobody is named any more there is no mask.
func (l List) turned(tag Tag, who account.ID, turn Turn) List {
	out := slices.Clone(l)
	i := slices.IndexFunc(out, func(e Entry) bool { return e.Tag == tag && (!tag.named() || e.Who == who) })
	if i < 0 {
		gets, stays := turn(0, false)
		if !stays {
			return l
		}
		i = slices.IndexFunc(out, func(e Entry) bool { return e.Tag > tag })
		if i < 0 {
			i = len(out)
		}
		out = slices.Insert(out, i, Entry{Tag: tag, Who: who})
		out.set(i, gets)
		return out
	}
	has := l.gives(out[i])
	gets, stays := turn(has, true)
	switch {
	case !stays && tag.named():
		out = slices.Delete(out, i, i+1)
		out = out.masked(l.mask(), has)
	case gets != has:
		out.set(i, gets)
	}
	if slices.Equal(out, l) {
		return l
	}
	return out
}

// gives is what somebody has by an entry: whoever an empty mask passes over,
// what others have.
func (l List) gives(e Entry) Perm {
	if mask := l.mask(); mask != 0 || !e.Tag.named() {
		return e.counts(mask)
	}
	return perm(l, Other)
}

// set gives an entry permissions, and the list a mask that lets them count.
func (l *List) set(i int, p Perm) {
	masked := func(t Tag) bool { return t.named() || t == GroupObj }
	if !masked((*l)[i].Tag) {
		(*l)[i].Perm = p
		return
	}
	at := index(*l, Mask)
	if at < 0 {
		if (*l)[i].Perm = p; !(*l)[i].Tag.named() {
			return
		}
		g := perm(*l, GroupObj)
		o := index(*l, Other)
		*l = slices.Insert(*l, o, Entry{Tag: Mask, Perm: lookedAt(g | p)})
		return
	}
	if mask := (*l)[at].Perm; mask == 0 { // it wasn't looked at: whoever it names had what others have
		other := perm(*l, Other)
		for j := range *l {
			switch e := &(*l)[j]; {
			case e.Tag.named():
				e.Perm = other
			case e.Tag == GroupObj:
				e.Perm = 0
			}
		}
		(*l)[at].Perm = lookedAt(p | other)
	} else if p&^mask != 0 {
		l.cut(mask)
		(*l)[at].Perm = mask | p
	}
	(*l)[i].Perm = p
}

// lookedAt gives a mask that a kernel doesn't pass over: what nobody has can't
// be given by it either.
func lookedAt(mask Perm) Perm {
	if mask == 0 {
		return R // and not X, by which root could run a file
	}
	return mask
}

// masked gives a list that an entry went from a mask without what only that
// entry needed: none where nobody is named any more, and never an empty one in
// the place of one that wasn't, for a kernel passes over such lists.
func (l List) masked(mask, gone Perm) List {
	if !slices.ContainsFunc(l, func(e Entry) bool { return e.Tag.named() }) {
		l.cut(mask)
		return slices.DeleteFunc(l, func(e Entry) bool { return e.Tag == Mask })
	}
	needed := Perm(0)
	for _, e := range l {
		if e.Tag.named() || e.Tag == GroupObj {
			needed |= e.Perm
		}
	}
	left := mask &^ (gone &^ needed)
	if mask != 0 && left == 0 { // what no entry has, X last; one of what the mask had is
		for _, left = range []Perm{R, W, X} {
			if left&needed == 0 {
				break
			}
		}
	}
	l[index(l, Mask)].Perm = left
	return l
}

// cut writes into the entries what a mask leaves of them.
func (l List) cut(mask Perm) {
	for i := range l {
		if l[i].Tag.named() || l[i].Tag == GroupObj {
			l[i].Perm &= mask
		}
	}
}

// Turned gives rules with what somebody has turned: here in the access list, in
// below in the default list. A folder that is to hand something down and has no
// default list gets one of its own classes. r itself comes back where nothing
// changes.
func (r *Rules) Turned(who account.ID, here, below Turn) *Rules {
	c := *r
	if here != nil {
		c.Access = r.Access.turned(slot(r.Access, who, r.Owner, r.Group), who, here)
	}
	if below != nil && r.Folder {
		l := c.handsDown() // of the classes as they become
		var group account.ID
		if r.Special&SetGID != 0 { // what comes is of the folder's group
			group = r.Group
		}
		if after := l.turned(slot(l, who, account.ID{}, group), who, below); !slices.Equal(after, l) {
			c.Default = after
		} else if gets, stays := below(0, false); r.Default == nil && stays && gets != 0 { // it is said from now on
			c.Default = l
		}
	}
	if c.Same(r) {
		return r
	}
	return &c
}

func (r *Rules) turnedClass(tag Tag, turn Turn) *Rules {
	after := r.Default.turned(tag, account.ID{}, turn)
	if slices.Equal(after, r.Default) {
		return r
	}
	c := *r
	c.Default = after
	return &c
}

// of gives what of an entry like another counts in a list, and whether it is there.
func of(l List, like Entry) (Perm, bool) {
	for _, e := range l {
		if e.Tag == like.Tag && e.Who == like.Who {
			return l.gives(e), true
		}
	}
	return 0, false
}
