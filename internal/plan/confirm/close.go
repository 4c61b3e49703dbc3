package confirm

import (
	"fmt"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
)

// Closing is what a review comes to when it is closed.
type Closing struct {
	Review     string    `json:"review"`
	Rows       int       `json:"rows"`
	Kept       int       `json:"kept"`
	Taken      int       `json:"taken-away"`
	Gone       int       `json:"gone-before"` // to be taken away, and not there any more
	Asked      []Settled `json:"asked"`
	Disagreed  []Settled `json:"disagreed"` // of whom two keepers say different things
	Unanswered []Waiting `json:"unanswered"`
}

// Settled is a row on which nothing was done.
type Settled struct {
	Where string `json:"where"`
	Who   string `json:"who"`
	What  string `json:"what"`
	By    string `json:"by"`
	Note  string `json:"note,omitempty"`
}

// Waiting is a part with rows that nobody answered.
type Waiting struct {
	Part string `json:"part"`
	Rows int    `json:"rows"`
}

// Close ends a review: one plan takes away all that is to go, and nothing else.
func Close(d *plan.Planner, name string) (*plan.Plan, *Closing, error) {
	r, err := Find(d.T, name)
	if err != nil {
		return nil, nil, err
	}
	if r.State != Open {
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("review %s is closed already, since %s", r.Name, estate.Moment(r.ClosedAt))}
	}
	all, err := parts(d.T, r)
	if err != nil {
		return nil, nil, err
	}
	out := &Closing{Review: r.Name, Asked: []Settled{}, Disagreed: []Settled{}, Unanswered: []Waiting{}}
	// What was said of each row, by whoever has it in their part.
	type verdict struct {
		said
		differs bool
	}
	settled, rows := map[uint64]verdict{}, map[uint64]bool{}
	for i := range all {
		answers, open := all[i].answers(), 0
		for _, k := range all[i].Rows {
			rows[k] = true
			a, ok := answers[k]
			if !ok {
				open++
				continue
			}
			v, was := settled[k]
			if was && v.what != a.what {
				v.differs = true
				v.by += ", " + a.by
			} else if !was {
				v = verdict{said: a}
			}
			settled[k] = v
		}
		if open > 0 {
			out.Unanswered = append(out.Unanswered, Waiting{all[i].Called(), open})
		}
	}
	out.Rows = len(rows)
	takes := map[uint64]bool{}
	for k, v := range settled {
		switch {
		case v.differs:
		case v.what == Keep:
			out.Kept++
			r.Kept = append(r.Kept, k)
		case v.what == Take:
			takes[k] = true
		}
	}
	r.Kept = r.Kept.sorted()
	before := d.T.Record(estate.ReviewRecord, r.Name)
	p := d.NewPlan("review %s closed", r.Name)
	b := d.Bundle(p)
	w, err := newWalk(d, acc.Account{}, false)
	if err != nil {
		return nil, nil, err
	}
	w.only = func(key uint64) bool { _, ok := settled[key]; return ok }
	words := map[plan.ID]bool{}
	x := &taking{d: d, b: b, edits: map[string]*plan.ItemEdit{}}
	if err := w.each(r.Of, func(row *Row) error {
		key := row.key
		v := settled[key]
		one := Settled{row.Where, row.Who, row.What, v.by, v.note}
		switch {
		case v.differs:
			out.Disagreed = append(out.Disagreed, one)
		case v.what == Ask:
			out.Asked = append(out.Asked, one)
		case v.what == Take && takes[key]:
			delete(takes, key)
			out.Taken++
			if id, err := acc.ParseID(v.id); err == nil && !words[id] {
				words[id] = true
				p.OnWord = append(p.OnWord, id)
			}
			return x.row(row)
		}
		return nil
	}); err != nil {
		return nil, nil, err
	}
	out.Gone = len(takes)
	open := 0
	for _, u := range out.Unanswered {
		open += u.Rows
	}
	p.Change = fmt.Sprintf("review %s closed: %d kept, %d taken away, %d asked about, %d not answered", r.Name, out.Kept, out.Taken, len(out.Asked), open)
	r.State, r.ClosedBy, r.ClosedAt = Closed, d.Actor, time.Now().UTC().Format(time.RFC3339)
	if err := p.SetRecord(estate.ReviewRecord, r.Name, before, r, edit.Description{Kind: "review", Where: "review " + r.Name,
		Lines: []edit.Line{{Sign: edit.Changes, What: "review", Text: Closed}}}); err != nil {
		return nil, nil, err
	}
	if err := b.Done(); err != nil {
		return nil, nil, err
	}
	p, err = d.Evaluate(p)
	return p, out, err
}

// taking gathers what a review takes away.
type taking struct {
	d     *plan.Planner
	b     *plan.Bundle
	edits map[string]*plan.ItemEdit
}

func (x *taking) row(r *Row) error {
	switch r.Kind {
	case OfMember:
		g, _ := x.d.T.Account(r.group)
		m, _ := x.d.T.Account(r.who)
		had, ok := x.d.T.Member(r.group, r.who)
		if ok {
			x.b.P.Work.Members = append(x.b.P.Work.Members, edit.Membership{Group: &g, Member: &m, Was: &had})
		}
		return nil
	case OfShare:
		x.b.Share(*r.server, *r.share, x.edit(r))
		return nil
	}
	x.b.Item(x.d.T.Place(r.item).Target(), x.edit(r))
	return nil
}

// edit takes away just an entry; of a POSIX list all that names the account.
func (x *taking) edit(r *Row) *plan.ItemEdit {
	key := fmt.Sprintf("%t %s", r.posix, estate.EntryKey(r.entry)+r.entry.Extra.Tail)
	if e, ok := x.edits[key]; ok {
		return e
	}
	e := entry.TakingEdit(x.d, rule.Which{Who: r.who, Kinds: []rule.Kind{rule.Allow}})
	if !r.posix {
		gone := r.entry
		e.Make = func(b, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
			return b.Without([]rule.Entry{gone}), nil
		}
		e.Dates = nil
	}
	x.edits[key] = &e
	return &e
}
