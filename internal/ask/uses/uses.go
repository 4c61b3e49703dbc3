// Package uses tells where an account is named, and what a group opens.
package uses

import (
	"maps"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Use is a place where an account is named.
type Use struct {
	Where string `json:"where"`
	As    string `json:"as"`   // entry, inherited, owner, group, administrator, member, holder, primary, share-owner
	What  string `json:"what"` // the entry as written, the group, the member
	Items int64  `json:"items,omitempty"`
}

// Uses lists where accounts are named: entries own and inherited, owners,
// shares, administrators, memberships, primary groups; at most limit places,
// and how many more there are.
func Uses(k *ask.Asker, accounts []account.Account, limit int) (uses []Use, more int64, err error) {
	t := k.T
	forms := map[account.ID]bool{}
	for _, a := range accounts {
		for _, id := range estate.Forms(a) {
			forms[id] = true
		}
	}
	note := func(u Use) {
		if len(uses) < limit {
			uses = append(uses, u)
		} else {
			more += max(1, u.Items)
		}
	}
	for _, a := range accounts {
		for _, s := range t.AdministratorOf(a.ID) {
			note(Use{Where: "server " + s, As: "administrator"})
		}
		for _, g := range t.GroupsOf(a.ID) {
			note(Use{Where: "group " + t.Name(g), As: "member"})
		}
		for _, m := range t.MembersOf(a.ID) {
			note(Use{Where: "group " + t.Name(a.ID), As: "holder", What: t.Name(m)})
		}
		for _, form := range estate.Forms(a) {
			for _, u := range t.PrimaryUsers(form) {
				note(Use{Where: "user " + t.Name(u.ID), As: "primary"})
			}
		}
	}
	// What a descriptor says of the accounts, nearest to the point first.
	says := func(a rule.Any, d *rule.Descriptor, folder bool) (as, what string) {
		for _, list := range []*rule.Rules{&d.Rules, &d.Audit} {
			for _, e := range list.Entries {
				if forms[e.Who] && e.Own() {
					return "entry", k.Write(a, e, folder)
				}
			}
		}
		if forms[d.Owner] {
			return "owner", ""
		}
		if forms[d.Group] {
			return "group", ""
		}
		for _, list := range []*rule.Rules{&d.Rules, &d.Audit} {
			for _, e := range list.Entries {
				if forms[e.Who] {
					return "inherited", k.Write(a, e, folder)
				}
			}
		}
		return "", ""
	}
	only, limited := estate.Server{}, false // who is a machine's own is named on it alone
	if len(accounts) == 1 {
		only, limited = t.MachineOf(accounts[0].ID)
	}
	for _, s := range t.Servers() {
		for _, sh := range t.Shares(s) {
			if limited && s.ID != only.ID {
				continue
			}
			if as, what := says(sh.Descriptor, sh.Descriptor, false); as != "" {
				note(Use{Where: "share " + sh.Address(), As: as, What: what})
			}
		}
	}
	var own, inherited []Use
	having(t, slices.Collect(maps.Keys(forms)), func(a rule.Any) bool { as, _ := says(a, k.AsNamed(a), true); return as != "" }, func(a rule.Any, s estate.Strand, where func() string) {
		as, what := says(a, k.AsNamed(a), s.Folder)
		to := &own
		if as == "inherited" {
			to = &inherited
		}
		if limited {
			items, first, ok := there(t, s, only)
			if !ok {
				return
			}
			s.Items, where = items, func() string { return first }
		}
		if len(*to) >= limit {
			more += s.Items
			return
		}
		*to = append(*to, Use{Where: where(), As: as, What: what, Items: s.Items})
	})
	byWhere := func(a, b Use) int {
		if a.Where < b.Where {
			return -1
		}
		if a.Where > b.Where {
			return 1
		}
		return 0
	}
	slices.SortFunc(own, byWhere)
	slices.SortFunc(inherited, byWhere)
	for _, u := range append(own, inherited...) {
		note(u)
	}
	return uses, more, t.Err()
}

// there narrows a strand to the items on the one server that an account is known on; ok
// is false where there are none. where gives the first.
func there(t *estate.Tx, s estate.Strand, only estate.Server) (items int64, where string, ok bool) {
	for _, x := range t.Targets(s.ID) {
		if at, path, stands := t.Stands(x.Item); stands && at.ID == only.ID {
			if items++; items == 1 {
				where = place.Address{Server: at.Name, Path: path}.String()
			}
		}
	}
	return items, where, items > 0
}

// having calls fn with every strand that has rules that name some identifiers and are
// meant, and with what says where its first item is.
func having(t *estate.Tx, names []account.ID, meant func(rule.Any) bool, fn func(a rule.Any, s estate.Strand, where func() string)) {
	var ids, strands, above []int64
	t.Naming(names, func(id int64, a rule.Any) {
		if meant(a) {
			ids = append(ids, id)
		}
	})
	by := t.StrandsHaving(ids)
	for _, id := range ids {
		for _, s := range by[id] {
			strands, above = append(strands, s.ID), append(above, s.Parent)
		}
	}
	first := t.FirstOf(strands)
	t.Locate(slices.Collect(maps.Values(first)))
	t.StrandsNow(above)
	for _, id := range ids {
		for _, s := range by[id] {
			fn(t.Descriptor(id), s, func() string { return t.Where(first[s.ID]) })
		}
	}
}

// Covers tells whether a place is at or below another on the same server.
func Covers(top, at estate.Place) bool {
	return at.Server.ID == top.Server.ID && place.Under(estate.Key(at.Path), estate.Key(top.Path))
}

// UsedAs is one place where an account is named, for somebody who looks for
// all of them.
type UsedAs struct {
	Account ask.Account `json:"account"`
	// Through is the way from the account asked about to this one, a group it
	// is in; absent for the account itself.
	Through []string `json:"through,omitempty"`
	Where   string   `json:"where"`
	// As is entry, audit-entry, stale-entry (from above, though no folder hands
	// it down now), owner, group, share-entry, share-owner, share-group, administrator, member
	// (of the group in where), holder (of the member in what), primary, last-day.
	As    string `json:"as"`
	What  string `json:"what,omitempty"`
	Items int64  `json:"items,omitempty"` // alike, the first of which is where
}

// UsesOf lists everywhere an account is named, and with through everywhere
// the groups it is in are.
func UsesOf(k *ask.Asker, word string, through bool) ([]UsedAs, error) {
	t := k.T
	id, err := t.Who(word)
	if err != nil {
		return nil, err
	}
	type meant struct {
		account ask.Account
		chain   []string
		order   int
	}
	forms := map[account.ID]*meant{}
	var all []account.ID // accounts, the one asked about first
	put := func(id account.ID, chain []string) {
		m := &meant{k.Account(id), chain, len(all)}
		all = append(all, id)
		forms[id] = m
		if a, ok := t.Account(id); ok {
			for _, f := range t.Forms(a) {
				forms[f] = m
			}
		}
	}
	put(id, nil)
	if a, ok := t.Account(id); ok && through {
		tok := account.NewToken(t, a.ID, account.Traits{})
		ids := tok.IDs()
		slices.SortFunc(ids, func(a, b account.ID) int { return ask.CmpText(t.Name(a), t.Name(b)) })
		for _, g := range ids {
			if x, ok := t.Account(g); !ok || x.Kind != account.Group || g == id {
				continue
			}
			put(g, k.Chain(tok, g))
		}
	}
	out := []UsedAs{}
	note := func(id account.ID, where, as, what string, items int64) {
		m := forms[id]
		out = append(out, UsedAs{m.account, m.chain, where, as, what, items})
	}
	for _, id := range all {
		a, ok := t.Account(id)
		if !ok {
			continue
		}
		for _, s := range t.AdministratorOf(id) {
			note(id, "server "+s, "administrator", "", 0)
		}
		for _, g := range t.GroupsOf(id) {
			what := ""
			if is, ok := t.Member(g, id); ok && is.Until != "" {
				what = "until " + string(is.Until)
			}
			note(id, "group "+t.Name(g), "member", what, 0)
		}
		if a.Kind == account.Group && len(forms[id].chain) == 0 {
			for _, m := range t.MembersOf(id) {
				note(id, "group "+t.Name(id), "holder", t.Name(m), 0)
			}
		}
		for _, form := range t.Forms(a) {
			for _, u := range t.PrimaryUsers(form) {
				note(id, "user "+t.Name(u.ID), "primary", "", 0)
			}
		}
	}
	// Who is a machine's own is named on it alone, and so is a group of it.
	machine := map[account.ID]estate.Server{}
	for id := range forms {
		if s, own := t.MachineOf(id); own {
			machine[id.Named()] = s
		}
	}
	within := func(a rule.Any, d, up *rule.Descriptor, folder bool, each func(id account.ID, as, what string)) {
		if forms[d.Owner] != nil {
			each(d.Owner, "owner", "")
		}
		if forms[d.Group] != nil {
			each(d.Group, "group", "")
		}
		for i, list := range []*rule.Rules{&d.Rules, &d.Audit} {
			for _, e := range list.Entries {
				if forms[e.Who] == nil {
					continue
				}
				as := "entry"
				if i == 1 {
					as = "audit-entry"
				}
				if !e.Own() {
					if up != nil {
						from := up
						if i == 1 {
							from = &rule.Descriptor{Rules: up.Audit}
						}
						if slices.Contains(rule.HandDown(from.Rules.Entries, folder, d.Owner, d.Group), e) {
							continue // it goes when that one goes
						}
					}
					as = "stale-entry"
				}
				each(e.Who, as, k.Write(a, e, folder))
			}
		}
	}
	for _, s := range t.Servers() {
		for _, sh := range t.Shares(s) {
			within(sh.Descriptor, sh.Descriptor, nil, false, func(id account.ID, as, what string) {
				if only, own := machine[id]; own && only.ID != s.ID {
					return
				}
				note(id, sh.Address(), "share-"+as, what, 0)
			})
		}
	}
	having(t, slices.Collect(maps.Keys(forms)), func(a rule.Any) bool {
		return Names(k, k.AsNamed(a), func(id account.ID) bool { return forms[id] != nil })
	}, func(a rule.Any, s estate.Strand, where func() string) {
		var up rule.Any
		if s.Parent != 0 {
			up = t.Of(s.Parent)
		}
		within(a, k.AsNamed(a), k.AsEntries(up), s.Folder, func(id account.ID, as, what string) {
			if only, own := machine[id]; own {
				if items, first, ok := there(t, s, only); ok {
					note(id, first, as, what, items)
				}
				return
			}
			note(id, where(), as, what, s.Items)
		})
	})
	bearers, _ := t.Overdue("9999-12-31")
	for _, b := range bearers {
		var d rule.Any
		where, folder := "", true
		if b.Share != 0 {
			sh, ok := t.ShareByRow(b.Share)
			if !ok {
				continue
			}
			d, where = sh.Descriptor, sh.Address()
		} else {
			p := t.Place(b.Item)
			d, where, folder = t.Of(p.Strand), p.String(), p.Folder
		}
		for e, day := range k.Dated(b, d) {
			if forms[e.Who] != nil {
				note(e.Who, where, "last-day", k.Write(d, e, folder)+" until "+string(day), 0)
			}
		}
	}
	order := func(u UsedAs) int {
		for i, id := range all {
			if forms[id].account == u.Account {
				return i
			}
		}
		return len(all)
	}
	ranks := map[ask.Account]int{}
	for _, u := range out {
		if _, ok := ranks[u.Account]; !ok {
			ranks[u.Account] = order(u)
		}
	}
	slices.SortStableFunc(out, func(a, b UsedAs) int {
		if c := ranks[a.Account] - ranks[b.Account]; c != 0 {
			return c
		}
		if c := ask.CmpText(a.Where, b.Where); c != 0 {
			return c
		}
		return ask.CmpText(a.As+a.What, b.As+b.What)
	})
	return out, t.Err()
}

// Names tells whether anything in a descriptor names one of some accounts.
func Names(k *ask.Asker, d *rule.Descriptor, meant func(account.ID) bool) bool {
	is := func(e rule.Entry) bool { return meant(e.Who) }
	return meant(d.Owner) || meant(d.Group) || slices.ContainsFunc(d.Rules.Entries, is) || slices.ContainsFunc(d.Audit.Entries, is)
}
