package estate

import (
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
		t.Fail(refuse("", "%s or %s is no account of the estate", group, member))
		return
	}
	t.Exec("INSERT INTO members(holder, member, until, local) VALUES(?,?,?,?) ON CONFLICT(holder, member) DO UPDATE SET until=excluded.until, local=excluded.local",
		g.id, m.id, is.Until, is.Local)
}

// NewMember is a membership that comes.
type NewMember struct {
	Group, Member account.ID
	Is            Membership
}

// AddMembers makes memberships come that aren't there, many at a time.
func (t *Tx) AddMembers(list []NewMember) {
	for _, m := range list {
		if t.account(m.Group) == nil || t.account(m.Member) == nil {
			t.Fail(refuse("", "%s or %s is no account of the estate", m.Group, m.Member))
			return
		}
	}
	t.InsertMany("members", len(list), func(i int) []any {
		m := &list[i]
		return []any{t.account(m.Group).id, t.account(m.Member).id, string(m.Is.Until), m.Is.Local}
	})
}

// DropMember ends a membership.
func (t *Tx) DropMember(group, member account.ID) {
	g, m := t.account(group), t.account(member)
	if g != nil && m != nil {
		t.Exec("DELETE FROM members WHERE holder=? AND member=?", g.id, m.id)
	}
}

// Member tells whether an account is a direct member of a group, and how.
func (t *Tx) Member(group, member account.ID) (is Membership, ok bool) {
	g, m := t.account(group), t.account(member)
	if g == nil || m == nil {
		return is, false
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
	for _, row := range t.Ints("SELECT member FROM members WHERE holder=? ORDER BY id", g.id) {
		if m := t.accountByRow(row); m != nil {
			out = append(out, m.ID)
		}
	}
	return out
}
