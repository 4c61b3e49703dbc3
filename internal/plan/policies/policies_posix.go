package policies

import (
	"slices"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
)

// setPosix is what a policy's block makes of rules of a POSIX tree; sealed is
// having no default list.
// Where laying, what can't be told apart from entries that are there is refused.
func (w *wants) setPosix(d *plan.Planner, r *posix.Rules, dated estate.Dated, today estate.Day, laying bool) (*posix.Rules, estate.Dated, error) {
	first := r
	if w.seal != "" && r.Folder {
		r = r.WithDefault(nil)
	}
	if !w.owner.IsZero() {
		id, err := entry.Number(d, w.owner)
		if err != nil {
			return nil, nil, err
		}
		if _, user, ok := id.POSIX(); ok && !user {
			r = r.OwnedBy(plan.ID{}, id)
		} else {
			r = r.OwnedBy(id, plan.ID{})
		}
	}
	onlys := map[plan.ID]bool{}
	for i := range w.entries {
		e := &w.entries[i]
		l := e.line
		if w.seal != "" {
			l.Scope &= rule.Here // sealed, it hands nothing down
		}
		g, err := entry.Granting(d, l, e.what, d.T.Name(l.Who))
		if err != nil {
			return nil, nil, err
		}
		if e.until != "" && e.until < today {
			continue
		}
		g.Exactly = e.only && !onlys[l.Who]
		onlys[l.Who] = true
		if laying {
			if err := g.Mixed(r, dated, e.until); err != nil {
				return nil, nil, err
			}
		}
		if r, err = g.Give(r); err != nil {
			return nil, nil, err
		}
		dated = g.Dates(r.Listed(), r.Folder, dated, e.until)
	}
	return r.Normalized(first).(*posix.Rules), plan.Still(dated, r.Listed()), nil
}

// withoutPosix gives what rules of a POSIX tree would be without what a policy
// set there.
func (l *LaidPlace) withoutPosix(r *posix.Rules, dated estate.Dated) (*posix.Rules, estate.Dated, error) {
	b, err := plan.Decoded(l.Before)
	if err != nil {
		return nil, nil, err
	}
	a, err := plan.Decoded(l.After)
	if err != nil {
		return nil, nil, err
	}
	before, ok := b.(*posix.Rules)
	after, also := a.(*posix.Rules)
	if !ok || !also {
		return nil, nil, &estate.Refused{Why: l.Where + " was not an item of a POSIX tree when the policy was laid"}
	}
	back := r.TakingBack(before, after)
	if r.SameLists(after) || back.SameLists(before) {
		back = before
	}
	out := plan.Still(dated, back.Listed())
	for _, e := range before.Listed().Rules.Entries {
		if k := estate.EntryKey(e); l.Was[k] != "" {
			out[e] = estate.Day(l.Was[k])
		} else if l.Is[k] != "" && string(out[e]) == l.Is[k] {
			delete(out, e)
		}
	}
	return back, plan.Still(out, back.Listed()), nil
}

// offPosix is offOf for rules of a POSIX tree.
func offPosix(d *plan.Planner, w *wants, now *posix.Rules, dated estate.Dated, folder bool) (lines []edit.Line) {
	then, days, err := w.setPosix(d, now, dated, d.Today, false)
	if err != nil {
		return []edit.Line{{Sign: edit.Goes, What: "entry", Text: err.Error()}}
	}
	turn := map[edit.Sign]edit.Sign{edit.Comes: edit.Goes, edit.Goes: edit.Comes}
	for _, l := range d.DiffPosix(now, then) {
		if s, ok := turn[l.Sign]; ok {
			l.Sign = s
		}
		lines = append(lines, l)
	}
	for _, e := range then.Named() {
		if slices.Contains(now.Named(), e) && dated[e] != days[e] {
			lines = append(lines, edit.Line{Sign: edit.Changes, What: "last-day", Text: d.EntryText(e, folder) + untilSaid(dated[e]) + ", wanted" + untilSaid(days[e])})
		}
	}
	return lines
}
