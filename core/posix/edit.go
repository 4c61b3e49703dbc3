package posix

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Meaning is what a level stands for on a POSIX tree.
type Meaning struct {
	Folder, File Perm
	// Runs: on a file execute comes too where it stands already for anybody.
	Runs bool
	// TakesOut: on a folder it lets things be taken out too, which the level
	// doesn't say; a sticky folder lets everybody take out only what is his.
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

// handed gives what an entry of a default list comes to on an item that is
// there: a file gets execute only where it has some already.
func (r *Rules) handed(p Perm) Perm {
	if !r.Folder && !r.runs() {
		return p &^ X
	}
	return p
}

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
		l := r.handsDown()
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
			if now == h && has == there && (e.Tag == UserObj || who != r.Owner) { // an owner keeps what he has
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
// Whoever had an entry of his own is the owner now, and has what that gave.
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

// Mentions tells whether a list names somebody, or he owns the item.
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

// Between tells whether rules are on their way from one to another: each part,
// owner, group, special bits, access list and default list, is that of one of
// the two.
func (r *Rules) Between(from, to *Rules) bool {
	either := func(a, b List, n List) bool {
		same := func(x, y List) bool { return slices.Equal(x, y) && (x == nil) == (y == nil) }
		return same(n, a) || same(n, b)
	}
	return r.Folder == from.Folder && (r.Owner == from.Owner || r.Owner == to.Owner) && (r.Group == from.Group || r.Group == to.Group) &&
		r.Special&^(from.Special|to.Special) == 0 && either(from.Access, to.Access, r.Access) && either(from.Default, to.Default, r.Default)
}
