package findings

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
)

// further: places that more people read than what is in the folder above. A folder that
// nobody reads files in but those who pass all rules is a way to others, as is one where most
// folders open to others, and what opens below it is what it is for; what is somebody's own is
// open to them.
func (x *finding) further() error {
	<-x.looked
	r := x.far
	ways := x.leadingOn(r.known)
	for _, o := range r.wide.order {
		m := r.more[o]
		nodes := slices.DeleteFunc(r.wide.nodes[o], func(i int) bool { return x.g.F.Nodes[i].Folder && ways[x.g.F.Nodes[i].Parent] })
		if len(nodes) == 0 {
			continue
		}
		f := x.place(nodes)
		f.Items, f.Users = x.under(nodes), m.n
		if told := x.letsIn(&f, o.d, m.first[0], m.n, nodes); told {
			continue
		}
		names := x.k.T.Names(m.first)
		slices.Sort(names)
		if f.What != "" {
			f.What += ": "
		}
		f.What += "lets in " + strings.Join(names, ", ")
		if n := f.Users - len(names); n > 0 {
			f.What += fmt.Sprintf(" and %d more", n)
		}
		x.add(f)
	}
	x.far = nil
	return x.k.T.Err()
}

// wider is rules that let in more than those of the folder above.
type wider struct{ d, up *rule.Descriptor }

// letIn is whom they let in.
type letIn struct {
	users *crowd.Some // nil where nothing else has the rules, and n and first say enough
	by    *wayCrowd
	n     int
	first []account.ID
}

// reach gathers, by all routes, what opens further than the folder above.
type reach struct {
	wide  grouped[wider]
	more  map[wider]*letIn
	known map[int]bool // nodes it is told of
}

// look looks at a node, after the folder it is in. It asks nothing of the estate.
func (r *reading) look(i int, s crowd.Situation) {
	t, x := r.to, r.x
	n := &x.g.F.Nodes[i]
	up := -1
	var over crowd.Situation
	if _, begins := r.w.Begins[i]; !begins {
		up = n.Parent
		over = r.at.Of(up)
	}
	if n.Folder {
		r.at.Put(i, s)
	}
	d := x.k.AsEntries(n.Before)
	if up < 0 || t.known[i] || !opensItself(d) {
		return
	}
	above := r.files(up, over)
	if above.Within(r.pass) {
		return
	}
	here := r.here(i, s)
	if u, ok := r.c.d.People.Place(d.Owner); ok && here.Has(u) { // whose it is
		here = here.Minus(crowd.Only(u))
	}
	if here = here.Minus(above).Minus(r.pass); here.Len() == 0 {
		return
	}
	t.known[i] = true
	o := wider{d, x.k.AsEntries(x.g.F.Nodes[up].Before)}
	t.wide.add(o, i)
	m := t.more[o]
	if m != nil && m.by == r.c && m.users != nil {
		here = m.users.Plus(here)
	}
	m = &letIn{users: here, by: r.c, n: here.Len()}
	for u := range here.All() {
		if m.first = append(m.first, r.c.d.People.Users[u].ID); len(m.first) == mostTold {
			break
		}
	}
	if len(x.by.nodes[d]) == 1 {
		m.users = nil
	}
	t.more[o] = m
}

// leadingOn gives the folders of which most folders in them, and several, open further.
func (x *finding) leadingOn(further map[int]bool) map[int]bool {
	all, wide := map[int]int64{}, map[int]int64{}
	for i := range x.g.F.Nodes {
		if n := &x.g.F.Nodes[i]; n.Folder && n.Parent >= 0 {
			all[n.Parent] += n.Items
			if further[i] {
				wide[n.Parent] += n.Items
			}
		}
	}
	out := map[int]bool{}
	for up, n := range wide {
		out[up] = n >= fewHomes*x.g.F.Nodes[up].Items && 2*n > all[up]
	}
	return out
}

// mostTold is how many people are told by name.
const mostTold = 4

// letsIn tells which own entry lets somebody in, the first of so many, how it is taken away, and
// whether it is told of by itself: as open to everyone, or a stranger in a home.
func (x *finding) letsIn(f *Finding, d *rule.Descriptor, user account.ID, of int, nodes []int) (told bool) {
	tok := x.toks.of(user)
	for _, e := range d.Rules.Own() {
		open := e.Who == account.Everyone || e.Who == account.Authenticated
		if e.Kind == rule.Allow && e.Rights.Map()&right.ReadData != 0 && (open || tok.Has(e.Who)) {
			f.Who, f.What = x.k.T.Name(e.Who), x.write(d, e, nodes)
			f.Commands = [][]string{x.revoking(f.Where, f.Who, d, e, false)}
			return open || of == 1 && x.stranger(d, e, nodes)
		}
	}
	return false
}

// opensItself tells whether a descriptor lets others than its owner read by an entry of its own.
func opensItself(d *rule.Descriptor) bool {
	return slices.ContainsFunc(d.Rules.Entries, func(e rule.Entry) bool {
		return e.Own() && e.Kind == rule.Allow && e.Who != d.Owner && e.Rights.Map()&right.ReadData != 0
	})
}

// reading is who reads what is in folders, by one route.
type reading struct {
	x     *finding
	to    *reach
	seen  *sight // what is looked at beside; nil: nothing is
	w     *ask.Route
	c     *wayCrowd
	pass  *crowd.Some // who passes all rules, and who can't sign on
	at    ask.Down[crowd.Situation]
	known map[*rule.Descriptor]*crowd.Some // of folders' files
	held  int
}

func (x *finding) reading(w *ask.Route, seen *sight) *reading {
	c := x.crowd(w)
	r := &reading{x: x, to: x.far, seen: seen, w: w, c: c, known: map[*rule.Descriptor]*crowd.Some{}}
	r.pass = crowd.SomeOf(c.d.Passing()).Plus(crowd.SomeOf(x.left(c)))
	return r
}

// here gives who reads a file, or the files that a folder's rules are handed down to.
func (r *reading) here(i int, s crowd.Situation) *crowd.Some {
	if r.x.g.F.Nodes[i].Folder {
		return r.files(i, s)
	}
	if r.seen != nil { // which has asked already
		return r.seen.lists(s)
	}
	return r.c.d.SomeHolding(s, right.ReadData)
}

// files gives who reads a new file in a folder, whoever made it; on POSIX trees, where its
// mode hangs on a program, who lists the folder.
func (r *reading) files(i int, s crowd.Situation) *crowd.Some {
	d, ok := r.x.g.F.Nodes[i].Before.(*rule.Descriptor)
	if !ok {
		return r.c.d.SomeHolding(s, right.ReadData)
	}
	if got := r.known[d]; got != nil && s.Gate == nil {
		return got
	}
	file := rule.NewChild(d, false, account.ID{}, account.ID{}, nil)
	got := r.c.d.SomeHolding(crowd.Situation{Item: rule.Compile(file, r.w.Traits.Reading()), Gate: s.Gate}, right.ReadData)
	if s.Gate == nil {
		if r.held += got.Len() + 8; r.held > mostHeld {
			clear(r.known)
			r.held = 0
		}
		r.known[d] = got
	}
	return got
}
