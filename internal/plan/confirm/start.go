package confirm

import (
	"fmt"
	"slices"
	"strings"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
)

// Starting says what a review is to be.
type Starting struct {
	Name    string
	Of      []string
	By      string // "keepers", or an account
	Due     estate.Day
	Changed bool // only what wasn't kept by the last one that was closed
}

// longestName is how many bytes the name of a review has.
const longestName = 100

// Start begins a review: it is written down who is to confirm what.
func Start(d *plan.Planner, s Starting) (*plan.Plan, error) {
	if err := estate.GoodName("review", s.Name); err != nil {
		return nil, err
	}
	if len(s.Name) > longestName {
		return nil, &estate.Refused{Why: fmt.Sprintf("the name of a review has %d bytes at most", longestName)}
	}
	if d.T.Record(estate.ReviewRecord, s.Name) != "" {
		return nil, &estate.Refused{Why: "there is a review " + s.Name + " already", Do: "choose another name"}
	}
	if err := d.Future(s.Due); err != nil {
		return nil, err
	}
	r := &Review{Name: s.Name, State: Open, Of: append([]string{}, s.Of...), Due: string(s.Due), StartedBy: d.Actor, StartedAt: time.Now().UTC().Format(time.RFC3339), Covers: []string{}}
	by, err := r.readBy(d, s.By)
	if err != nil {
		return nil, err
	}
	var kept Keys
	if s.Changed {
		last, err := lastClosed(d.T)
		if err != nil {
			return nil, err
		}
		if last == nil {
			return nil, &estate.Refused{Why: "no review was closed yet, so that nothing is known to be kept", Do: "leave --changed out"}
		}
		r.Since, kept = last.Name, last.Kept
	}
	w, err := newWalk(d, by, true)
	if err != nil {
		return nil, err
	}
	if len(s.Of) == 0 && len(w.k.All) == 0 {
		return nil, &estate.Refused{Why: "nobody keeps anything", Do: "say what is reviewed with --of, or who keeps it: tarnwold keeper add"}
	}
	rows := 0
	if err := w.each(s.Of, func(x *Row) error {
		key := x.key
		if kept.Has(key) {
			return nil
		}
		rows++
		for _, i := range x.parts {
			w.parts[i].Rows = append(w.parts[i].Rows, key)
		}
		if rows%10_000 == 0 {
			d.Doing(fmt.Sprintf("%d rows", rows))
		}
		return nil
	}); err != nil {
		return nil, err
	}
	if rows == 0 {
		why := "nothing is set there that could be reviewed"
		if s.Changed {
			why = "nothing is set there that review " + r.Since + " didn't keep"
		}
		return nil, &estate.Refused{Why: why}
	}
	if r.Covers, err = w.covered(s.Of); err != nil {
		return nil, err
	}
	p := d.NewPlan("review %s of %s begun: %s", s.Name, r.Says(), format.Count(int64(rows), "row"))
	p.Asks = false
	slices.SortStableFunc(w.parts, func(a, b Part) int { return strings.Compare(a.Name, b.Name) })
	for i := range w.parts {
		x := &w.parts[i]
		if len(x.Rows) == 0 {
			continue
		}
		x.Review, x.Rows = s.Name, x.Rows.sorted()
		r.Parts = append(r.Parts, x.Who)
		if err := p.SetRecord(estate.PartRecord, partName(s.Name, x.Who), "", x, edit.Description{Kind: "review", Where: "review " + s.Name,
			Lines: []edit.Line{{Sign: edit.Comes, What: "review", Text: fmt.Sprintf("part of %s: %s", x.Called(), format.Count(int64(len(x.Rows)), "row"))}}}); err != nil {
			return nil, err
		}
	}
	if err := p.SetRecord(estate.ReviewRecord, s.Name, "", r, edit.Description{Kind: "review", Where: "review " + s.Name,
		Lines: []edit.Line{{Sign: edit.Comes, What: "review", Text: Open + ": " + r.Says()}}}); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// readBy finds whom all of a review goes to; nobody: its keepers.
func (r *Review) readBy(d *plan.Planner, by string) (a acc.Account, err error) {
	if by == "" || by == "keepers" {
		return a, nil
	}
	if a, err = d.T.Named(by, 0); err == nil {
		r.By = a.ID.String()
	}
	return a, err
}

// covered lists what is kept and asked of, each once, as keepers are written down.
func (w *walk) covered(of []string) ([]string, error) {
	out := []string{}
	places, groups, err := w.scopes(of)
	for _, o := range w.k.All {
		asked := false
		if pattern, ok := o.Group(); ok {
			asked = fits(groups, pattern)
		} else if at, err := w.d.T.FindText(o.Of); err == nil { // or it is there no more
			asked = slices.ContainsFunc(places, func(p estate.Place) bool { return uses.Covers(p, at) })
		}
		if asked && !slices.Contains(out, o.Of) {
			out = append(out, o.Of)
		}
	}
	return out, err
}

func lastClosed(t *estate.Tx) (last *Review, err error) {
	all, err := Reviews(t)
	for i := range all {
		if all[i].State == Closed && (last == nil || all[i].ClosedAt >= last.ClosedAt) {
			last = &all[i]
		}
	}
	return last, err
}
