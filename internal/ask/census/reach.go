package census

import (
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Reached is where an answer changes, going down: what is below has the same
// until another line says otherwise.
type Reached struct {
	Where   string `json:"where"`
	Kind    string `json:"kind"`
	Level   string `json:"level"`
	Granted string `json:"granted"`
	// Can is whether what was asked for (--can) is possible; absent where
	// nothing was.
	Can *bool `json:"can,omitempty"`
	// ByNameOnly: it may be opened by whoever knows its name, and can't be
	// come to by browsing, for a folder above doesn't show what is in it.
	ByNameOnly bool     `json:"by-name-only,omitempty"`
	Parts      []string `json:"-"` // the names from where the route begins down to it
}

// Reach is all a user can get to by one route.
type Reach struct {
	Route string         `json:"route"`
	Door  ask.Connection `json:"connection"`
	Lines []Reached      `json:"lines"`
	More  int64          `json:"more"` // lines beyond the limit
	// Items is how many items the user is granted something on by the route
	// (or can do what was asked for), Of how many there are.
	Items int64 `json:"items"`
	Of    int64 `json:"of"`
}

// Reaching is all a user can get to.
type Reaching struct {
	User   ask.Account `json:"user"`
	Under  string      `json:"under,omitempty"`
	Can    string      `json:"can,omitempty"`
	Routes []Reach     `json:"routes"`
}

// ReachOf tells all a user can get to, everywhere or at and below a place; limit
// lines a route, 0 for all of them.
func ReachOf(k *ask.Asker, who, under, canDo string, limit int) (*Reaching, error) {
	user, err := k.T.User(who)
	if err != nil {
		return nil, err
	}
	c, err := k.Can(canDo)
	if err != nil {
		return nil, err
	}
	g, err := k.OverFor(under, user.ID)
	if err != nil {
		return nil, err
	}
	out := &Reaching{User: k.Account(user.ID), Under: under, Can: canDo, Routes: []Reach{}}
	for _, w := range g.Ways {
		if w.Server.Traits.Elsewhere(user.ID) { // nobody there
			continue
		}
		r, err := reach(g, user.ID, w, c, limit)
		if err != nil {
			return nil, err
		}
		out.Routes = append(out.Routes, *r)
	}
	return out, k.T.Err()
}

// doing works out, beside what a user sees, whether they can do what was asked.
func doing(g *ask.Scope, user account.ID, w *ask.Route, c *ask.Can) (*ask.Seen, []bool) {
	if c == nil {
		return g.See(user, w, nil), nil
	}
	nodes := g.F.Nodes
	can := make([]bool, len(nodes))
	s := g.See(user, w, func(i int, q *verdict.Question) {
		n := &nodes[i]
		var parent rule.Any
		if _, begins := w.Begins[i]; !begins && n.Parent >= 0 {
			parent = nodes[n.Parent].Before
		} else if begins && w.Begins[i].Above {
			parent = g.F.Over(i, false)
		}
		can[i] = c.OK(g.K, q, verdict.Granted(q), n.Folder, n.Before, parent)
	})
	return s, can
}

func reach(g *ask.Scope, user account.ID, w *ask.Route, c *ask.Can, limit int) (*Reach, error) {
	s, can := doing(g, user, w, c)
	nodes := g.F.Nodes
	out := &Reach{Route: w.Name, Door: ask.ConnectionOf(s.Door), Lines: []Reached{}}
	var changes []int
	for i := range nodes {
		n := &nodes[i]
		if !s.On[i] {
			continue
		}
		out.Of += n.Items
		_, begins := w.Begins[i]
		if c != nil {
			if can[i] {
				out.Items += n.Items
			}
			// A level or act that doesn't speak of the kind changes nothing.
			if !c.Of(n.Folder) || !begins && can[i] == inherited(g, can, i, c) {
				continue
			}
			if begins && !can[i] {
				changes = append(changes, i)
				continue
			}
		} else {
			if !ask.NothingOn(n.Before, s.Granted[i]) {
				out.Items += n.Items
			}
			if !begins && alike(g, s, i) {
				continue
			}
		}
		changes = append(changes, i)
	}
	some, most, left := estate.UpTo(g.F.Parts(changes), limit, 0)
	out.More = left
	items := g.F.FirstOf(g.K.T, some, most)
	for j, p := range some {
		i := p.Node
		n := &nodes[i]
		for _, item := range items[j] {
			at := g.Named(w, item)
			l := Reached{Where: at, Kind: ask.Kind(n.Folder), Level: g.Level(n.Before, s.Granted[i], n.Folder), Granted: ask.Mask(s.Granted[i]), Parts: parts(at)}
			usable := !ask.NothingOn(n.Before, s.Granted[i])
			if c != nil {
				yes := can[i]
				l.Can, usable = &yes, yes
			}
			l.ByNameOnly = usable && !s.Browsed[i]
			out.Lines = append(out.Lines, l)
		}
		if err := g.K.T.Context().Err(); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(out.Lines, func(a, b Reached) int { return slices.Compare(a.Parts, b.Parts) })
	return out, g.K.T.Err()
}

// inherited gives the answer of the nearest node above that a level or act
// speaks of.
func inherited(g *ask.Scope, can []bool, i int, c *ask.Can) bool {
	for p := g.F.Nodes[i].Parent; p >= 0; p = g.F.Nodes[p].Parent {
		if c.Of(true) {
			return can[p]
		}
	}
	return false
}

// alike tells whether a user's answer on a node is that on the folder above.
func alike(g *ask.Scope, s *ask.Seen, i int) bool {
	n := &g.F.Nodes[i]
	a, b := s.Granted[i], s.Granted[n.Parent]
	switch {
	case ask.NothingOn(n.Before, a) && ask.NothingOn(n.Before, b):
		return true
	case n.Folder:
		return (a^b)&right.Access == 0
	}
	if _, classes := n.Before.(*posix.Rules); classes { // running it is a file's own affair
		return (a^b)&right.Access&^(right.DeleteChild|right.Delete|right.Execute) == 0
	}
	// A file has nothing below it, so that delete-child says nothing there.
	return (a^b)&right.Access&^right.DeleteChild == 0 || g.Level(n.Before, a, false) == g.Level(n.Before, b, true)
}

// parts splits an address into its names, the route first.
func parts(address string) []string {
	if strings.HasPrefix(address, "//") {
		return strings.Split(address[2:], "/")
	}
	server, path, _ := strings.Cut(address, ":")
	return append([]string{server}, strings.Split(strings.Trim(path, "/"), "/")...)
}

// strongest lists rights by how much they say of somebody's access.
var strongest = []right.Set{right.WriteACL, right.WriteOwner, right.Delete, right.WriteData, right.ReadData, right.AppendData, right.DeleteChild,

	right.Execute, right.WriteAttributes, right.WriteNamedAttrs, right.ReadACL, right.ReadNamedAttrs, right.ReadAttributes}

// telling gives the right that tells a level from another best: of those in s.
func telling(s right.Set, order []right.Set) right.Set {
	for _, r := range order {
		if s&r != 0 {
			return r
		}
	}
	return 0
}

// needed lists rights in the order in which having them matters: what is needed
// before the rest comes first.
var needed = []right.Set{right.ReadData, right.WriteData, right.Delete, right.Execute, right.AppendData, right.WriteACL, right.WriteOwner, right.DeleteChild,

	right.WriteAttributes, right.WriteNamedAttrs, right.ReadACL, right.ReadNamedAttrs, right.ReadAttributes}
