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

// Scope is a part of the estate, or all of it, laid out for a question about
// many items: those alike are one node, folders before what is in them. A
// question costs what the nodes cost, however many items they stand for.
type Scope struct {
	K    *Asker
	F    *estate.Partition
	Ways []*Route
	text map[shown]string // levels in words, each made once

	trees map[int][]int // of F, once asked for
	top   []int
}

// treesOf lists the nodes of the trees that a way comes down in, in order: of the
// others it knows nothing.
func (g *Scope) treesOf(w *Route) (nodes []int) {
	if g.trees == nil {
		g.trees, g.top = g.F.Trees()
	}
	seen := map[int]bool{}
	for n := range w.Begins {
		if top := g.top[n]; !seen[top] {
			seen[top] = true
			nodes = append(nodes, g.trees[top]...)
		}
	}
	slices.Sort(nodes)
	return nodes
}

type shown struct {
	granted right.Set
	folder  bool
	classes bool // of a POSIX tree
}

// Route is one route that comes to the ground: through a share, or at the server.
type Route struct {
	Name   string // //server/share, or local
	Server *estate.Server
	Share  *estate.Share
	Traits *verdict.Traits
	// begins holds the nodes the route comes down on: the share's folder, or
	// what was asked about below it.
	Begins map[int]beginning
}

type beginning struct {
	Above bool // the folder above the node is on the route too
	cut   bool // of the folders above the node only the nearest are asked
	near  int
}

// Everything lays out all that the estate has.
func (k *Asker) Everything() (*Scope, error) {
	f, err := k.T.All()
	if err != nil {
		return nil, err
	}
	g := k.NewScope(f)
	return g, g.AllRoutes()
}

// below lays out a place and all below it, by the route it was asked for:
// through one share, or at the server and through every share that comes there.
func (k *Asker) below(where string) (*Scope, estate.Place, error) {
	return k.belowIn(where, k.T.PartitionAt)
}

// belowIn is below, laid out in some way.
func (k *Asker) belowIn(where string, layOut func(estate.Place) (*estate.Partition, error)) (*Scope, estate.Place, error) {
	p, err := k.Place(where)
	if err != nil {
		return nil, p, err
	}
	f, err := layOut(p)
	if err != nil {
		return nil, p, err
	}
	g := k.NewScope(f)
	if p.Share == nil {
		return g, p, g.AllRoutes()
	}
	w := g.Route(&p.Server, p.Share)
	w.Begins[g.F.Node(p.Item)] = beginningAt(p.Path, p.Share)
	g.Ways = append(g.Ways, w)
	return g, p, k.T.Err()
}

// LayOut lays out a place and all below it, by every route that comes there.
func (k *Asker) LayOut(p estate.Place) (*Scope, error) {
	f, err := k.T.PartitionAt(p)
	if err != nil {
		return nil, err
	}
	g := k.NewScope(f)
	return g, g.AllRoutes()
}

// beginningAt tells how a share comes down on a path.
func beginningAt(path string, sh *estate.Share) beginning {
	b := beginning{Above: !sh.Begins(path)}
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

func (k *Asker) NewScope(f *estate.Partition) *Scope {
	return &Scope{K: k, F: f, text: map[shown]string{}}
}

// Over lays out what WHERE names, or everything where it is empty.
func (k *Asker) Over(where string) (*Scope, error) {
	if where == "" {
		return k.Everything()
	}
	g, _, err := k.below(where)
	return g, err
}

// OverFor is Over for a question about some people alone: what differs for others is
// one node.
func (k *Asker) OverFor(where string, users ...account.ID) (*Scope, error) {
	if !k.AllAsThemselves() { // they may open as somebody else
		return k.Over(where)
	}
	counts := estate.Identifiers(k.Meet(users))
	if where == "" {
		f, err := k.T.PartitionFor(nil, k.ShareFolders(), true, counts)
		if err != nil {
			return nil, err
		}
		g := k.NewScope(f)
		return g, g.AllRoutes()
	}
	g, _, err := k.belowIn(where, func(p estate.Place) (*estate.Partition, error) {
		if len(p.Trail) > 2 { // little is below
			return k.T.PartitionAt(p)
		}
		return k.T.PartitionFor([]estate.Group{{Targets: []estate.Target{p.Target()}}}, k.ShareFolders(), false, counts)
	})
	return g, err
}

// Meet reads everybody who may hold one of some identifiers and all they are in, for
// everything that is asked of them.
func (k *Asker) Meet(ids []account.ID) *account.Directory {
	k.Met = k.T.Holders(ids, nil)
	return k.Met
}

func (g *Scope) Route(s *estate.Server, sh *estate.Share) *Route {
	w := &Route{Name: "local", Server: s, Share: sh, Traits: By(&s.Traits, sh), Begins: map[int]beginning{}}
	if sh != nil {
		w.Name = sh.Address()
	}
	return w
}

// AllRoutes finds every route to the ground: the shares that come down above it
// or in it, and the servers themselves.
func (g *Scope) AllRoutes() error {
	t := g.K.T
	type top struct {
		node int
		path string
	}
	tops := map[int64][]top{}
	servers := map[int64]*estate.Server{}
	var order []int64
	var begin []int
	for i := range g.F.Nodes {
		if g.F.Nodes[i].Parent < 0 {
			begin = append(begin, i)
		}
	}
	g.F.Locate(t, begin)
	for _, i := range begin {
		for _, item := range g.F.Some(t, i, 1) {
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
			w := g.Route(s, &sh)
			for _, x := range tops[id] {
				if sh.Covers(x.path) {
					w.Begins[x.node] = beginningAt(x.path, &sh)
					continue
				}
				if !place.Under(estate.Key(sh.Folder), estate.Key(x.path)) {
					continue
				}
				in, err := t.At(*s, sh.Folder)
				if err != nil {
					continue // the share's folder isn't in the estate
				}
				if n := g.F.NodeFor(in.Item, in.Strand); n >= 0 {
					w.Begins[n] = beginningAt(sh.Folder, &sh)
				}
			}
			if len(w.Begins) > 0 {
				g.Ways = append(g.Ways, w)
			}
		}
		w := g.Route(s, nil)
		for _, x := range tops[id] {
			w.Begins[x.node] = beginning{Above: g.F.Over(x.node, false) != nil}
		}
		g.Ways = append(g.Ways, w)
	}
	slices.SortStableFunc(g.Ways, func(a, b *Route) int {
		switch { // by server, shares by name, the server itself last
		case a.Server.Name != b.Server.Name:
			return CmpText(a.Server.Name, b.Server.Name)
		case (a.Share == nil) != (b.Share == nil):
			if a.Share == nil {
				return 1
			}
			return -1
		}
		return CmpText(a.Name, b.Name)
	})
	return t.Err()
}

func CmpText(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// Address writes where a place is by the way.
func (w *Route) Address(p estate.Place) string { return p.By(w.Share).String() }

// Named gives an item's address by the way.
func (g *Scope) Named(w *Route, item int64) string {
	s, path, ok := g.K.T.Stands(item)
	if !ok {
		return ""
	}
	return estate.Place{Server: s, Path: path}.By(w.Share).String()
}

// Level writes what is granted as a level.
func (g *Scope) Level(rules rule.Any, granted right.Set, folder bool) string {
	_, classes := rules.(*posix.Rules)
	key := shown{granted & right.Access, folder, classes}
	s, ok := g.text[key]
	if !ok {
		s = LevelOn(g.K.Lang.Levels, rules, granted, folder)
		g.text[key] = s
	}
	return s
}

// mostKnown is how many words of bits are remembered of who has single rights.
const mostKnown = 1 << 23

// On lists the nodes on a way, folders before what is in them.
func (g *Scope) On(w *Route) (nodes []int) {
	on := make([]bool, len(g.F.Nodes))
	for _, i := range g.treesOf(w) {
		_, begins := w.Begins[i]
		if p := g.F.Nodes[i].Parent; begins || p >= 0 && on[p] {
			on[i] = true
			nodes = append(nodes, i)
		}
	}
	return nodes
}

// Population is everybody as a server sees them.
func (k *Asker) Population(s *estate.Server) *crowd.Population {
	if k.pops == nil {
		k.pops = map[string]*crowd.Population{}
	}
	key := fmt.Sprint(s.Traits.Traits)
	if k.pops[key] == nil {
		k.pops[key] = crowd.NewPopulation(k.everybody(), s.Traits.Traits, nil)
	}
	return k.pops[key]
}

// everybody is who there is: with memberships as they were read, or as they are asked for.
func (k *Asker) everybody() crowd.People {
	if k.dir != nil {
		return k.dir
	}
	if k.people == nil {
		k.people = k.T.People()
	}
	return k.people
}

// Directory is everybody there is, read once.
func (k *Asker) Directory() *account.Directory {
	if k.dir == nil {
		k.dir = k.T.Directory()
	}
	return k.dir
}

// DirectoryBeside begins to read everybody there is beside whatever else is asked; wait
// gives what Directory gives from then on.
func (k *Asker) DirectoryBeside() (wait func() *account.Directory) {
	if k.dir != nil {
		return k.Directory
	}
	read := k.T.DirectoryBeside()
	return func() *account.Directory {
		k.dir, k.pops = read(), nil // a population may read memberships from the estate as it is asked
		return k.dir
	}
}
