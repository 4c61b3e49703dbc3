package account

import (
	"maps"
	"slices"
)

// Directory is a Book held in memory whole: every account and membership.
type Directory struct {
	accounts map[ID]Account
	order    []ID
	members  map[ID][]ID    // group: who it lists
	groups   map[ID][]ID    // member: which groups list it
	local    map[[2]ID]bool // memberships known to be of local groups
}

// NewDirectory makes an empty directory.
func NewDirectory() *Directory { return NewDirectoryOf(0) }

// NewDirectoryOf makes an empty directory with room for so many accounts.
func NewDirectoryOf(accounts int) *Directory {
	return &Directory{accounts: make(map[ID]Account, accounts), order: make([]ID, 0, accounts), members: map[ID][]ID{}, groups: make(map[ID][]ID, accounts), local: map[[2]ID]bool{}}
}

// Add puts an account in, in place of one with the same identifier.
func (d *Directory) Add(a Account) {
	if _, ok := d.accounts[a.ID]; !ok {
		d.order = append(d.order, a.ID)
	}
	d.accounts[a.ID] = a
}

// Join makes member a direct member of group. Joining twice is joining once.
func (d *Directory) Join(group, member ID) {
	groups := d.groups[member]
	if !slices.Contains(groups, group) { // an account is in few groups, however many a group lists
		d.members[group] = append(d.members[group], member)
		d.groups[member] = append(groups, group)
	}
}

// JoinAll makes accounts members of groups, each by its place in All, the group's first, in
// a directory that has no memberships yet. No pair may stand there twice.
func (d *Directory) JoinAll(pairs [][2]int32) {
	for side, lists := range []map[ID][]ID{d.members, d.groups} {
		counts := make([]int32, len(d.order))
		for _, p := range pairs {
			counts[p[side]]++
		}
		room := make([]ID, len(pairs))
		of := make([][]ID, len(d.order))
		for i, n := range counts {
			of[i], room = room[:0:n], room[n:]
		}
		for _, p := range pairs {
			of[p[side]] = append(of[p[side]], d.order[p[1-side]])
		}
		for i, list := range of {
			if len(list) > 0 {
				lists[d.order[i]] = list
			}
		}
	}
}

// Leave ends a direct membership; one that isn't there ends as well.
func (d *Directory) Leave(group, member ID) {
	drop := func(m map[ID][]ID, key, gone ID) {
		m[key] = slices.DeleteFunc(m[key], func(id ID) bool { return id == gone })
	}
	delete(d.local, [2]ID{group, member})
	drop(d.members, group, member)
	drop(d.groups, member, group)
}

// LeaveAll ends memberships, a group and its member each, in one walk over the
// lists they are on.
func (d *Directory) LeaveAll(pairs [][2]ID) {
	gone := make(map[[2]ID]bool, len(pairs))
	groups, members := map[ID]bool{}, map[ID]bool{}
	for _, p := range pairs {
		gone[p], groups[p[0]], members[p[1]] = true, true, true
		delete(d.local, p)
	}
	for g := range groups {
		d.members[g] = slices.DeleteFunc(d.members[g], func(m ID) bool { return gone[[2]ID{g, m}] })
	}
	for m := range members {
		d.groups[m] = slices.DeleteFunc(d.groups[m], func(g ID) bool { return gone[[2]ID{g, m}] })
	}
}

// RemoveAll takes accounts out, with every membership of them.
func (d *Directory) RemoveAll(ids []ID) {
	gone := make(map[ID]bool, len(ids))
	var pairs [][2]ID
	for _, id := range ids {
		gone[id] = true
		for _, g := range d.groups[id] {
			pairs = append(pairs, [2]ID{g, id})
		}
		for _, m := range d.members[id] {
			pairs = append(pairs, [2]ID{id, m})
		}
	}
	d.LeaveAll(pairs)
	for id := range gone {
		delete(d.accounts, id)
	}
	d.order = slices.DeleteFunc(d.order, func(id ID) bool { return gone[id] })
}

// Remove takes an account out, with every membership of it.
func (d *Directory) Remove(id ID) {
	for _, g := range slices.Clone(d.groups[id]) {
		d.Leave(g, id)
	}
	for _, m := range slices.Clone(d.members[id]) {
		d.Leave(id, m)
	}
	delete(d.accounts, id)
	d.order = slices.DeleteFunc(d.order, func(o ID) bool { return o == id })
}

// SetLocal says whether a membership is one of the server's local groups alone.
func (d *Directory) SetLocal(group, member ID, yes bool) {
	if yes {
		d.local[[2]ID{group, member}] = true
	} else {
		delete(d.local, [2]ID{group, member})
	}
}

// Local tells whether a membership is known to be one of a local group.
func (d *Directory) Local(group, member ID) bool {
	return len(d.local) > 0 && d.local[[2]ID{group, member}]
}

// IsMember tells whether a group lists member directly.
func (d *Directory) IsMember(group, member ID) bool {
	return slices.Contains(d.groups[member], group)
}

// Clone copies the directory.
func (d *Directory) Clone() *Directory {
	c := &Directory{accounts: maps.Clone(d.accounts), order: slices.Clone(d.order), members: map[ID][]ID{}, groups: map[ID][]ID{}, local: maps.Clone(d.local)}
	for id, ms := range d.members {
		c.members[id] = slices.Clone(ms)
	}
	for id, gs := range d.groups {
		c.groups[id] = slices.Clone(gs)
	}
	return c
}

// Account finds an account.
func (d *Directory) Account(id ID) (Account, bool) { a, ok := d.accounts[id]; return a, ok }

// GroupsOf lists the groups that list id as a member.
func (d *Directory) GroupsOf(id ID) []ID { return d.groups[id] }

// MembersOf lists the direct members of a group, as listed; users whose
// primary group it is are not among them.
func (d *Directory) MembersOf(id ID) []ID { return d.members[id] }

// All lists every account in the order it came.
func (d *Directory) All() []ID { return d.order }

// Users lists every user in the order it came.
func (d *Directory) Users() []Account {
	var us []Account
	for _, id := range d.order {
		if a := d.accounts[id]; a.Kind == User {
			us = append(us, a)
		}
	}
	return us
}

// Membership is one member of a group at any depth, and the way there.
type Membership struct {
	ID      ID
	Primary bool // it is the member's primary group; no list shows it

	by    *below
	up    int32 // whom of by it is a member of; -1: the group itself
	depth int32 // how many of by stand between it and the group
}

// below is what is below a group, nearest first.
type below struct {
	group ID
	all   []Membership
}

// Direct gives the group that the member is directly in.
func (m *Membership) Direct() ID {
	if m.up < 0 {
		return m.by.group
	}
	return m.by.all[m.up].ID
}

// Chain gives the way from the member to the group, both included.
func (m *Membership) Chain() []ID {
	ids, _ := m.Ends(int(m.depth) + 2)
	return ids
}

// Ends gives the beginning and the end of the chain, at most so many accounts
// each, and how many are left out between the two.
func (m *Membership) Ends(each int) (ids []ID, between int) {
	n := int(m.depth) + 2
	between = max(0, n-2*each)
	i := 0
	put := func(id ID) {
		if between == 0 || i < each || i >= each+between {
			ids = append(ids, id)
		}
		i++
	}
	put(m.ID)
	for at := m.up; at >= 0; at = m.by.all[at].up {
		put(m.by.all[at].ID)
	}
	put(m.by.group)
	return ids, between
}

// MembersBelow lists every member of a group at any depth, nearest first,
// each once with its shortest chain. Primary-group members are included.
func (d *Directory) MembersBelow(group ID) []Membership {
	primary := map[ID][]ID{}
	for _, id := range d.order {
		if a := d.accounts[id]; a.Kind == User && !a.Primary.IsZero() {
			primary[a.Primary] = append(primary[a.Primary], id)
		}
	}
	by := &below{group: group}
	seen := map[ID]bool{group: true}
	visit := func(ids []ID, up, depth int32, isPrimary bool) {
		for _, m := range ids {
			if !seen[m] {
				seen[m] = true
				by.all = append(by.all, Membership{ID: m, Primary: isPrimary, by: by, up: up, depth: depth})
			}
		}
	}
	visit(d.members[group], -1, 0, false)
	visit(primary[group], -1, 0, true)
	for i := 0; i < len(by.all); i++ {
		at := by.all[i]
		visit(d.members[at.ID], int32(i), at.depth+1, false)
		visit(primary[at.ID], int32(i), at.depth+1, true)
	}
	return by.all
}

// within tells whether a group is in another at any depth. It is looked for from
// both ends, so that groups put into each other by the thousand, in whatever
// order, cost no more than the nearer end.
func (d *Directory) within(group, holder ID) bool {
	up, down := []ID{group}, []ID{holder}
	above, below := map[ID]bool{group: true}, map[ID]bool{holder: true}
	for len(up) > 0 && len(down) > 0 {
		for _, g := range d.groups[up[0]] {
			if below[g] {
				return true
			}
			if !above[g] {
				above[g], up = true, append(up, g)
			}
		}
		for _, m := range d.members[down[0]] {
			if above[m] {
				return true
			}
			if !below[m] {
				below[m], down = true, append(down, m)
			}
		}
		up, down = up[1:], down[1:]
	}
	return false
}

// Loop tells whether making member a member of group would put group inside
// itself, and gives the circle then: group first and last.
func (d *Directory) Loop(group, member ID) []ID {
	if group == member {
		return []ID{group, group}
	}
	if !d.within(group, member) {
		return nil
	}
	// A way from group up to member means member already holds group.
	from := map[ID]ID{group: {}}
	queue := []ID{group}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, g := range d.groups[at] {
			if _, ok := from[g]; ok {
				continue
			}
			from[g] = at
			if g == member {
				loop := []ID{group}
				for x := g; x != group; x = from[x] {
					loop = append(loop, x)
				}
				slices.Reverse(loop[1:])
				return append(loop, group)
			}
			queue = append(queue, g)
		}
	}
	return nil
}
