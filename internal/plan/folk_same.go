package plan

import (
	acc "tarnwold/core/account"
	"tarnwold/internal/format/shape"
)

// fewFolk is how many people are looked up one by one.
const fewFolk = 500

// NothingOf makes the plan of a few people of a directory who are, each of them, as
// the estate has them; ok is false where anything may be otherwise, and all of it
// is to be compared.
func (d *Desk) NothingOf(folk *shape.Folk, w FolkFrom) (p *Plan, ok bool, err error) {
	if w.Whole || w.Directory == "" || len(folk.People) > fewFolk || len(folk.Members) > 20*fewFolk {
		return nil, false, nil
	}
	w = w.named()
	ids := make([]ID, len(folk.People))
	for i := range folk.People {
		person := &folk.People[i]
		if person.Known {
			ids[i] = person.ID
			continue
		}
		a, same := d.sameAs(folk, person, w)
		if !same {
			return nil, false, d.t.Err()
		}
		ids[i] = a.ID
	}
	members := map[ID]map[ID]bool{}
	for i := range folk.People {
		if !folk.People[i].Known && folk.People[i].Kind == acc.Group {
			members[ids[i]] = map[ID]bool{}
		}
	}
	for _, m := range folk.Members {
		g := members[ids[m[0]]]
		if g == nil {
			return nil, false, nil
		}
		g[ids[m[1]]] = true
	}
	for g, told := range members {
		have := 0
		for _, m := range d.t.MembersOf(g) {
			switch {
			case told[m]:
				have++
			case d.t.ParticularsOf(m).Directory == w.Directory && !d.t.Local(g, m):
				return nil, false, d.t.Err()
			}
		}
		if have != len(told) {
			return nil, false, d.t.Err()
		}
	}
	p = d.begin("")
	p.Change, p.Nothing = (&Taken{}).said(w), takenAlready
	p.work.fromDirectory = true
	p.work.read = d.readingOf(folk, w, p)
	p, err = d.finish(p)
	return p, err == nil, err
}

// sameAs finds the account that somebody of a directory is, and tells whether it is
// as the directory has it.
func (d *Desk) sameAs(folk *shape.Folk, p *shape.Person, w FolkFrom) (a account, same bool) {
	switch {
	case !p.ID.IsZero():
		var ok bool
		if a, ok = d.t.Account(p.ID); !ok {
			return a, false
		}
	case p.POSIX != acc.NoPOSIX:
		all := d.t.ByPOSIX(p.Kind, uint32(p.POSIX))
		if len(all) != 1 {
			return a, false
		}
		a = all[0]
	default:
		return a, false
	}
	if a.Kind != p.Kind {
		return a, false
	}
	is := d.t.ParticularsOf(a.ID)
	x := &taking{d: d, w: w, c: &Taken{}}
	r := &folkRow{before: &a, after: a, was: is, is: is}
	x.change(r, p)
	x.learn(r, p, folk)
	r.call(p)
	if r.after != a || r.is != is {
		return a, false
	}
	if p.Kind == acc.User && p.First != acc.NoPOSIX {
		groups := d.t.ByPOSIX(acc.Group, uint32(p.First))
		first := acc.GID(uint32(p.First))
		if len(groups) > 1 {
			return a, false
		}
		if len(groups) == 1 {
			first = groups[0].ID
		}
		if a.Primary != first {
			return a, false
		}
	}
	return a, true
}

// readingOf tells how far a directory is read once its people are taken in.
func (d *Desk) readingOf(folk *shape.Folk, w FolkFrom, p *Plan) *Reading {
	r := &Reading{w.Directory, w.At, shape.ChangedAs(folk.Changed), p.Head}
	if r.Changed == 0 { // nothing was
		r.Changed = ReadingOf(d.t, w.Directory).Changed
	}
	return r
}
