package confirm

import (
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/keeper"
)

// Status is how far a review is.
type Status struct {
	Review   string       `json:"review"`
	State    string       `json:"state"`
	Of       []string     `json:"of"`
	Due      string       `json:"due,omitempty"`
	Overdue  bool         `json:"overdue"`
	Rows     int          `json:"rows"` // of all parts: what two keep is twice among them
	Answered int          `json:"answered"`
	Started  string       `json:"started-at"`
	By       string       `json:"started-by"`
	Closed   string       `json:"closed-at,omitempty"`
	ClosedBy string       `json:"closed-by,omitempty"`
	Says     string       `json:"-"`
	Parts    []PartStatus `json:"parts"`
}

// PartStatus is how far a part is.
type PartStatus struct {
	Part     string   `json:"part"`
	Now      string   `json:"now,omitempty"`
	Mail     []string `json:"mail"`
	Rows     int      `json:"rows"`
	Answered int      `json:"answered"`
	Keep     int      `json:"keep"`
	Take     int      `json:"take-away"`
	Ask      int      `json:"ask"`
}

// StatusOf tells how far a review is, part by part.
func StatusOf(t *estate.Tx, r *Review) (*Status, error) {
	all, err := parts(t, r)
	if err != nil {
		return nil, err
	}
	s := &Status{Review: r.Name, State: r.State, Of: r.Of, Due: r.Due, Overdue: r.Overdue(estate.Today()), Started: r.StartedAt, By: r.StartedBy, Closed: r.ClosedAt, ClosedBy: r.ClosedBy, Says: r.Says(), Parts: []PartStatus{}}
	for i := range all {
		p := &all[i]
		x := PartStatus{Part: p.Called(), Rows: len(p.Rows), Mail: []string{}}
		for _, a := range p.answers() {
			x.Answered++
			switch a.what {
			case Keep:
				x.Keep++
			case Take:
				x.Take++
			case Ask:
				x.Ask++
			}
		}
		if p.Who != "" {
			k := keeper.Written(t, p.Who)
			x.Now = k.Now
			for _, a := range mailed(t, k.ID()) {
				if m := t.MetadataOf(a).Mail; m != "" && len(x.Mail) < mostMailed {
					x.Mail = append(x.Mail, m)
				}
			}
		}
		s.Rows, s.Answered = s.Rows+x.Rows, s.Answered+x.Answered
		s.Parts = append(s.Parts, x)
	}
	slices.SortStableFunc(s.Parts, func(a, b PartStatus) int { return strings.Compare(a.Part, b.Part) })
	return s, t.Err()
}

// mostMailed is how many addresses of a group that keeps are told.
const mostMailed = 50

// mailed gives the users whom a keeper is: themselves, or who is in the group.
func mailed(t *estate.Tx, id plan.ID) []plan.ID {
	a, ok := t.Account(id)
	if !ok || a.Kind == acc.User {
		return []plan.ID{id}
	}
	return t.MembersOf(id)
}

// PartRow is a row of a part, and what was said of it.
type PartRow struct {
	Row
	Answer string `json:"answer,omitempty"`
	Note   string `json:"note,omitempty"`
	By     string `json:"answered-by,omitempty"`
}

// PartRows are the rows of a part that are still so; gone is how many aren't.
type PartRows struct {
	Review string    `json:"review"`
	Part   string    `json:"part"`
	Who    string    `json:"-"`
	Due    string    `json:"due,omitempty"`
	Says   string    `json:"-"`
	Rows   []PartRow `json:"rows"`
	Gone   int       `json:"not-so-any-more"`
	// Above is what comes to the places of the part from folders above, and is confirmed there.
	Above []FromAbove `json:"from-above"`
}

// FromAbove is an allow entry that a kept place has from a folder above.
type FromAbove struct {
	Where  string `json:"where"`
	Who    string `json:"who"`
	What   string `json:"what"`
	SetOn  string `json:"set-on"` // "": nowhere now
	People int    `json:"people"`
}

// PartsOf gives the rows of a review's parts, or of those that are wanted by what they are
// called; fn is called with each.
func PartsOf(d *plan.Planner, r *Review, want []string, fn func(*PartRows) error) error {
	all, err := parts(d.T, r)
	if err != nil {
		return err
	}
	var names []string
	for i := range all {
		names = append(names, all[i].Called())
	}
	for _, x := range want {
		if !slices.ContainsFunc(names, func(n string) bool { return estate.Key(n) == estate.Key(x) }) {
			return &estate.NotFound{What: "part", Name: x, Near: estate.Nearest(x, names), In: "review " + r.Name + "; see: tarnwold review show " + r.Name}
		}
	}
	if len(want) > 0 {
		all = slices.DeleteFunc(all, func(p Part) bool {
			return !slices.ContainsFunc(want, func(x string) bool { return estate.Key(x) == estate.Key(p.Called()) })
		})
	}
	w, err := newWalk(d, acc.Account{}, false)
	if err != nil {
		return err
	}
	in := map[uint64][]int{}
	for i := range all {
		for _, k := range all[i].Rows {
			in[k] = append(in[k], i)
		}
	}
	w.only = func(key uint64) bool { return len(in[key]) > 0 }
	out := make([]PartRows, len(all))
	answers := make([]map[uint64]said, len(all))
	for i := range all {
		out[i] = PartRows{Review: r.Name, Part: all[i].Called(), Who: all[i].Who, Due: r.Due, Says: r.Says(), Rows: []PartRow{}, Gone: len(all[i].Rows)}
		answers[i] = all[i].answers()
	}
	if err := w.each(r.Of, func(x *Row) error {
		for _, i := range in[x.key] {
			a := answers[i][x.key]
			out[i].Rows = append(out[i].Rows, PartRow{Row: *x, Answer: a.what, Note: a.note, By: a.by})
			out[i].Gone--
		}
		return nil
	}); err != nil {
		return err
	}
	for i := range out {
		if out[i].Above, err = w.above(all[i].Who, r.Covers); err != nil {
			return err
		}
		slices.SortStableFunc(out[i].Rows, func(a, b PartRow) int { return strings.Compare(a.Where, b.Where) })
		if err := fn(&out[i]); err != nil {
			return err
		}
	}
	return nil
}

// above lists what comes from above to the places that somebody keeps and that a review
// covers.
func (w *walk) above(who string, covers []string) ([]FromAbove, error) {
	out := []FromAbove{}
	t := w.d.T
	for _, o := range w.k.All {
		if o.Who != who || !slices.Contains(covers, o.Of) {
			continue
		}
		if _, group := o.Group(); group {
			continue
		}
		p, err := t.FindText(o.Of)
		if err != nil {
			continue // it is there no more
		}
		d := plan.Desc(t.Of(p.Strand))
		if d == nil {
			continue
		}
		up := plan.Descs(t.Above(p))
		for _, e := range d.Rules.FromAbove() {
			if e.Kind != rule.Allow {
				continue
			}
			x := FromAbove{Where: p.String(), Who: t.Name(e.Who), People: w.users(e.Who)}
			x.What = strings.Replace(w.lang.Write(e, p.Folder), " "+x.Who+" ", " ", 1)
			if i, _, ok := rule.Origin(e, p.Folder, up); ok {
				x.SetOn = p.Up(i + 1)
			}
			out = append(out, x)
		}
	}
	return out, t.Err()
}
