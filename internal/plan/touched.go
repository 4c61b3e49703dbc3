package plan

import (
	"errors"
	"maps"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/guard"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
)

// touched is everybody whose access a plan can change: those whose tokens may hold an
// identifier that the difference names, or who is below one whose memberships change.
// Nobody else is asked about, and what only others are named in is alike to them.
type touched struct {
	dir    *acc.Directory // with all they are in
	counts map[ID]bool    // the identifiers they may have
	names  map[ID]bool    // those that the difference names
	sizes  [13]int        // how much there was of each kind of edit then
	// others: it came out that others may be touched too.
	others bool
}

// alone tells whether two rules differ for nobody but those who are touched.
func (t *touched) alone(before, after rule.Any) bool {
	if before == nil || after == nil {
		return before == after
	}
	n := &naming{names: map[ID]bool{}}
	if !n.differ(before, after) {
		return false
	}
	for id := range n.names {
		if !t.names[id] {
			return false
		}
	}
	return true
}

// Make makes a plan for somebody to look at: for those alone whom it touches, where
// that can be told, and again, with everybody, where it hangs on others too. Keeping it
// makes it once more, with everything there is. fn may be called several times.
func (d *Planner) Make(fn func(*Planner) (*Plan, error)) (*Plan, error) {
	d.again, d.exact = fn, false
	p, err := fn(d)
	if err == nil && p.Work.For != nil && p.Work.For.uncertain(p) {
		d.exact = true
		p, err = fn(d)
	}
	return p, err
}

// Keeping tells whether a plan is made again to be kept, and nobody is shown it.
func (d *Planner) Keeping() bool { return d.known }

// narrows tells whether a plan may be worked out for those alone whom it touches: it is
// looked at, and worked out anew with everything where it is kept (Plan.Keep).
func (d *Planner) narrows() bool { return d.again != nil && !d.exact && d.T.Change() == 0 }

// touches finds whom a plan touches; nil: everybody, or nobody can tell.
func (d *Planner) touches(p *Plan, groups []estate.Group) *touched {
	if !d.narrows() {
		return nil
	}
	w := &p.Work
	if len(w.Servers)+len(w.Rows)+len(w.Made)+len(w.Moved)+len(w.Removed)+len(w.Goes)+len(w.Formers()) > 0 || w.Renews {
		return nil
	}
	t := &naming{names: map[ID]bool{}, above: map[ID]bool{}}
	for i := range groups {
		if !t.group(d, &groups[i]) {
			return nil
		}
	}
	for i := range w.Shares {
		if e := &w.Shares[i]; !e.Changes() || e.Before.ReadOnly != e.After.ReadOnly || !e.Before.Admission.Same(e.After.Admission) ||
			!t.differ(e.Before.Descriptor, e.After.Descriptor) {
			return nil
		}
	}
	for e := range w.All(false) {
		switch e := e.(type) {
		case *edit.Membership:
			t.names[e.Member.ID], t.above[e.Group.ID] = true, true
		case *edit.Administrator:
			t.names[e.Who.ID] = true
		case *edit.Account:
			if e.Before == nil && e.After.Kind == acc.Group { // who joins it is touched
				continue
			}
			if e.Before == nil || e.After == nil || e.Before.Kind != acc.User || e.Before.POSIX != e.After.POSIX {
				return nil
			}
			was, is := e.Primaries()
			t.names[e.Before.ID], t.above[was], t.above[is] = true, true, true
		}
	}
	for id := range t.names {
		_, special := acc.SpecialName(id)
		_, rid, domain := id.Domain()
		if special || domain && rid == acc.DomainUsersRID {
			return nil
		}
	}
	if !d.K.AllAsThemselves() { // who opens as somebody else is touched by what touches them
		return nil
	}
	if len(t.names) == 0 { // what changes isn't known yet
		return nil
	}
	out := t.holders(d)
	out.sizes = w.Sizes()
	return out
}

// naming gathers the identifiers that a difference names.
type naming struct {
	names map[ID]bool
	above map[ID]bool // groups that somebody comes to or leaves: they count with all above them
}

// group takes in what an edit does to the items it names; false: it can't be told.
func (t *naming) group(d *Planner, g *estate.Group) bool {
	if g.Edit == nil {
		return true
	}
	if len(g.Strands) > mostStrands {
		return false
	}
	var targets []estate.Target
	for _, s := range d.T.StrandsNow(g.Strands) {
		targets = append(targets, estate.Target{Strand: s.ID, Folder: s.Folder})
	}
	seen := map[int64]bool{}
	for _, x := range append(targets, g.Targets...) {
		if seen[x.Strand] {
			continue
		}
		seen[x.Strand] = true
		before := d.T.Of(x.Strand)
		after, err := g.Edit(before, d.T.ParentOf(x.Strand), x.Folder)
		if err != nil || !t.differ(before, after) {
			return false
		}
	}
	return true
}

// mostStrands is how many strands are edited to see whom that touches.
const mostStrands = 4000

// differ takes in who is named where two rules differ; false where they differ in more
// than entries, owner and group.
func (t *naming) differ(before, after rule.Any) bool {
	a, ok := before.(*rule.Descriptor)
	b, too := after.(*rule.Descriptor)
	if !ok || !too || a.Control != b.Control || a.Rules.Absent || b.Rules.Absent || a.Audit.Absent != b.Audit.Absent {
		return before == after
	}
	for _, ids := range [][2]ID{{a.Owner, b.Owner}, {a.Group, b.Group}} { // owning counts for whoever holds the owner
		if ids[0] != ids[1] {
			t.names[ids[0]], t.names[ids[1]] = true, true
		}
	}
	for _, l := range [][2][]rule.Entry{{a.Rules.Entries, b.Rules.Entries}, {a.Audit.Entries, b.Audit.Entries}} {
		common := same(l[0], l[1])
		for _, side := range l {
			for _, e := range side {
				if !slices.Contains(common, e) {
					if e.Kind == rule.Label || e.Kind == rule.Attribute || e.Asks() { // it isn't about those it names alone
						return false
					}
					t.names[e.Who] = true
				}
			}
		}
	}
	return true
}

// same gives the entries that two lists have in common where those stand in one order
// in both; else nothing, for which order they stand in decides too.
func same(a, b []rule.Entry) []rule.Entry {
	in := func(list, other []rule.Entry) (out []rule.Entry) {
		for _, e := range list {
			if slices.Contains(other, e) {
				out = append(out, e)
			}
		}
		return out
	}
	x, y := in(a, b), in(b, a)
	if !slices.Equal(x, y) {
		return nil
	}
	return x
}

// holders finds everybody who may hold one of the names.
func (t *naming) holders(d *Planner) *touched {
	names := slices.Collect(maps.Keys(t.names))
	dir := d.T.Holders(names, slices.Collect(maps.Keys(t.above)))
	out := &touched{dir: dir, counts: estate.Identifiers(dir), names: t.names}
	for _, id := range names {
		out.counts[id] = true
	}
	d.K.Met = out.dir
	return out
}

// apart lists places that are told apart from what is alike: where shares come down,
// and what reviews look at one by one.
func (d *Planner) apart() (out []estate.Target, err error) {
	out = d.K.ShareFolders()
	for _, r := range reviews {
		if r.Places == nil {
			continue
		}
		places, err := r.Places(d)
		if err != nil {
			return nil, err
		}
		out = append(out, places...)
	}
	seen := map[int64]bool{}
	return slices.DeleteFunc(out, func(x estate.Target) bool {
		twice := seen[x.Item]
		seen[x.Item] = true
		return twice
	}), nil
}

// exactly makes the plan again, with everything and everybody, where it was made for
// those it touches alone. What it does to whom is known, and not asked again.
func (p *Plan) exactly(t *estate.Tx) (*Plan, error) {
	if p.Work.For == nil {
		return p, nil
	}
	d := New(t, p.Actor)
	d.exact, d.known = true, true
	again, err := p.again(d)
	if err != nil {
		return nil, err
	}
	if !slices.EqualFunc(shown(p), shown(again), func(a, b edit.Description) bool {
		return a.Kind == b.Kind && a.Where == b.Where && a.Items == b.Items && slices.Equal(a.Lines, b.Lines)
	}) {
		return nil, errors.New("the change turned out differently when it was about to be kept than when it was shown; nothing was changed")
	}
	again.Change, again.Head = p.Change, p.Head
	return again, nil
}

// shown are a plan's edits of who may do what, as they are told.
func shown(p *Plan) (out []edit.Description) {
	for _, e := range p.Edits {
		switch e.Kind {
		case "item", "share", "membership", "account", "administrator":
			out = append(out, e)
		}
	}
	return out
}

// uncertain tells whether what is said of a plan made for few hangs on others too.
func (t *touched) uncertain(p *Plan) bool {
	return t.others || t.sizes != p.Work.Sizes() || slices.ContainsFunc(p.Warnings, func(w Warning) bool { return w.Guard == string(guard.Orphans) })
}
