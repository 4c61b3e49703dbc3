package findings

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
)

// outOfSight: what somebody may open and can't come to by browsing, by the
// folder that doesn't show them what is in it.
func (x *finding) outOfSight() error {
	<-x.looked
	for i, o := range x.sights {
		o.tell()
		x.sights[i] = nil
	}
	return x.k.T.Context().Err()
}

// lookOut begins to look at what everybody sees by each share, and at what opens further,
// beside what else is looked for; done waits for it.
func (x *finding) lookOut() (done func()) {
	seen := x.wanted("out-of-sight") || x.wanted("administrators-alone")
	if x.wanted("opens-further") {
		x.far = &reach{more: map[wider]*letIn{}, known: map[int]bool{}}
	}
	var walks []func()
	for _, w := range x.entrances() {
		var looks []func(i int, s crowd.Situation)
		end := func() {}
		var o *sight
		if seen && w.Share != nil {
			o = x.sight(w)
			x.sights = append(x.sights, o)
			looks, end = append(looks, o.look), o.end
		}
		if x.far != nil {
			looks = append(looks, x.reading(w, o).look)
		}
		if len(looks) == 0 {
			continue
		}
		c := x.crowd(w)
		walks = append(walks, func() {
			x.g.Opening(w, c.pop, c.d, func(i int, s crowd.Situation) bool {
				for _, look := range looks {
					look(i, s)
				}
				return x.k.T.Context().Err() == nil
			})
			end()
		})
	}
	looked := make(chan struct{})
	x.looked, x.opened = looked, make([]opened, len(x.g.F.Nodes))
	go func() {
		defer close(looked)
		for i, walk := range walks {
			walk()
			walks[i] = nil // and all it held
		}
	}()
	return func() { <-looked }
}

func (x *finding) sight(w *ask.Route) *sight {
	o := &sight{x: x, w: w, c: x.crowd(w), known: map[*rule.List]*crowd.Some{}, met: map[[2]*crowd.Some]shown{}, sums: map[int]*unseen{}, toks: tokens{dir: x.dir}}
	o.at.Left = o.left
	o.all = crowd.SomeOf(o.c.d.People.All().Minus(x.left(o.c))) // who can't sign on doesn't browse
	o.pass = crowd.SomeOf(o.c.d.Passing())
	return o
}

// end is told when all was looked at.
func (o *sight) end() {
	o.at.Leave(0)
	o.known, o.met = nil, nil
}

// opened is what is known of who opens a node by the shares that come to it.
type opened byte

const (
	unseenYet opened = iota // no share comes to it
	byNobody                // at most those who pass all rules
	bySomebody
)

// administrators: what nobody opens but those who pass all rules, in folders that others open.
func (x *finding) administrators() error {
	<-x.looked
	var alone grouped[*rule.Descriptor]
	for i := range x.g.F.Nodes {
		if p := x.g.F.Nodes[i].Parent; x.opened[i] == byNobody && p >= 0 && x.opened[p] == bySomebody {
			alone.add(x.k.AsEntries(x.g.F.Nodes[i].Before), i)
		}
	}
	for _, d := range alone.order {
		f := x.place(alone.nodes[d])
		f.Items = x.under(alone.nodes[d])
		f.Commands = [][]string{plainly([]string{"tarnwold", "grant", "WHO", "LEVEL", f.Where})}
		x.add(f)
	}
	return x.k.T.Context().Err()
}

// left is told of a folder when all below it was looked at. Where no other has its rules,
// how many there are and who is named is all that is asked of those it hides something from.
func (o *sight) left(node int) {
	s := o.sums[node]
	if s == nil || len(o.x.by.nodes[o.rules(node)]) > 1 {
		return
	}
	s.who, s.n, s.users = o.named(s), s.users.Len(), nil
}

func (o *sight) rules(node int) *rule.Descriptor { return o.x.k.AsEntries(o.x.g.F.Nodes[node].Before) }

// sight is what everybody sees by one route, going down.
type sight struct {
	x     *finding
	w     *ask.Route
	c     *wayCrowd
	all   *crowd.Some
	pass  *crowd.Some                // who passes all rules
	known map[*rule.List]*crowd.Some // who can list, or read, by rules
	met   map[[2]*crowd.Some]shown
	at    ask.Down[*seen]
	sums  map[int]*unseen
	held  int // how many users known and met have
	order []int
	toks  tokens
}

// shown is who browses a folder, by whether it shows them what is in it.
type shown struct {
	stay *crowd.Some
	left int // how many it doesn't show it
}

// seen is who comes to a node by browsing, who can list or read it, and who is hidden
// from by folders above.
type seen struct {
	browse, lists *crowd.Some
	hidden        *hidden
}

// hidden is those who come to a folder by browsing and aren't shown what is in it: of
// browse those who aren't in lists.
type hidden struct {
	by            int // the folder that hides it
	browse, lists *crowd.Some
	up            *hidden
}

// unseen is what one folder hides from people who may open it.
type unseen struct {
	items int64
	users *crowd.Some // nil where n and who say enough
	n     int
	who   account.ID
	node  int // the first it hides
}

// mostHeld is how many users are remembered of who can read by rules, and who browses.
const mostHeld = 1 << 21

// hold makes room to remember some more.
func (o *sight) hold(s *crowd.Some) {
	if o.held += s.Len() + 8; o.held > mostHeld {
		clear(o.known)
		clear(o.met)
		o.held = 0
	}
}

// lists gives who can list or read a node.
func (o *sight) lists(s crowd.Situation) *crowd.Some {
	if s.Gate != nil {
		return o.c.d.SomeHolding(s, right.ReadData)
	}
	b, ok := o.known[s.Item]
	if !ok {
		b = o.c.d.SomeHolding(s, right.ReadData)
		o.hold(b)
		o.known[s.Item] = b
	}
	return b
}

// look looks at a node, after the folder it is in.
func (o *sight) look(i int, s crowd.Situation) {
	nodes := o.x.g.F.Nodes
	st := &seen{browse: o.all, lists: o.lists(s)}
	if st.lists.Within(o.pass) {
		o.x.opened[i] = max(o.x.opened[i], byNobody)
	} else {
		o.x.opened[i] = bySomebody
	}
	if _, begins := o.w.Begins[i]; !begins {
		up := o.at.Of(nodes[i].Parent)
		key := [2]*crowd.Some{up.browse, up.lists}
		p, ok := o.met[key]
		if !ok {
			stay := up.browse.And(up.lists)
			p = shown{stay, up.browse.Len() - stay.Len()}
			o.hold(stay)
			o.met[key] = p
		}
		st.browse, st.hidden = p.stay, up.hidden
		if p.left > 0 {
			st.hidden = &hidden{nodes[i].Parent, up.browse, up.lists, up.hidden}
		}
	}
	if nodes[i].Folder {
		o.at.Put(i, st)
	}
	for h := st.hidden; h != nil; h = h.up {
		more := st.lists.And(h.browse).Minus(h.lists)
		if more.Len() == 0 {
			continue
		}
		s := o.sums[h.by]
		if s == nil {
			s = &unseen{node: i, users: &crowd.Some{}}
			o.sums[h.by] = s
			o.order = append(o.order, h.by)
		}
		s.items += nodes[i].Items
		s.users = s.users.Plus(more)
	}
}

// tell tells of what is hidden, by the rules of the folders that hide it.
func (o *sight) tell() {
	x, nodes := o.x, o.x.g.F.Nodes
	var by grouped[*rule.Descriptor]
	slices.Sort(o.order)
	for _, i := range o.order {
		by.add(x.k.AsEntries(nodes[i].Before), i)
	}
	for _, d := range by.order {
		f, first := Finding{}, by.nodes[d][0]
		hid := o.sums[first]
		if hid.users != nil { // others have these rules
			hid.who = o.named(hid)
		}
		for _, i := range by.nodes[d] {
			f.Items += o.sums[i].items
			if i != first {
				hid.users = hid.users.Plus(o.sums[i].users)
			}
		}
		if f.Users = hid.n; hid.users != nil {
			f.Users = hid.users.Len()
		}
		for _, item := range x.g.F.Some(x.k.T, first, 1) {
			f.Where = x.g.Named(o.w, item)
		}
		f.More = x.items(by.nodes[d]) - 1
		for _, item := range x.g.F.Some(x.k.T, hid.node, 1) {
			f.What = "such as " + x.g.Named(o.w, item)
		}
		if !hid.who.IsZero() {
			f.Who = x.k.T.Name(hid.who)
			f.Commands = [][]string{plainly([]string{"tarnwold", "grant", f.Who, "list", f.Where, "--scope", "here"})}
		}
		x.add(f)
	}
}

// named gives who is named by what lets somebody open what is hidden: they would have
// to see the way.
func (o *sight) named(hid *unseen) (who account.ID) {
	n := o.x.k.AsEntries(o.x.g.F.Nodes[hid.node].Before)
	if n == nil {
		return who
	}
	for u := range hid.users.All() {
		tok := o.toks.of(o.c.d.People.Users[u].ID)
		for _, e := range n.Rules.Entries {
			if e.Kind == rule.Allow && e.Rights.Map()&right.ReadData != 0 && tok.Has(e.Who) {
				return e.Who
			}
		}
	}
	return who
}
