// Package impact tells who gains and who loses what by a change, over every
// user, every item and every route at once.
//
// It gives what deciding each user on each item before and after would give
// (package verdict), at a fraction of the cost: nodes that share their
// descriptors are decided once, and all users at once, as bits of words.
package impact

import (
	"encoding/binary"
	"runtime"
	"slices"
	"sync"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

// Start is where a route comes down upon the nodes of a change set.
type Start struct {
	Node int // the topmost node the route reaches
	// Above tells whether the folder above Node is on the route too; its
	// descriptor is change.Set.Over, or that of the node's parent.
	Above bool
}

// Route is a way to items, as it is before and after.
type Route struct {
	Name           string
	Local          bool
	Before, After  *verdict.Share // both nil for a local route
	Traits         *verdict.Traits
	Administrators []account.ID
	People         *Population
	// Then is the same users after memberships changed, and Moved those whose
	// tokens are others then. Then is nil where no membership changes.
	Then   *Population
	Moved  Bits
	Starts []Start
}

// Shift is one way in which access changes: some users, from one set of
// rights to another, on some items by one route.
type Shift struct {
	Route         int
	Before, After right.Set
	Users         Bits
	Items         int64 // on which at least one of the users has this shift
	Nodes         []int // where it begins: nodes whose parent doesn't have it
}

// Gain, Loss and neither: what kind of shift it is.
func (s *Shift) Gain() bool { return s.After.Has(s.Before) }

// Loss tells whether the shift only takes away.
func (s *Shift) Loss() bool { return s.Before.Has(s.After) }

type shiftKey struct {
	route         int
	before, after right.Set
}

// Of works out the shifts of a change set whose Work is done. Synchronize is
// left out of account. Shifts come in no order.
func Of(set *change.Set, routes []Route) []*Shift {
	w := &worker{set: set, found: map[shiftKey]*Shift{}}
	for i := range routes {
		w.route(i, &routes[i])
	}
	out := make([]*Shift, 0, len(w.found))
	for _, s := range w.found {
		out = append(out, s)
	}
	return out
}

type worker struct {
	set   *change.Set
	found map[shiftKey]*Shift

	// of the route at hand
	index  int
	r      *Route
	people [2]*Population // before and after
	admins [2]Bits
	lists  [2]map[*rule.Descriptor]Bits // who is granted delete-child, by descriptor
	pool   map[string]int32             // equal sets of users have one number
	sets   []Bits
	// what the share lets through, before and after; nil on a local route
	through [2][]atom
}

// The two sides of a change.
const (
	was = iota
	now
)

// situation is all that the answer for a node depends on, by one route. The
// numbers are those of pooled sets: who has delete-child on the folder above,
// and whom the folders above let through; -1 where that is not asked.
type situation struct {
	before, after         *rule.Descriptor
	childBefore, childNow int32
	gateBefore, gateNow   int32
}

// class is the users that go from one set of rights to another.
type class struct {
	before, after right.Set
	users         []uint64 // beside the words that are looked at
}

type outcome struct {
	words   []int
	classes []class
}

func (w *worker) route(index int, r *Route) {
	w.index, w.r = index, r
	w.pool, w.sets = map[string]int32{}, nil
	w.people = [2]*Population{r.People, r.People}
	if r.Then != nil {
		w.people[now] = r.Then
	}
	for side := range w.people {
		w.lists[side] = map[*rule.Descriptor]Bits{}
		w.admins[side] = nil
		if r.Traits.AdministratorsPass {
			w.admins[side] = r.People.empty()
			for _, id := range r.Administrators {
				w.admins[side].or(w.people[side].Holders(id, r.Local))
			}
		}
	}
	nodes := w.set.Nodes
	starts := map[int]Start{}
	for _, s := range r.Starts {
		starts[s.Node] = s
	}
	on := make([]bool, len(nodes))
	shareMoved := r.Before != nil && !sameShare(r.Before, r.After)
	type gates struct{ before, now int32 }
	gate := make([]gates, len(nodes))
	known := map[situation]*outcome{}
	var asked []situation
	shows := make([]*outcome, len(nodes))
	children := map[[2]*rule.Descriptor][2]int32{}
	for i := range nodes {
		n := &nodes[i]
		s, begins := starts[i]
		on[i] = begins || n.Parent >= 0 && on[n.Parent]
		sit := situation{n.Before, n.After, -1, -1, -1, -1}
		var up, upNow *rule.Descriptor
		if n.Parent >= 0 {
			up, upNow = nodes[n.Parent].Before, nodes[n.Parent].After
		} else if d := w.set.Over(i); d != nil {
			up, upNow = d, d
		}
		if r.Traits.AsksFoldersAbove {
			g := gates{w.number(r.People.all), w.number(r.People.all)}
			if n.Parent >= 0 {
				g = gate[n.Parent]
				g = gates{w.number(and(w.sets[g.before], w.who(up, right.Execute, was))), w.number(and(w.sets[g.now], w.who(upNow, right.Execute, now)))}
			} else {
				for _, d := range w.set.Above[i] {
					g.before = w.number(and(w.sets[g.before], w.who(d, right.Execute, was)))
					g.now = w.number(and(w.sets[g.now], w.who(d, right.Execute, now)))
				}
			}
			gate[i] = g
			sit.gateBefore, sit.gateNow = g.before, g.now
		}
		if !on[i] {
			continue
		}
		if up != nil && (!begins || s.Above) {
			k := [2]*rule.Descriptor{up, upNow}
			c, ok := children[k]
			if !ok {
				c = [2]int32{w.number(w.who(up, right.DeleteChild, was)), w.number(w.who(upNow, right.DeleteChild, now))}
				children[k] = c
			}
			sit.childBefore, sit.childNow = c[0], c[1]
		}
		if sit.before == sit.after && sit.childBefore == sit.childNow && sit.gateBefore == sit.gateNow && !shareMoved && r.Moved == nil {
			continue
		}
		out, ok := known[sit]
		if !ok {
			out = &outcome{}
			known[sit] = out
			asked = append(asked, sit)
		}
		shows[i] = out
	}
	w.decideAll(asked, known)
	for i, out := range shows {
		if out != nil {
			w.note(i, &nodes[i], out, shows)
		}
	}
}

// decideAll fills in the outcomes of all situations, on all processors.
func (w *worker) decideAll(asked []situation, known map[situation]*outcome) {
	w.through[was], w.through[now] = w.shareAtoms(w.r.Before, was), w.shareAtoms(w.r.After, now)
	// Who holds what is looked up beforehand, so that from here on it is only read.
	for _, s := range asked {
		for _, d := range []*rule.Descriptor{s.before, s.after} {
			for side := range w.people {
				w.owners(d, side)
				for i := range d.Rules.Entries {
					w.holders(&d.Rules.Entries[i], d, side)
				}
			}
		}
	}
	n := min(runtime.GOMAXPROCS(0), 1+len(asked)/64)
	var wg sync.WaitGroup
	for part := range n {
		wg.Go(func() {
			var sc scratch
			for i := part; i < len(asked); i += n {
				w.decide(asked[i], known[asked[i]], &sc)
			}
		})
	}
	wg.Wait()
}

// scratch is memory that decisions use again and again.
type scratch struct{ before, after, open, holds []uint64 }

func room(b *[]uint64, n int) []uint64 {
	if cap(*b) < n {
		*b = make([]uint64, n+n/2)
	}
	s := (*b)[:n]
	clear(s)
	return s
}

// sameShare tells whether a share limits the same before and after.
func sameShare(a, b *verdict.Share) bool {
	return a.ReadOnly == b.ReadOnly && (a.Rules == b.Rules || a.Rules != nil && b.Rules != nil && a.Rules.Equal(b.Rules))
}

// note adds a node's outcome to the shifts found.
func (w *worker) note(i int, n *change.Node, out *outcome, shows []*outcome) {
	for c := range out.classes {
		cl := &out.classes[c]
		k := shiftKey{w.index, cl.before, cl.after}
		s := w.found[k]
		if s == nil {
			s = &Shift{Route: w.index, Before: cl.before, After: cl.after, Users: w.r.People.empty()}
			w.found[k] = s
		}
		for j, word := range out.words {
			s.Users[word] |= cl.users[j]
		}
		s.Items += n.Items
		if p := n.Parent; p < 0 || shows[p] == nil || !shows[p].has(k) {
			s.Nodes = append(s.Nodes, i)
		}
	}
}

func (o *outcome) has(k shiftKey) bool {
	return slices.ContainsFunc(o.classes, func(c class) bool { return c.before == k.before && c.after == k.after })
}

// number pools a set of users.
func (w *worker) number(b Bits) int32 {
	key := make([]byte, 0, 8*len(b))
	for _, word := range b {
		key = binary.LittleEndian.AppendUint64(key, word)
	}
	n, ok := w.pool[string(key)]
	if !ok {
		n = int32(len(w.sets))
		w.sets = append(w.sets, b)
		w.pool[string(key)] = n
	}
	return n
}

func and(a, b Bits) Bits {
	out := make(Bits, len(a))
	for k := range out {
		out[k] = a[k] & b.word(k)
	}
	return out
}

// who gives the users granted one right by a descriptor alone, the owner's
// built-in rights included (delete-child and execute are none of those).
func (w *worker) who(d *rule.Descriptor, one right.Set, side int) Bits {
	// One right a route and descriptor is asked for at most twice; execute is
	// rare enough not to be remembered.
	if b, ok := w.lists[side][d]; ok && one == right.DeleteChild {
		return b
	}
	out := w.r.People.empty()
	if d.Rules.Absent {
		copy(out, w.r.People.all)
	} else {
		undecided := slices.Clone(w.r.People.all)
		for i := range d.Rules.Entries {
			e := &d.Rules.Entries[i]
			if !e.Counts() || e.Rights.Map()&one == 0 {
				continue
			}
			h := w.holders(e, d, side)
			for k, word := range h {
				if hit := word & undecided[k]; hit != 0 {
					undecided[k] &^= hit
					if !e.Kind.Refuses() {
						out[k] |= hit
					}
				}
			}
		}
	}
	if one == right.DeleteChild {
		w.lists[side][d] = out
	}
	return out
}

func (w *worker) holders(e *rule.Entry, d *rule.Descriptor, side int) Bits {
	if e.Who == account.OwnerRights {
		return w.owners(d, side)
	}
	return w.people[side].Holders(e.Who, w.r.Local)
}

func (w *worker) owners(d *rule.Descriptor, side int) Bits {
	if d.Owner.IsZero() {
		return nil
	}
	return w.people[side].Holders(d.Owner, w.r.Local)
}

// decide finds the classes of one situation.
func (w *worker) decide(s situation, out *outcome, sc *scratch) {
	touched := w.touched(s)
	for k, word := range touched {
		if word != 0 {
			out.words = append(out.words, k)
		}
	}
	if len(out.words) == 0 {
		return
	}
	before := w.rights(s.before, was, s.childBefore, s.gateBefore, out.words, sc, &sc.before)
	after := w.rights(s.after, now, s.childNow, s.gateNow, out.words, sc, &sc.after)
	start := class{users: make([]uint64, len(out.words))}
	for j, k := range out.words {
		start.users[j] = touched[k]
	}
	classes := []class{start}
	for _, a := range before {
		classes = divide(classes, a, func(c *class) *right.Set { return &c.before })
	}
	for _, a := range after {
		classes = divide(classes, a, func(c *class) *right.Set { return &c.after })
	}
	// Classes that came to the same are one.
	for _, c := range classes {
		c.before &= right.Access
		c.after &= right.Access
		if c.before == c.after {
			continue
		}
		i := slices.IndexFunc(out.classes, func(o class) bool { return o.before == c.before && o.after == c.after })
		if i < 0 {
			out.classes = append(out.classes, c)
			continue
		}
		for j := range c.users {
			out.classes[i].users[j] |= c.users[j]
		}
	}
}

// divide parts every class into those granted an atom and the others.
func divide(classes []class, a atom, side func(*class) *right.Set) []class {
	var out []class
	for _, c := range classes {
		var in, rest uint64
		for j, word := range c.users {
			in |= word & a.users[j]
			rest |= word &^ a.users[j]
		}
		if in == 0 {
			out = append(out, c)
			continue
		}
		if rest != 0 {
			other := c
			other.users = make([]uint64, len(c.users))
			yes := make([]uint64, len(c.users))
			for j, word := range c.users {
				other.users[j] = word &^ a.users[j]
				yes[j] = word & a.users[j]
			}
			out = append(out, other)
			c.users = yes
		}
		*side(&c) |= a.rights
		out = append(out, c)
	}
	return out
}

// touched gives the users whose access a situation can change at all.
func (w *worker) touched(s situation) Bits {
	out := w.r.People.empty()
	out.or(w.r.Moved)
	if s.before != s.after && !w.differing(s.before, s.after, out) {
		return w.r.People.all
	}
	if w.r.Before != nil && !sameShare(w.r.Before, w.r.After) {
		if w.r.Before.Rules == nil || w.r.After.Rules == nil || w.r.Before.ReadOnly != w.r.After.ReadOnly ||
			!w.differing(w.r.Before.Rules, w.r.After.Rules, out) {
			return w.r.People.all
		}
	}
	if s.childBefore != s.childNow {
		out.orDifference(w.sets[s.childBefore], w.sets[s.childNow])
	}
	if s.gateBefore != s.gateNow {
		out.orDifference(w.sets[s.gateBefore], w.sets[s.gateNow])
	}
	return out
}

// differing adds the users named by what differs between two lists; false
// where more differs than some entries coming and going.
func (w *worker) differing(a, b *rule.Descriptor, out Bits) bool {
	if a.Rules.Absent != b.Rules.Absent {
		return false
	}
	if a.Owner != b.Owner {
		out.or(w.owners(a, was))
		out.or(w.owners(b, now))
	}
	x, y := a.Rules.Entries, b.Rules.Entries
	i := 0
	var comes []*rule.Entry
	// What b has beyond a, with a as far as possible in order.
	for j := range y {
		if i < len(x) && alike(x[i], y[j]) {
			i++
			continue
		}
		if k := indexFrom(x, i, y[j]); k >= 0 {
			for ; i < k; i++ {
				w.add(out, &x[i], a)
			}
			i = k + 1
			continue
		}
		comes = append(comes, &y[j])
	}
	for ; i < len(x); i++ {
		w.add(out, &x[i], a)
	}
	for _, e := range comes {
		w.add(out, e, b)
	}
	return true
}

// Whose token itself changes is in Moved, so the side doesn't matter here.
func (w *worker) add(out Bits, e *rule.Entry, d *rule.Descriptor) {
	if e.Who == account.OwnerRights { // it also decides whether owning brings anything
		out.or(w.owners(d, was))
	}
	if e.Counts() {
		out.or(w.holders(e, d, was))
	}
}

// alike tells whether two entries decide alike on the item they stand on.
func alike(a, b rule.Entry) bool {
	a.Flags &= rule.InheritOnly
	b.Flags &= rule.InheritOnly
	return a == b
}

func indexFrom(es []rule.Entry, from int, e rule.Entry) int {
	for k := from; k < len(es); k++ {
		if alike(es[k], e) {
			return k
		}
	}
	return -1
}
