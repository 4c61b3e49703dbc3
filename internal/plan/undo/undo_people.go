package undo

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
)

// peopleNow is every account and membership as it is now, by row.
type peopleNow struct {
	accounts map[int64]acc.Account
	members  map[[2]int64]estate.Membership
}

// now reads who there is, where the change altered many; else nil.
func (u *undoing) now() *peopleNow {
	if u.people == nil && len(u.did.Accounts.List)+len(u.did.Members.List) >= plan.ManyPeople {
		u.people = &peopleNow{map[int64]acc.Account{}, map[[2]int64]estate.Membership{}}
		u.d.T.EachAccount(func(row int64, a acc.Account) { u.people.accounts[row] = a })
		u.d.T.EachMembership(func(r estate.Row) { u.people.members[[2]int64{r.Group, r.Member}] = r.Is })
	}
	return u.people
}

// standing finds an account by row, as it is now.
func (u *undoing) standing(row int64) (acc.Account, bool) {
	if p := u.now(); p != nil {
		a, ok := p.accounts[row]
		return a, ok
	}
	return u.d.T.RowAccount(row)
}

// isMember tells whether, and how, an account is a member of a group now, both
// by row too.
func (u *undoing) isMember(groupRow, memberRow int64, group, member plan.ID) (estate.Membership, bool) {
	if p := u.now(); p != nil {
		is, ok := p.members[[2]int64{groupRow, memberRow}]
		return is, ok
	}
	return u.d.T.Member(group, member)
}

func (u *undoing) accounts() error {
	t := u.d.T
	removed := map[plan.ID]bool{}
	list := u.did.Accounts.List
	freed := map[string]bool{} // names that this undoing takes from whoever has them
	for i := range list {
		n := &list[i]
		if n.Made() {
			removed[n.After.ID] = true
		}
		if now, there := u.standing(n.ID); there && (n.Made() || n.Before != nil && n.After != nil && n.Before.Name != n.After.Name) {
			freed[plan.NameKey(now.Name, now.Kind)] = true
		}
	}
	taken := func(name string, kind acc.Kind) bool {
		return people.Has(u.d, name, kind) && !freed[plan.NameKey(name, kind)]
	}
	for i := range list {
		n := &list[i]
		a, there := u.standing(n.ID)
		switch {
		case n.Made():
			if !there {
				continue
			}
			if err := u.unnamed(a, removed); err != nil {
				return err
			}
			u.p.Work.Accounts = append(u.p.Work.Accounts, edit.Account{Before: &a})
		case n.Gone():
			a := *n.Before
			if _, ok := t.Account(a.ID); ok || there {
				return u.never("there is an account %s now", a.ID)
			}
			if taken(a.Name, a.Kind) {
				return u.never("there is a %s %q now", a.Kind, a.Name)
			}
			u.back(n.Back())
			u.p.Work.Accounts = append(u.p.Work.Accounts, edit.Account{Row: n.ID, After: &a})
		default:
			if !there {
				return u.never("the account is no longer there")
			}
			before := a
			after, clean := edit.TakeBack(before, *n.Before, *n.After)
			if !clean {
				if err := u.later("accounts", n.ID, ""); err != nil {
					return err
				}
			}
			if after.Name != before.Name && !plan.SameKey(after.Name, before.Name) && taken(after.Name, after.Kind) {
				return u.never("there is a %s %q now", after.Kind, after.Name)
			}
			if after != before {
				u.p.Work.Accounts = append(u.p.Work.Accounts, edit.Account{Before: &before, After: &after})
			}
		}
	}
	return nil
}

// byNumber tells whether a user's primary group is kept as a number, which is the
// user's own whether there is a group of that number or not.
func (u *undoing) byNumber(where string) bool {
	a, err := u.d.T.Named(strings.TrimPrefix(where, "user "), acc.User)
	if err != nil {
		return false
	}
	_, _, number := a.Primary.POSIX()
	return number
}

// unnamed refuses to take an account back that something names but what this
// undoing takes back too.
func (u *undoing) unnamed(a acc.Account, removed map[plan.ID]bool) error {
	turns := len(u.did.Strands.List)+len(u.did.Shares.List) > 0
	if turns { // entries may go with what is taken back
		u.checks = append(u.checks, a)
	}
	named := u.namedElsewhere(removed)
	if !slices.ContainsFunc(estate.Forms(a), func(id plan.ID) bool { return named[id] }) {
		return nil
	}
	limit := 64 + len(u.mineOf(removed)[a.ID])
	if turns {
		limit = mostUses
	}
	uses, more, err := uses.Uses(u.d.K, []acc.Account{a}, limit)
	if err != nil {
		return err
	}
	t := u.d.T
	mine := maps.Clone(u.mineOf(removed)[a.ID])
	if mine == nil {
		mine = map[string]bool{}
	}
	for i := range u.did.Administrators.List {
		n := &u.did.Administrators.List[i]
		if !n.Made() {
			continue
		}
		if x, ok := t.RowAccount(n.After.Account); ok && x.ID == a.ID {
			for _, s := range t.AdministratorOf(a.ID) {
				mine["administrator server "+s] = true
			}
		}
	}
	var left []int
	for i, use := range uses {
		key := use.As + " " + use.Where
		if use.As == "holder" {
			key = "holder " + use.What
		}
		if use.As == "primary" && u.byNumber(use.Where) { // the number was there before the group, and stays
			continue
		}
		if !mine[key] && !(turns && (use.As == "entry" || use.As == "inherited")) {
			left = append(left, i)
		}
	}
	if len(left) == 0 && more == 0 {
		return nil
	}
	e := &people.StillNamed{Account: fmt.Sprintf("%s %s", a.Kind, t.Name(a.ID)), More: more}
	for _, i := range left {
		if len(e.Uses) < 8 {
			e.Uses = append(e.Uses, uses[i])
		} else {
			e.More++
		}
	}
	return e
}

// namedElsewhere gives the identifiers that anything names but the memberships and
// the users that this undoing takes back.
func (u *undoing) namedElsewhere(removed map[plan.ID]bool) map[plan.ID]bool {
	if u.elsewhere != nil {
		return u.elsewhere
	}
	u.elsewhere = people.NamedByRules(u.d)
	rows := map[int64]plan.ID{}
	u.d.T.EachAccount(func(row int64, a acc.Account) {
		rows[row] = a.ID
		if !removed[a.ID] {
			u.elsewhere[a.Primary] = true
		}
	})
	u.d.T.EachMembership(func(r estate.Row) {
		if !u.did.Members.Made(r.ID) {
			u.elsewhere[rows[r.Group]], u.elsewhere[rows[r.Member]] = true, true
		}
	})
	return u.elsewhere
}

// mineOf lists, by account, the memberships this undoing takes back, and whose
// primary group it is of those that go: worked out once for all.
func (u *undoing) mineOf(removed map[plan.ID]bool) map[plan.ID]map[string]bool {
	if u.mine != nil {
		return u.mine
	}
	t := u.d.T
	u.mine = map[plan.ID]map[string]bool{}
	note := func(id plan.ID, what string) {
		if u.mine[id] == nil {
			u.mine[id] = map[string]bool{}
		}
		u.mine[id][what] = true
	}
	for i := range u.did.Members.List {
		n := &u.did.Members.List[i]
		if !n.Made() {
			continue
		}
		g, ok := u.standing(n.After.Group)
		m, also := u.standing(n.After.Member)
		if ok && also {
			note(m.ID, "member group "+t.Name(g.ID))
			note(g.ID, "holder "+t.Name(m.ID))
		}
	}
	for id := range removed {
		if x, ok := t.Account(id); ok && !x.Primary.IsZero() {
			note(x.Primary, "primary user "+t.Name(id))
		}
	}
	return u.mine
}

// mostUses is how many uses of an account are looked at where entries may go
// with what is taken back.
const mostUses = 200_000

// entriesGone refuses where entries that are left would name an account that
// goes.
func (u *undoing) entriesGone() error {
	if len(u.checks) == 0 {
		return nil
	}
	t, f := u.d.T, u.p.Work.Partition
	names := func(r rule.Any, a acc.Account) bool {
		if r == nil {
			return false
		}
		x := u.d.K.AsNamed(r)
		for _, e := range append(slices.Clone(x.Rules.Entries), x.Audit.Entries...) {
			if slices.Contains(estate.Forms(a), e.Who) {
				return true
			}
		}
		return false
	}
	in := map[int64]bool{}
	if f != nil {
		for i := range f.Nodes {
			in[f.Strand(i)] = true
		}
	}
	for _, a := range u.checks {
		still := &people.StillNamed{Account: fmt.Sprintf("%s %s", a.Kind, t.Name(a.ID))}
		note := func(where string, items int64) {
			if len(still.Uses) < 8 {
				still.Uses = append(still.Uses, uses.Use{As: "entry", Where: where, What: "an entry names it", Items: items})
			} else {
				still.More++
			}
		}
		t.Naming(estate.Forms(a), func(id int64, r rule.Any) {
			if !names(r, a) {
				return
			}
			for _, s := range t.StrandsOf(id) {
				if items := t.Weight(s); items > 0 && !in[s] {
					for _, item := range t.Items(s, 1) {
						note(t.Where(item), items)
					}
				}
			}
		})
		if f != nil {
			for i := range f.Nodes {
				if names(f.Nodes[i].After, a) {
					note(u.d.Where(u.p, i), f.Nodes[i].Items)
				}
			}
		}
		for _, s := range t.Servers() {
			for _, sh := range t.Shares(s) {
				after := sh.Descriptor
				for _, e := range u.p.Work.Shares {
					if e.Before != nil && e.Before.ID == sh.ID {
						if after = nil; e.After != nil {
							after = e.After.Descriptor
						}
					}
				}
				if names(after, a) {
					note("share "+sh.Address(), 1)
				}
			}
		}
		if len(still.Uses) > 0 {
			return still
		}
	}
	return t.Err()
}

func (u *undoing) members() error {
	t := u.d.T
	var dir *acc.Directory // with what this undoing ends and brings, as far as it is
	then := func() *acc.Directory {
		if dir == nil {
			dir = t.Directory().Clone()
			var pairs [][2]plan.ID
			for i := range u.did.Members.List {
				if n := &u.did.Members.List[i]; n.Made() {
					g, ok := u.account(n.After.Group)
					m, also := u.account(n.After.Member)
					if ok && also {
						pairs = append(pairs, [2]plan.ID{g.ID, m.ID})
					}
				}
			}
			dir.LeaveAll(pairs)
			for _, e := range u.p.Work.Members {
				if e.Is != nil && e.Was == nil {
					dir.Join(e.Group.ID, e.Member.ID)
				}
			}
		}
		return dir
	}
	circles := u.d.TookIn(u.id, plan.OriginDirectory, plan.OriginPeople) // directories have them
	for i := range u.did.Members.List {
		n := &u.did.Members.List[i]
		row := n.Either()
		g, ok := u.account(row.Group)
		m, also := u.account(row.Member)
		if !ok || !also {
			return u.never("a group or member is no longer there")
		}
		now, stands := u.isMember(row.Group, row.Member, g.ID, m.ID)
		var was, is *estate.Membership
		if stands {
			was = &now
		}
		if n.After == nil && stands || n.After != nil && (!stands || now != n.After.Is) {
			if stands == (n.Before != nil) && (!stands || now == n.Before.Is) {
				continue // it is so already
			}
			if err := u.blocked(0, fmt.Sprintf("%s in %s is not as change %d left it", t.Name(m.ID), t.Name(g.ID), u.id)); err != nil {
				return err
			}
		}
		if n.Before != nil {
			is = &n.Before.Is
		}
		if is != nil && was == nil && m.Kind == acc.Group && !circles {
			if loop := then().Loop(g.ID, m.ID); loop != nil {
				return u.never("%v", &people.Circle{Group: t.Name(g.ID), Member: t.Name(m.ID), Loop: t.Names(loop)})
			}
		}
		if is != nil && was == nil && dir != nil {
			dir.Join(g.ID, m.ID)
		}
		if is != nil || was != nil {
			u.p.Work.Members = append(u.p.Work.Members, edit.Membership{Group: &g, Member: &m, Was: was, Is: is})
		}
	}
	u.p.Work.Everywhere = len(u.p.Work.Members) > 0
	return nil
}

// account finds an account by row, one that is being put back too.
func (u *undoing) account(row int64) (acc.Account, bool) {
	if a, ok := u.standing(row); ok {
		return a, true
	}
	if u.coming == nil {
		u.coming = map[int64]acc.Account{}
		for _, e := range u.p.Work.Accounts {
			if e.Row != 0 && e.After != nil {
				u.coming[e.Row] = *e.After
			}
		}
	}
	a, ok := u.coming[row]
	return a, ok
}
