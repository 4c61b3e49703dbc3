package expect

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// expectedLevels are what is written of each folder: to open, to change, to
// decide over.
var expectedLevels = []string{"read", "edit", "full"}

// Expectable gives expectations that hold today on a folder and the folders in
// it, down to a depth. Where one holds for all that is below too, what is below
// is not gone into for it.
func Expectable(k *ask.Asker, where string, depth int) (out []Expectation, err error) {
	p, err := k.Place(where)
	if err != nil {
		return nil, err
	}
	if !p.Folder {
		return nil, ask.Unfit("name a folder", "%s is a file", p.Via())
	}
	x := NewExpecting(k)
	err = x.write(p, depth, expectedLevels, &out)
	if terr := k.T.Err(); terr != nil {
		err = terr
	}
	return out, err
}

func (x *Expecting) write(p estate.Place, depth int, levels []string, out *[]Expectation) error {
	k := x.k
	if err := k.T.Context().Err(); err != nil {
		return err
	}
	var open []string // levels that differ below
	for _, l := range levels {
		c, err := k.Can(l)
		if err != nil {
			return err
		}
		lines := x.lines(p, l, c)
		whole := true
		for i := range lines {
			e := lines[i]
			e.Below = true
			got, err := x.Expect(&e)
			if err != nil {
				return err
			}
			whole = whole && got.Holds
		}
		for _, e := range lines {
			e.Below = whole
			*out = append(*out, e)
		}
		if !whole {
			open = append(open, l)
		}
	}
	if depth == 0 || len(open) == 0 {
		return nil
	}
	for _, c := range k.T.Within(p.Item) {
		if !c.Folder {
			continue
		}
		in := k.T.Place(c.Item)
		in.Share = p.Share
		if err := x.write(in, depth-1, open, out); err != nil {
			return err
		}
	}
	return nil
}

// lines says of one level who has it on a folder: in one line where all routes
// agree, in two where they don't.
func (x *Expecting) lines(p estate.Place, level string, c *ask.Can) []Expectation {
	k := x.k
	var always, ever crowd.Bits // by all routes p is asked for; by any there is
	pop := k.Population(&p.Server)
	for _, sh := range k.Routes(p) {
		able := x.here(x.way(&p.Server, sh), p, c)
		if always == nil {
			always = able
		}
		always = always.And(able)
	}
	q := p
	q.Share = nil
	ever = pop.Empty()
	for _, sh := range k.Routes(q) {
		ever.Or(x.here(x.way(&p.Server, sh), p, c))
	}
	base := Expectation{What: level, Where: p.Via()}
	can, but := base, base
	can.Named, but.Others = true, true
	can.Names, but.Names = x.names(p, pop, always), x.names(p, pop, ever)
	switch {
	case ever.Len() == pop.All().Len() && always.Len() == ever.Len() && always.Len() > 0:
		base.Everyone = true
		return []Expectation{base}
	case always.Len() == ever.Len() && ever.Len() > 0:
		can.Others = true
		return []Expectation{can}
	case always.Len() == 0:
		return []Expectation{but}
	}
	return []Expectation{can, but}
}

// names writes users as the groups that the place's rules name, where all who
// are in one are among them, and the rest one by one.
func (x *Expecting) names(p estate.Place, pop *crowd.Population, users crowd.Bits) (out []string) {
	k := x.k
	type group struct {
		id   account.ID
		hold crowd.Bits
	}
	var groups []group
	d := k.AsEntries(k.T.Of(p.Strand))
	for _, e := range d.Rules.Entries {
		a, ok := k.T.Account(e.Who)
		if !ok || a.Kind != account.Group || slices.ContainsFunc(groups, func(g group) bool { return g.id == e.Who }) {
			continue
		}
		hold := pop.Holders(e.Who, false)
		if same := hold.And(pop.Holders(e.Who, true)); hold.Len() > 1 && same.Len() == hold.Len() && hold.Minus(users).Len() == 0 {
			groups = append(groups, group{e.Who, hold})
		}
	}
	slices.SortStableFunc(groups, func(a, b group) int { return b.hold.Len() - a.hold.Len() })
	left := slices.Clone(users)
	for _, g := range groups {
		if left.And(g.hold).Len() > 1 {
			left = left.Minus(g.hold)
			out = append(out, toName(k, g.id, "group:"))
		}
	}
	left.Each(func(i int) bool { out = append(out, toName(k, pop.Users[i].ID, "user:")); return true })
	return out
}

// toName names an account so that it is found again, where a user and a group
// are called alike too.
func toName(k *ask.Asker, id account.ID, kind string) string {
	name := k.T.Name(id)
	if found, err := named(k, name); err == nil && found == id {
		return name
	}
	return kind + name
}
