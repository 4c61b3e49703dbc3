// Package posix holds rules as POSIX systems keep them: owner, group, mode bits,
// an access list and, on folders, a default list (POSIX.1e draft 17, §23). It
// says what they permit, compiles them to the steps that rules of every kind
// are decided by, and what a new item gets.
//
// Who is in which group, and folders above an item, are others' affair. What a
// Linux kernel was measured to do beyond the draft stands in docs/decisions.md.
package posix

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Perm is read, write and execute as bits of one class.
type Perm uint8

const (
	X Perm = 1 << iota // on a folder: go through
	W
	R
)

func (p Perm) String() string {
	s := []byte("---")
	for i, c := range []struct {
		bit  Perm
		sign byte
	}{{R, 'r'}, {W, 'w'}, {X, 'x'}} {
		if p&c.bit != 0 {
			s[i] = c.sign
		}
	}
	return string(s)
}

// Tag says whom an entry is for (§23.1.1). The values are those of the binary
// form that Linux keeps.
type Tag uint16

const (
	UserObj  Tag = 0x01 // the owner
	User     Tag = 0x02 // a named user
	GroupObj Tag = 0x04 // the owning group
	Group    Tag = 0x08 // a named group
	Mask     Tag = 0x10 // the most that named users and all groups get
	Other    Tag = 0x20
)

// named tells whether entries with the tag name an account.
func (t Tag) named() bool { return t == User || t == Group }

// Entry is one entry of a list.
type Entry struct {
	Tag  Tag
	Who  account.ID // of User and Group
	Perm Perm
}

// List is an access or default list in the order of its tags, each of UserObj,
// GroupObj and Other once, Mask once where anybody is named.
type List []Entry

// Valid tells whether a list has what every list has, and nothing twice
// (acl_valid, §23.4.22).
func (l List) Valid() bool {
	count := map[Tag]int{}
	who := map[Entry]bool{}
	last := Tag(0)
	for _, e := range l {
		if e.Tag < last || e.Perm > R|W|X || e.Tag.named() == e.Who.IsZero() {
			return false
		}
		last = e.Tag
		if count[e.Tag]++; !e.Tag.named() && count[e.Tag] > 1 {
			return false
		}
		k := Entry{Tag: e.Tag, Who: e.Who}
		if e.Tag.named() && who[k] {
			return false
		}
		who[k] = true
	}
	return count[UserObj] == 1 && count[GroupObj] == 1 && count[Other] == 1 && (count[User]+count[Group] == 0 || count[Mask] == 1)
}

// Of makes the list that mode bits alone stand for.
func Of(mode uint16) List {
	return List{{Tag: UserObj, Perm: Perm(mode >> 6 & 7)}, {Tag: GroupObj, Perm: Perm(mode >> 3 & 7)}, {Tag: Other, Perm: Perm(mode & 7)}}
}

func (l List) of(t Tag) (Perm, bool) {
	for _, e := range l {
		if e.Tag == t {
			return e.Perm, true
		}
	}
	return 0, false
}

// mask gives what named users and groups get at most.
func (l List) mask() Perm {
	if p, ok := l.of(Mask); ok {
		return p
	}
	return R | W | X
}

// Extended tells whether the list says more than mode bits can.
func (l List) Extended() bool { return len(l) > 3 }

// Bits gives the mode bits a list shows: its mask stands in the group's place
// where it has one (§23.1.5).
func (l List) Bits() uint16 {
	u, _ := l.of(UserObj)
	g, _ := l.of(GroupObj)
	if m, ok := l.of(Mask); ok {
		g = m
	}
	o, _ := l.of(Other)
	return uint16(u)<<6 | uint16(g)<<3 | uint16(o)
}

// with gives the list with what each class has by a mode worked into it: the
// mask, where there is one, takes the group's.
func (l List) with(mode uint16, work func(has, by Perm) Perm) List {
	out := slices.Clone(l)
	_, masked := l.of(Mask)
	for i := range out {
		e, by := &out[i], Perm(0)
		switch {
		case e.Tag == UserObj:
			by = Perm(mode >> 6 & 7)
		case e.Tag == Other:
			by = Perm(mode & 7)
		case e.Tag == Mask, e.Tag == GroupObj && !masked:
			by = Perm(mode >> 3 & 7)
		default:
			continue
		}
		e.Perm = work(e.Perm, by)
	}
	return out
}

// Bits of a mode beside those of the classes.
const (
	SetUID uint16 = 0o4000
	SetGID uint16 = 0o2000 // on a folder: what comes into it is of its group
	Sticky uint16 = 0o1000 // on a folder: only owners rename and delete in it
)

// Rules are those of one item. Nobody changes them in place.
type Rules struct {
	Folder  bool
	Owner   account.ID
	Group   account.ID
	Special uint16 // SetUID, SetGID, Sticky
	Access  List
	Default List // of a folder: what is handed to what comes; nil: none
	// Kept is the descriptor that an SMB server keeps beside the list, where it
	// does, and decides by as long as the list is what it was; nil: none.
	Kept *rule.Descriptor
	// Marks stand beside; a new item has none but those of its file system.
	Marks Marks
}

// Mode gives all twelve mode bits.
func (r *Rules) Mode() uint16 { return r.Special | r.Access.Bits() }

// Class is which part of a list decided.
type Class struct {
	Entry int  // its place in the list; -1: nobody is in it, and nothing is permitted
	Cut   bool // the mask took some of what the entry says
}

// Read gives the list that is looked at: the mode's own where a kernel passes
// over the access list (Skips). A Step's Entry is a place in it.
func (r *Rules) Read() List { return r.list() }

// Skips tells whether a kernel passes over the access list.
func (r *Rules) Skips() bool { return r.unread() }

// Counts gives what of an entry counts under the list's mask.
func (l List) Counts(e Entry) Perm { return e.counts(l.mask()) }

// Named lists the entries of Listed that name somebody.
func (r *Rules) Named() (out []rule.Entry) {
	all := r.Listed().Rules.Entries
	for i, e := range append(slices.Clone(r.list()), r.Default...) {
		if e.Tag.named() {
			out = append(out, all[i])
		}
	}
	return out
}

// Like tells whether an item's lists are those of the folder above; a file's
// without execute, which is a file's own affair.
func (r *Rules) Like(up *Rules) bool {
	if r.Folder {
		return r.Special == up.Special && slices.Equal(r.Access, up.Access) && slices.Equal(r.Default, up.Default)
	}
	return slices.EqualFunc(r.Access, up.Access, func(a, b Entry) bool {
		return a.Tag == b.Tag && a.Who == b.Who && a.Perm&^X == b.Perm&^X
	})
}

// unread tells whether a kernel doesn't look at a list: Linux passes over one
// whose mask is empty, and decides by the mode bits alone.
func (r *Rules) unread() bool { return r.Access.Extended() && r.Access.Bits()&0o070 == 0 }

// list gives the list that is looked at.
func (r *Rules) list() List {
	if r.unread() {
		return Of(r.Access.Bits())
	}
	return r.Access
}

// Permits tells whether somebody may have all of want at once, by the access
// check algorithm (§23.1.5), and which entry of the list that was looked at
// decided. is tells whether they are an account, or in it.
func (r *Rules) Permits(is func(account.ID) bool, want Perm) (bool, Class) {
	l := r.list()
	mask := l.mask()
	decided := func(i int, p Perm, masked bool) (bool, Class) {
		c := Class{Entry: i}
		if masked {
			c.Cut = p&^mask&want != 0
			p &= mask
		}
		return p&want == want, c
	}
	if !r.Owner.IsZero() && is(r.Owner) {
		return decided(index(l, UserObj), perm(l, UserObj), false)
	}
	for i, e := range l {
		if e.Tag == User && is(e.Who) {
			return decided(i, e.Perm, true)
		}
	}
	first := -1
	for i, e := range l {
		if e.Tag == GroupObj && !r.Group.IsZero() && is(r.Group) || e.Tag == Group && is(e.Who) {
			if e.Perm&mask&want == want { // one group has to have all of it
				return decided(i, e.Perm, true)
			}
			if first < 0 {
				first = i
			}
		}
	}
	if first >= 0 {
		_, c := decided(first, l[first].Perm, true)
		return false, c
	}
	return decided(index(l, Other), perm(l, Other), false)
}

func perm(l List, t Tag) Perm { p, _ := l.of(t); return p }

func index(l List, t Tag) int { return slices.IndexFunc(l, func(e Entry) bool { return e.Tag == t }) }

// MayRename tells whether somebody may rename or delete an item in a folder,
// by their rules: write and execute on the folder at once, and where that is
// sticky owning the item or the folder.
func MayRename(folder, item *Rules, is func(account.ID) bool) bool {
	if ok, _ := folder.Permits(is, W|X); !ok {
		return false
	}
	return folder.Special&Sticky == 0 || is(folder.Owner) || is(item.Owner)
}

// The rights that read, write and execute stand for. On a folder nothing is
// added or taken out without execute, so that write alone gives none of that.
const (
	reads  = right.ReadData | right.ReadNamedAttrs
	writes = right.WriteData | right.AppendData | right.WriteNamedAttrs
	// everyones are rights that no class is asked for: whoever comes to an item
	// sees what it is.
	everyones = right.ReadAttributes | right.ReadACL | right.Synchronize
	// owners are rights that owning brings: the mode, the lists and the times.
	owners = right.WriteACL | right.WriteAttributes
)

// rights gives what a permission stands for on an item; owns tells whether it
// is the owner's.
func (r *Rules) rights(p Perm, owns bool) (s right.Set) {
	if p&R != 0 {
		s |= reads
	}
	if p&X != 0 {
		s |= right.Execute
	}
	switch {
	case p&W == 0:
	case !r.Folder:
		s |= writes
	default: // what isn't in the folder, but its own
		s |= right.WriteNamedAttrs
	}
	switch {
	case p&W == 0 || !r.Folder:
	case p&X != 0:
		if s |= writes; owns || r.Special&Sticky == 0 {
			s |= right.DeleteChild
		}
	}
	return s
}

// Steps gives the rules as first-match steps; those of the descriptor an SMB
// server makes of them where it decides first.
func (r *Rules) Steps(how rule.Reading) []rule.Step {
	if how.Served != rule.NotServed {
		return r.served(how)
	}
	steps := []rule.Step{{Rights: everyones & right.All, Entry: -1, Source: rule.OfReach}}
	if how.Owner && !how.Adding && !r.Owner.IsZero() {
		steps = append(steps, rule.Step{Who: r.Owner, Rights: owners & right.All, Entry: -1, Source: rule.OfOwner})
	}
	return append(steps, r.classes(r.rights)...)
}

// classes gives the list as steps, with the rights that a permission stands for:
// the owner's, then a refusal for them; named users likewise; what the matching
// groups give, then a refusal for whoever is in one; then everybody else.
func (r *Rules) classes(rights func(p Perm, owns bool) right.Set) (steps []rule.Step) {
	l := r.list()
	mask := l.mask()
	all := rights(R|W|X, true)
	add := func(who account.ID, s right.Set, refuses bool, entry int) {
		if s &= right.All; s != 0 {
			steps = append(steps, rule.Step{Who: who, Rights: s, Refuses: refuses, Entry: entry, Source: rule.OfEntry})
		}
	}
	class := func(who account.ID, p Perm, entry int) {
		add(who, rights(p, who == r.Owner), false, entry)
		add(who, all, true, entry)
	}
	if !r.Owner.IsZero() {
		class(r.Owner, perm(l, UserObj), index(l, UserObj))
	}
	for i, e := range l {
		if e.Tag == User {
			class(e.Who, e.Perm&mask, i)
		}
	}
	type in struct {
		who   account.ID
		p     Perm
		entry int
	}
	var groups []in
	for i, e := range l {
		switch {
		case e.Tag == GroupObj && !r.Group.IsZero():
			groups = append(groups, in{r.Group, e.Perm & mask, i})
		case e.Tag == Group:
			groups = append(groups, in{e.Who, e.Perm & mask, i})
		}
	}
	for _, g := range groups {
		add(g.who, rights(g.p, false), false, g.entry)
	}
	for _, g := range groups {
		add(g.who, all, true, g.entry)
	}
	add(account.ID{}, rights(perm(l, Other), false), false, index(l, Other))
	add(account.ID{}, all, true, index(l, Other))
	return steps
}

// Bounds: in a sticky folder owners alone rename and delete, and nobody runs a
// file that has no execute bit at all.
func (r *Rules) Bounds(how rule.Reading) (b rule.Bounds) {
	b.OwnersOnly = r.Folder && r.Special&Sticky != 0
	if !r.Folder && !r.runs() {
		b.Never = right.Execute
	}
	if r.Marks != 0 {
		taken := r.Marks.Never(r.Folder)
		b.Never |= taken
		b.Kept = taken&right.Delete != 0
	}
	if how.Served != rule.NotServed { // an SMB server opens what is run to read it
		b.Never &^= right.Execute
	}
	return b
}

// runs tells whether any class of the mode has execute, which is what root too
// needs to run a file.
func (r *Rules) runs() bool { return r.Mode()&0o111 != 0 }

// Listed gives the access list as entries that allow what counts of each, in
// its order, and the default list's behind them, for what is below only.
func (r *Rules) Listed() *rule.Descriptor {
	d := &rule.Descriptor{Owner: r.Owner, Group: r.Group, Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
	if r.Folder && r.Default == nil {
		d.Control |= rule.RulesSealed
	}
	list := func(l List, f rule.Flags, owner, group account.ID) {
		for _, e := range l {
			x := rule.Entry{Kind: rule.Allow, Flags: f, Who: e.Who, Rights: r.rights(e.counts(l.mask()), false)}
			switch e.Tag {
			case UserObj:
				x.Who = owner
			case GroupObj:
				x.Who = group
			case Other:
				x.Who = account.Everyone
			case Mask:
				x.Rights = 0
			}
			d.Rules.Entries = append(d.Rules.Entries, x)
		}
	}
	list(r.list(), 0, r.Owner, r.Group)
	list(r.Default, rule.ObjectInherit|rule.ContainerInherit|rule.InheritOnly, account.Creator, account.CreatorGroup)
	return d
}

// counts gives what of an entry counts under a mask.
func (e Entry) counts(mask Perm) Perm {
	if e.Tag == UserObj || e.Tag == Other {
		return e.Perm
	}
	return e.Perm & mask
}

// Owned gives the owner.
func (r *Rules) Owned() account.ID { return r.Owner }

// Same tells whether other rules are the same in everything.
func (r *Rules) Same(o rule.Any) bool {
	x, ok := o.(*Rules)
	return ok && r.SameLists(x) && sameKept(r.Kept, x.Kept) && r.Marks == x.Marks
}

// SameLists is Same whatever is kept beside.
func (r *Rules) SameLists(x *Rules) bool {
	return r.Folder == x.Folder && r.Owner == x.Owner && r.Group == x.Group && r.Special == x.Special &&
		slices.Equal(r.Access, x.Access) && slices.Equal(r.Default, x.Default) && (r.Default == nil) == (x.Default == nil)
}

func sameKept(a, b *rule.Descriptor) bool { return a == b || a != nil && b != nil && a.Equal(b) }

// Normalized gives the rules that others became as they are once they stand on the
// item: a descriptor kept beside lists counts for these lists alone.
func (r *Rules) Normalized(before rule.Any) rule.Any {
	was, ok := before.(*Rules)
	if !ok || r.Kept == nil || was == r || !sameKept(r.Kept, was.Kept) {
		return r
	}
	if r.Same(was) {
		return was
	}
	c := *r
	c.Kept = nil
	return &c
}

// Stale: what an item got when it was made is its own from then on.
func (r *Rules) Stale(rule.Any, bool) bool { return false }

// NewChild gives the rules of what somebody makes in a folder with a mode and a
// umask: the folder's default list takes the umask's place (§23.1.6), and a
// setgid folder gives its group.
func NewChild(parent *Rules, folder bool, owner, group account.ID, mode, umask uint16) *Rules {
	c := &Rules{Folder: folder, Owner: owner, Group: group, Marks: parent.Marks.Handed()}
	if parent.Special&SetGID != 0 {
		c.Group = parent.Group
		if folder {
			c.Special |= SetGID
		}
	}
	if parent.Default == nil {
		c.Access = Of(mode &^ umask)
		return c
	}
	c.Access = parent.Default.with(mode, func(has, by Perm) Perm { return has & by })
	if folder {
		c.Default = parent.Default
	}
	return c
}

// Chmod gives the rules with other mode bits, as chmod(2) does for the owner.
func (r *Rules) Chmod(mode uint16) *Rules {
	if r.Mode() == mode {
		return r
	}
	c := *r
	c.Special = mode & (SetUID | SetGID | Sticky)
	c.Access = r.Access.with(mode, func(_, by Perm) Perm { return by })
	return &c
}
