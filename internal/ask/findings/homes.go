package findings

import (
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// A home is a folder that is called as the user is who owns it and is named in its entries.
// What is their own there is as it should be, and somebody else named there isn't: so it
// goes by the name here, for by its entries (ask.HomeOf) a home where somebody else is
// named is none.

// user tells whether an identifier is a user's.
func (x *finding) user(id account.ID) bool {
	a, ok := x.dir.Account(id)
	return ok && a.Kind == account.User
}

// homeOf tells whether the first of some places is in the home of a user, or is it.
func (x *finding) homeOf(nodes []int, owner account.ID) bool {
	a, ok := x.dir.Account(owner)
	if !ok || a.Kind != account.User {
		return false
	}
	where, _ := x.at(nodes)
	return slices.ContainsFunc(strings.Split(where, "/"), func(part string) bool { return strings.EqualFold(part, a.Name) })
}

// atHome tells whether an own entry is a user's in their own home.
func (x *finding) atHome(d *rule.Descriptor, e rule.Entry, nodes []int) bool {
	return x.posix[d] == nil && e.Who == d.Owner && x.homeOf(nodes, d.Owner)
}

// stranger tells whether an own entry lets a single user into somebody else's home, whom
// the entries there name too.
func (x *finding) stranger(d *rule.Descriptor, e rule.Entry, nodes []int) bool {
	if x.posix[d] != nil || e.Kind.Refuses() || e.Kind == rule.Audit || e.Who == d.Owner || !x.user(e.Who) {
		return false
	}
	return slices.ContainsFunc(d.Rules.Entries, func(o rule.Entry) bool { return o.Who == d.Owner && o.Kind == rule.Allow }) && x.homeOf(nodes, d.Owner)
}

// strangers: entries for single users in the homes of others.
func (x *finding) strangers() error {
	x.each(func(d *rule.Descriptor, e rule.Entry, nodes []int) {
		if !x.stranger(d, e, nodes) {
			return
		}
		f := x.entry(d, e, nodes, "stranger-in-home")
		f.Users, f.Other, f.Repair = 1, x.k.T.Name(d.Owner), Repair{} // whether it is meant is for a person to say
		f.Commands = [][]string{x.revoking(f.Where, f.Who, d, e, false)}
		x.add(f)
	})
	return nil
}

// homes lists the nodes that are a user's home, not only in it.
func (x *finding) homes() map[int]account.ID {
	if x.home != nil {
		return x.home
	}
	x.home = map[int]account.ID{}
	for _, d := range x.by.order {
		a, ok := x.dir.Account(d.Owner)
		if !ok || a.Kind != account.User {
			continue
		}
		for _, i := range x.by.nodes[d] {
			if x.g.F.Nodes[i].Folder && x.called(i, a.Name) {
				x.home[i] = a.ID
			}
		}
	}
	return x.home
}

// called tells whether the first item of a node has a name.
func (x *finding) called(node int, name string) bool {
	where, _ := x.at([]int{node})
	return estate.Key(place.Name(where)) == estate.Key(name)
}

// fewHomes is from how many homes in it a folder is one for homes.
const fewHomes = 3

// homeless: folders among homes that are called as no user is.
func (x *finding) homeless() error {
	// Nodes tell which may be beside which, and their places which are.
	homes, under, in := x.homes(), map[int]bool{}, map[string]int{}
	for i := range homes {
		where, _ := x.at([]int{i})
		under[x.g.F.Nodes[i].Parent] = true
		in[place.Dir(where)]++
	}
	var users map[string]bool
	for i := range x.g.F.Nodes {
		n := &x.g.F.Nodes[i]
		if _, home := homes[i]; home || !n.Folder || !under[n.Parent] {
			continue
		}
		if users == nil {
			users = map[string]bool{}
			for _, u := range x.dir.Users() {
				users[estate.Key(u.Name)] = true
			}
		}
		f := Finding{}
		items := x.g.F.Some(x.k.T, i, mostHomeless)
		x.k.T.Locate(items)
		for _, item := range items {
			where := x.k.T.Where(item)
			if in[place.Dir(where)] < fewHomes || users[estate.Key(place.Name(where))] {
				continue
			}
			if f.Items++; f.Items == 1 {
				f.Where = where
			} else {
				f.More++
			}
		}
		if f.Items == 0 {
			continue
		}
		f.Who = x.k.T.Name(x.k.AsEntries(n.Before).Owner)
		f.Commands = [][]string{plainly([]string{"tarnwold", "owner", f.Where, "--to", "WHO", "--below"})}
		x.add(f)
	}
	return nil
}

// mostHomeless is how many folders with the same rules are asked for their names.
const mostHomeless = 10_000

// openHomes: homes on POSIX trees that the mode lets others than their owner read.
func (x *finding) openHomes() error {
	open := func(r *posix.Rules) bool {
		bits := r.Access.Bits() // what a list's entry gives somebody is meant for them
		return bits&0o004 != 0 || bits&0o040 != 0 && !r.Access.Extended()
	}
	homes := map[int]account.ID{}
	for i, owner := range x.homes() {
		if r := x.posix[x.k.AsEntries(x.g.F.Nodes[i].Before)]; r != nil && open(r) {
			homes[i] = owner
		}
	}
	if len(homes) == 0 {
		return nil
	}
	for _, w := range x.local() {
		c := x.crowd(w)
		passing := crowd.SomeOf(c.d.Passing())
		x.g.Opening(w, c.pop, c.d, func(i int, s crowd.Situation) bool {
			owner, home := homes[i]
			if !home {
				return true
			}
			others := c.d.SomeHolding(s, right.ReadData).Minus(passing)
			users := others.Len()
			if u, ok := c.d.People.Place(owner); ok && others.Has(u) {
				users--
			}
			if users == 0 {
				return true
			}
			r := x.posix[x.k.AsEntries(x.g.F.Nodes[i].Before)]
			f := x.place([]int{i})
			f.Who, f.Users = x.k.T.Name(owner), users
			var off []string
			for _, class := range []struct {
				bits uint16
				off  string
			}{{0o070, "g="}, {0o007, "o="}} {
				if r.Access.Bits()&class.bits != 0 && (class.bits == 0o007 || !r.Access.Extended()) {
					off = append(off, class.off)
				}
			}
			f.Commands = [][]string{plainly([]string{"tarnwold", "mode", f.Where, "--set", strings.Join(off, ",")})}
			x.add(f)
			return x.k.T.Context().Err() == nil
		})
	}
	return nil
}
