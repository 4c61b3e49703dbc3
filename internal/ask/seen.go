package ask

import (
	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

// Seen is what one user meets on every node by one way.
type Seen struct {
	On      []bool // the node is on the way
	Granted []right.Set
	// browsed: every folder above, down from where the way begins, shows the
	// names in it.
	Browsed []bool
	Door    verdict.Connection
}

// walker puts together what core is asked of a user on one node after the other.
type walker struct {
	g     *Scope
	w     *Route
	how   rule.Reading
	q     verdict.Question
	token *account.Token
	share right.Set
}

func (g *Scope) walker(user account.ID, w *Route) *walker {
	k := g.K
	token, self := k.openedAs(user, w.Server, w.Share)
	x := &walker{g: g, w: w, how: w.Traits.Reading(), token: token}
	x.q = verdict.Question{Token: token, Self: self, Traits: w.Traits, Share: k.ShareOf(w.Share, w.Traits)}
	if self == nil {
		self = token
	}
	for _, id := range k.Administrators(w.Server) {
		x.q.Administrator = x.q.Administrator || self.Has(id)
	}
	_, x.share = x.q.Connect()
	return x
}

// parent gives the rules of the folder above a node where they count on the way.
func (x *walker) parent(i int, on []bool) *rule.List {
	n := &x.g.F.Nodes[i]
	b, begins := x.w.Begins[i]
	switch {
	case n.Parent >= 0 && on[n.Parent]:
		return x.g.K.Read(x.g.F.Nodes[n.Parent].Before, x.how)
	case begins && b.Above:
		return x.g.K.Read(x.g.F.Over(i, false), x.how)
	case begins && x.w.Share != nil && x.w.Traits.ShareFolderAboveItself:
		return x.g.K.Read(n.Before, x.how)
	}
	return nil
}

// See asks about one user on every node of a way. each, where it isn't nil, is
// called with the question as it stands for the node.
func (g *Scope) See(user account.ID, w *Route, each func(i int, q *verdict.Question)) *Seen {
	x := g.walker(user, w)
	above := w.Traits.AboveReading()
	nodes := g.F.Nodes
	out := &Seen{On: make([]bool, len(nodes)), Granted: make([]right.Set, len(nodes)), Browsed: make([]bool, len(nodes))}
	out.Door, _ = x.q.Connect()
	gate := make([]bool, len(nodes)) // every folder above lets through
	for _, i := range g.treesOf(w) {
		n := &nodes[i]
		b, begins := w.Begins[i]
		out.On[i] = begins || n.Parent >= 0 && out.On[n.Parent]
		if w.Traits.AsksFoldersAbove {
			switch {
			case begins && b.cut && b.near == 0:
				gate[i] = true
			case n.Parent >= 0:
				gate[i] = gate[n.Parent] && verdict.Given(g.K.Read(nodes[n.Parent].Before, above), x.token, right.Execute) != 0
			default:
				gate[i] = true
				for _, a := range b.chain(g.F.Chain(i, false)) {
					gate[i] = gate[i] && verdict.Given(g.K.Read(a, above), x.token, right.Execute) != 0
				}
			}
			if begins && !b.Above && w.Traits.AsksOwnFolder() {
				gate[i] = gate[i] && verdict.Given(g.K.Read(n.Before, above), x.token, right.Execute) != 0
			}
		}
		if !out.On[i] {
			continue
		}
		x.q.Item, x.q.Parent, x.q.Above = g.K.Read(n.Before, x.how), x.parent(i, out.On), nil
		if w.Traits.AsksFoldersAbove && !gate[i] {
			x.q.Above = []*rule.List{closed}
		}
		out.Granted[i] = verdict.Granted(&x.q)
		out.Browsed[i] = begins || out.Browsed[n.Parent] && out.Granted[n.Parent]&right.ReadData != 0
		if each != nil {
			each(i, &x.q)
		}
	}
	return out
}

// closed is rules that let nobody through, in the place of folders above that
// do so.
var closed = &rule.List{}

// Everyone walks the nodes of a way with the situation of each for everybody, as d decides.
func (g *Scope) Everyone(w *Route, pop *crowd.Population, d *crowd.Decider, fn func(i int, s crowd.Situation) bool) {
	g.walk(w, pop, d, true, fn)
}

// Decider makes a decider for everybody on a way.
func (g *Scope) Decider(w *Route, pop *crowd.Population) *crowd.Decider {
	k := g.K
	people, self := k.Populations(pop, w.Traits, w.Share, k.T)
	return crowd.NewDecider(crowd.Route{Local: w.Share == nil, Share: k.ShareOf(w.Share, w.Traits), Traits: w.Traits,
		Administrators: k.Administrators(w.Server), People: people, Self: self})
}

// Opening walks the nodes with the situation of each for who doesn't ask for delete: who
// may take an item out of the folder above is left out. It asks nothing of the estate, so
// that it may run beside what does, with everybody from Directory.
func (g *Scope) Opening(w *Route, pop *crowd.Population, d *crowd.Decider, fn func(i int, s crowd.Situation) bool) {
	g.walk(w, pop, d, false, fn)
}

func (g *Scope) walk(w *Route, pop *crowd.Population, d *crowd.Decider, taken bool, fn func(i int, s crowd.Situation) bool) {
	k := g.K
	how, above := w.Traits.Reading(), w.Traits.AboveReading()
	nodes := g.F.Nodes
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
			if len(known)*len(b) > mostKnown {
				clear(known)
			}
			known[oneKey{l, r}] = b
		}
		return b
	}
	x := &walker{g: g, w: w, how: how}
	var gates Down[crowd.Bits]
	for _, i := range g.treesOf(w) {
		n := &nodes[i]
		b, begins := w.Begins[i]
		on[i] = begins || n.Parent >= 0 && on[n.Parent]
		var gate crowd.Bits
		if w.Traits.AsksFoldersAbove {
			switch {
			case begins && b.cut && b.near == 0:
				gate = pop.All()
			case n.Parent >= 0:
				gate = gates.Of(n.Parent).And(one(k.Read(nodes[n.Parent].Before, above), right.Execute))
			default:
				gate = pop.All()
				for _, a := range b.chain(g.F.Chain(i, false)) {
					gate = gate.And(one(k.Read(a, above), right.Execute))
				}
			}
			if begins && !b.Above && w.Traits.AsksOwnFolder() {
				gate = gate.And(one(k.Read(n.Before, above), right.Execute))
			}
			if n.Folder {
				gates.Put(i, gate)
			}
		}
		if !on[i] {
			continue
		}
		s := crowd.Situation{Item: k.Read(n.Before, how)}
		if up := x.parent(i, on); up != nil && taken {
			s.Child = one(up, right.DeleteChild)
			if up.OwnersOnly {
				s.Child = d.TakesOut(up, s.Item.Owner)
			}
		}
		if w.Traits.AsksFoldersAbove {
			s.Gate = gate
		}
		if !fn(i, s) {
			return
		}
	}
}

// Down holds something of each folder above the node at hand, and of no other: what is
// below a node comes right behind it.
type Down[T any] struct {
	// Left, where it isn't nil, is told of each folder that is let go.
	Left  func(node int)
	nodes []int
	of    []T
}

// Of gives what was put for a folder above; what is below its neighbours is let go.
func (d *Down[T]) Of(node int) T {
	n := len(d.nodes)
	for d.nodes[n-1] != node {
		n--
	}
	d.Leave(n)
	return d.of[n-1]
}

// Leave lets go of all but the first folders.
func (d *Down[T]) Leave(but int) {
	for i := len(d.nodes) - 1; i >= but && d.Left != nil; i-- {
		d.Left(d.nodes[i])
	}
	clear(d.of[but:])
	d.nodes, d.of = d.nodes[:but], d.of[:but]
}

// Put puts something for a folder in, after Of was asked for the folder it is in.
func (d *Down[T]) Put(node int, x T) { d.nodes, d.of = append(d.nodes, node), append(d.of, x) }
