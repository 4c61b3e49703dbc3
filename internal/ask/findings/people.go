package findings

import (
	"hash/maphash"
	"maps"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// spoken is which identifiers rules name, with how many items do.
func (x *finding) spoken() map[account.ID]int64 {
	if x.named != nil {
		return x.named
	}
	out := map[account.ID]int64{}
	x.named = out
	for _, d := range x.by.order {
		items := x.items(x.by.nodes[d])
		seen := map[account.ID]bool{}
		for _, list := range [][]rule.Entry{d.Rules.Entries, d.Audit.Entries} {
			for _, e := range list {
				if !seen[e.Who] {
					seen[e.Who] = true
					out[e.Who] += items
				}
			}
		}
	}
	for _, s := range x.k.T.Servers() {
		for _, sh := range x.k.T.Shares(s) {
			for _, e := range sh.Descriptor.Rules.Entries {
				out[e.Who]++
			}
			if a := sh.Admission; a != nil {
				for _, n := range slices.Concat(a.Only, a.Never, a.Reading, a.Writing, a.Administrators, []string{a.As, a.Group}) {
					if id, ok := x.k.Listed(n); ok && n != "" {
						out[id]++
					}
				}
			}
		}
		for _, id := range x.k.T.Administrators(s) {
			out[id]++
		}
	}
	return out
}

// members counts a group's users at any depth; primary groups count.
func (x *finding) members(group account.ID) (n int) {
	if x.primary == nil {
		x.primary = map[account.ID][]account.ID{}
		for _, u := range x.dir.Users() {
			if !u.Primary.IsZero() {
				x.primary[u.Primary] = append(x.primary[u.Primary], u.ID)
			}
		}
	}
	seen := map[account.ID]bool{group: true}
	queue := []account.ID{group}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, list := range [][]account.ID{x.dir.MembersOf(at), x.primary[at]} {
			for _, m := range list {
				if seen[m] {
					continue
				}
				seen[m] = true
				if a, ok := x.dir.Account(m); ok && a.Kind == account.User {
					n++
				} else {
					queue = append(queue, m)
				}
			}
		}
	}
	return n
}

// groups lists the groups somebody made: a machine's built-in and own ones, those that every
// domain has (of a number below 1000, [MS-DTYP] §2.4.2.4), and whoever those list as special
// accounts, are there whether they are used or not.
func (x *finding) groups() (out []account.Account) {
	for _, id := range x.dir.All() {
		if id.Inner() || account.Open(id) {
			continue
		}
		if _, rid, ok := id.Domain(); ok && rid < madeFrom {
			continue
		}
		if a, _ := x.dir.Account(id); a.Kind == account.Group {
			out = append(out, a)
		}
	}
	return out
}

// madeFrom is the first number of accounts that somebody made in a domain.
const madeFrom = 1000

// populated tells which groups have a user in them, at any depth; primary
// groups count. It walks upward once, not down from each.
func (x *finding) populated() map[account.ID]bool {
	if x.full != nil {
		return x.full
	}
	out := map[account.ID]bool{}
	x.full = out
	var up func(account.ID)
	up = func(id account.ID) {
		for _, g := range x.dir.GroupsOf(id) {
			if !out[g] {
				out[g] = true
				up(g)
			}
		}
	}
	for _, u := range x.dir.Users() {
		up(u.ID)
		if !u.Primary.IsZero() && !out[u.Primary] {
			out[u.Primary] = true
			up(u.Primary)
		}
	}
	return out
}

// keptIn gives the directory that a group is kept in; "" is none.
func (x *finding) keptIn(id account.ID) string {
	if x.directories == nil {
		x.directories = map[account.ID]string{}
		x.k.T.EachParticular(func(p *estate.Particular) {
			if p.Err == nil && p.Directory != "" {
				x.directories[p.ID] = p.Directory
			}
		})
	}
	return x.directories[id]
}

// goes says how a group is taken off everything, and away; one that a directory has goes there.
func (x *finding) goes(f *Finding, g account.Account, named bool) {
	if in := x.keptIn(g.ID); in != "" {
		f.What, f.Repair = "directory "+in+" has it, where it is taken away", Repair{}
		return
	}
	f.Commands, f.Repair = x.removing(g, named), Repair{Group: &g}
}

func (x *finding) removing(g account.Account, named bool) [][]string {
	name := x.k.T.Name(g.ID)
	var out [][]string
	if named || len(x.dir.MembersOf(g.ID))+len(x.dir.GroupsOf(g.ID)) > 0 {
		out = append(out, []string{"tarnwold", "strip", name})
	}
	return append(out, []string{"tarnwold", "group", "remove", g.Name})
}

// empty: groups nobody is in.
func (x *finding) empty() error {
	full, spoken := x.populated(), x.spoken()
	for _, g := range x.groups() {
		if full[g.ID] {
			continue
		}
		f := Finding{Where: "group " + x.k.T.Name(g.ID), Who: x.k.T.Name(g.ID), Items: spoken[g.ID]}
		x.goes(&f, g, spoken[g.ID] > 0)
		if x.o.Kept != nil && x.o.Kept(g.Name) { // it waits for its keeper
			f.What, f.Repair = "it has keepers", Repair{}
		}
		x.add(f)
	}
	return nil
}

// unused: groups that nothing names, nor any group they are in.
func (x *finding) unused() error {
	spoken, full := x.spoken(), x.populated()
	used := map[account.ID]bool{}
	var down func(account.ID)
	down = func(id account.ID) {
		if used[id] {
			return
		}
		used[id] = true
		for _, m := range x.dir.MembersOf(id) {
			down(m)
		}
	}
	for id := range spoken {
		down(id)
	}
	for _, g := range x.k.T.Builtins() { // a machine uses them, entries or not
		down(g.ID)
	}
	for _, u := range x.dir.Users() {
		used[u.Primary] = true
	}
	for _, g := range x.groups() {
		if used[g.ID] || !full[g.ID] || g.Purpose == account.Mail || x.o.Kept != nil && x.o.Kept(g.Name) {
			continue
		}
		users := x.members(g.ID)
		f := Finding{Where: "group " + x.k.T.Name(g.ID), Who: x.k.T.Name(g.ID), Users: users}
		x.goes(&f, g, false)
		x.add(f)
	}
	return nil
}

// circles: groups that hold themselves.
func (x *finding) circles() error {
	told := map[account.ID]bool{}
	for _, g := range x.groups() {
		if told[g.ID] {
			continue
		}
		for _, m := range x.dir.MembersOf(g.ID) {
			loop := x.dir.Loop(g.ID, m)
			if loop == nil {
				continue
			}
			for _, id := range loop {
				told[id] = true
			}
			names := x.k.T.Names(loop)
			x.add(Finding{Where: "group " + names[0], Who: names[0], What: strings.Join(names, " in "), Users: x.members(g.ID),
				Commands: [][]string{{"tarnwold", "group", "leave", x.k.T.Name(g.ID), x.k.T.Name(m)}}})
			break
		}
	}
	return nil
}

// twins: groups that list the same members, and neither the other.
func (x *finding) twins() error {
	spoken := x.spoken()
	// Memberships may be millions, so that groups are held to each other only where a sum
	// of who they list is the same.
	type sum struct {
		purpose account.Purpose
		members int
		of      uint64
	}
	seed := maphash.MakeSeed()
	alike := map[sum][]int{}      // places in lists
	var lists [][]account.Account // each of groups that list the same
	listed := func(g account.ID) map[account.ID]bool {
		out := map[account.ID]bool{}
		for _, m := range x.dir.MembersOf(g) {
			out[m] = true
		}
		return out
	}
	for _, g := range x.groups() {
		ms := x.dir.MembersOf(g.ID)
		if len(ms) == 0 || g.Purpose == account.Mail {
			continue
		}
		key := sum{purpose: g.Purpose, members: len(ms)}
		for _, m := range ms {
			key.of += maphash.Comparable(seed, m)
		}
		at := slices.IndexFunc(alike[key], func(i int) bool { return maps.Equal(listed(lists[i][0].ID), listed(g.ID)) })
		if at >= 0 {
			i := alike[key][at]
			lists[i] = append(lists[i], g)
			continue
		}
		alike[key] = append(alike[key], len(lists))
		lists = append(lists, []account.Account{g})
	}
	for _, list := range lists {
		for _, g := range list[1:] {
			f := Finding{Where: "group " + x.k.T.Name(list[0].ID), Who: x.k.T.Name(list[0].ID), Other: x.k.T.Name(g.ID), Items: spoken[g.ID], Users: x.members(g.ID),
				Commands: [][]string{{"tarnwold", "swap", x.k.T.Name(g.ID), x.k.T.Name(list[0].ID)}, {"tarnwold", "group", "remove", g.Name}}}
			x.add(f)
		}
	}
	return nil
}

// soon is how many days before an account ends it is told.
const soon = 30

// ending: users whose account ends soon, or has ended and can be signed on with.
func (x *finding) ending() error {
	last := x.o.Today.Plus(soon)
	x.k.T.EachParticular(func(p *estate.Particular) {
		a, ok := x.dir.Account(p.ID)
		if !ok || p.Err != nil || p.Ends == "" || p.Shut || estate.Day(p.Ends) > last {
			return
		}
		name := x.k.T.Name(a.ID)
		f := Finding{Where: "user " + name, Who: name, What: "ends after " + p.Ends, Users: 1, Items: x.spoken()[a.ID],
			Commands: [][]string{{"tarnwold", "leaver", name, "--dry-run"}}}
		if estate.Day(p.Ends) < x.o.Today {
			f.What = "was to end after " + p.Ends
		}
		x.add(f)
	})
	return nil
}
