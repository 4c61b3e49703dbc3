package crowd

import (
	"iter"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Some is a set of users that nobody changes: in a list where they are few, as they are
// where each home is its owner's, and else as bits.
type Some struct {
	few  []int32 // in order, where bits is nil
	bits Bits
	n    int
}

// fewOf is how many users there are to one that is listed: a number takes as much room
// as so many bits.
const fewOf = 32

// SomeOf makes a set of bits, which it keeps where they are many.
func SomeOf(b Bits) *Some {
	s := &Some{n: b.Len()}
	if s.n > 0 && s.n*fewOf >= 64*len(b) {
		s.bits = b
		return s
	}
	s.few = make([]int32, 0, s.n)
	b.Each(func(u int) bool {
		s.few = append(s.few, int32(u))
		return true
	})
	return s
}

// listed makes a set of those in a list in order.
func listed(few []int32) *Some { return &Some{few: few, n: len(few)} }

// Only is one user, by their place.
func Only(u int) *Some { return listed([]int32{int32(u)}) }

// Len counts the users.
func (s *Some) Len() int { return s.n }

// Has tells whether a user is in the set.
func (s *Some) Has(u int) bool {
	if s.bits != nil {
		return s.bits.Has(u)
	}
	_, ok := slices.BinarySearch(s.few, int32(u))
	return ok
}

// All gives each user's place, in order.
func (s *Some) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for _, u := range s.few {
			if !yield(int(u)) {
				return
			}
		}
		s.bits.Each(yield)
	}
}

// And gives those who are in both.
func (s *Some) And(o *Some) *Some {
	if s.bits != nil && o.bits != nil {
		return SomeOf(s.bits.And(o.bits))
	}
	if s.bits != nil {
		s, o = o, s
	}
	return s.picked(o, true)
}

// Minus gives those who are in s and not in another set.
func (s *Some) Minus(o *Some) *Some {
	switch {
	case o.n == 0:
		return s
	case s.bits == nil:
		return s.picked(o, false)
	case o.bits != nil:
		return SomeOf(s.bits.Minus(o.bits))
	}
	b := slices.Clone(s.bits)
	for _, u := range o.few {
		b[u>>6] &^= 1 << (u & 63)
	}
	return SomeOf(b)
}

// Within tells whether all who are in s are in another set too.
func (s *Some) Within(o *Some) bool {
	if s.n > o.n {
		return false
	}
	for u := range s.All() {
		if !o.Has(u) {
			return false
		}
	}
	return true
}

// picked gives those of a list who are in another set, or who aren't: mostly that is all of
// them, which takes no room.
func (s *Some) picked(o *Some, in bool) *Some {
	rest, through := o.few, o.bits == nil && len(o.few) < 16*len(s.few) // both once through
	has := func(u int32) bool {
		if !through {
			return o.Has(int(u))
		}
		for len(rest) > 0 && rest[0] < u {
			rest = rest[1:]
		}
		return len(rest) > 0 && rest[0] == u
	}
	for i, u := range s.few {
		if has(u) == in {
			continue
		}
		out := slices.Clone(s.few[:i])
		for _, u := range s.few[i+1:] {
			if has(u) == in {
				out = append(out, u)
			}
		}
		return listed(out)
	}
	return s
}

// Plus gives those who are in either.
func (s *Some) Plus(o *Some) *Some {
	switch {
	case o.n == 0:
		return s
	case s.n == 0 || s == o:
		return o
	case s.bits == nil && o.bits == nil: // many of them, if few bits, may be listed still
		return listed(merged(s.few, o.few))
	}
	if s.bits == nil {
		s, o = o, s
	}
	b := slices.Clone(s.bits)
	b.Or(o.bits)
	for _, u := range o.few {
		b.Set(int(u))
	}
	return SomeOf(b)
}

// merged gives those that are in either of two lists in order.
func merged(a, b []int32) []int32 {
	out := make([]int32, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0] < b[0]:
			out, a = append(out, a[0]), a[1:]
		case a[0] > b[0]:
			out, b = append(out, b[0]), b[1:]
		default:
			out, a, b = append(out, a[0]), a[1:], b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// SomeHolders is Holders as a set of which the few are listed.
func (p *Population) SomeHolders(id account.ID, local bool) *Some {
	if p.as != nil || p.to != nil || len(p.beside) > 0 {
		return SomeOf(p.Holders(id, local))
	}
	if p.alone(id) {
		return listed([]int32{int32(p.place[id])})
	}
	key := holding{id, local}
	p.mu.RLock()
	s, ok := p.some[key]
	b, held := p.holders[key]
	p.mu.RUnlock()
	if ok {
		return s
	}
	byRoute := true
	switch id {
	case account.ID{}, account.Everyone, account.Authenticated, account.Network, account.Interactive:
		b = p.held(id, local)
	default:
		if !held {
			b, byRoute = p.find(id, local)
		}
	}
	s = SomeOf(b)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.some == nil {
		p.some = map[holding]*Some{}
	}
	p.some[key] = s
	if !byRoute {
		p.some[holding{id, !local}] = s
	}
	return s
}

// SomeGranted is Granted as a set of which the few are listed: where rules name few
// people, it costs what these are and not what everybody is.
func (p *Population) SomeGranted(l *rule.List, one right.Set, local bool) *Some {
	got := p.fewGranted(l.Steps, one, local)
	if got != nil && l.Beneath != nil {
		if beneath := p.fewGranted(l.Beneath, one, local); beneath != nil {
			return got.And(beneath)
		}
		got = nil
	}
	if got == nil {
		return SomeOf(p.Granted(l, one, local))
	}
	return got
}

// AnyGranted tells whether somebody is granted one right by rules alone.
func (p *Population) AnyGranted(l *rule.List, one right.Set, local bool) bool {
	if l.Beneath == nil {
		for i := range l.Steps {
			s := &l.Steps[i]
			if s.Rights&one == 0 {
				continue
			}
			if s.Refuses || s.If != nil {
				break
			}
			if p.SomeHolders(s.Who, local).Len() > 0 {
				return true
			}
		}
	}
	return p.SomeGranted(l, one, local).Len() > 0
}

// fewGranted decides one right where each step names few; nil where one names many, or
// asks for more than an identifier.
func (p *Population) fewGranted(steps []rule.Step, one right.Set, local bool) *Some {
	got, refused := listed(nil), listed(nil)
	for i := range steps {
		s := &steps[i]
		if s.Rights&one == 0 {
			continue
		}
		if s.If != nil {
			return nil
		}
		h := p.SomeHolders(s.Who, local)
		switch {
		case h.bits != nil:
			return nil
		case s.Refuses:
			refused = refused.Plus(h) // who is granted it already stays so
		default:
			got = got.Plus(h.Minus(refused))
		}
	}
	return got
}

// SomeHolding is Holding as a set of which the few are listed.
func (d *Decider) SomeHolding(s Situation, want right.Set) *Some {
	known, ok := d.somePassed.Load(want)
	if !ok {
		known, _ = d.somePassed.LoadOrStore(want, SomeOf(d.Through(want)))
	}
	out := known.(*Some)
	for i := range right.Count {
		one := right.At(i)
		if want&one == 0 {
			continue
		}
		if s.Gate != nil || one == right.Delete && s.Child != nil ||
			one == right.ReadAttributes && d.Traits.NamingShowsAttributes || one == right.Execute && d.runs() { // these are bits
			return SomeOf(d.Holding(s, want))
		}
		got := d.People.SomeGranted(s.Item, one, d.Local)
		for _, p := range d.powers {
			if p.File&one != 0 {
				got = got.Plus(SomeOf(p.who))
			}
		}
		if got = got.Plus(d.someAdmins); s.Item.Never&one != 0 {
			got = listed(nil)
		}
		out = out.And(got)
	}
	return out
}
