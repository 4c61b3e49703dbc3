package plan

import (
	"encoding/binary"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/impact"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// NewShift is what a change makes of files and folders that somebody else makes
// from then on in a folder: users, from one level to another.
type NewShift struct {
	Kind  string   `json:"kind"` // file or folder
	Users []string `json:"users"`
	Was   string   `json:"was"`
	Is    string   `json:"becomes"`
	Where string   `json:"in"` // the first folder of which it is so
	More  int64    `json:"more-folders"`
}

// mostMade is how many different changes of a folder's rules are looked at for
// what new items get.
const mostMade = 64

// maker is folders whose rules change alike, and that are reached alike.
type maker struct {
	node    int // the first of them
	folders int64
	route   int
	gates   [2]crowd.Bits // whom they and all above them let through; nil: not asked
}

// newItems asks what a new file and a new folder would get in each folder whose
// rules change, at the server itself, by somebody who is in no group there (on a
// POSIX tree by the umask 022: a narrower one leaves group and others less, and
// below a default list none counts), and tells where users come to have otherwise
// than the impact says already.
func (d *Planner) newItems(p *Plan, routes []impact.Route) {
	type kind struct {
		route         int
		before, after rule.Any
		gates         [2]string
	}
	f := p.Work.Partition
	starts := map[int]int{}
	for i := range routes {
		r := &routes[i]
		if !r.Local || r.Ways[0] == nil || r.Ways[1] == nil { // or the server comes or goes
			continue
		}
		for _, s := range r.Starts {
			if _, ok := starts[s.Node]; !ok {
				starts[s.Node] = i
			}
		}
	}
	gated := newGates(f, routes)
	known := map[kind]*maker{}
	var order []*maker
	for i := range f.Nodes {
		n := &f.Nodes[i]
		if !n.Folder || n.Before == nil || n.After == nil || !n.Changed() {
			continue
		}
		route, ok := -1, false
		for up := i; up >= 0 && !ok; up = f.Nodes[up].Parent {
			route, ok = starts[up]
		}
		if !ok {
			continue
		}
		k := kind{route: route, before: n.Before, after: n.After}
		m := &maker{node: i, route: route}
		for x := range m.gates {
			m.gates[x] = gated.of(route, i, x)
			k.gates[x] = bitsText(m.gates[x])
		}
		if had := known[k]; had != nil {
			m = had
		} else if len(order) == mostMade {
			p.NewUnasked += n.Items
			continue
		} else {
			known[k], order = m, append(order, m)
		}
		m.folders += n.Items
	}
	told := toldShifts{}
	for _, m := range order {
		r := &routes[m.route]
		for _, folder := range []bool{false, true} {
			if t := p.Work.For; t != nil && !t.alone(newChild(r.Ways[0], f.Nodes[m.node].Before, folder), newChild(r.Ways[1], f.Nodes[m.node].After, folder)) {
				t.others = true
				return
			}
			var levels [2][]string
			for x, way := range r.Ways {
				levels[x] = d.newLevels(way, f.Nodes[m.node].On(x == 1), folder, m.gates[x])
			}
			d.newShift(p, told, r.Users(), levels, folder, m)
		}
	}
}

func bitsText(b crowd.Bits) string {
	out := make([]byte, 0, 8*len(b))
	for _, word := range b {
		out = binary.LittleEndian.AppendUint64(out, word)
	}
	return string(out)
}

// gates knows whom folders let through to what is in them, where a server asks
// every folder above for that.
type gates struct {
	f      *estate.Partition
	routes []impact.Route
	side   map[[2]int]*gating
}

type gating struct {
	dec   *crowd.Decider
	read  *rule.Reader
	known map[int]crowd.Bits
}

func newGates(f *estate.Partition, routes []impact.Route) *gates {
	return &gates{f, routes, map[[2]int]*gating{}}
}

// of gives whom a node and everything above it lets through, before or after.
func (g *gates) of(route, node, x int) crowd.Bits {
	way := g.routes[route].Ways[x]
	if !way.Traits.AsksFoldersAbove {
		return nil
	}
	s := g.side[[2]int{route, x}]
	if s == nil {
		s = &gating{crowd.NewDecider(*way), rule.NewReader(way.Traits.AboveReading()), map[int]crowd.Bits{}}
		g.side[[2]int{route, x}] = s
	}
	above := g.above(s, node, x)
	if own := g.f.Nodes[node].On(x == 1); own != nil {
		above = above.And(s.dec.One(s.read.Of(own), right.Execute))
	}
	return above
}

// above gives whom all folders above a node let through.
func (g *gates) above(s *gating, node, x int) crowd.Bits {
	up := g.f.Nodes[node].Parent
	if open, ok := s.known[up]; ok && up >= 0 {
		return open
	}
	var open crowd.Bits
	var chain []rule.Any
	if up < 0 {
		open, chain = s.dec.People.All(), g.f.Set.Chain(node, x == 1)
	} else {
		open = g.above(s, up, x)
		if own := g.f.Nodes[up].On(x == 1); own != nil {
			chain = []rule.Any{own}
		}
	}
	for _, a := range chain {
		open = open.And(s.dec.One(s.read.Of(a), right.Execute))
	}
	if up >= 0 {
		s.known[up] = open
	}
	return open
}

// stranger makes things and is in nobody's groups.
var stranger = verdict.Maker{UID: acc.UID(acc.MostPOSIX), GID: acc.GID(acc.MostPOSIX)}

// newChild is the rules of what a stranger makes in a folder; nil: nothing can be.
func newChild(way *crowd.Route, parent rule.Any, folder bool) rule.Any {
	tr := *way.Traits
	if _, ok := parent.(*posix.Rules); ok {
		tr.Umask = 0o022
	}
	m := stranger
	m.Owner, m.Primary, m.PosixGroup = m.UID, m.GID, m.GID
	return Made(parent, folder, m, &tr)
}

// newLevels gives each user's level on what a stranger makes in a folder that
// only gate lets through.
func (d *Planner) newLevels(way *crowd.Route, parent rule.Any, folder bool, gate crowd.Bits) []string {
	out := make([]string, len(way.People.Users))
	child := newChild(way, parent, folder)
	if child == nil {
		return out
	}
	dec := crowd.NewDecider(*way)
	read := rule.NewReader(way.Traits.Reading())
	var sc crowd.Scratch
	for _, class := range dec.Classes(crowd.Situation{Item: read.Of(child), Child: dec.TakesOut(read.Of(parent), child.Owned()), Gate: gate}, &sc) {
		level := "nothing"
		if !ask.NothingOn(child, class.Rights) {
			level = ask.LevelOn(d.T.Levels(), child, class.Rights, folder)
		}
		class.Users.Each(func(u int) bool {
			out[u] = level
			return true
		})
	}
	return out
}

// toldShifts are whom the impact tells of, by what they had and will have.
type toldShifts map[[2]string]map[string]bool

func (t toldShifts) has(p *Plan, k [2]string, user string) bool {
	users, ok := t[k]
	if !ok {
		users = map[string]bool{}
		for _, s := range p.Impact {
			if s.Was == k[0] && s.Is == k[1] {
				for _, u := range s.Users {
					users[u] = true
				}
			}
		}
		t[k] = users
	}
	return users[user]
}

// newShift tells how users' levels on new items differ, but where the impact has
// the same of what is there.
func (d *Planner) newShift(p *Plan, told toldShifts, users []acc.Account, levels [2][]string, folder bool, m *maker) {
	kind := ask.Kind(folder)
	by := map[[2]string][]string{}
	var order [][2]string
	for u := range users {
		if u >= len(levels[0]) || u >= len(levels[1]) || levels[0][u] == levels[1][u] {
			continue
		}
		k := [2]string{levels[0][u], levels[1][u]}
		if told.has(p, k, users[u].Name) {
			continue
		}
		if by[k] == nil {
			order = append(order, k)
		}
		by[k] = append(by[k], users[u].Name)
	}
	for _, k := range order {
		i := slices.IndexFunc(p.NewItems, func(o NewShift) bool {
			return o.Kind == kind && o.Was == k[0] && o.Is == k[1] && slices.Equal(o.Users, by[k])
		})
		if i >= 0 {
			p.NewItems[i].More += m.folders
			continue
		}
		p.NewItems = append(p.NewItems, NewShift{Kind: kind, Users: by[k], Was: k[0], Is: k[1], Where: d.Where(p, m.node), More: m.folders - 1})
	}
}
