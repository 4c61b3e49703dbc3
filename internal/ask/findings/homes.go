package findings

import (
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
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
