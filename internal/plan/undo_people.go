package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

// rowAccount reads an account from a journaled row.
func rowAccount(v []any) (account, error) {
	a := account{Kind: acc.Kind(store.Number(v, 0)), Name: store.Text(v, 1), POSIX: store.Number(v, 4), Purpose: acc.Purpose(store.Text(v, 6))}
	var err error
	if a.ID, err = acc.ParseID(store.Text(v, 3)); err == nil && store.Text(v, 5) != "" {
		a.Primary, err = acc.ParseID(store.Text(v, 5))
	}
	return a, err
}

func (u *undoing) accounts() error {
	t := u.d.t
	removed := map[ID]bool{}
	list := u.of("accounts")
	for _, n := range list {
		if n.made() {
			if a, err := rowAccount(n.after); err == nil {
				removed[a.ID] = true
			}
		}
	}
	freed := map[string]bool{} // names that this undoing takes from whoever has them
	for _, n := range list {
		if now := t.Now("accounts", n.id); now != nil && (n.made() || n.before != nil && n.after != nil && store.Text(n.before, 1) != store.Text(n.after, 1)) {
			freed[nameKey(store.Text(now, 1), acc.Kind(store.Number(now, 0)))] = true
		}
	}
	taken := func(name string, kind acc.Kind) bool { return u.d.has(name, kind) && !freed[nameKey(name, kind)] }
	for _, n := range list {
		now := t.Now("accounts", n.id)
		switch {
		case n.made():
			if now == nil {
				continue
			}
			a, err := rowAccount(now)
			if err != nil {
				return err
			}
			if err := u.unnamed(a, removed); err != nil {
				return err
			}
			u.p.work.accounts = append(u.p.work.accounts, accountEdit{before: &a})
		case n.gone():
			a, err := rowAccount(n.before)
			if err != nil {
				return err
			}
			if _, ok := t.Account(a.ID); ok || now != nil {
				return u.never("there is an account %s now", a.ID)
			}
			if taken(a.Name, a.Kind) {
				return u.never("there is a %s %q now", a.Kind, a.Name)
			}
			u.p.work.puts = append(u.p.work.puts, putBack{"accounts", n.id, n.before})
			u.p.work.accounts = append(u.p.work.accounts, accountEdit{row: n.id, after: &a})
		default:
			if now == nil {
				return u.never("the account is no longer there")
			}
			before, err := rowAccount(now)
			if err != nil {
				return err
			}
			old, err := rowAccount(n.before)
			if err != nil {
				return err
			}
			then, err := rowAccount(n.after)
			if err != nil {
				return err
			}
			after := before
			for _, f := range []struct{ was, is, now bool }{
				{old.Name != then.Name, before.Name == then.Name, true},
				{old.Purpose != then.Purpose, before.Purpose == then.Purpose, true}, {old.Primary != then.Primary, before.Primary == then.Primary, true}, {old.POSIX != then.POSIX, before.POSIX == then.POSIX, true},
			} {
				if f.was && !f.is {
					if err := u.later("accounts", n.id, ""); err != nil {
						return err
					}
				}
			}
			if old.Name != then.Name {
				if !sameKey(old.Name, before.Name) && taken(old.Name, old.Kind) {
					return u.never("there is a %s %q now", old.Kind, old.Name)
				}
				after.Name = old.Name
			}
			if old.Purpose != then.Purpose {
				after.Purpose = old.Purpose
			}
			if old.Primary != then.Primary {
				after.Primary = old.Primary
			}
			if old.POSIX != then.POSIX {
				after.POSIX = old.POSIX
			}
			if after != before {
				u.p.work.accounts = append(u.p.work.accounts, accountEdit{before: &before, after: &after})
			}
		}
	}
	return nil
}

// unnamed refuses to take an account back that something names but what this
// undoing takes back too.
func (u *undoing) unnamed(a account, removed map[ID]bool) error {
	turns := len(u.of("strands"))+len(u.of("shares")) > 0
	limit := 64
	if turns { // entries may go with what is taken back
		limit = mostUses
		u.checks = append(u.checks, a)
	}
	uses, more, err := u.d.k.Uses([]account{a}, limit)
	if err != nil {
		return err
	}
	t := u.d.t
	mine := maps.Clone(u.mineOf(removed)[a.ID])
	if mine == nil {
		mine = map[string]bool{}
	}
	for _, n := range u.of("administrators") {
		if x, ok := t.RowAccount(store.Number(n.after, 1)); n.made() && ok && x.ID == a.ID {
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
		if !mine[key] && !(turns && (use.As == "entry" || use.As == "inherited")) {
			left = append(left, i)
		}
	}
	if len(left) == 0 && more == 0 {
		return nil
	}
	e := &StillNamed{Account: fmt.Sprintf("%s %s", a.Kind, t.Name(a.ID)), More: more}
	for _, i := range left {
		if len(e.Uses) < 8 {
			e.Uses = append(e.Uses, uses[i])
		} else {
			e.More++
		}
	}
	return e
}

// mineOf lists, by account, the memberships this undoing takes back, and whose
// primary group it is of those that go: worked out once for all.
func (u *undoing) mineOf(removed map[ID]bool) map[ID]map[string]bool {
	if u.mine != nil {
		return u.mine
	}
	t := u.d.t
	u.mine = map[ID]map[string]bool{}
	note := func(id ID, what string) {
		if u.mine[id] == nil {
			u.mine[id] = map[string]bool{}
		}
		u.mine[id][what] = true
	}
	for _, n := range u.of("members") {
		if !n.made() {
			continue
		}
		g, ok := t.RowAccount(store.Number(n.after, 0))
		m, also := t.RowAccount(store.Number(n.after, 1))
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
	t, f := u.d.t, u.p.work.forest
	names := func(r rule.Any, a account) bool {
		if r == nil {
			return false
		}
		x := u.d.k.AsNamed(r)
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
		still := &StillNamed{Account: fmt.Sprintf("%s %s", a.Kind, t.Name(a.ID))}
		note := func(where string, items int64) {
			if len(still.Uses) < 8 {
				still.Uses = append(still.Uses, ask.Use{As: "entry", Where: where, What: "an entry names it", Items: items})
			} else {
				still.More++
			}
		}
		t.AllDescriptors(func(id int64, r rule.Any) {
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
					note(u.d.where(u.p, i), f.Nodes[i].Items)
				}
			}
		}
		for _, s := range t.Servers() {
			for _, sh := range t.Shares(s) {
				after := sh.Descriptor
				for _, e := range u.p.work.shares {
					if e.before != nil && e.before.ID == sh.ID {
						if after = nil; e.after != nil {
							after = e.after.Descriptor
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
	t := u.d.t
	var dir *acc.Directory // with what this undoing ends and brings, as far as it is
	if len(u.of("members")) > 0 {
		dir = t.Directory().Clone()
	}
	for _, n := range u.of("members") {
		if n.made() {
			g, ok := u.account(store.Number(n.after, 0))
			m, also := u.account(store.Number(n.after, 1))
			if ok && also {
				dir.Leave(g.ID, m.ID)
			}
		}
	}
	circles := strings.Contains(u.p.Change, peopleFrom) // directories have them
	for _, n := range u.of("members") {
		either := n.after
		if either == nil {
			either = n.before
		}
		g, ok := u.account(store.Number(either, 0))
		m, also := u.account(store.Number(either, 1))
		if !ok || !also {
			return u.never("a group or member is no longer there")
		}
		now, stands := t.Member(g.ID, m.ID)
		var was, is *estate.Membership
		if stands {
			was = &now
		}
		row := func(v []any) estate.Membership {
			return estate.Membership{Until: estate.Day(store.Text(v, 2)), Local: store.Number(v, 3) != 0}
		}
		if n.after == nil && stands || n.after != nil && (!stands || now != row(n.after)) {
			if stands == (n.before != nil) && (!stands || now == row(n.before)) {
				continue // it is so already
			}
			if err := u.blocked(0, fmt.Sprintf("%s in %s is not as change %d left it", t.Name(m.ID), t.Name(g.ID), u.id)); err != nil {
				return err
			}
		}
		if n.before != nil {
			then := row(n.before)
			is = &then
		}
		if is != nil && was == nil && m.Kind == acc.Group {
			if loop := dir.Loop(g.ID, m.ID); loop != nil && !circles {
				return u.never("%v", &Circle{t.Name(g.ID), t.Name(m.ID), t.Names(loop)})
			}
		}
		if is != nil && was == nil {
			dir.Join(g.ID, m.ID)
		}
		if is != nil || was != nil {
			u.p.work.members = append(u.p.work.members, memberEdit{&g, &m, was, is})
		}
	}
	u.p.work.everywhere = len(u.p.work.members) > 0
	return nil
}

// account finds an account by row, one that is being put back too.
func (u *undoing) account(row int64) (account, bool) {
	if a, ok := u.d.t.RowAccount(row); ok {
		return a, true
	}
	for _, e := range u.p.work.accounts {
		if e.row == row && e.after != nil {
			return *e.after, true
		}
	}
	return account{}, false
}
