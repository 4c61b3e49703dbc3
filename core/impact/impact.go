// Package impact tells who gains and who loses what by a change, over every
// user, every item and every route at once.
//
// It gives what deciding each user on each item before and after would give
// (package verdict), at a fraction of the cost: nodes that share their rules
// are decided once, and all users at once (package crowd).
package impact

import (
	"context"
	"encoding/binary"
	"runtime"
	"slices"
	"sync"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

// The two sides of a change.
const (
	Before = iota
	After
)

// Start is where a route comes down upon the nodes of a change set, on each side.
type Start struct {
	Node int // the topmost node the route reaches
	// On tells whether the route reaches it at all.
	On [2]bool
	// Above tells whether the folder above Node is on the route too: its
	// rules are change.Set.Over.
	Above [2]bool
	// Cut: of the folders above Node only the Near nearest are asked for execute.
	Cut  [2]bool
	Near [2]int
}

// Through makes a start that is the same on both sides.
func Through(node int, above bool) Start {
	return Start{Node: node, On: [2]bool{true, true}, Above: [2]bool{above, above}}
}

// Route is a way to items, as it is before and after.
type Route struct {
	Name  string
	Local bool
	// Ways is the route on each side; nil: it isn't there then.
	Ways [2]*crowd.Route
	// Moved are the users whose tokens differ between the sides' populations,
	// or who come onto or off the server's list of administrators.
	Moved  crowd.Bits
	Starts []Start
}

// Users lists the users the route's populations have places for.
func (r *Route) Users() []account.Account {
	for _, w := range r.Ways {
		if w != nil {
			return w.People.Users
		}
	}
	return nil
}

// Shift is one way in which access changes: some users, from one set of
// rights to another, on some items by one route.
type Shift struct {
	Route         int
	Before, After right.Set
	Users         crowd.Bits
	Items         int64 // on which at least one of the users has this shift
	Nodes         []int // where it begins: nodes whose parent doesn't have it
}

// Gain tells whether the shift only gives.
func (s *Shift) Gain() bool { return s.After.Has(s.Before) }

// Loss tells whether the shift only takes away.
func (s *Shift) Loss() bool { return s.Before.Has(s.After) }

type shiftKey struct {
	route         int
	before, after right.Set
}

// Of works out the shifts of a change set whose Work is done. Synchronize is
// left out of account. Shifts come in no order. It stops with the context's
// error when that is done.
func Of(ctx context.Context, set *change.Set, routes []Route) ([]*Shift, error) {
	shifts, _, err := OfNodes(ctx, set, routes)
	return shifts, err
}

// OfNodes is Of, and tells of each node whether anybody's access to it changes.
func OfNodes(ctx context.Context, set *change.Set, routes []Route) ([]*Shift, []bool, error) {
	n := len(set.Nodes)
	w := &worker{ctx: ctx, set: set, found: map[shiftKey]*Shift{}, hit: make([]bool, n), on: make([][2]bool, n), gates: make([][2]int32, n), shows: make([]*outcome, n)}
	w.trees, w.top = set.Trees()
	for i := range routes {
		w.route(i, &routes[i])
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
	}
	out := make([]*Shift, 0, len(w.found))
	for _, s := range w.found {
		out = append(out, s)
	}
	return out, w.hit, nil
}

type worker struct {
	ctx   context.Context
	set   *change.Set
	found map[shiftKey]*Shift
	hit   []bool
	trees map[int][]int // by their topmost nodes
	top   []int

	// by node, as the route at hand has it; cleared after each
	on    [][2]bool
	gates [][2]int32
	shows []*outcome

	// of the route at hand
	index   int
	r       *Route
	sides   [2]*side
	pool    map[string]int32 // equal sets of users have one number
	sets    []crowd.Bits
	readers map[rule.Reading]*rule.Reader
	// shareMoved are the users a change of the share or the traits can touch;
	// nil: nobody.
	shareMoved crowd.Bits
}

// side is the route at hand before or after.
type side struct {
	*crowd.Decider
	read, above *rule.Reader // of items, and of folders above that are asked for execute
	one         map[oneKey]crowd.Bits
	out         map[outKey]crowd.Bits
}

type oneKey struct {
	list *rule.List
	one  right.Set
}

type outKey struct {
	folder *rule.List
	owner  account.ID
}

// situation is all that the answer for a node depends on, by one route. The
// numbers are those of pooled sets; -1 where that is not asked. A nil list
// means the item isn't there, or not by this route.
type situation struct {
	lists [2]*rule.List
	child [2]int32
	gate  [2]int32
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
	w.readers = map[rule.Reading]*rule.Reader{}
	for i, way := range r.Ways {
		w.sides[i] = nil
		if way == nil {
			continue
		}
		if i == After && r.Ways[Before] == way {
			w.sides[After] = w.sides[Before]
			continue
		}
		w.sides[i] = &side{crowd.NewDecider(*way), w.reader(way.Traits.Reading()), w.reader(way.Traits.AboveReading()), map[oneKey]crowd.Bits{}, map[outKey]crowd.Bits{}}
	}
	if w.sides[Before] == nil && w.sides[After] == nil {
		return
	}
	w.shareMoved = w.moves()
	nodes := w.set.Nodes
	starts := map[int]Start{}
	for _, s := range r.Starts {
		starts[s.Node] = s
	}
	// A route is of the trees that it comes down in, and of nothing else.
	var mine []int
	seen := map[int]bool{}
	for _, s := range r.Starts {
		if top := w.top[s.Node]; !seen[top] {
			seen[top] = true
			mine = append(mine, w.trees[top]...)
		}
	}
	slices.Sort(mine)
	on := w.on
	var gates [][2]int32
	asksAbove := [2]bool{}
	for i, s := range w.sides {
		asksAbove[i] = s != nil && s.Traits.AsksFoldersAbove
	}
	if asksAbove != [2]bool{} {
		gates = w.gates
	}
	known := map[situation]*outcome{}
	var asked []situation
	shows := w.shows
	defer func() {
		for _, i := range mine {
			on[i], w.gates[i], shows[i] = [2]bool{}, [2]int32{}, nil
		}
	}()
	for k, i := range mine {
		if k&1023 == 0 && w.ctx.Err() != nil {
			return
		}
		n := &nodes[i]
		start, begins := starts[i]
		sit := situation{child: [2]int32{-1, -1}, gate: [2]int32{-1, -1}}
		for x, s := range w.sides {
			if s == nil {
				continue
			}
			on[i][x] = begins && start.On[x] || n.Parent >= 0 && on[n.Parent][x]
			var up rule.Any
			if a := w.set.Over(i, x == After); a != nil {
				up = a
			}
			if asksAbove[x] {
				gates[i][x] = w.gate(i, x, up, gates, start, begins)
				sit.gate[x] = gates[i][x]
			}
			own := n.On(x == After)
			if !on[i][x] || own == nil {
				continue
			}
			sit.lists[x] = s.read.Of(own)
			fromAbove := up != nil && (n.Parent >= 0 && on[n.Parent][x] || begins && start.Above[x])
			if begins && !start.Above[x] && s.Share != nil && s.Traits.ShareFolderAboveItself {
				fromAbove, up = true, own
			}
			if fromAbove {
				sit.child[x] = w.number(s.takesOut(s.read.Of(up), own.Owned()))
			}
		}
		if sit.lists == [2]*rule.List{} {
			continue
		}
		if sit.lists[Before] == sit.lists[After] && sit.child[Before] == sit.child[After] && sit.gate[Before] == sit.gate[After] &&
			w.shareMoved == nil && r.Moved == nil {
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
	for _, i := range mine {
		if out := shows[i]; out != nil {
			w.note(i, &nodes[i], out, shows)
		}
	}
}

// reader gives the one that reads so; both sides share it.
func (w *worker) reader(how rule.Reading) *rule.Reader {
	if w.readers[how] == nil {
		w.readers[how] = rule.NewReader(how)
	}
	return w.readers[how]
}

// gate numbers the users whom every folder above a node lets through.
func (w *worker) gate(i, x int, up rule.Any, gates [][2]int32, start Start, begins bool) int32 {
	s := w.sides[x]
	n := &w.set.Nodes[i]
	cut := begins && start.Cut[x]
	if own := n.On(x == After); begins && own != nil && start.On[x] && !start.Above[x] && s.Traits.AsksOwnFolder() {
		return w.number(w.sets[w.gate(i, x, up, gates, start, false)].And(s.granted(s.above.Of(own), right.Execute)))
	}
	if n.Parent >= 0 && !(cut && start.Near[x] == 0) {
		if up == nil { // the folder isn't there on this side
			return gates[n.Parent][x]
		}
		return w.number(w.sets[gates[n.Parent][x]].And(s.granted(s.above.Of(up), right.Execute)))
	}
	open := s.People.All()
	var chain []rule.Any
	if n.Parent < 0 {
		chain = w.set.Chain(i, x == After)
	}
	if cut {
		chain = chain[:min(start.Near[x], len(chain))]
	}
	for _, a := range chain {
		open = open.And(s.granted(s.above.Of(a), right.Execute))
	}
	return w.number(open)
}

// granted remembers who is granted one right by a list.
func (s *side) granted(l *rule.List, one right.Set) crowd.Bits {
	k := oneKey{l, one}
	b, ok := s.one[k]
	if !ok {
		b = s.One(l, one)
		s.one[k] = b
	}
	return b
}

// takesOut remembers who may take what somebody owns out of a folder.
func (s *side) takesOut(folder *rule.List, owner account.ID) crowd.Bits {
	if !folder.OwnersOnly {
		owner = account.ID{}
	}
	k := outKey{folder, owner}
	b, ok := s.out[k]
	if !ok {
		b = s.TakesOut(folder, owner)
		s.out[k] = b
	}
	return b
}

// moves gives the users whom a difference between the two sides' shares and
// traits can touch; nil where there is none.
func (w *worker) moves() crowd.Bits {
	b, a := w.sides[Before], w.sides[After]
	if b == a {
		return nil
	}
	if b == nil || a == nil || *b.Traits != *a.Traits {
		return w.everybody()
	}
	if b.Share.Same(a.Share) {
		return nil
	}
	if b.Share.ReadOnly != a.Share.ReadOnly || b.Share.Rules == nil || a.Share.Rules == nil {
		return w.everybody()
	}
	out := b.People.Empty()
	w.differing(b.Share.Rules, a.Share.Rules, out)
	return out
}

func (w *worker) everybody() crowd.Bits {
	var out crowd.Bits
	for _, s := range w.sides {
		if s == nil {
			continue
		}
		if out == nil {
			out = s.People.Empty()
		}
		out.Or(s.People.All())
	}
	return out
}

// decideAll fills in the outcomes of all situations, on all processors.
func (w *worker) decideAll(asked []situation, known map[situation]*outcome) {
	n := min(runtime.GOMAXPROCS(0), 1+len(asked)/64)
	var wg sync.WaitGroup
	for part := range n {
		wg.Go(func() {
			var sc crowd.Scratch
			for i := part; i < len(asked); i += n {
				if i&255 == part&255 && w.ctx.Err() != nil {
					return
				}
				w.decide(asked[i], known[asked[i]], &sc)
			}
		})
	}
	wg.Wait()
}

// note adds a node's outcome to the shifts found.
func (w *worker) note(i int, n *change.Node, out *outcome, shows []*outcome) {
	for c := range out.classes {
		cl := &out.classes[c]
		k := shiftKey{w.index, cl.before, cl.after}
		s := w.found[k]
		if s == nil {
			s = &Shift{Route: w.index, Before: cl.before, After: cl.after, Users: make(crowd.Bits, (len(w.r.Users())+63)/64)}
			w.found[k] = s
		}
		for j, word := range out.words {
			s.Users[word] |= cl.users[j]
		}
		s.Items += n.Items
		w.hit[i] = true
		if p := n.Parent; p < 0 || shows[p] == nil || !shows[p].has(k) {
			s.Nodes = append(s.Nodes, i)
		}
	}
}

func (o *outcome) has(k shiftKey) bool {
	return slices.ContainsFunc(o.classes, func(c class) bool { return c.before == k.before && c.after == k.after })
}

// number pools a set of users.
func (w *worker) number(b crowd.Bits) int32 {
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

// pooled gives a pooled set by its number; nil for none.
func (w *worker) pooled(n int32) crowd.Bits {
	if n < 0 {
		return nil
	}
	return w.sets[n]
}

// decide finds the classes of one situation.
func (w *worker) decide(s situation, out *outcome, sc *crowd.Scratch) {
	touched := w.touched(s)
	for k, word := range touched {
		if word != 0 {
			out.words = append(out.words, k)
		}
	}
	if len(out.words) == 0 {
		return
	}
	start := class{users: make([]uint64, len(out.words))}
	for j, k := range out.words {
		start.users[j] = touched[k]
	}
	classes := []class{start}
	for x, l := range s.lists {
		if l == nil {
			continue
		}
		atoms := w.sides[x].Rights(crowd.Situation{Item: l, Child: w.pooled(s.child[x]), Gate: w.pooled(s.gate[x])}, out.words, sc)
		for _, a := range atoms {
			classes = divide(classes, a, func(c *class) *right.Set {
				if x == Before {
					return &c.before
				}
				return &c.after
			})
		}
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
func divide(classes []class, a crowd.Atom, side func(*class) *right.Set) []class {
	var out []class
	for _, c := range classes {
		var in, rest uint64
		for j, word := range c.users {
			in |= word & a.Users[j]
			rest |= word &^ a.Users[j]
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
				other.users[j] = word &^ a.Users[j]
				yes[j] = word & a.Users[j]
			}
			out = append(out, other)
			c.users = yes
		}
		*side(&c) |= a.Rights
		out = append(out, c)
	}
	return out
}

// touched gives the users whose access a situation can change at all.
func (w *worker) touched(s situation) crowd.Bits {
	if s.lists[Before] == nil || s.lists[After] == nil {
		return w.everybody()
	}
	out := w.sides[Before].People.Empty()
	out.Or(w.r.Moved)
	out.Or(w.shareMoved)
	if s.lists[Before].Never != s.lists[After].Never {
		return w.everybody()
	}
	if s.lists[Before] != s.lists[After] {
		w.differing(s.lists[Before], s.lists[After], out)
	}
	for _, n := range [][2]int32{s.child, s.gate} {
		if n[Before] != n[After] {
			out.OrDifference(w.pooled(n[Before]), w.pooled(n[After]))
		}
	}
	return out
}

// differing adds the users named by what differs between two lists.
func (w *worker) differing(a, b *rule.List, out crowd.Bits) {
	w.differingSteps(a.Steps, b.Steps, out)
	w.differingSteps(a.Beneath, b.Beneath, out)
}

func (w *worker) differingSteps(x, y []rule.Step, out crowd.Bits) {
	i := 0
	// What b has beyond a, with a as far as possible in order.
	for j := range y {
		if i < len(x) && x[i].Alike(y[j]) {
			i++
			continue
		}
		if k := indexFrom(x, i, y[j]); k >= 0 {
			for ; i < k; i++ {
				w.add(out, x[i])
			}
			i = k + 1
			continue
		}
		w.add(out, y[j])
	}
	for ; i < len(x); i++ {
		w.add(out, x[i])
	}
}

// Whose token itself changes is in Moved, so the side doesn't matter here.
func (w *worker) add(out crowd.Bits, s rule.Step) {
	out.Or(w.sides[Before].People.Holders(s.Who, w.r.Local))
}

func indexFrom(steps []rule.Step, from int, s rule.Step) int {
	for k := from; k < len(steps); k++ {
		if steps[k].Alike(s) {
			return k
		}
	}
	return -1
}

// Differs gives the users whose tokens may differ between the sides of a
// route: whoever holds one of the touched identifiers, and who comes onto or
// off the list of administrators; nil where nothing differs.
func Differs(before, after *crowd.Route, touched []account.ID) crowd.Bits {
	if before == nil || after == nil {
		return nil
	}
	same := before.People == after.People
	// Where files are opened as another that touches everyone, and so does
	// another list of who passes.
	if !same && (before.Self != nil || after.Self != nil) || !lists(before).Same(lists(after)) {
		out := before.People.Empty()
		out.Or(before.People.All())
		out.Or(after.People.All())
		return out
	}
	if same && slices.Equal(before.Administrators, after.Administrators) {
		return nil
	}
	out := before.People.Empty()
	if !same {
		out.OrDifference(before.People.All(), after.People.All())
		for _, id := range touched {
			out.Or(before.People.Holders(id, before.Local))
			out.Or(after.People.Holders(id, after.Local))
		}
	}
	if before.Traits.AdministratorsPass || after.Traits.AdministratorsPass {
		for _, pair := range [][2]*crowd.Route{{before, after}, {after, before}} {
			for _, id := range pair[0].Administrators {
				if !slices.Contains(pair[1].Administrators, id) {
					out.Or(pair[0].People.Holders(id, pair[0].Local))
				}
			}
		}
	}
	return out
}

func lists(w *crowd.Route) *verdict.Lists {
	if w.Share == nil {
		return nil
	}
	return w.Share.Lists
}
