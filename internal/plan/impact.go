package plan

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/guard"
	"tarnwold/core/impact"
	"tarnwold/core/place"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

type (
	// ID and account are core's, in this package's many signatures.
	ID      = acc.ID
	account = acc.Account
)

func TraitNames() (names []string) {
	for _, t := range verdict.TraitList {
		names = append(names, t.Name)
	}
	return names
}

// Shift is one way in which access changes: some users, from one level to
// another, on some items.
type Shift struct {
	Kind   string   `json:"kind"` // gain, lose or change
	Users  []string `json:"users"`
	Was    string   `json:"was"`
	Is     string   `json:"becomes"`
	Routes []string `json:"through"`
	Items  int64    `json:"items"`
	Where  []string `json:"from-here-on"` // where it begins: the first few places
	More   int64    `json:"more-places"`

	bits          crowd.Bits
	nodes         []int
	Before, After right.Set `json:"-"`
}

// Unmoved is users whom an entry that comes gives nothing new through a share.
type Unmoved struct {
	Users   []string   `json:"users"`
	Route   string     `json:"through"`
	Already bool       `json:"had-it-already,omitempty"`
	Because ask.Reason `json:"because"`
}

// Warning is what a guard has against a plan.
type Warning struct {
	Guard  string   `json:"guard"`
	Users  []string `json:"users,omitempty"`
	Who    string   `json:"account,omitempty"`
	Rights string   `json:"rights,omitempty"`
	Where  string   `json:"where,omitempty"`
	// Because is why who acts may not.
	Because *ask.Reason `json:"because,omitempty"`
}

// Advice is what is worth knowing and stops nothing: user-entry (an entry for
// a user; a group outlasts the person), held-by-group (Other holds the same
// already), out-of-order (kept so that nobody's access changes), left (Text is
// what a lifted policy leaves), other-way (Text is another way to accept a
// request, named by Other), unwritten (a server writes down nothing of it).
type Advice struct {
	Kind  string `json:"kind"`
	Who   string `json:"account,omitempty"`
	Other string `json:"other,omitempty"`
	Where string `json:"where,omitempty"`
	Text  string `json:"text,omitempty"`
}

// impact works out a plan's impact and asks the guards.
func (d *Planner) impact(p *Plan) error {
	w := &p.Work
	if w.Partition == nil || !d.reaches(p) {
		return nil
	}
	if len(w.Partition.Nodes) == 0 { // people, administrators, traits: seen on everything there is
		d.Doing("looking at everything there is")
		f, err := d.everything(p)
		if err != nil {
			return err
		}
		w.Partition = f
		d.FindRoots(p)
		defer func() { w.Partition = estate.NewPartition() }()
	}
	d.Doing("asking who gains and who loses")
	routes := d.routes(p)
	shifts, touched, err := impact.OfNodes(d.Ctx, &w.Partition.Set, routes)
	if err != nil {
		return err
	}
	d.shifts(p, shifts, routes)
	p.Moves = len(shifts) > 0
	d.newItems(p, routes)
	for _, r := range reviews {
		if r.Laid == nil {
			continue
		}
		if err := r.Laid(d, p, touched); err != nil {
			return err
		}
	}
	d.Doing("asking the guards")
	d.guards(p, shifts, routes)
	d.unmoved(p, routes)
	return d.T.Err()
}

// everything lays out all there is, for those whom a plan touches.
func (d *Planner) everything(p *Plan) (*estate.Partition, error) {
	if p.Work.For = d.touches(p, nil); p.Work.For != nil {
		return d.layOutFor(p, nil, true)
	}
	return d.T.All()
}

// reaches tells whether a plan can change anybody's access at all.
func (d *Planner) reaches(p *Plan) bool {
	w := &p.Work
	if !p.Asks {
		return false
	}
	nodes, _ := w.Partition.Changed()
	return nodes > 0 || w.People() || len(w.Shares)+len(w.Servers)+len(w.Roots) > 0
}

// state is the people, servers and shares as they are on one side.
type state struct {
	dir    *acc.Directory
	traits map[int64]*verdict.Traits
	admins map[int64][]ID
	shares map[int64][]estate.Share
}

// states reads how things are, and works out how they will be.
func (d *Planner) states(p *Plan, servers map[int64]estate.Server) (s [2]state) {
	w := &p.Work
	t := d.T
	dir := d.directory(p)
	then := dir
	former := w.Formers()
	if len(w.Members) > 0 || len(w.Accounts) > 0 || len(former) > 0 {
		then = dir.Clone()
		for _, e := range w.Accounts {
			if e.After != nil {
				then.Add(*e.After)
			}
		}
		var left [][2]ID // one after the other
		for _, e := range w.Members {
			if e.Is == nil {
				left = append(left, [2]ID{e.Group.ID, e.Member.ID})
				continue
			}
			then.LeaveAll(left)
			left = left[:0]
			then.Join(e.Group.ID, e.Member.ID)
			then.SetLocal(e.Group.ID, e.Member.ID, e.Is.Local)
		}
		then.LeaveAll(left)
		var gone []ID
		for _, e := range w.Accounts {
			if e.After == nil {
				gone = append(gone, e.Before.ID)
			}
		}
		then.RemoveAll(gone)
		for _, f := range former {
			if a, ok := then.Account(f.ID); ok {
				a.Former, a.Claims = f.Is, f.IsClaims
				then.Add(a)
			}
		}
	}
	for x := range s {
		s[x] = state{dir: dir, traits: map[int64]*verdict.Traits{}, admins: map[int64][]ID{}, shares: map[int64][]estate.Share{}}
	}
	s[impact.After].dir = then
	var coming []ID // whose realms count then
	for _, e := range w.Accounts {
		if e.Before == nil && e.After != nil && e.After.ID.Inner() {
			coming = append(coming, e.After.ID)
		}
	}
	for id, sv := range servers {
		tr := sv.Traits
		admins, shares := t.Administrators(sv), t.Shares(sv)
		for x := range s {
			s[x].traits[id], s[x].admins[id], s[x].shares[id] = &tr, admins, slices.Clone(shares)
		}
		for _, e := range w.Servers {
			if e.Before != nil && e.After != nil && e.Before.ID == id {
				sv.Traits = e.After.Traits
			}
		}
		if sv = t.Realmed(sv, coming); sv.Traits != tr {
			then := sv.Traits
			s[impact.After].traits[id] = &then
		}
		for _, e := range w.Admins {
			if e.Server.ID != id {
				continue
			}
			after := slices.Clone(s[impact.After].admins[id])
			if e.On {
				after = append(after, e.Who.ID)
			} else {
				after = slices.DeleteFunc(after, func(o ID) bool { return o == e.Who.ID })
			}
			s[impact.After].admins[id] = after
		}
		for _, e := range w.Shares {
			if e.Server.ID != id {
				continue
			}
			after := s[impact.After].shares[id]
			if e.Before != nil {
				after = slices.DeleteFunc(after, func(o estate.Share) bool { return o.ID == e.Before.ID })
			}
			if e.After != nil {
				after = append(after, *e.After)
			}
			s[impact.After].shares[id] = after
		}
	}
	return s
}

// directory gives everybody there is, or everybody whom a plan touches.
func (d *Planner) directory(p *Plan) *acc.Directory {
	if p.Work.For != nil {
		return p.Work.For.dir
	}
	return d.T.Directory()
}

// routes lists every way to the items of a plan, as it is before and after.
func (d *Planner) routes(p *Plan) []impact.Route {
	w := &p.Work
	servers := map[int64]estate.Server{}
	var order []int64
	for _, r := range w.Roots {
		if _, ok := servers[r.Server.ID]; !ok {
			servers[r.Server.ID] = r.Server
			order = append(order, r.Server.ID)
		}
	}
	s := d.states(p, servers)
	users := s[impact.Before].dir.Users()
	have := map[ID]bool{}
	for _, u := range users {
		have[u.ID] = true
	}
	for _, u := range s[impact.After].dir.Users() {
		if !have[u.ID] {
			users = append(users, u)
		}
	}
	pops := map[string]*crowd.Population{}
	people := func(x int, tr *verdict.Traits) *crowd.Population {
		key := fmt.Sprintf("%p %v", s[x].dir, tr.Traits)
		if pops[key] == nil {
			pops[key] = crowd.NewPopulation(s[x].dir, tr.Traits, users)
		}
		return pops[key]
	}
	var touched []ID
	for e := range w.All(false) {
		touched = append(touched, e.Touches().Accounts...)
	}
	var routes []impact.Route
	for _, id := range order {
		var base [2]crowd.Route
		for x := range base {
			tr := s[x].traits[id]
			base[x] = crowd.Route{Traits: tr, Administrators: estate.PassingBy(tr, s[x].admins[id]), People: people(x, tr)}
		}
		same := base[0].Traits == base[1].Traits && base[0].People == base[1].People && slices.Equal(base[0].Administrators, base[1].Administrators)
		both := func(a, b *crowd.Route) [2]*crowd.Route {
			if same && a != nil && b != nil && a.Share == b.Share {
				return [2]*crowd.Route{a, a}
			}
			return [2]*crowd.Route{a, b}
		}
		local := impact.Route{Name: "local", Local: true}
		a, b := base[0], base[1]
		a.Local, b.Local = true, true
		local.Ways = both(&a, &b)
		for _, r := range w.Roots {
			if r.Server.ID != id {
				continue
			}
			start := impact.Start{Node: r.Node}
			for x := range r.Path {
				start.On[x] = r.Path[x] != ""
				start.Above[x] = start.On[x] && w.Partition.Over(r.Node, x == impact.After) != nil
			}
			local.Starts = append(local.Starts, start)
		}
		// The shares of either side, each one route however it changes.
		names := []string{}
		by := [2]map[string]*estate.Share{{}, {}}
		for x := range s {
			for i := range s[x].shares[id] {
				sh := &s[x].shares[id][i]
				if by[0][sh.Address()] == nil && by[1][sh.Address()] == nil {
					names = append(names, sh.Address())
				}
				by[x][sh.Address()] = sh
			}
		}
		slices.Sort(names)
		for _, name := range names {
			r := impact.Route{Name: name}
			var ways [2]*crowd.Route
			for x := range ways {
				if sh := by[x][name]; sh != nil {
					way := base[x]
					way.Traits = ask.By(base[x].Traits, sh)
					way.Share = d.K.ShareOf(sh, way.Traits)
					way.People, way.Self = d.K.Populations(way.People, way.Traits, sh, s[x].dir)
					ways[x] = &way
				}
			}
			if b, a := by[0][name], by[1][name]; b != nil && a != nil && b.Descriptor == a.Descriptor && b.ReadOnly == a.ReadOnly && b.Admission.Same(a.Admission) && b.Folder == a.Folder && *ways[0].Traits == *ways[1].Traits {
				ways[1].Share = ways[0].Share
			}
			r.Ways = both(ways[0], ways[1])
			r.Starts = d.starts(p, id, by[0][name], by[1][name])
			if len(r.Starts) > 0 {
				routes = append(routes, r)
			}
		}
		routes = append(routes, local)
	}
	for i := range routes {
		routes[i].Moved = impact.Differs(routes[i].Ways[0], routes[i].Ways[1], touched)
	}
	return routes
}

// starts finds where a share comes down upon a plan's partition, on each side.
func (d *Planner) starts(p *Plan, server int64, shares ...*estate.Share) (out []impact.Start) {
	w := &p.Work
	at := map[int]*impact.Start{}
	var order []int
	start := func(node int) *impact.Start {
		if at[node] == nil {
			at[node] = &impact.Start{Node: node}
			order = append(order, node)
		}
		return at[node]
	}
	for x, sh := range shares {
		if sh == nil {
			continue
		}
		for _, r := range w.Roots {
			if r.Server.ID != server || r.Path[x] == "" {
				continue
			}
			if sh.Covers(r.Path[x]) {
				s := start(r.Node)
				s.On[x], s.Above[x] = true, !sh.Begins(r.Path[x])
				s.Near[x], s.Cut[x] = ask.Near(r.Path[x], sh)
				continue
			}
			if w.Partition.Strand(r.Node) == 0 {
				if n, ok := w.AddedAt[AddedKey(r.Server, sh.Folder)]; ok && Within(w.Partition, n, r.Node) {
					s := start(n)
					s.On[x] = true
					s.Near[x], s.Cut[x] = ask.Near(sh.Folder, sh)
				}
				continue
			}
			// The share's folder within what the root is: where that comes
			// elsewhere, it is looked for where it stands now.
			rest, inside := place.Cut(store.Key(sh.Folder), store.Key(r.Path[x]))
			if !inside {
				continue
			}
			in, err := d.T.At(r.Server, place.Join(r.Path[impact.Before], rest))
			if err != nil {
				continue
			}
			n := w.Partition.NodeFor(in.Item, in.Strand)
			if n >= 0 && Within(w.Partition, n, r.Node) {
				s := start(n)
				s.On[x] = true
				s.Near[x], s.Cut[x] = ask.Near(sh.Folder, sh)
			}
		}
	}
	for _, n := range order {
		out = append(out, *at[n])
	}
	return out
}

func AddedKey(s estate.Server, path string) string {
	return fmt.Sprintf("%d %s", s.ID, store.Key(path))
}

// Within tells whether a node is below another.
func Within(f *estate.Partition, n, top int) bool {
	for ; n >= 0; n = f.Nodes[n].Parent {
		if n == top {
			return true
		}
	}
	return false
}

// shifts names what an impact found.
func (d *Planner) shifts(p *Plan, shifts []*impact.Shift, routes []impact.Route) {
	levels := d.T.Levels()
	sort.Slice(shifts, func(i, j int) bool {
		a, b := shifts[i], shifts[j]
		if a.Route != b.Route {
			return a.Route < b.Route
		}
		if a.Before != b.Before {
			return a.Before < b.Before
		}
		return a.After < b.After
	})
	for _, s := range shifts {
		rules := p.Work.Partition.Nodes[s.Nodes[0]].Before
		if rules == nil {
			rules = p.Work.Partition.Nodes[s.Nodes[0]].After
		}
		if ask.NothingOn(rules, s.Before) && ask.NothingOn(rules, s.After) {
			continue
		}
		r := routes[s.Route]
		folder := p.Work.Partition.Nodes[s.Nodes[0]].Folder
		row := Shift{Kind: "change", Was: ask.LevelOn(levels, rules, s.Before, folder), Is: ask.LevelOn(levels, rules, s.After, folder), Routes: []string{r.Name},
			Items: s.Items, Where: []string{}, bits: s.Users, nodes: s.Nodes, Before: s.Before, After: s.After}
		if row.Was == row.Is { // the words don't tell them apart
			row.Was, row.Is = over(row.Was, s.Before&^s.After, folder), over(row.Is, s.After&^s.Before, folder)
		}
		switch {
		case s.Gain() || ask.NothingOn(rules, s.Before):
			row.Kind = "gain"
		case s.Loss() || ask.NothingOn(rules, s.After):
			row.Kind = "lose"
		}
		if i := slices.IndexFunc(p.Impact, func(o Shift) bool {
			return o.Before == s.Before && o.After == s.After && o.Items == s.Items && slices.Equal(o.bits, s.Users) && slices.Equal(o.nodes, s.Nodes)
		}); i >= 0 {
			p.Impact[i].Routes = append(p.Impact[i].Routes, r.Name)
			continue
		}
		users := r.Users()
		s.Users.Each(func(i int) bool {
			row.Users = append(row.Users, users[i].Name)
			return true
		})
		const few = 3
		row.Where = d.beginnings(p, s.Nodes, few)
		for _, n := range s.Nodes {
			row.More += p.Work.Partition.Nodes[n].Items
		}
		row.More -= int64(len(row.Where))
		p.Impact = append(p.Impact, row)
	}
	sort.SliceStable(p.Impact, func(i, j int) bool { return len(p.Impact[i].Users) > len(p.Impact[j].Users) })
}

// beginnings names the first few places of some nodes.
func (d *Planner) beginnings(p *Plan, nodes []int, few int) []string {
	out := []string{}
	f := p.Work.Partition
	if !f.Alike() {
		for _, n := range nodes[:min(few, len(nodes))] {
			out = append(out, d.Where(p, n))
		}
		return out
	}
	for _, item := range f.Beginnings(d.T, nodes, few) {
		out = append(out, d.T.Where(item))
	}
	return out
}

// over adds to a level the rights it doesn't say.
func over(level string, more right.Set, folder bool) string {
	if more &= right.Access; more == 0 {
		return level
	}
	return level + " + " + strings.Join(more.Names(folder), ", ")
}

// ActingUser finds the account that acts, where the estate knows it.
func (d *Planner) ActingUser() (account, bool) {
	if d.acting == nil {
		d.acting = &account{}
		if a, ok := d.T.FindNamed(d.Actor, acc.User); ok {
			d.acting = &a
		}
	}
	return *d.acting, !d.acting.ID.IsZero()
}

// guards asks the guards and looks for advice.
func (d *Planner) guards(p *Plan, shifts []*impact.Shift, routes []impact.Route) {
	w := &p.Work
	c := &guard.Case{Set: &w.Partition.Set, Named: w.Named, Shifts: shifts, Routes: routes, Book: d.T, Back: p.Undoes != 0, Lists: d.K.AsNamed}
	if a, ok := d.ActingUser(); ok {
		c.Actor = a.ID
	}
	for _, e := range w.Shares {
		var s guard.Share
		if e.Before != nil {
			s.Before = e.Before.Descriptor
		}
		if e.After != nil {
			s.After = e.After.Descriptor
		}
		c.Shares = append(c.Shares, s)
	}
	for _, x := range guard.Look(c) {
		out := Warning{Guard: string(x.Guard)}
		for _, id := range x.Users {
			out.Users = append(out.Users, d.T.Name(id))
		}
		if !x.Who.IsZero() {
			out.Who = d.T.Name(x.Who)
		}
		if x.Rights != 0 {
			folder := x.Node >= 0 && w.Partition.Nodes[x.Node].Folder
			out.Rights = d.T.Levels().Show(x.Rights, folder)
			if x.Node >= 0 {
				out.Rights = ask.LevelOn(d.T.Levels(), w.Partition.Nodes[x.Node].Before, x.Rights, folder)
			}
			if x.Guard == guard.LocksOut {
				out.Rights = x.Rights.String()
			}
		}
		switch {
		case x.Share >= 0:
			e := w.Shares[x.Share]
			if e.After != nil {
				out.Where = "share " + e.After.Address()
			} else {
				out.Where = "share " + e.Before.Address()
			}
		case x.Node >= 0:
			out.Where = d.Where(p, x.Node)
		}
		p.Warnings = append(p.Warnings, out)
	}
	if !c.Back && !p.IsSo {
		d.advise(p)
		d.dropped(p)
	}
}

// dropped tells of people who are let put things into a folder without seeing what is in
// it, and see it all the same, since they could read there before.
func (d *Planner) dropped(p *Plan) {
	const puts, reads = right.WriteData, right.ReadData
	drop := func(before, after *rule.Descriptor) bool {
		return before != nil && after != nil && slices.ContainsFunc(after.Rules.Entries, func(e rule.Entry) bool {
			return e.Own() && e.Kind == rule.Allow && e.Rights.Map()&(puts|reads) == puts && !guard.Stood(before, e)
		})
	}
	if !slices.ContainsFunc(p.Work.Named, func(n int) bool {
		node := &p.Work.Partition.Nodes[n]
		return node.Folder && drop(d.K.AsNamed(node.Before), d.K.AsNamed(node.After))
	}) {
		return
	}
	var who []string
	for _, s := range p.Impact {
		if s.Before&(puts|reads) == reads && s.After&(puts|reads) == puts|reads {
			for _, u := range s.Users {
				if !slices.Contains(who, u) {
					who = append(who, u)
				}
			}
		}
	}
	if len(who) > 0 {
		p.Advice = append(p.Advice, Advice{Kind: "sees-there", Who: Many(who)})
	}
}

// advise tells of entries for single users.
func (d *Planner) advise(p *Plan) {
	w := &p.Work
	seen := map[ID]bool{}
	look := func(before, after *rule.Descriptor) {
		if before == nil || after == nil {
			return
		}
		for _, e := range after.Rules.Entries {
			if !e.Own() || e.Kind == rule.Deny || guard.Stood(before, e) || seen[e.Who] ||
				slices.ContainsFunc(before.Rules.Own(), func(o rule.Entry) bool { return o.Who == e.Who }) {
				continue
			}
			a, ok := d.T.Account(e.Who)
			if !ok || a.Kind != acc.User {
				continue
			}
			seen[e.Who] = true
			advice := Advice{Kind: "user-entry", Who: d.T.Name(e.Who)}
			tok := acc.NewToken(d.T, e.Who, acc.Traits{})
			for _, o := range before.Rules.Entries {
				if o.Who != e.Who && o.Kind == e.Kind && o.Covers(e) && tok.Has(o.Who) {
					advice = Advice{Kind: "held-by-group", Who: advice.Who, Other: d.T.Name(o.Who)}
					break
				}
			}
			p.Advice = append(p.Advice, advice)
		}
	}
	for _, n := range w.Named {
		look(d.K.AsNamed(w.Partition.Nodes[n].Before), d.K.AsNamed(w.Partition.Nodes[n].After))
		if len(seen) > 20 {
			return
		}
	}
}

// unmoved says for whom nothing changes although an entry that comes names
// them, and why, on each place the command names.
func (d *Planner) unmoved(p *Plan, routes []impact.Route) {
	w := &p.Work
	if p.Undoes != 0 {
		return
	}
	moved := map[string]bool{}
	for _, r := range p.Impact {
		for _, u := range r.Users {
			moved[u] = true
		}
	}
	index := map[string]int{}
	const most, places = 200, 24
	asked := 0
	for i, node := range w.Named {
		if asked >= most || i >= places {
			return
		}
		n := w.Partition.Nodes[node]
		if n.Before == nil || n.After == nil || !n.Changed() {
			continue
		}
		before, after := d.K.AsNamed(n.Before), d.K.AsNamed(n.After)
		items := w.Partition.Some(d.T, node, 1)
		if len(items) == 0 {
			continue
		}
		at := d.T.Place(items[0])
		shares := d.K.Through(at)
		for _, e := range after.Rules.Entries {
			if !e.Own() || e.Kind != rule.Allow || !e.Counts() || guard.Stood(before, e) {
				continue
			}
			if _, named := d.T.Account(e.Who); !named {
				continue
			}
			for i := range shares {
				sh := &shares[i]
				r := slices.IndexFunc(routes, func(r impact.Route) bool { return r.Name == sh.Address() })
				if r < 0 || routes[r].Ways[impact.After] == nil {
					continue
				}
				pop := routes[r].Ways[impact.After].People
				pop.Holders(e.Who, false).Each(func(u int) bool {
					user := pop.Users[u]
					if moved[user.Name] {
						return true
					}
					asked++
					why, already := explain.Unchanged(d.K, user.ID, at, before, after, e, sh)
					key := fmt.Sprintf("%s|%v|%s|%s|%s", sh.Address(), already, why.By, why.Entry, why.SetOn)
					i, ok := index[key]
					if !ok {
						i = len(p.Unmoved)
						index[key] = i
						why.Chain = nil
						p.Unmoved = append(p.Unmoved, Unmoved{Route: sh.Address(), Already: already, Because: why})
					}
					if !slices.Contains(p.Unmoved[i].Users, user.Name) {
						p.Unmoved[i].Users = append(p.Unmoved[i].Users, user.Name)
					}
					return asked < most
				})
			}
		}
	}
}

// mayHandOn holds the acting account to the rules of ownership: an
// administrator of the server gives it to anyone, another user of the estate
// only takes it, with write-owner ([MS-DTYP] §2.5.3.2). Who acts and is no
// user of the estate works on the model from outside and is not held to that.
func (d *Planner) mayHandOn(p *Plan) error {
	actor, ok := d.ActingUser()
	if !ok || p.Undoes != 0 || p.IsSo {
		return nil
	}
	f := p.Work.Partition
	for i := range f.Nodes {
		n := &f.Nodes[i]
		if n.Before == nil || n.After == nil || n.Before.Owned() == n.After.Owned() {
			continue
		}
		after := n.After.Listed()
		items := f.Some(d.T, i, 1)
		if len(items) == 0 {
			continue
		}
		at := d.T.Place(items[0])
		q := d.K.Question(actor.ID, at, nil)
		if q.Administrator {
			continue
		}
		if !q.Token.Has(after.Owner) && !q.GivesTo(after.Owner) {
			who := "an administrator of " + at.Server.Name
			if q.Traits.AsSpecified {
				who = "who has " + string(verdict.Restore) + " on " + at.Server.Name
			}
			return &estate.Refused{Why: fmt.Sprintf("only %s may give ownership to another; %s can take it", who, actor.Name)}
		}
		if verdict.Granted(q)&right.WriteOwner == 0 {
			return &estate.Refused{Why: fmt.Sprintf("%s has no write-owner on %s", actor.Name, at), Do: "see: tarnwold explain " + actor.Name + " " + at.String()}
		}
	}
	return nil
}
