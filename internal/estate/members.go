package estate

import (
	"cmp"
	"database/sql"
	"slices"

	"tarnwold/core/account"
)

// Membership is a direct membership.
type Membership struct {
	Until Day  // its last day; "": for good
	Local bool // known not to be one of the server's POSIX groups
}

// SetMember makes an account a member of a group, or its membership another.
func (t *Tx) SetMember(group, member account.ID, is Membership) {
	g, m := t.account(group), t.account(member)
	if g == nil || m == nil {
		t.Fail(refuse("", "%s or %s is not an account of the estate", group, member))
		return
	}
	t.above, t.below = nil, nil
	t.Exec("INSERT INTO members(holder, member, until, local) VALUES(?,?,?,?) ON CONFLICT(holder, member) DO UPDATE SET until=excluded.until, local=excluded.local",
		g.id, m.id, is.Until, is.Local)
}

// AddMembers makes n memberships come that aren't there, many at a time; of one
// that is told twice the first counts.
func (t *Tx) AddMembers(n int, told func(i int) (group, member account.ID, is Membership)) {
	numbers := t.numbersOf()
	at := func(i int) pair {
		g, m, _ := told(i)
		return pair{numbers[g], numbers[m], int32(i)}
	}
	for i := range n {
		if p := at(i); p.group == 0 || p.member == 0 {
			g, m, _ := told(i)
			t.Fail(refuse("", "%s or %s is not an account of the estate", g, m))
			return
		}
	}
	t.above, t.below = nil, nil
	// Mostly a group's members come together, or what somebody is in, each once.
	if !together(n, func(i int) (int64, int64) { p := at(i); return p.group, p.member }) && !together(n, func(i int) (int64, int64) { p := at(i); return p.member, p.group }) {
		pairs := make([]pair, n)
		for i := range pairs {
			pairs[i] = at(i)
		}
		pairs = once(pairs)
		n, at = len(pairs), func(i int) pair { return pairs[i] }
	}
	t.InsertMany("members", n, func(i int) []any {
		p := at(i)
		_, _, is := told(int(p.i))
		return []any{p.group, p.member, string(is.Until), is.Local}
	})
}

// pair is a membership by the rows of its accounts.
type pair struct {
	group, member int64
	i             int32
}

// once leaves the first of each, in order.
func once(pairs []pair) []pair {
	slices.SortFunc(pairs, func(a, b pair) int {
		return cmp.Or(cmp.Compare(a.group, b.group), cmp.Compare(a.member, b.member), cmp.Compare(a.i, b.i))
	})
	pairs = slices.CompactFunc(pairs, func(a, b pair) bool { return a.group == b.group && a.member == b.member })
	slices.SortFunc(pairs, func(a, b pair) int { return cmp.Compare(a.i, b.i) })
	return pairs
}

// together tells whether all of n pairs that one is in stand together, and each is there once.
func together(n int, of func(i int) (one, other int64)) bool {
	ones, others := map[int64]bool{}, map[int64]bool{}
	last := int64(0)
	for i := range n {
		one, other := of(i)
		if i == 0 || one != last {
			if ones[one] {
				return false
			}
			ones[one], last, others = true, one, map[int64]bool{}
		}
		if others[other] {
			return false
		}
		others[other] = true
	}
	return true
}

// numbersOf gives the row numbers of all accounts.
func (t *Tx) numbersOf() map[account.ID]int64 {
	n := int(t.Int("SELECT count(*) FROM accounts"))
	if len(t.fresh) == n {
		return t.fresh
	}
	out := make(map[account.ID]int64, n)
	t.Each("SELECT id, sid FROM accounts", nil, func(r *sql.Rows) error {
		var n int64
		var sid string
		if err := r.Scan(&n, &sid); err != nil {
			return err
		}
		id, err := account.ParseID(sid)
		out[id] = n
		return err
	})
	return out
}

// DropMembers ends n memberships, many at a time.
func (t *Tx) DropMembers(n int, told func(i int) (group, member account.ID)) {
	numbers := t.numbersOf()
	gone := make(map[[2]int64]bool, n)
	for i := range n {
		g, m := told(i)
		gone[[2]int64{numbers[g], numbers[m]}] = true
	}
	var rows []int64
	t.EachMembership(func(r Row) {
		if gone[[2]int64{r.Group, r.Member}] {
			rows = append(rows, r.ID)
		}
	})
	t.above, t.below = nil, nil
	t.DeleteMany("members", rows)
}

// DropMember ends a membership.
func (t *Tx) DropMember(group, member account.ID) {
	g, m := t.account(group), t.account(member)
	if g != nil && m != nil {
		t.above, t.below = nil, nil
		t.Exec("DELETE FROM members WHERE holder=? AND member=?", g.id, m.id)
	}
}

// Member tells whether an account is a direct member of a group, and how.
func (t *Tx) Member(group, member account.ID) (is Membership, ok bool) {
	g, m := t.account(group), t.account(member)
	if g == nil || m == nil {
		return is, false
	}
	if is, ok := t.below[[2]account.ID{group, member}]; ok {
		return is, true
	}
	if t.above != nil {
		if _, climbed := t.above.groups[member]; climbed {
			is, ok = t.above.is[[2]account.ID{group, member}]
			return is, ok
		}
	}
	ok = t.One("SELECT until, local FROM members WHERE holder=? AND member=?", []any{g.id, m.id}, &is.Until, &is.Local)
	return is, ok
}

// MembersOf lists who a group lists.
func (t *Tx) MembersOf(group account.ID) (out []account.ID) {
	g := t.account(group)
	if g == nil {
		return nil
	}
	for _, sid := range t.Strings("SELECT a.sid FROM members m JOIN accounts a ON a.id=m.member WHERE m.holder=? ORDER BY m.id", g.id) {
		id, err := account.ParseID(sid)
		t.Fail(err)
		out = append(out, id)
	}
	return out
}

// Row is a membership by the rows of it and of its accounts.
type Row struct {
	ID, Group, Member int64
	Is                Membership
}

// EachMembership calls fn with every membership, oldest first.
func (t *Tx) EachMembership(fn func(r Row)) {
	t.Each("SELECT id, holder, member, until, local FROM members ORDER BY id", nil, func(r *sql.Rows) error {
		var m Row
		err := r.Scan(&m.ID, &m.Group, &m.Member, &m.Is.Until, &m.Is.Local)
		if err == nil {
			fn(m)
		}
		return err
	})
}

// CountMembers counts all memberships.
func (t *Tx) CountMembers() int64 { return t.Int("SELECT count(*) FROM members") }
