// Package guard says what speaks against a change: that it locks out who makes
// it, leaves nobody in charge, overrules what people hold, opens something to
// everyone. Each guard is a row of a table over the change, its impact and the
// people; nothing here reads, asks or prints.
package guard

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/crowd"
	"tarnwold/core/impact"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

// Name is a guard's name, as the journal keeps it.
type Name string

const (
	LocksOut  Name = "locks-out"
	Overrules Name = "overrules"
	Opens     Name = "opens"
	Orphans   Name = "orphans"
	MailGroup Name = "mail-group"
	Dead      Name = "dead"
)

// Share is a share's rules before and after; nil: the share isn't there then.
type Share struct{ Before, After *rule.Descriptor }

// Case is all that guards look at.
type Case struct {
	Set    *change.Set
	Named  []int // the nodes the command edits
	Shares []Share
	Shifts []*impact.Shift
	Routes []impact.Route
	Actor  account.ID // who acts; zero: nobody the estate knows
	Book   account.Book
	// Lists gives what rules list, accounts for their numbers; nil: as they do.
	Lists func(rule.Any) *rule.Descriptor
	// Back: the change puts back what was before, so that entries that come
	// are nobody's new wish.
	Back bool
}

// Warning is what a guard has against a change. What it is about is said by
// places in the Case; -1 where it isn't about one.
type Warning struct {
	Guard  Name
	Users  []account.ID // who is hit, at most a few hundred
	Who    account.ID   // the account an entry names
	Rights right.Set
	Node   int
	Share  int
	Shift  int
}

// row is one guard.
type row struct {
	name Name
	look func(*Case, func(Warning))
}

var table = [...]row{
	{LocksOut, locksOut},
	{Overrules, overrules},
	{Opens, opens},
	{Orphans, orphans},
	{MailGroup, mailGroup},
	{Dead, dead},
}

// most is how many warnings of one guard are of use.
const most = 8

// Look asks every guard.
func Look(c *Case) []Warning {
	var out []Warning
	for _, g := range table {
		n := 0
		g.look(c, func(w Warning) {
			if n++; n <= most {
				w.Guard = g.name
				out = append(out, w)
			}
		})
	}
	return out
}

var nowhere = Warning{Node: -1, Share: -1, Shift: -1}

// locksOut: who acts would lose reading, or changing the rules.
func locksOut(c *Case, warn func(Warning)) {
	for i, s := range c.Shifts {
		lost := s.Before &^ s.After & (right.ReadData | right.WriteACL)
		gone := !slices.ContainsFunc(s.Nodes, func(n int) bool { return c.Set.Nodes[n].After != nil })
		if lost == 0 || c.Actor.IsZero() || gone {
			continue
		}
		users := c.Routes[s.Route].Users()
		at := slices.IndexFunc(users, func(a account.Account) bool { return a.ID == c.Actor })
		if at >= 0 && s.Users.Has(at) {
			w := nowhere
			w.Users, w.Rights, w.Shift, w.Node = []account.ID{c.Actor}, lost, i, s.Nodes[0]
			warn(w)
		}
	}
}

// fresh calls fn with every entry of a command's own that comes.
func (c *Case) fresh(fn func(e rule.Entry, node, share int)) {
	look := func(before, after *rule.Descriptor, node, share int) {
		if after == nil {
			return
		}
		for _, e := range after.Rules.Entries {
			if e.Own() && (before == nil || !Stood(before, e)) {
				fn(e, node, share)
			}
		}
	}
	if c.Back {
		return
	}
	for i, s := range c.Shares {
		look(s.Before, s.After, -1, i)
	}
	for _, n := range c.Named {
		look(c.listed(c.Set.Nodes[n].Before), c.listed(c.Set.Nodes[n].After), n, -1)
	}
}

// listed gives what rules list; nil for none.
func (c *Case) listed(a rule.Any) *rule.Descriptor {
	switch {
	case a == nil:
		return nil
	case c.Lists != nil:
		return c.Lists(a)
	}
	return a.Listed()
}

// Stood tells whether rules had such an entry already, from above or their own.
func Stood(before *rule.Descriptor, e rule.Entry) bool {
	return slices.ContainsFunc(before.Rules.Entries, func(o rule.Entry) bool {
		o.Flags &^= rule.Inherited
		return o == e
	})
}

// overrules: a deny entry that comes takes what people hold now.
func overrules(c *Case, warn func(Warning)) {
	denies := false
	c.fresh(func(e rule.Entry, _, _ int) { denies = denies || e.Kind.Refuses() })
	if !denies {
		return
	}
	w := nowhere
	seen := map[account.ID]bool{}
	for _, s := range c.Shifts {
		if s.Gain() {
			continue
		}
		users := c.Routes[s.Route].Users()
		s.Users.Each(func(i int) bool {
			if id := users[i].ID; !seen[id] {
				seen[id] = true
				w.Users = append(w.Users, id)
			}
			return true
		})
	}
	if len(w.Users) > 0 {
		warn(w)
	}
}

// anybody is what somebody's token holds whom no list names: the special
// accounts of every route, and the users' groups of the domains at hand.
func (c *Case) anybody() *account.Token {
	special := []account.ID{account.Everyone, account.Authenticated, account.Network, account.Interactive}
	domains := map[account.ID]bool{}
	for i := range c.Routes {
		for _, u := range c.Routes[i].Users() {
			if d, _, ok := u.ID.Domain(); ok && !domains[d] {
				domains[d] = true
				special = append(special, d.Child(account.DomainUsersRID))
			}
		}
	}
	return account.NewToken(nobody{}, account.ID{}, account.Traits{}, special...)
}

type nobody struct{}

func (nobody) Account(account.ID) (account.Account, bool) { return account.Account{}, false }
func (nobody) GroupsOf(account.ID) []account.ID           { return nil }
func (nobody) Local(_, _ account.ID) bool                 { return false }

// opens: somebody whom no list names can do more than before, or rules that
// were there are absent.
func opens(c *Case, warn func(Warning)) {
	token := c.anybody()
	gives := func(d rule.Any) right.Set {
		if d == nil {
			return 0
		}
		return verdict.Walk(d.Steps(rule.Reading{}), token, right.All) & right.Access
	}
	seen := map[[2]rule.Any]bool{}
	look := func(before, after rule.Any, node, share int) {
		if after == nil || seen[[2]rule.Any{before, after}] {
			return
		}
		seen[[2]rule.Any{before, after}] = true
		w := nowhere
		w.Rights, w.Node, w.Share = gives(after)&^gives(before), node, share
		if x, ok := after.(*rule.Descriptor); ok && x.Rules.Absent && !before.Listed().Rules.Absent {
			w.Rights = right.All
		}
		if w.Rights != 0 {
			warn(w)
		}
	}
	for i, s := range c.Shares {
		if s.Before != nil && s.After != nil { // a share that is new is opened on purpose, and shown
			look(s.Before, s.After, -1, i)
		}
	}
	for _, n := range c.Named {
		node := &c.Set.Nodes[n]
		if node.Before != nil {
			look(node.Before, node.After, n, -1)
		}
	}
}

// orphans: nobody would be left who can change an item's rules, by any route
// nor as an administrator.
func orphans(c *Case, warn func(Warning)) {
	type side struct {
		people *crowd.Population
		passes bool
		read   *rule.Reader
	}
	tops := map[int][2]side{} // by the topmost node
	moved := false
	for i := range c.Routes {
		r := &c.Routes[i]
		if !r.Local || r.Ways[impact.Before] == nil || r.Ways[impact.After] == nil {
			continue
		}
		moved = moved || r.Moved != nil
		var s [2]side
		for x, w := range r.Ways {
			s[x] = side{people: w.People, read: rule.NewReader(w.Traits.Reading())}
			d := crowd.NewDecider(*w)
			s[x].passes = d.Passing().Len() > 0
		}
		for _, start := range r.Starts {
			tops[start.Node] = s
		}
	}
	type both struct {
		before, after rule.Any
		top           int
	}
	looked := map[both]bool{} // the same rules under one top are looked at once
	top := make([]int, len(c.Set.Nodes))
	for i := range c.Set.Nodes {
		n := &c.Set.Nodes[i]
		if top[i] = i; n.Parent >= 0 {
			top[i] = top[n.Parent]
		}
		if n.After == nil || n.Before == nil || !n.Changed() && !moved || looked[both{n.Before, n.After, top[i]}] {
			continue
		}
		looked[both{n.Before, n.After, top[i]}] = true
		s, ok := tops[top[i]]
		if !ok {
			continue
		}
		inCharge := func(x int, d rule.Any) bool {
			return s[x].passes || s[x].people.Granted(s[x].read.Of(d), right.WriteACL, true).Len() > 0
		}
		if inCharge(impact.Before, n.Before) && !inCharge(impact.After, n.After) {
			w := nowhere
			w.Rights, w.Node = right.WriteACL, i
			warn(w)
		}
	}
}

// mailGroup: an entry that comes names a group that can't carry access.
func mailGroup(c *Case, warn func(Warning)) {
	c.once(func(id account.ID, node, share int) {
		if a, ok := c.Book.Account(id); ok && a.Purpose == account.Mail {
			w := nowhere
			w.Who, w.Node, w.Share = id, node, share
			warn(w)
		}
	})
}

// dead: an entry that comes names an identifier that nobody has.
func dead(c *Case, warn func(Warning)) {
	c.once(func(id account.ID, node, share int) {
		_, known := c.Book.Account(id)
		_, special := account.SpecialName(id)
		_, _, posix := id.POSIX()
		_, rid, _ := id.Domain()
		if !known && !special && !posix && rid != account.DomainUsersRID {
			w := nowhere
			w.Who, w.Node, w.Share = id, node, share
			warn(w)
		}
	})
}

// once calls fn with each account that an entry that comes names.
func (c *Case) once(fn func(id account.ID, node, share int)) {
	seen := map[account.ID]bool{}
	c.fresh(func(e rule.Entry, node, share int) {
		if !seen[e.Who] {
			seen[e.Who] = true
			fn(e.Who, node, share)
		}
	})
}
