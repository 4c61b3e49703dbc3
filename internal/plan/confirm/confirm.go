// Package confirm has keepers confirm what is set on what they keep, or take it away: a
// review is begun, answered part by part, and closed by one plan of what is to go.
package confirm

import (
	"cmp"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/keeper"
)

// Review is what keepers are asked to confirm.
type Review struct {
	Name      string   `json:"review"`
	State     string   `json:"state"`         // open or closed
	Of        []string `json:"of"`            // places and group:PATTERN; none: all that is kept
	By        string   `json:"by,omitempty"`  // one account that all of it goes to; else to keepers
	Due       string   `json:"due,omitempty"` // a day
	Since     string   `json:"only-new-since,omitempty"`
	StartedBy string   `json:"started-by"`
	StartedAt string   `json:"started-at"` // RFC 3339, UTC
	Parts     []string `json:"parts"`      // who has one: an account, "" whoever keeps nothing, manager-of:…
	ClosedBy  string   `json:"closed-by,omitempty"`
	ClosedAt  string   `json:"closed-at,omitempty"`
	// Kept is what was confirmed when it was closed, so that the next one needn't ask again.
	Kept Keys `json:"kept,omitempty"`
	// Covers is what it asked of those who keep it, as keepers are written down.
	Covers []string `json:"covers"`
}

// States of a review.
const (
	Open   = "open"
	Closed = "closed"
)

// Part is what one keeper is asked.
type Part struct {
	Review string   `json:"review"`
	Who    string   `json:"who"`
	Name   string   `json:"name"` // as it was when it was begun; "" where nobody keeps it
	Rows   Keys     `json:"rows"`
	Said   []Answer `json:"said,omitempty"` // in order; what is said later counts
}

// Answer is what somebody said of some rows at once.
type Answer struct {
	By    string            `json:"by"`
	ID    string            `json:"identifier,omitempty"`
	At    string            `json:"at"` // RFC 3339, UTC
	Keep  Keys              `json:"keep,omitempty"`
	Take  Keys              `json:"take-away,omitempty"`
	Ask   Keys              `json:"ask,omitempty"`
	Notes map[string]string `json:"notes,omitempty"`
}

// What is said of a row.
const (
	Keep = "keep"
	Take = "take away"
	Ask  = "ask"
)

// Keys are rows, in order; as JSON eight bytes each in base64.
type Keys []uint64

func (k Keys) MarshalJSON() ([]byte, error) {
	b := make([]byte, 0, 8*len(k))
	for _, x := range k {
		b = binary.BigEndian.AppendUint64(b, x)
	}
	return json.Marshal(base64.StdEncoding.EncodeToString(b))
}

func (k *Keys) UnmarshalJSON(text []byte) error {
	var s string
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	b, err := base64.StdEncoding.DecodeString(s)
	if err != nil || len(b)%8 != 0 {
		return fmt.Errorf("rows of a review are eight bytes each, in base64")
	}
	*k = make(Keys, 0, len(b)/8)
	for ; len(b) > 0; b = b[8:] {
		*k = append(*k, binary.BigEndian.Uint64(b))
	}
	slices.Sort(*k) // they are looked for by halves
	return nil
}

// Has tells whether a row is one of them.
func (k Keys) Has(x uint64) bool { _, ok := slices.BinarySearch(k, x); return ok }

func (k Keys) sorted() Keys { slices.Sort(k); return slices.Compact(k) }

func parseKey(s string) (uint64, error) { return strconv.ParseUint(s, 16, 64) }

func init() {
	plan.AddRecordWords(estate.ReviewRecord, func(e *edit.Description, body string, _ edit.Sign) {
		var r Review
		if json.Unmarshal([]byte(body), &r) == nil {
			e.Where, e.Lines[0].What, e.Lines[0].Text = "review "+r.Name, "review", r.State+": "+r.Says()
		}
	})
	plan.AddRecordWords(estate.PartRecord, func(e *edit.Description, body string, _ edit.Sign) {
		var p Part
		if json.Unmarshal([]byte(body), &p) == nil {
			e.Where, e.Lines[0].What = "review "+p.Review, "review"
			e.Lines[0].Text = fmt.Sprintf("part of %s: %s, %d answered", p.Called(), counted(len(p.Rows), "row"), len(p.answers()))
		}
	})
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Says says what a review is of.
func (r *Review) Says() string {
	s := "all that is kept"
	if len(r.Of) > 0 {
		s = strings.Join(r.Of, ", ")
	}
	if r.Due != "" {
		s += ", due " + r.Due
	}
	return s
}

// Overdue tells whether its day is past.
func (r *Review) Overdue(today estate.Day) bool {
	return r.State == Open && r.Due != "" && r.Due < string(today)
}

// Called is whose part it is.
func (p *Part) Called() string {
	return cmp.Or(p.Name, "nobody")
}

// said is the last that was said of a row.
type said struct {
	what, by, id, note string
}

func (p *Part) answers() map[uint64]said {
	out := map[uint64]said{}
	for i := range p.Said {
		a := &p.Said[i]
		for what, keys := range map[string]Keys{Keep: a.Keep, Take: a.Take, Ask: a.Ask} {
			for _, k := range keys {
				out[k] = said{what, a.By, a.ID, a.Notes[fmt.Sprintf("%016x", k)]}
			}
		}
	}
	return out
}

func partName(review, who string) string { return review + "/" + cmp.Or(who, "-") }

// Reviews lists all reviews, oldest first.
func Reviews(t *estate.Tx) ([]Review, error) {
	return plan.RecordsAs[Review](t, estate.ReviewRecord)
}

// Find finds a review.
func Find(t *estate.Tx, name string) (*Review, error) {
	r, err := plan.RecordAs[Review](t, estate.ReviewRecord, name)
	if r != nil || err != nil {
		return r, err
	}
	all, err := Reviews(t)
	var names []string
	for i := range all {
		names = append(names, all[i].Name)
	}
	if err == nil {
		err = &estate.NotFound{What: "review", Name: name, Near: estate.Nearest(name, names), In: "the estate; see: tarnwold review list"}
	}
	return nil, err
}

// parts reads the parts of a review.
func parts(t *estate.Tx, r *Review) (out []Part, err error) {
	for _, who := range r.Parts {
		p, err := plan.RecordAs[Part](t, estate.PartRecord, partName(r.Name, who))
		if err != nil {
			return nil, err
		}
		if p == nil {
			return nil, fmt.Errorf("a part of review %s is missing", r.Name)
		}
		if p.Who != "" { // as they are called now
			if k := keeper.Written(t, p.Who); k.Name != "" {
				p.Name = k.Name
			}
		}
		out = append(out, *p)
	}
	return out, nil
}

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
	rows, covers := 0, map[string]bool{}
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
	for _, o := range w.covered(s.Of) {
		if !covers[o] {
			covers[o] = true
			r.Covers = append(r.Covers, o)
		}
	}
	p := d.NewPlan("review %s of %s begun: %s", s.Name, r.Says(), counted(rows, "row"))
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
			Lines: []edit.Line{{Sign: edit.Comes, What: "review", Text: fmt.Sprintf("part of %s: %s", x.Called(), counted(len(x.Rows), "row"))}}}); err != nil {
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

// covered lists what is kept and asked of, as keepers are written down.
func (w *walk) covered(of []string) (out []string) {
	places, groups, err := w.scopes(of)
	if err != nil {
		return nil
	}
	for _, o := range w.k.All {
		if pattern, ok := o.Group(); ok {
			if slices.Contains(groups, pattern) || fits(groups, pattern) {
				out = append(out, o.Of)
			}
			continue
		}
		at, err := w.d.T.FindText(o.Of)
		if err != nil {
			continue
		}
		if slices.ContainsFunc(places, func(p estate.Place) bool { return uses.Covers(p, at) }) {
			out = append(out, o.Of)
		}
	}
	return out
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

// Answered takes in what was said of a part.
func Answered(d *plan.Planner, s *workbook.Answers) (*plan.Plan, error) {
	r, err := Find(d.T, s.Review)
	if err != nil {
		return nil, err
	}
	if r.State != Open {
		return nil, &estate.Refused{Why: fmt.Sprintf("review %s is closed since %s", r.Name, estate.Moment(r.ClosedAt))}
	}
	before := d.T.Record(estate.PartRecord, partName(r.Name, s.Part))
	part, err := plan.RecordAs[Part](d.T, estate.PartRecord, partName(r.Name, s.Part))
	if err == nil && part == nil {
		err = &estate.Refused{Why: "review " + r.Name + " has no such part"}
	}
	if err != nil {
		return nil, err
	}
	had, now := part.answers(), Answer{By: d.Actor, At: time.Now().UTC().Format(time.RFC3339), Notes: map[string]string{}}
	actor, known := d.ActingUser()
	if known {
		now.ID = actor.ID.String()
	}
	for _, x := range s.Rows {
		key, err := parseKey(x.Key)
		if err != nil || !part.Rows.Has(key) {
			return nil, s.Wrong(x.At, "row", "%q is no row of this part of review %s", x.Key, r.Name)
		}
		var to *Keys
		switch strings.ToLower(x.Answer) {
		case "":
			continue
		case Keep, "k":
			to, x.Answer = &now.Keep, Keep
		case Take, "t", "take", "remove":
			to, x.Answer = &now.Take, Take
		case Ask, "a", "?":
			to, x.Answer = &now.Ask, Ask
		default:
			return nil, s.Wrong(x.At, "answer", "%q is no answer; wanted keep, take away or ask", x.Answer)
		}
		if len(x.Note) > longestNote {
			return nil, s.Wrong(x.At, "note", "it is longer than %d bytes", longestNote)
		}
		if old, ok := had[key]; ok && old.what == x.Answer && old.note == x.Note {
			continue
		}
		*to = append(*to, key)
		if x.Note != "" {
			now.Notes[fmt.Sprintf("%016x", key)] = x.Note
		}
	}
	n := len(now.Keep) + len(now.Take) + len(now.Ask)
	p := d.NewPlan("review %s: %s of %s answered (%d keep, %d take away, %d ask)", r.Name, counted(n, "row"), part.Called(), len(now.Keep), len(now.Take), len(now.Ask))
	p.Asks = false
	p.Nothing = "no row says anything that wasn't said before"
	if n == 0 {
		return d.Evaluate(p)
	}
	for _, k := range []*Keys{&now.Keep, &now.Take, &now.Ask} {
		*k = k.sorted()
	}
	part.Said = append(part.Said, now)
	if err := p.SetRecord(estate.PartRecord, partName(r.Name, s.Part), before, part, edit.Description{Kind: "review", Where: "review " + r.Name,
		Lines: []edit.Line{{Sign: edit.Changes, What: "review", Text: fmt.Sprintf("part of %s: %d of %s answered", part.Called(), len(part.answers()), counted(len(part.Rows), "row"))}}}); err != nil {
		return nil, err
	}
	if p, err = d.Evaluate(p); err != nil {
		return nil, err
	}
	k, err := keeper.Of(d)
	if err != nil {
		return nil, err
	}
	if s.Part != "" && !k.Is(actor.ID, []keeper.Keeper{keeper.Written(d.T, s.Part)}) {
		p.Warnings = append(p.Warnings, plan.Warning{Guard: "kept", Users: []string{part.Called()}, Where: "their part of review " + r.Name})
	}
	return p, nil
}

// longestNote is how many bytes a note has.
const longestNote = 1000

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
