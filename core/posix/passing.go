package posix

// Passing gives the rules an item passes through on the way to others, the last
// being those: each differs from the one before in one part alone (owner and
// group, access list, special bits, default list), as one system call sets it.
// No user is granted by any of them what neither the first nor the last grants,
// nor is anybody by what is made in a folder meanwhile: what restricts comes
// first, and where owner or group change together with a list, everybody has
// in between only what each has both before and after (the floor).
//
// Owner and lists are set by separate calls on every POSIX system; the order
// is all there is to keep a break between them from opening anything.
func (r *Rules) Passing(to *Rules) (out []*Rules) {
	owners := r.Owner != to.Owner || r.Group != to.Group
	access := !sameList(r.Access, to.Access)
	dflt := !sameList(r.Default, to.Default)
	now := *r
	now.Kept = nil
	step := func(set func(c *Rules)) {
		was := now
		set(&now)
		if !was.SameLists(&now) {
			c := now
			out = append(out, &c)
		}
	}
	if r.Folder && dflt && (owners || (r.Special^to.Special)&SetGID != 0) {
		step(func(c *Rules) { c.Default = floor(r.Default, to.Default) })
	}
	step(func(c *Rules) {
		runs := r.Special & to.Special & (SetUID | SetGID)
		if !r.Folder && owners { // the system takes them away itself then, or not
			runs = 0
		}
		c.Special = runs | (r.Special|to.Special)&Sticky
	})
	if owners && access {
		step(func(c *Rules) { c.Access = floor(r.Access, to.Access) })
	}
	step(func(c *Rules) { c.Owner, c.Group = to.Owner, to.Group })
	step(func(c *Rules) { c.Access = to.Access })
	step(func(c *Rules) { c.Special = to.Special })
	step(func(c *Rules) { c.Default = to.Default })
	return out
}

func sameList(a, b List) bool {
	if len(a) != len(b) || (a == nil) != (b == nil) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// floor gives what everybody has by both of two lists, whoever they are; of a
// default list that isn't there it isn't known what takes its place.
func floor(a, b List) List {
	p := a.least() & b.least()
	return List{{Tag: UserObj, Perm: p}, {Tag: GroupObj, Perm: p}, {Tag: Other, Perm: p}}
}

// least gives what even those have who have the least by a list.
func (l List) least() Perm {
	if l == nil {
		return 0
	}
	p := R | W | X
	for _, e := range l {
		if e.Tag != Mask {
			p &= e.counts(l.mask())
		}
	}
	return p
}
