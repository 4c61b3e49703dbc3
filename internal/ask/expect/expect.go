// Package expect holds what somebody expects of access to how it is.
package expect

import (
	"errors"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
)

// Expectation is what somebody expects: who can or cannot do what where.
type Expectation struct {
	File string
	Line int
	Text string
	// Names are whom it is about, of a group every member; Everyone: every
	// user. With Others, it is asked of everybody else that they cannot, by
	// every route; with Named that those named can (Names may be of no account
	// then).
	Names    []string
	Everyone bool
	Others   bool
	Named    bool
	Cannot   bool
	What     string // a level, rights joined by commas, or an act
	Where    string
	Below    bool
	Through  string // narrowed to this share
	Local    bool   // narrowed to the server itself
}

// Expected tells whether an expectation holds, and where it doesn't, who goes
// against it first, where, and because of what.
type Expected struct {
	File  string `json:"file"`
	Line  int    `json:"line"`
	Text  string `json:"expectation"`
	Holds bool   `json:"holds"`
	// Nobody: the groups it names have no members, so that it asks nothing.
	Nobody  bool     `json:"about-nobody,omitempty"`
	Against *Against `json:"against,omitempty"`
	// Error is why it can't be asked; Part which part of it is at fault: name,
	// what, where or through, Index of the names.
	Error string `json:"error,omitempty"`
	Part  string `json:"-"`
	Index int    `json:"-"`
}

// Against is who goes against an expectation.
type Against struct {
	User  ask.Account `json:"user"` // the first of them
	Where string      `json:"where"`
	Kind  string      `json:"kind"`
	Route string      `json:"route"`
	Can   bool        `json:"can"` // and shouldn't, or can't and should
	// Right is the one that decides, because of Because.
	Right   string      `json:"right,omitempty"`
	Because *ask.Reason `json:"because,omitempty"`
	Share   bool        `json:"by-share,omitempty"`
	Users   int         `json:"users"` // how many go against it, anywhere
	Items   int64       `json:"items"` // on how many items, counted route by route
}

// Expecting asks many expectations, and remembers what they have in common.
type Expecting struct {
	k      *ask.Asker
	words  map[string]*ask.Can
	ways   map[wayKey]*expectedWay
	known  map[spotKey]crowd.Bits
	ground map[string]*ask.Scope
	called map[string]account.ID
}

type wayKey struct{ server, share int64 }

type expectedWay struct {
	*ask.Route
	g   *ask.Scope
	pop *crowd.Population
	d   *crowd.Decider
}

type spotKey struct {
	way    *expectedWay
	strand int64
	word   string
}

// mostGrounds is how many parts of the estate are remembered as laid out.
const mostGrounds = 8

// NewExpecting makes an asker of expectations.
func NewExpecting(k *ask.Asker) *Expecting {
	return &Expecting{k: k, words: map[string]*ask.Can{}, ways: map[wayKey]*expectedWay{}, known: map[spotKey]crowd.Bits{}, ground: map[string]*ask.Scope{}, called: map[string]account.ID{}}
}

// faulty is an expectation that can't be asked.
type faulty struct {
	part  string
	index int
	err   error
}

func (f *faulty) Error() string { return f.err.Error() }

// Expect tells whether an expectation holds. An error ends the whole; what is
// wrong with the expectation alone is in the answer.
func (x *Expecting) Expect(e *Expectation) (*Expected, error) {
	out := &Expected{File: e.File, Line: e.Line, Text: e.Text}
	err := x.expect(e, out)
	if terr := x.k.T.Err(); terr != nil {
		return nil, terr
	}
	var f *faulty
	if errors.As(err, &f) {
		out.Error, out.Part, out.Index = f.Error(), f.part, f.index
		return out, nil
	}
	out.Holds = err == nil && out.Against == nil
	return out, err
}

func (x *Expecting) expect(e *Expectation, out *Expected) error {
	k := x.k
	c := x.words[e.What]
	if c == nil {
		var err error
		if c, err = k.Can(e.What); err != nil {
			return &faulty{part: "what", err: err}
		}
		x.words[e.What] = c
	}
	var names []account.ID
	for i, n := range e.Names {
		id, ok := x.called[n]
		if !ok {
			var err error
			if id, err = named(k, n); err != nil {
				return &faulty{"name", i, err}
			}
			x.called[n] = id
		}
		names = append(names, id)
	}
	p, err := k.Place(e.Where)
	if err != nil {
		return &faulty{part: "where", err: err}
	}
	if !(e.Below && p.Folder) && !c.Of(p.Folder) {
		return &faulty{part: "what", err: ask.Unfit("", "%s is a %s, and %s doesn't apply to those", p.Via(), ask.Kind(p.Folder), e.What)}
	}
	var only *estate.Share // narrowed to
	if e.Through != "" {
		in, err := k.Place(e.Through)
		if err == nil && (in.Share == nil || !in.Share.Begins(in.Path)) {
			err = &estate.NotFound{What: "share", Name: e.Through}
		}
		if err == nil && (in.Server.ID != p.Server.ID || !in.Share.Covers(p.Path)) {
			err = ask.Unfit("", "%s has no route to %s", e.Through, p.String())
		}
		if err != nil {
			return &faulty{part: "through", err: err}
		}
		only = in.Share
	}
	by := func(p estate.Place) []*estate.Share {
		switch {
		case e.Local:
			return []*estate.Share{nil}
		case only != nil:
			return []*estate.Share{only}
		}
		return k.Routes(p)
	}
	a := &asking{x: x, e: e, c: c, p: p, names: names, who: map[account.ID]bool{}}
	// Those it names, by the way it says.
	if e.Everyone || e.Named {
		if err := a.look(by(p), !e.Cannot, false); err != nil {
			return err
		}
		out.Nobody = !e.Everyone && !e.Others && a.about == 0
	}
	// Everybody else, by every route.
	if e.Others {
		any := p
		any.Share = nil
		if err := a.look(by(any), false, true); err != nil {
			return err
		}
	}
	if a.first != nil {
		a.first.Users = len(a.who)
	}
	out.Against = a.first
	return nil
}

// named finds the account a line names.
func named(k *ask.Asker, name string) (account.ID, error) {
	if id, err := k.T.Who(name); err == nil {
		return id, nil
	}
	a, err := k.T.Named(name, 0)
	return a.ID, err
}

// asking is one expectation being asked.
type asking struct {
	x     *Expecting
	e     *Expectation
	c     *ask.Can
	p     estate.Place
	names []account.ID
	about int // users it is about
	first *Against
	who   map[account.ID]bool
}

// look asks by some routes. should: those asked for can; others: asks of
// everybody but those named.
func (a *asking) look(shares []*estate.Share, should, others bool) error {
	var from []*expectedWay
	below := a.e.Below && a.p.Folder
	if below {
		// A share that begins in it is a route to a part of it.
		narrowed := a.e.Local || a.e.Through != "" || !others && a.p.Share != nil
		g, err := a.x.layOut(a.p)
		if err != nil {
			return err
		}
		for _, w := range g.Ways {
			if narrowed && !slices.ContainsFunc(shares, func(s *estate.Share) bool {
				return s == nil && w.Share == nil || s != nil && w.Share != nil && s.ID == w.Share.ID
			}) {
				continue
			}
			pop := a.x.k.Population(w.Server)
			from = append(from, &expectedWay{Route: w, g: g, pop: pop})
		}
	} else {
		for _, sh := range shares {
			from = append(from, a.x.way(&a.p.Server, sh))
		}
	}
	for _, w := range from {
		want := a.wanted(w, others)
		if !others {
			a.about += want.Len()
		}
		if below {
			a.below(w, want, should)
			continue
		}
		a.hold(w, want, should, a.x.here(w, a.p, a.c), 1, func() estate.Place { return a.p })
	}
	return a.x.k.T.Err()
}

// wanted gives the users asked for.
func (a *asking) wanted(w *expectedWay, others bool) crowd.Bits {
	if a.e.Everyone {
		return slices.Clone(w.pop.All())
	}
	out := w.pop.Empty()
	for _, id := range a.names {
		if i, ok := w.pop.Place(id); ok {
			out.Set(i)
			continue
		}
		out.Or(w.pop.Holders(id, w.Share == nil))
	}
	if others {
		return w.pop.All().Minus(out)
	}
	return out
}

// hold counts who goes against it in one place, items of them alike.
func (a *asking) hold(w *expectedWay, want crowd.Bits, should bool, able crowd.Bits, items int64, where func() estate.Place) {
	bad := want.And(able)
	if should {
		bad = want.Minus(able)
	}
	if bad.Len() == 0 {
		return
	}
	bad.Each(func(i int) bool {
		user := w.pop.Users[i]
		if a.first == nil {
			a.first = a.x.against(user, w, where(), a.c, !should)
		}
		a.who[user.ID] = true
		return true
	})
	a.first.Items += items
}

// below asks on a place and all below it.
func (a *asking) below(w *expectedWay, want crowd.Bits, should bool) {
	k, g := a.x.k, w.g
	above, adding := w.Traits.AboveReading(), w.Traits.AddReading()
	nodes := g.F.Nodes
	d := g.Decider(w.Route, w.pop)
	g.Everyone(w.Route, w.pop, d, func(i int, s crowd.Situation) bool {
		n := &nodes[i]
		if !a.c.Of(n.Folder) {
			return true
		}
		var parent rule.Any
		if b, begins := w.Begins[i]; !begins && n.Parent >= 0 {
			parent = nodes[n.Parent].Before
		} else if begins && b.Above {
			parent = g.F.Over(i, false)
		}
		able := a.c.Holding(k, d, s, n.Before, parent, n.Folder, parent == nil, func(folders bool) crowd.Situation {
			in := crowd.Situation{Gate: s.Gate}
			if folders {
				in.Item = k.Read(parent, adding)
				return in
			}
			in.Item = k.Read(n.Before, adding)
			if s.Gate != nil {
				in.Gate = s.Gate.And(d.One(k.Read(n.Before, above), right.Execute))
			}
			return in
		})
		a.hold(w, want, should, able, n.Items, func() estate.Place {
			for _, item := range g.F.Some(k.T, i, 1) {
				return k.T.Place(item)
			}
			return a.p
		})
		return k.T.Context().Err() == nil
	})
}

// layOut lays out a place and what is below it, with every route that comes
// there.
func (x *Expecting) layOut(p estate.Place) (*ask.Scope, error) {
	at := p.String()
	if g := x.ground[at]; g != nil {
		return g, nil
	}
	p.Share = nil
	g, err := x.k.LayOut(p)
	if err != nil {
		return nil, err
	}
	if len(x.ground) >= mostGrounds {
		clear(x.ground)
	}
	x.ground[at] = g
	return g, nil
}

func (x *Expecting) way(s *estate.Server, sh *estate.Share) *expectedWay {
	key := wayKey{server: s.ID}
	if sh != nil {
		key.share = sh.ID
	}
	w := x.ways[key]
	if w == nil {
		g := x.k.NewScope(nil)
		w = &expectedWay{Route: g.Route(s, sh), g: g, pop: x.k.Population(s)}
		w.d = g.Decider(w.Route, w.pop)
		x.ways[key] = w
	}
	return w
}

// here gives everybody who can, in one place.
func (x *Expecting) here(w *expectedWay, p estate.Place, c *ask.Can) crowd.Bits {
	top := len(p.Trail) == 1 || w.Share != nil && w.Share.Begins(p.Path)
	key := spotKey{w, p.Strand, c.Word} // which tells the top of a way too
	if b, ok := x.known[key]; ok {
		return b
	}
	var somebody account.ID
	if len(w.pop.Users) > 0 {
		somebody = w.pop.Users[0].ID
	}
	b := c.Holding(x.k, w.d, census.Situation(x.k, w.d, somebody, p, w.Share, false), x.k.T.Of(p.Strand), x.k.Above(p), p.Folder, top, func(above bool) crowd.Situation {
		in := p
		if above {
			in = x.k.FolderOf(p)
		}
		return census.Situation(x.k, w.d, somebody, in, w.Share, true)
	})
	x.known[key] = b
	return b
}

// against tells of one user what decides.
func (x *Expecting) against(user account.Account, w *expectedWay, p estate.Place, c *ask.Can, can bool) *Against {
	k := x.k
	out := &Against{User: k.Account(user.ID), Where: p.By(w.Share).String(), Kind: ask.Kind(p.Folder), Route: w.Name, Can: can}
	if c.Act != nil {
		if c.Inside() && (len(p.Trail) == 1 || w.Share != nil && w.Share.Begins(p.Path)) {
			return out // the top of a way is not renamed or deleted
		}
		t := explain.TryHere(k, user, c.Act.Name, p, w.Share)
		n := t.Needs[0]
		out.Right, out.Because, out.Share = n.Right, n.Reason, n.Share
		return out
	}
	e := explain.Answer(k, user, p, w.Share, false)
	for i := range e.Rights {
		r := &e.Rights[i]
		one, err := right.Parse(r.Right)
		if err != nil || one&c.Rights(k.T.Of(p.Strand), p.Folder) == 0 || r.Granted != can {
			continue
		}
		out.Right, out.Because = r.Right, &r.File
		if r.Share != nil && r.File.Granted && !r.Share.Granted {
			out.Because, out.Share = r.Share, true
		}
		break
	}
	return out
}
