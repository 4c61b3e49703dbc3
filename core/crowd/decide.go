package crowd

import (
	"slices"
	"sync"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

// Route is one route for everybody.
type Route struct {
	Local          bool
	Share          *verdict.Share // nil on a local route
	Traits         *verdict.Traits
	Administrators []account.ID
	People         *Population
	Self           *Population // who connects, where files are opened as another; nil: People
}

func (w *Route) self() *Population {
	if w.Self != nil {
		return w.Self
	}
	return w.People
}

// listed gives the users that have any of some identifiers as they connect.
func (w *Route) listed(ids []account.ID) Bits {
	b := w.self().Empty()
	for _, id := range ids {
		b.Or(w.self().Holders(id, w.Local))
	}
	return b
}

// Atom is rights that go together in everything at hand, and who is granted them.
type Atom struct {
	Rights right.Set
	Users  []uint64 // beside the words looked at
}

// Decider decides by one way. Once made it answers alike for ever, and may be asked from
// several goroutines, each with a Scratch of its own.
type Decider struct {
	Route
	admins     Bits    // who passes the files' rules; nil: nobody
	someAdmins *Some   // the same
	powers     []power // privileges somebody has, on the files' side
	through    []Atom
	refused    Bits     // whom the share refuses the connection
	connecting []power  // privileges of those who connect
	nothing    Bits     // to whom the share's rules give nothing, for they don't give everything
	limited    Bits     // whose connection is read-only
	switched   Bits     // of these, by the share's switch or its lists
	passed     sync.Map // right.Set → Bits: what through found
	somePassed sync.Map // right.Set → *Some: the same
}

// power is a privilege and who has it.
type power struct {
	verdict.Power
	who Bits
}

// runs tells whether a share's configuration asks nobody for execute.
func (w *Route) runs() bool { return w.Share != nil && w.Share.Lists != nil && w.Share.Lists.Runs }

// held gives the privileges that count on a way, and who of a population has each.
func (w *Route) held(p *Population) (out []power) {
	for _, x := range w.Traits.Counting() {
		if who := p.Holders(x.Who, w.Local); who.Len() > 0 {
			out = append(out, power{x, who})
		}
	}
	return out
}

// NewDecider works out what the way's share lets through.
func NewDecider(w Route) *Decider {
	d := &Decider{Route: w}
	if w.Traits.AdministratorsPass {
		bosses := w.Administrators
		if w.Share != nil && w.Share.Lists != nil && w.Share.Lists.Replaces {
			bosses = w.Share.Lists.Administrators
		}
		if len(bosses) > 0 {
			d.admins = w.listed(bosses)
		}
	}
	d.someAdmins = SomeOf(d.admins)
	d.powers = w.held(w.People)
	if w.Share != nil {
		d.connect()
	}
	return d
}

// Holding gives who is granted all of some rights in a situation; synchronize
// counts. It is what Granted would say of each of them.
func (d *Decider) Holding(s Situation, want right.Set) Bits {
	return d.within(d.Through(want), s, nil, want)
}

// PastShare is Holding where the share's rules aren't asked (verdict.Need).
func (d *Decider) PastShare(s Situation, want right.Set) Bits {
	return d.within(slices.Clone(d.People.All()), s, d.People.All(), want)
}

// within narrows users, in place, to those who have all rights wanted; takes are those for
// whom delete-child on the folder above counts; nil: whom the share lets have it.
func (d *Decider) within(out Bits, s Situation, takes Bits, want right.Set) Bits {
	for i := range right.Count {
		one := right.At(i)
		if want&one == 0 {
			continue
		}
		got := d.One(s.Item, one)
		if one == right.ReadAttributes && d.Traits.NamingShowsAttributes {
			got.Or(d.People.All())
		}
		if one == right.Execute && d.runs() {
			got.Or(d.People.All())
		}
		if one == right.Delete && s.Child != nil {
			if takes == nil {
				takes = d.Through(right.DeleteChild)
			}
			got.Or(s.Child.And(takes))
		}
		for _, p := range d.powers {
			if p.File&one != 0 {
				got.Or(p.who)
			}
		}
		if s.Gate != nil {
			got.narrow(s.Gate)
		}
		got.Or(d.admins)
		if s.Item.Never&one != 0 {
			clear(got)
		}
		out.narrow(got)
	}
	return out
}

// Passing gives who passes the files' rules as an administrator.
func (d *Decider) Passing() Bits { return d.admins }

// Scratch is memory that decisions use again and again. What Rights gives
// with one lasts until the second next call with it.
type Scratch struct {
	before, after, open, holds, under []uint64
	flip                              bool
}

func room(b *[]uint64, n int) []uint64 {
	if cap(*b) < n {
		*b = make([]uint64, n+n/2)
	}
	s := (*b)[:n]
	clear(s)
	return s
}

// Situation is all that the answer for an item depends on by one way.
type Situation struct {
	Item *rule.List
	// Child is who may take the item out of the folder above by its rules (see
	// Decider.TakesOut), nil where no folder above counts; Gate whom the folders above let
	// through, nil where they aren't asked.
	Child, Gate Bits
}

// Rights gives who is granted what in a situation: atoms that part all rights
// but synchronize. words are the words of users that are looked at.
func (d *Decider) Rights(s Situation, words []int, sc *Scratch) []Atom {
	var room64 [64]right.Set
	cuts := append(room64[:0], right.ReadACL|right.WriteACL, right.Delete)
	if d.Traits.NamingShowsAttributes {
		cuts = append(cuts, right.ReadAttributes)
	}
	if d.runs() {
		cuts = append(cuts, right.Execute)
	}
	for i := range s.Item.Steps {
		cuts = append(cuts, s.Item.Steps[i].Rights)
	}
	for i := range s.Item.Beneath {
		cuts = append(cuts, s.Item.Beneath[i].Rights)
	}
	for i := range d.through {
		cuts = append(cuts, d.through[i].Rights)
	}
	if s.Item.Never != 0 {
		cuts = append(cuts, s.Item.Never)
	}
	for i := range d.powers {
		cuts = append(cuts, d.powers[i].File)
	}
	store := &sc.before
	if sc.flip = !sc.flip; sc.flip {
		store = &sc.after
	}
	atoms := cut(cuts, len(words), store)
	d.scan(atoms, s.Item.Steps, words, sc)
	if s.Item.Beneath != nil {
		d.beneath(atoms, s.Item, words, sc)
	}
	for i := range atoms {
		a := &atoms[i]
		if d.Traits.NamingShowsAttributes && a.Rights == right.ReadAttributes {
			fill(a.Users, words, d.People.All())
		}
		if a.Rights == right.Execute && d.runs() {
			fill(a.Users, words, d.People.All())
		}
		if a.Rights == right.Delete && s.Child != nil {
			for j, k := range words {
				got := s.Child.Word(k)
				for t := range d.through {
					if d.through[t].Rights&right.DeleteChild != 0 {
						got &= d.through[t].Users[k]
					}
				}
				a.Users[j] |= got
			}
		}
		for i := range d.powers {
			if d.powers[i].File&a.Rights != 0 {
				fill(a.Users, words, d.powers[i].who)
			}
		}
		if s.Gate != nil {
			for j, k := range words {
				a.Users[j] &= s.Gate.Word(k)
			}
		}
		if d.admins != nil {
			for j, k := range words {
				a.Users[j] |= d.admins[k]
			}
		}
		if a.Rights&s.Item.Never != 0 {
			clear(a.Users)
		}
		for t := range d.through {
			if d.through[t].Rights&a.Rights == 0 {
				continue
			}
			for j, k := range words {
				a.Users[j] &= d.through[t].Users[k]
			}
		}
	}
	return atoms
}

// cut parts all rights so that each mask has an atom whole or not at all.
func cut(masks []right.Set, words int, store *[]uint64) []Atom {
	var room14 [right.Count]right.Set
	parts := append(room14[:0], right.Access)
	for _, m := range masks {
		for i, n := 0, len(parts); i < n; i++ {
			if in := parts[i] & m; in != 0 && in != parts[i] {
				parts = append(parts, parts[i]&^m)
				parts[i] = in
			}
		}
	}
	users := room(store, len(parts)*words)
	atoms := make([]Atom, len(parts))
	for i, p := range parts {
		atoms[i] = Atom{p, users[i*words : (i+1)*words : (i+1)*words]}
	}
	return atoms
}

func fill(users []uint64, words []int, from Bits) {
	if len(users) == len(from) { // every word is looked at
		for j, word := range from {
			users[j] |= word
		}
		return
	}
	for j, k := range words {
		users[j] |= from.Word(k)
	}
}

// beneath takes from atoms whom the layer beneath refuses.
func (d *Decider) beneath(atoms []Atom, l *rule.List, words []int, sc *Scratch) {
	n := len(words)
	users := room(&sc.under, len(atoms)*n)
	below := make([]Atom, len(atoms))
	for i := range atoms {
		below[i] = Atom{atoms[i].Rights, users[i*n : (i+1)*n]}
	}
	d.scan(below, l.Beneath, words, sc)
	for i := range atoms {
		for j := range atoms[i].Users {
			atoms[i].Users[j] &= below[i].Users[j]
		}
	}
}

// scan decides steps for everyone: the first that names a user decides
// ([MS-DTYP] §2.5.3.2).
func (d *Decider) scan(atoms []Atom, steps []rule.Step, words []int, sc *Scratch) {
	n := len(words)
	open := room(&sc.open, len(atoms)*n) // undecided, atom by atom
	for i := range atoms {
		fill(open[i*n:(i+1)*n], words, d.People.All())
	}
	for x := range steps {
		s := &steps[x]
		h := d.People.Fits(s, d.Local)
		if h == nil {
			continue
		}
		holds := []uint64(h)
		if n != len(h) {
			holds = room(&sc.holds, n)
			for j, k := range words {
				holds[j] = h[k]
			}
		}
		for i := range atoms {
			if atoms[i].Rights&s.Rights == 0 {
				continue
			}
			undecided, users := open[i*n : (i+1)*n][:len(holds)], atoms[i].Users[:len(holds)]
			if s.Refuses {
				for j, held := range holds {
					undecided[j] &^= held
				}
				continue
			}
			for j, held := range holds {
				users[j] |= held & undecided[j]
				undecided[j] &^= held
			}
		}
	}
}

// One gives the users granted one right by rules alone: neither the
// folder above nor the share nor being an administrator counts.
func (d *Decider) One(l *rule.List, one right.Set) Bits { return d.People.Granted(l, one, d.Local) }

// TakesOut gives the users whom the rules of a folder let take an item of some
// owner out of it: who has delete-child there, and where adding is enough for
// what one owns its owner, who may add.
func (d *Decider) TakesOut(folder *rule.List, owner account.ID) Bits {
	out := d.One(folder, right.DeleteChild)
	if folder.OwnersOnly && folder.Beneath != nil {
		owners := d.People.Empty()
		for _, id := range []account.ID{folder.Owner, owner} {
			if !id.IsZero() {
				owners.Or(d.People.Holders(id, d.Local))
			}
		}
		return out.And(owners)
	}
	if folder.OwnersOnly && !owner.IsZero() {
		out.Or(d.One(folder, right.WriteData).And(d.People.Holders(owner, d.Local)))
	}
	return out
}

// Class is the users granted just one set of rights.
type Class struct {
	Rights right.Set
	Users  Bits
}

// Classes parts everybody by what they are granted in a situation;
// synchronize is left out of account.
func (d *Decider) Classes(s Situation, sc *Scratch) []Class {
	all := d.People.All()
	words := make([]int, len(all))
	for k := range words {
		words[k] = k
	}
	classes := []Class{{Users: slices.Clone(all)}}
	for _, a := range d.Rights(s, words, sc) {
		n := len(classes)
		for i := range n {
			c := &classes[i]
			var in, rest uint64
			for k, word := range c.Users {
				in |= word & a.Users[k]
				rest |= word &^ a.Users[k]
			}
			if in == 0 {
				continue
			}
			if rest == 0 {
				c.Rights |= a.Rights
				continue
			}
			yes := Class{c.Rights | a.Rights, make(Bits, len(all))}
			for k, word := range c.Users {
				yes.Users[k] = word & a.Users[k]
				c.Users[k] = word &^ a.Users[k]
			}
			classes = append(classes, yes)
		}
	}
	var out []Class
	for _, c := range classes {
		if c.Users.Len() == 0 {
			continue
		}
		i := slices.IndexFunc(out, func(o Class) bool { return o.Rights == c.Rights })
		if i < 0 {
			out = append(out, c)
			continue
		}
		out[i].Users.Or(c.Users)
	}
	return out
}
