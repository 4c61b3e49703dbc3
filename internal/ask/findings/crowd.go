package findings

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
)

// wayCrowd is everybody on one way, and the nodes on it.
type wayCrowd struct {
	d     *crowd.Decider
	pop   *crowd.Population
	nodes []int
	// each tells of the nodes in turn, folders before what is in them; their situations
	// are worked out anew each time, for all at once would be too much to hold.
	each func(fn func(i int, s crowd.Situation) bool)
	// what needs found
	weighed      bool
	wide, narrow right.Set
	users        int
}

// crowd lays a way out for everybody, once.
func (x *finding) crowd(w *ask.Route) *wayCrowd {
	if c := x.ways[w]; c != nil {
		return c
	}
	pop := x.k.Population(w.Server)
	c := &wayCrowd{d: x.g.Decider(w, pop), pop: pop, nodes: x.g.On(w)}
	c.each = func(fn func(i int, s crowd.Situation) bool) {
		x.g.Everyone(w, pop, c.d, func(i int, s crowd.Situation) bool { return x.k.T.Context().Err() == nil && fn(i, s) })
	}
	x.ways[w] = c
	return c
}

// local lists the ways at the servers themselves.
func (x *finding) local() (out []*ask.Route) {
	for _, w := range x.g.Ways {
		if w.Share == nil {
			out = append(out, w)
		}
	}
	return out
}

// entrances are the shares, and the servers themselves that have none.
func (x *finding) entrances() []*ask.Route {
	ways := slices.Clone(x.shares())
	for _, l := range x.local() {
		if !slices.ContainsFunc(x.shares(), func(w *ask.Route) bool { return w.Server.ID == l.Server.ID }) {
			ways = append(ways, l)
		}
	}
	return ways
}

// left is who is in a crowd and can't sign on any more.
func (x *finding) left(c *wayCrowd) crowd.Bits {
	out := c.d.People.Empty()
	for id := range x.k.ShutOut() {
		if u, ok := c.d.People.Place(id); ok {
			out.Set(u)
		}
	}
	return out
}

// uncharged: nobody can change the rules, nor passes them as an administrator.
func (x *finding) uncharged() error {
	for _, w := range x.local() {
		c := x.crowd(w)
		if c.d.Passing().Len() > 0 {
			continue
		}
		known := map[*rule.Descriptor]bool{}
		var none grouped[*rule.Descriptor]
		for _, i := range c.nodes {
			d := x.k.AsEntries(x.g.F.Nodes[i].Before)
			nobody, seen := known[d]
			if !seen {
				nobody = !c.d.People.AnyGranted(x.k.Read(x.g.F.Nodes[i].Before, w.Traits.Reading()), right.WriteACL, true)
				known[d] = nobody
			}
			if nobody {
				none.add(d, i)
			}
		}
		for _, d := range none.order {
			f := x.place(none.nodes[d])
			f.Commands = [][]string{plainly([]string{"tarnwold", "owner", f.Where, "--to", "WHO"})}
			x.add(f)
		}
	}
	return nil
}

// useful are rights with which somebody opens, adds or changes something.
const useful = right.ReadData | right.WriteData | right.AppendData | right.Delete | right.WriteACL | right.WriteOwner

// open: somebody whom no list names gets in.
func (x *finding) open() error {
	var homes map[int]account.ID
	if x.wanted("home-open") && len(x.posix) > 0 {
		homes = x.homes()
	}
	granted := make([]right.Set, len(x.g.F.Nodes))
	for _, w := range x.entrances() {
		s := x.g.See(census.Nobodys, w, nil)
		for i := range granted {
			granted[i] |= s.Granted[i] & useful
		}
	}
	type found struct {
		d *rule.Descriptor
		r right.Set
	}
	var opened grouped[found]
	for i := range x.g.F.Nodes {
		n := &x.g.F.Nodes[i]
		d := x.k.AsEntries(n.Before)
		if _, home := homes[i]; home && x.posix[d] != nil { // told as that
			continue
		}
		if granted[i] == 0 || d.Rules.Absent || n.Parent >= 0 && granted[n.Parent].Has(granted[i]) {
			continue
		}
		opened.add(found{d, granted[i]}, i)
	}
	for _, o := range opened.order {
		nodes := opened.nodes[o]
		f := x.place(nodes)
		f.Items = x.under(nodes)
		f.Users = len(x.dir.Users())
		if s, _, ok := x.k.T.Stands(x.first(nodes)); ok {
			f.Users = x.k.T.CountUsersOn(s)
		}
		tok := account.NewToken(x.k.T, census.Nobodys, account.Traits{}, account.Everyone, account.Authenticated, account.Network)
		for _, e := range o.d.Rules.Entries {
			if e.Kind == rule.Allow && e.Rights.Map()&o.r != 0 && e.Counts() && tok.Has(e.Who) {
				f.Who, f.What = x.k.T.Name(e.Who), x.write(o.d, e, nodes)
				where := f.Where
				if !e.Own() {
					at := x.k.T.Place(x.first(nodes))
					if k, _, ok := x.k.Origin(e, at.Folder, x.k.T.Above(at)); ok {
						where = at.Up(k + 1)
					}
				}
				f.Commands = [][]string{plainly([]string{"tarnwold", "revoke", f.Who, where})}
				break
			}
		}
		x.add(f)
	}
	return nil
}

// under counts the items of nodes and all that is below them.
func (x *finding) under(tops []int) (n int64) {
	nodes := x.g.F.Nodes
	if x.below == nil { // what is in a folder comes behind it
		x.below = make([]int64, len(nodes))
		for i := len(nodes) - 1; i >= 0; i-- {
			x.below[i] += nodes[i].Items
			if p := nodes[i].Parent; p >= 0 {
				x.below[p] += x.below[i]
			}
		}
	}
	in := map[int]bool{}
	for _, i := range tops {
		in[i] = true
	}
	for _, i := range tops {
		up := nodes[i].Parent
		for up >= 0 && !in[up] {
			up = nodes[up].Parent
		}
		if up < 0 {
			n += x.below[i]
		}
	}
	return n
}

// idleDenies: deny entries that take nothing from anybody, neither where they
// are set nor where they are handed down to.
func (x *finding) idleDenies() error {
	any := false
	x.each(func(_ *rule.Descriptor, e rule.Entry, _ []int) { any = any || e.Kind == rule.Deny })
	if !any {
		return nil
	}
	type key struct {
		who    account.ID
		rights right.Set
	}
	type one struct {
		d *rule.Descriptor
		e rule.Entry
		w *ask.Route
	}
	known := map[one]bool{}
	takes := func(w *ask.Route, d *rule.Descriptor, e rule.Entry) bool {
		o := one{d, e, w}
		got, ok := known[o]
		if ok {
			return got
		}
		how := w.Traits.Reading()
		pop := x.k.Population(w.Server)
		bare := d.Clone()
		bare.Rules.Entries = slices.DeleteFunc(bare.Rules.Entries, func(o rule.Entry) bool { return o == e })
		with, without := x.k.Read(d, how), rule.Compile(bare, how)
		for _, local := range []bool{true, false} {
			for r := right.Set(1); r <= right.All && !got; r <<= 1 {
				if e.Rights.Map()&r&right.All == 0 {
					continue
				}
				got = pop.Granted(without, r, local).Minus(pop.Granted(with, r, local)).Len() > 0
			}
		}
		known[o] = got
		return got
	}
	// From below upward: what a node's inherited denies take is the folder's too.
	nodes := x.g.F.Nodes
	active := make([]map[key]bool, len(nodes))
	server := map[int]*ask.Route{}
	for _, w := range x.local() {
		for _, i := range x.crowd(w).nodes {
			server[i] = w
		}
	}
	type found struct {
		d *rule.Descriptor
		e rule.Entry
	}
	var idle grouped[found]
	for i := len(nodes) - 1; i >= 0; i-- {
		d, ok := nodes[i].Before.(*rule.Descriptor)
		w := server[i]
		if !ok || w == nil {
			continue
		}
		up := active[i]
		active[i] = nil
		for _, e := range d.Rules.Entries {
			if e.Kind != rule.Deny {
				continue
			}
			if e.Who == account.Creator || e.Who == account.CreatorGroup || e.Who == account.OwnerRights { // it names another below, or says what owning brings
				continue
			}
			k := key{e.Who, e.Rights.Map()}
			now := takes(w, d, e)
			if e.Own() {
				if !now && !up[k] {
					idle.add(found{d, e}, i)
				}
				continue
			}
			if now && nodes[i].Parent >= 0 {
				if up == nil {
					up = map[key]bool{}
				}
				up[k] = true
			}
		}
		if p := nodes[i].Parent; p >= 0 && len(up) > 0 {
			if active[p] == nil {
				active[p] = up
			} else {
				for k := range up {
					active[p][k] = true
				}
			}
		}
	}
	for _, o := range idle.order {
		list := idle.nodes[o]
		slices.Sort(list)
		for _, of := range x.kinds(list) {
			if _, covered := x.needless(o.d, o.e); covered {
				continue // told as an entry that changes nothing
			}
			if len(x.strange(o.e.Who, of)) > 0 {
				continue // told as a dead identifier
			}
			x.add(x.entry(o.d, o.e, of, "idle-deny"))
		}
	}
	return nil
}
