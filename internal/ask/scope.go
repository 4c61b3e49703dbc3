package ask

import (
	"fmt"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// ground is a part of the estate, or all of it, laid out for a question about
// many items: those alike are one node, folders before what is in them. A
// question costs what the nodes cost, however many items they stand for.
type ground struct {
	k    *Asker
	f    *estate.Forest
	ways []*way
	text map[shown]string // levels in words, each made once
}

type shown struct {
	granted right.Set
	folder  bool
	classes bool // of a POSIX tree
}

// way is one route that comes to the ground: through a share, or at the server.
type way struct {
	route  string // //server/share, or local
	server *estate.Server
	share  *estate.Share
	traits *verdict.Traits
	// begins holds the nodes the route comes down on: the share's folder, or
	// what was asked about below it.
	begins map[int]beginning
}

type beginning struct {
	above bool // the folder above the node is on the route too
	cut   bool // of the folders above the node only the nearest are asked
	near  int
}

// everything lays out all that the estate has.
func (k *Asker) everything() (*ground, error) {
	f, err := k.t.All()
	if err != nil {
		return nil, err
	}
	g := k.newGround(f)
	return g, g.allWays()
}

// below lays out a place and all below it, by the route it was asked for:
// through one share, or at the server and through every share that comes there.
func (k *Asker) below(where string) (*ground, estate.Place, error) {
	p, err := k.Place(where)
	if err != nil {
		return nil, p, err
	}
	f, err := k.t.CarveAt(p)
	if err != nil {
		return nil, p, err
	}
	g := k.newGround(f)
	if p.Share == nil {
		return g, p, g.allWays()
	}
	w := g.way(&p.Server, p.Share)
	w.begins[g.f.Node(p.Item)] = beginningAt(p.Path, p.Share)
	g.ways = append(g.ways, w)
	return g, p, k.t.Err()
}

// layOut lays out a place and all below it, by every route that comes there.
func (k *Asker) layOut(p estate.Place) (*ground, error) {
	f, err := k.t.CarveAt(p)
	if err != nil {
		return nil, err
	}
	g := k.newGround(f)
	return g, g.allWays()
}

// beginningAt tells how a share comes down on a path.
func beginningAt(path string, sh *estate.Share) beginning {
	b := beginning{above: !sh.Begins(path)}
	b.near, b.cut = Near(path, sh)
	return b
}

// chain gives the rules above a topmost node that are asked by a way.
func (b beginning) chain(all []rule.Any) []rule.Any {
	if b.cut {
		return all[:min(b.near, len(all))]
	}
	return all
}

func (k *Asker) newGround(f *estate.Forest) *ground {
	return &ground{k: k, f: f, text: map[shown]string{}}
}

// over lays out what WHERE names, or everything where it is empty.
func (k *Asker) over(where string) (*ground, error) {
	if where == "" {
		return k.everything()
	}
	g, _, err := k.below(where)
	return g, err
}

func (g *ground) way(s *estate.Server, sh *estate.Share) *way {
	w := &way{route: "local", server: s, share: sh, traits: By(&s.Traits, sh), begins: map[int]beginning{}}
	if sh != nil {
		w.route = sh.Address()
	}
	return w
}

// allWays finds every route to the ground: the shares that come down above it
// or in it, and the servers themselves.
func (g *ground) allWays() error {
	t := g.k.t
	type top struct {
		node int
		path string
	}
	tops := map[int64][]top{}
	servers := map[int64]*estate.Server{}
	var order []int64
	for i := range g.f.Nodes {
		if g.f.Nodes[i].Parent >= 0 {
			continue
		}
		for _, item := range g.f.Some(t, i, 1) {
			s, path, ok := t.Stands(item)
			if !ok {
				continue
			}
			if servers[s.ID] == nil {
				servers[s.ID] = &s
				order = append(order, s.ID)
			}
			tops[s.ID] = append(tops[s.ID], top{i, path})
		}
	}
	for _, id := range order {
		s := servers[id]
		for _, sh := range t.Shares(*s) {
			w := g.way(s, &sh)
			for _, x := range tops[id] {
				if sh.Covers(x.path) {
					w.begins[x.node] = beginningAt(x.path, &sh)
					continue
				}
				if !place.Under(estate.Key(sh.Folder), estate.Key(x.path)) {
					continue
				}
				in, err := t.At(*s, sh.Folder)
				if err != nil {
					continue // the share's folder isn't in the estate
				}
				if n := g.f.NodeFor(in.Item, in.Strand); n >= 0 {
					w.begins[n] = beginningAt(sh.Folder, &sh)
				}
			}
			if len(w.begins) > 0 {
				g.ways = append(g.ways, w)
			}
		}
		w := g.way(s, nil)
		for _, x := range tops[id] {
			w.begins[x.node] = beginning{above: g.f.Over(x.node, false) != nil}
		}
		g.ways = append(g.ways, w)
	}
	slices.SortStableFunc(g.ways, func(a, b *way) int {
		switch { // by server, shares by name, the server itself last
		case a.server.Name != b.server.Name:
			return cmpText(a.server.Name, b.server.Name)
		case (a.share == nil) != (b.share == nil):
			if a.share == nil {
				return 1
			}
			return -1
		}
		return cmpText(a.route, b.route)
	})
	return t.Err()
}

func cmpText(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// address writes where a place is by the way.
func (w *way) address(p estate.Place) string { return p.By(w.share).String() }

// named gives an item's address by the way.
func (g *ground) named(w *way, item int64) string {
	s, path, ok := g.k.t.Stands(item)
	if !ok {
		return ""
	}
	return estate.Place{Server: s, Path: path}.By(w.share).String()
}

// level writes what is granted as a level.
func (g *ground) level(rules rule.Any, granted right.Set, folder bool) string {
	_, classes := rules.(*posix.Rules)
	key := shown{granted & right.Access, folder, classes}
	s, ok := g.text[key]
	if !ok {
		s = LevelOn(g.k.lang.Levels, rules, granted, folder)
		g.text[key] = s
	}
	return s
}

// seen is what one user meets on every node by one way.
type seen struct {
	on      []bool // the node is on the way
	granted []right.Set
	// browsed: every folder above, down from where the way begins, shows the
	// names in it.
	browsed []bool
	door    verdict.Door
}

// walker puts together what core is asked of a user on one node after the other.
type walker struct {
	g     *ground
	w     *way
	how   rule.Reading
	q     verdict.Question
	token *account.Token
	share right.Set
}

func (g *ground) walker(user account.ID, w *way) *walker {
	k := g.k
	token, self := k.openedAs(user, w.server, w.share)
	x := &walker{g: g, w: w, how: w.traits.Reading(), token: token}
	x.q = verdict.Question{Token: token, Self: self, Traits: w.traits, Share: k.ShareOf(w.share, w.traits)}
	if self == nil {
		self = token
	}
	for _, id := range k.administrators(w.server) {
		x.q.Administrator = x.q.Administrator || self.Has(id)
	}
	_, x.share = x.q.Connect()
	return x
}

// parent gives the rules of the folder above a node where they count on the way.
func (x *walker) parent(i int, on []bool) *rule.List {
	n := &x.g.f.Nodes[i]
	b, begins := x.w.begins[i]
	switch {
	case n.Parent >= 0 && on[n.Parent]:
		return x.g.k.Read(x.g.f.Nodes[n.Parent].Before, x.how)
	case begins && b.above:
		return x.g.k.Read(x.g.f.Over(i, false), x.how)
	case begins && x.w.share != nil && x.w.traits.ShareFolderAboveItself:
		return x.g.k.Read(n.Before, x.how)
	}
	return nil
}

// see asks about one user on every node of a way. each, where it isn't nil, is
// called with the question as it stands for the node.
func (g *ground) see(user account.ID, w *way, each func(i int, q *verdict.Question)) *seen {
	x := g.walker(user, w)
	above := w.traits.AboveReading()
	nodes := g.f.Nodes
	out := &seen{on: make([]bool, len(nodes)), granted: make([]right.Set, len(nodes)), browsed: make([]bool, len(nodes))}
	out.door, _ = x.q.Connect()
	gate := make([]bool, len(nodes)) // every folder above lets through
	for i := range nodes {
		n := &nodes[i]
		b, begins := w.begins[i]
		out.on[i] = begins || n.Parent >= 0 && out.on[n.Parent]
		if w.traits.AsksFoldersAbove {
			switch {
			case begins && b.cut && b.near == 0:
				gate[i] = true
			case n.Parent >= 0:
				gate[i] = gate[n.Parent] && verdict.Given(g.k.Read(nodes[n.Parent].Before, above), x.token, right.Execute) != 0
			default:
				gate[i] = true
				for _, a := range b.chain(g.f.Chain(i, false)) {
					gate[i] = gate[i] && verdict.Given(g.k.Read(a, above), x.token, right.Execute) != 0
				}
			}
			if begins && !b.above && w.traits.AsksOwnFolder() {
				gate[i] = gate[i] && verdict.Given(g.k.Read(n.Before, above), x.token, right.Execute) != 0
			}
		}
		if !out.on[i] {
			continue
		}
		x.q.Item, x.q.Parent, x.q.Above = g.k.Read(n.Before, x.how), x.parent(i, out.on), nil
		if w.traits.AsksFoldersAbove && !gate[i] {
			x.q.Above = []*rule.List{closed}
		}
		out.granted[i] = verdict.Granted(&x.q)
		out.browsed[i] = begins || out.browsed[n.Parent] && out.granted[n.Parent]&right.ReadData != 0
		if each != nil {
			each(i, &x.q)
		}
	}
	return out
}

// closed is rules that let nobody through, in the place of folders above that
// do so.
var closed = &rule.List{}

// everyone makes a decider for everybody on a way, and walks the nodes with
// the situation of each.
func (g *ground) everyone(w *way, pop *crowd.Population, fn func(i int, s crowd.Situation) bool) *crowd.Decider {
	k := g.k
	people, self := k.Populations(pop, w.traits, w.share, k.t)
	d := crowd.NewDecider(crowd.Way{Local: w.share == nil, Share: k.ShareOf(w.share, w.traits), Traits: w.traits,
		Administrators: k.administrators(w.server), People: people, Self: self})
	if fn == nil {
		return d
	}
	how, above := w.traits.Reading(), w.traits.AboveReading()
	nodes := g.f.Nodes
	on := make([]bool, len(nodes))
	type oneKey struct {
		l   *rule.List
		one right.Set
	}
	known := map[oneKey]crowd.Bits{}
	one := func(l *rule.List, r right.Set) crowd.Bits {
		b, ok := known[oneKey{l, r}]
		if !ok {
			b = d.One(l, r)
			known[oneKey{l, r}] = b
		}
		return b
	}
	x := &walker{g: g, w: w, how: how}
	var gates []crowd.Bits
	if w.traits.AsksFoldersAbove {
		gates = make([]crowd.Bits, len(nodes))
	}
	for i := range nodes {
		n := &nodes[i]
		b, begins := w.begins[i]
		on[i] = begins || n.Parent >= 0 && on[n.Parent]
		if gates != nil {
			if begins && b.cut && b.near == 0 {
				gates[i] = pop.All()
			} else if n.Parent >= 0 {
				gates[i] = gates[n.Parent].And(one(k.Read(nodes[n.Parent].Before, above), right.Execute))
			} else {
				gates[i] = pop.All()
				for _, a := range b.chain(g.f.Chain(i, false)) {
					gates[i] = gates[i].And(one(k.Read(a, above), right.Execute))
				}
			}
			if begins && !b.above && w.traits.AsksOwnFolder() {
				gates[i] = gates[i].And(one(k.Read(n.Before, above), right.Execute))
			}
		}
		if !on[i] {
			continue
		}
		s := crowd.Situation{Item: k.Read(n.Before, how)}
		if up := x.parent(i, on); up != nil {
			s.Child = one(up, right.DeleteChild)
			if up.OwnersOnly {
				s.Child = d.TakesOut(up, s.Item.Owner)
			}
		}
		if gates != nil {
			s.Gate = gates[i]
		}
		if !fn(i, s) {
			return d
		}
	}
	return d
}

// population is everybody as a server sees them.
func (k *Asker) population(s *estate.Server) *crowd.Population {
	if k.pops == nil {
		k.pops = map[string]*crowd.Population{}
	}
	key := fmt.Sprint(s.Traits.Traits)
	if k.pops[key] == nil {
		if k.people == nil {
			k.people = k.t.People()
		}
		k.pops[key] = crowd.NewPopulation(k.people, s.Traits.Traits, nil)
	}
	return k.pops[key]
}

// directory is everybody there is, read once.
func (k *Asker) directory() *account.Directory {
	if k.dir == nil {
		k.dir = k.t.Directory()
	}
	return k.dir
}
