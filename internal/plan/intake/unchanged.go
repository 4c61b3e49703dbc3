package intake

import (
	acc "tarnwold/core/account"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
)

// fewPeople is how many people are looked up one by one.
const fewPeople = 500

// NothingOf makes the plan of a few people of a directory who are, each of them, as
// the estate has them; ok is false where anything may be otherwise, and all of it
// is to be compared.
func NothingOf(d *plan.Planner, found *shape.People, w PeopleFrom) (p *plan.Plan, ok bool, err error) {
	if w.Whole || w.Directory == "" || len(found.People) > fewPeople || len(found.Members) > 20*fewPeople {
		return nil, false, nil
	}
	w = w.named()
	ids := make([]plan.ID, len(found.People))
	for i := range found.People {
		person := &found.People[i]
		if person.Known {
			ids[i] = person.ID
			continue
		}
		a, same := sameAs(d, found, person, w)
		if !same {
			return nil, false, d.T.Err()
		}
		ids[i] = a.ID
	}
	members := map[plan.ID]map[plan.ID]bool{}
	for i := range found.People {
		if !found.People[i].Known && found.People[i].Kind == acc.Group {
			members[ids[i]] = map[plan.ID]bool{}
		}
	}
	for _, m := range found.Members {
		g := members[ids[m[0]]]
		if g == nil {
			return nil, false, nil
		}
		g[ids[m[1]]] = true
	}
	for g, told := range members {
		have := 0
		for _, m := range d.T.MembersOf(g) {
			switch {
			case told[m]:
				have++
			case d.T.MetadataOf(m).Directory == w.Directory && !d.T.Local(g, m):
				return nil, false, d.T.Err()
			}
		}
		if have != len(told) {
			return nil, false, d.T.Err()
		}
	}
	p = d.NewPlan("")
	p.Change, p.Nothing = (&Taken{}).said(w), takenAlready
	p.Work.FromDirectory = true
	p.Work.Cursor = readingOf(d, found, w, p)
	p, err = d.Evaluate(p)
	return p, err == nil, err
}

// sameAs finds the account that somebody of a directory is, and tells whether it is
// as the directory has it.
func sameAs(d *plan.Planner, found *shape.People, p *shape.Person, w PeopleFrom) (a acc.Account, same bool) {
	switch {
	case !p.ID.IsZero():
		var ok bool
		if a, ok = d.T.Account(p.ID); !ok {
			return a, false
		}
	case p.POSIX != acc.NoPOSIX:
		all := d.T.ByPOSIX(p.Kind, uint32(p.POSIX))
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
	is := d.T.MetadataOf(a.ID)
	x := &taking{d: d, w: w, c: &Taken{}}
	r := &personRow{before: &a, after: a, was: is, is: is}
	x.change(r, p)
	x.learn(r, p, found)
	r.call(p)
	if p.Manager >= 0 {
		boss := found.People[p.Manager].ID
		if boss.IsZero() { // known by a number or a name
			return a, false
		}
		r.is.Manager = boss.String()
	}
	if r.after != a || r.is != is {
		return a, false
	}
	if p.Kind == acc.User && p.First != acc.NoPOSIX {
		groups := d.T.ByPOSIX(acc.Group, uint32(p.First))
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
func readingOf(d *plan.Planner, found *shape.People, w PeopleFrom, p *plan.Plan) *plan.SyncCursor {
	r := &plan.SyncCursor{Directory: w.Directory, At: w.At, Changed: shape.ChangedAs(found.Changed), Head: p.Head}
	if r.Changed == 0 { // nothing was
		r.Changed = plan.CursorOf(d.T, w.Directory).Changed
	}
	return r
}

// NothingTold makes the plan of files that tell what was told last, where that
// is all so still.
func NothingTold(d *plan.Planner, now int64) (*plan.Plan, error) {
	if !plan.LastFingerprint(d.T).Holds(d.T, now) {
		return nil, plan.ErrToldNoMore
	}
	p := d.NewPlan("")
	p.Change, p.Nothing = (&Taken{}).said(PeopleFrom{}), takenAlready
	return d.Evaluate(p)
}
