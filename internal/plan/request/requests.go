// Package request keeps what somebody asked for until a keeper settles it, and
// makes the plan of what is accepted.
package request

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/review"
)

// Duty is two hands in one: somebody who could open a door to themselves alone.
type Duty struct {
	// Kind: both-keys (they decide on a group's members and on a place that
	// group opens), own-request, administrator.
	Kind  string   `json:"kind"`
	Who   string   `json:"who"`
	Group string   `json:"group,omitempty"`
	Where string   `json:"where,omitempty"` // the place, or the server
	By    []string `json:"by"`              // the keeperships, or the request
	What  string   `json:"what,omitempty"`  // the entry by which the group opens the place
}

// Duties lists who holds two keys that should be in two hands.
func Duties(d *plan.Planner) ([]Duty, error) {
	out := []Duty{}
	k, err := keeper.Of(d)
	if err != nil {
		return nil, err
	}
	dir := k.Dir()
	users := func(id plan.ID) (names []string) {
		if a, ok := dir.Account(id); ok && a.Kind == acc.User {
			return []string{d.T.Name(id)}
		}
		for _, m := range dir.MembersBelow(id) {
			if a, ok := dir.Account(m.ID); ok && a.Kind == acc.User {
				names = append(names, d.T.Name(m.ID))
			}
		}
		return names
	}
	// Groups that are kept, and all that hold them.
	type kept struct {
		group acc.Account
		by    map[string][]string // user → keeperships
		wide  map[plan.ID]bool
	}
	var groups []kept
	for _, g := range d.T.Accounts(acc.Group) {
		by := map[string][]string{}
		for _, o := range k.Group(g.Name) {
			for _, u := range users(o.ID()) {
				by[u] = append(by[u], keptAs(d, &o, u))
			}
		}
		if len(by) > 0 {
			wide := map[plan.ID]bool{}
			for _, id := range acc.NewToken(dir, g.ID, acc.Traits{}).IDs() {
				wide[id] = true
			}
			wide[g.ID] = true
			groups = append(groups, kept{g, by, wide})
		}
	}
	places := map[string]bool{}
	for _, o := range k.All {
		if _, ok := o.Group(); ok || places[o.Of] {
			continue
		}
		places[o.Of] = true
		at, err := d.T.FindText(o.Of)
		if err != nil {
			continue // it is there no more
		}
		by := map[string][]string{}
		for _, o := range k.Place(o.Of) {
			for _, u := range users(o.ID()) {
				by[u] = append(by[u], keptAs(d, &o, u))
			}
		}
		named, err := opens(d, at)
		if err != nil {
			return nil, err
		}
		for _, g := range groups {
			for u, groupBy := range g.by {
				placeBy := by[u]
				if placeBy == nil {
					continue
				}
				for _, e := range named {
					if g.wide[e.Who] {
						out = append(out, Duty{Kind: "both-keys", Who: u, Group: d.T.Name(g.group.ID), Where: at.String(), By: slices.Concat(groupBy, placeBy),
							What: ask.Language(d.T).Write(e, true)})
						break
					}
				}
			}
		}
	}
	requests, err := Requests(d.T)
	if err != nil {
		return nil, err
	}
	for _, r := range requests {
		if r.State != Open {
			continue
		}
		for _, u := range r.People(d.T) {
			if k.Is(u.ID, ofRequest(k, &r)) {
				out = append(out, Duty{Kind: "own-request", Who: d.T.Name(u.ID), Where: r.Where, By: []string{fmt.Sprintf("request %d", r.Number)}})
			}
		}
	}
	for _, s := range d.T.Servers() {
		by := map[string][]string{}
		var names []string
		add := func(id plan.ID, how string) {
			for _, u := range users(id) {
				if by[u] == nil {
					names = append(names, u)
				}
				if !slices.Contains(by[u], how) {
					by[u] = append(by[u], how)
				}
			}
		}
		for _, id := range d.T.Administrators(s) {
			how := "the server's list"
			if a, ok := dir.Account(id); ok && a.Kind == acc.Group {
				how += ", by " + d.T.Name(id)
			}
			add(id, how)
		}
		for _, sh := range d.T.Shares(s) {
			if sh.Admission == nil {
				continue
			}
			for _, n := range sh.Admission.Administrators {
				if id, ok := d.K.Listed(n); ok {
					add(id, sh.Address()+"'s own configuration")
				}
			}
		}
		slices.Sort(names)
		for _, u := range names {
			out = append(out, Duty{Kind: "administrator", Who: u, Where: s.Name, By: by[u]})
		}
	}
	order := []string{"both-keys", "own-request", "administrator"}
	slices.SortStableFunc(out, func(a, b Duty) int {
		if c := slices.Index(order, a.Kind) - slices.Index(order, b.Kind); c != 0 {
			return c
		}
		if c := strings.Compare(a.Where, b.Where); c != 0 {
			return c
		}
		return strings.Compare(a.Who+a.Group, b.Who+b.Group)
	})
	return out, d.T.Err()
}

func keptAs(d *plan.Planner, o *keeper.Keeper, user string) string {
	s := "keeps the " + o.Said()
	if _, manager := o.Under(); manager {
		s += " as " + o.Name
	} else if o.Name != user {
		s += " as one of " + o.Name
	}
	return s
}

// opens lists the allow entries that count at and below a place, one an account.
func opens(d *plan.Planner, at estate.Place) (out []rule.Entry, err error) {
	f, err := d.T.PartitionAt(at)
	if err != nil {
		return nil, err
	}
	seen, had := map[rule.Any]bool{}, map[plan.ID]bool{}
	for i := range f.Nodes {
		a := f.Nodes[i].Before
		if a == nil || seen[a] {
			continue
		}
		seen[a] = true
		x := d.K.AsEntries(a)
		for _, e := range x.Rules.Entries {
			if e.Kind == rule.Allow && e.Rights.Map()&right.Access != 0 && !had[e.Who] {
				had[e.Who] = true
				out = append(out, e)
			}
		}
	}
	return out, d.T.Err()
}

// What becomes of a request.
const (
	Open      = "open"
	Accepted  = "accepted"
	Refused   = "refused"
	Withdrawn = "withdrawn"
)

// Request is what somebody asks for.
type Request struct {
	Number int64    `json:"request"`
	State  string   `json:"state"`
	Who    []Asking `json:"for"`
	Level  string   `json:"level"`
	Where  string   `json:"where"` // as it was asked for
	Place  string   `json:"place"` // the server's own path
	Until  string   `json:"until,omitempty"`
	By     string   `json:"asked-by"`
	At     string   `json:"asked-at"` // RFC 3339, UTC
	// Decided is who accepted, refused or withdrew it, and why; How by which steps.
	Decided   string   `json:"decided-by,omitempty"`
	DecidedAt string   `json:"decided-at,omitempty"`
	Because   string   `json:"because,omitempty"`
	How       []string `json:"how,omitempty"`
}

// Asking is one person on a request.
type Asking struct {
	ID   string `json:"identifier"`
	Name string `json:"name"`
	Why  string `json:"why"`
}

// People gives the users on a request whom the estate still knows.
func (r *Request) People(t *estate.Tx) (out []acc.Account) {
	for _, w := range r.Who {
		if id, err := acc.ParseID(w.ID); err == nil {
			if a, ok := t.Account(id); ok {
				out = append(out, a)
			}
		}
	}
	return out
}

// Names lists the people on a request.
func (r *Request) Names() (out []string) {
	for _, w := range r.Who {
		out = append(out, w.Name)
	}
	return out
}

// Reasons lists why it was asked for, each reason once.
func (r *Request) Reasons() (out []string) {
	for _, w := range r.Who {
		if !slices.Contains(out, w.Why) {
			out = append(out, w.Why)
		}
	}
	return out
}

// Waits is how long a request has been waiting.
func (r *Request) Waits(now time.Time) time.Duration {
	at, err := time.Parse(time.RFC3339, r.At)
	if err != nil {
		return 0
	}
	return now.Sub(at)
}

func init() {
	plan.AddRecordWords(estate.RequestRecord, func(e *edit.Description, body string, _ edit.Sign) {
		var q Request
		if json.Unmarshal([]byte(body), &q) == nil {
			e.Lines[0].Text = fmt.Sprintf("%s: %s on %s for %s", q.State, q.Level, q.Where, plan.Many(q.Names()))
		}
	})
}

// Requests lists all requests, oldest first.
func Requests(t *estate.Tx) ([]Request, error) {
	return plan.RecordsAs[Request](t, estate.RequestRecord)
}

// FindRequest finds one request.
func FindRequest(t *estate.Tx, n int64) (*Request, error) {
	r, err := plan.RecordAs[Request](t, estate.RequestRecord, fmt.Sprint(n))
	if r == nil && err == nil {
		err = &estate.NotFound{What: "request", Name: fmt.Sprint(n), In: "the estate; see: tarnwold request list --all"}
	}
	return r, err
}

// stillOpen is an error where a request is decided already.
func (r *Request) stillOpen() error {
	if r.State == Open {
		return nil
	}
	return &estate.Refused{Why: fmt.Sprintf("request %d is %s already, by %s", r.Number, r.State, r.Decided)}
}

// longestReason is how many bytes a reason has at most.
const longestReason = 2000

func reason(why string) (string, error) {
	why = strings.TrimSpace(why)
	if why == "" {
		return "", &estate.Refused{Why: "no reason is given", Do: "say why: --why TEXT"}
	}
	if len(why) > longestReason {
		return "", &estate.Refused{Why: fmt.Sprintf("the reason is longer than %d bytes", longestReason)}
	}
	return why, nil
}

// Ask makes a request, or puts people on one that asks for the same. It gives
// the request as it will stand.
func Ask(d *plan.Planner, who []string, level, where, why string, until estate.Day) (*plan.Plan, *Request, error) {
	if err := d.Future(until); err != nil {
		return nil, nil, err
	}
	why, err := reason(why)
	if err != nil {
		return nil, nil, err
	}
	at, err := d.K.Place(where)
	if err != nil {
		return nil, nil, err
	}
	if routes := d.K.Through(at); at.Share == nil && len(routes) > 0 {
		var by []string
		for _, sh := range routes {
			by = append(by, at.By(&sh).String())
		}
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("%s is reached by %s", at, plan.Many(by)), Do: "say by which"}
	}
	want, err := d.K.Level(level)
	if err != nil {
		return nil, nil, err
	}
	var people []acc.Account
	has := 0
	for _, w := range who {
		u, err := d.T.Named(w, acc.User)
		if err != nil {
			return nil, nil, err
		}
		lacks, err := explain.LackingFor(d.K, d.T.Name(u.ID), where, level)
		if err != nil {
			return nil, nil, err
		}
		if len(lacks) == 0 {
			has++
		}
		if !slices.ContainsFunc(people, func(o acc.Account) bool { return o.ID == u.ID }) {
			people = append(people, u)
		}
	}
	if has == len(who) {
		verb := "have"
		if len(who) == 1 {
			verb = "has"
		}
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("%s %s %s on %s already", plan.Many(who), verb, want.Name, at.Via())}
	}
	all, err := Requests(d.T)
	if err != nil {
		return nil, nil, err
	}
	r := &Request{Number: d.T.NextNumber(estate.RequestRecord), State: Open, Level: want.Name, Where: at.Via(), Place: at.By(nil).String(),
		Until: string(until), By: d.Actor, At: time.Now().UTC().Format(time.RFC3339)}
	fresh, before := true, ""
	for i := range all {
		o := &all[i]
		if o.State == Open && plan.SameKey(o.Level, r.Level) && o.Where == r.Where && o.Until == r.Until {
			r, fresh = o, false
			before = d.T.Record(estate.RequestRecord, fmt.Sprint(o.Number))
		}
	}
	added := []string{}
	for _, u := range people {
		if slices.ContainsFunc(r.Who, func(a Asking) bool { return a.ID == u.ID.String() }) {
			continue
		}
		r.Who = append(r.Who, Asking{u.ID.String(), d.T.Name(u.ID), why})
		added = append(added, d.T.Name(u.ID))
	}
	p := d.NewPlan("request %d: %s on %s for %s%s: %s", r.Number, r.Level, r.Where, plan.Many(r.Names()), untilShort(r.Until), why)
	p.Asks = false
	p.Nothing = fmt.Sprintf("that is asked for already, in request %d", r.Number)
	sign := edit.Comes
	if !fresh {
		sign = edit.Changes
	}
	if len(added) > 0 {
		e := edit.Description{Kind: "request", Where: fmt.Sprintf("request %d", r.Number), Lines: []edit.Line{{Sign: sign, What: "request", Text: fmt.Sprintf("%s for %s on %s%s", r.Level, plan.Many(added), r.Where, untilShort(r.Until))}}}
		if err := p.SetRecord(estate.RequestRecord, fmt.Sprint(r.Number), before, r, e); err != nil {
			return nil, nil, err
		}
		if fresh {
			p.Work.Records[0].Number = r.Number
		}
	}
	p, err = d.Evaluate(p)
	return p, r, err
}

func untilShort(day string) string {
	if day == "" {
		return ""
	}
	return " until " + day
}

// Settle refuses or withdraws a request.
func Settle(d *plan.Planner, n int64, state, why string) (*plan.Plan, error) {
	r, err := open(d, n)
	if err != nil {
		return nil, err
	}
	if state == Refused {
		if why, err = reason(why); err != nil {
			return nil, err
		}
	}
	p := d.NewPlan("request %d %s: %s on %s for %s", n, state, r.Level, r.Where, plan.Many(r.Names()))
	if why != "" {
		p.Change += ": " + why
	}
	p.Asks = false
	if state == Refused {
		if err := keptRequest(d, p, r); err != nil {
			return nil, err
		}
	}
	return settled(d, p, r, state, why, nil)
}

// settled writes down what became of a request, and finishes the plan.
func settled(d *plan.Planner, p *plan.Plan, r *Request, state, why string, how []string) (*plan.Plan, error) {
	before := d.T.Record(estate.RequestRecord, fmt.Sprint(r.Number))
	r.State, r.Decided, r.DecidedAt, r.Because, r.How = state, d.Actor, time.Now().UTC().Format(time.RFC3339), why, how
	e := edit.Description{Kind: "request", Where: fmt.Sprintf("request %d", r.Number), Lines: []edit.Line{{Sign: edit.Changes, What: "request", Text: state}}}
	if err := p.SetRecord(estate.RequestRecord, fmt.Sprint(r.Number), before, r, e); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

func open(d *plan.Planner, n int64) (*Request, error) {
	r, err := FindRequest(d.T, n)
	if err != nil {
		return nil, err
	}
	return r, r.stillOpen()
}

// ownRequest warns of who decides about what they have asked for themselves.
func ownRequest(d *plan.Planner, p *plan.Plan, r *Request) {
	actor, _ := d.ActingUser()
	for _, w := range r.Who {
		if !actor.ID.IsZero() && w.ID == actor.ID.String() {
			p.Warnings = append(p.Warnings, plan.Warning{Guard: "own-request", Who: w.Name, Where: fmt.Sprintf("request %d", r.Number)})
		}
	}
}

// keptRequest warns of who decides and keeps nothing that is asked for.
func keptRequest(d *plan.Planner, p *plan.Plan, r *Request) error {
	k, err := keeper.Of(d)
	if err != nil {
		return err
	}
	actor, _ := d.ActingUser()
	if keepers := ofRequest(k, r); len(keepers) > 0 && !k.Is(actor.ID, keepers) {
		p.Warnings = append(p.Warnings, plan.Warning{Guard: "kept", Users: keeper.KeeperNames(keepers), Where: fmt.Sprintf("request %d", r.Number)})
	}
	return nil
}

// ofRequest lists who keeps something that a request is about: the place, and
// the groups that entries there name, with all that are in them.
func ofRequest(k *keeper.Keeps, r *Request) []keeper.Keeper {
	out := slices.Clone(k.Place(r.Place))
	at, err := k.D.T.FindText(r.Place)
	if err != nil || !slices.ContainsFunc(k.All, func(o keeper.Keeper) bool { _, ok := o.Group(); return ok }) {
		return out
	}
	dir := k.Dir()
	named := map[plan.ID]bool{}
	for _, e := range k.D.K.AsEntries(k.D.T.Of(at.Strand)).Rules.Entries {
		if e.Kind != rule.Allow || named[e.Who] {
			continue
		}
		named[e.Who] = true
		groups := []plan.ID{e.Who}
		for _, m := range dir.MembersBelow(e.Who) {
			groups = append(groups, m.ID)
		}
		for _, id := range groups {
			if a, ok := dir.Account(id); ok && a.Kind == acc.Group {
				for _, o := range k.Group(a.Name) {
					if !slices.Contains(out, o) {
						out = append(out, o)
					}
				}
			}
		}
	}
	return out
}

// Asked is a request with what its people have, and what would give them what
// they ask for.
type Asked struct {
	*Request
	Keepers []string             `json:"keepers"` // who may decide; none: anybody
	Waiting int                  `json:"waiting-days,omitempty"`
	People  []*explain.Explained `json:"people,omitempty"`
	Mending *review.Mending      `json:"mending,omitempty"`
	Gone    string               `json:"gone,omitempty"` // why it can't be looked at any more
}

// LookAt tells of a request: what its people have, why not more, and the
// changes that would give it to them, those with the least side effects first.
func LookAt(ctx context.Context, e *estate.Estate, actor string, n int64, step func(string)) (*Asked, error) {
	out := &Asked{}
	var lacks []explain.Lacking
	w := review.Wish{Actor: actor}
	err := e.View(ctx, func(t *estate.Tx) (err error) {
		if out.Request, err = FindRequest(t, n); err != nil {
			return err
		}
		d := plan.New(t, "")
		k, err := keeper.Of(d)
		if err != nil {
			return err
		}
		out.Keepers = keeper.KeeperNames(ofRequest(k, out.Request))
		if out.State != Open {
			return nil
		}
		out.Waiting = int(out.Waits(time.Now()).Hours() / 24)
		w.Until = estate.Day(out.Until)
		people := out.Request.People(t)
		if len(people) == 0 {
			out.Gone = "nobody on it is in the estate any more"
			return nil
		}
		for _, u := range people {
			name := t.Name(u.ID)
			got, err := explain.Explain(d.K, name, out.Where, false)
			if err != nil {
				out.Gone = err.Error()
				return t.Err()
			}
			out.People = append(out.People, got...)
			lack, err := explain.LackingFor(d.K, name, out.Where, out.Level)
			if err != nil {
				out.Gone = err.Error()
				return t.Err()
			}
			if len(lack) > 0 {
				w.People = append(w.People, name)
				if lacks == nil {
					lacks = lack
				}
			}
		}
		return nil
	})
	if err != nil || out.State != Open || out.Gone != "" {
		return out, err
	}
	m := &review.Mending{Where: out.Where, Want: out.Level, Held: len(lacks) == 0, Mends: []review.Mended{}}
	if len(lacks) > 0 {
		l := &lacks[0]
		m.Route, m.Switched = l.Route, l.Switch
		if m.Mends, err = review.MendsOf(ctx, e, w, l, step); err != nil {
			return nil, err
		}
	}
	out.Mending = m
	return out, nil
}

// Chosen finds the mend that somebody names: its number in the list, "join
// GROUP", "leave GROUP", "entry" or "revoke"; "" is the first. It is nil where
// they have what is asked for already.
func (a *Asked) Chosen(by string) (*review.Mended, error) {
	if err := a.stillOpen(); err != nil {
		return nil, err
	}
	if a.Mending == nil || len(a.Mending.Mends) == 0 {
		why := "no single change was found that gives what it asks for"
		if a.Gone != "" {
			why = a.Gone
		}
		if a.Mending != nil && a.Mending.Held {
			return nil, nil
		}
		return nil, &estate.Refused{Why: fmt.Sprintf("request %d can't be accepted: %s", a.Number, why), Do: "change the rules by hand, then accept it; or refuse it"}
	}
	if by == "" {
		return &a.Mending.Mends[0], nil
	}
	var ways []string
	for i := range a.Mending.Mends {
		m := &a.Mending.Mends[i]
		way := way(m)
		if fmt.Sprint(i+1) == by || plan.SameKey(way, by) {
			return m, nil
		}
		ways = append(ways, way)
	}
	for i := range a.Mending.Mends {
		m := &a.Mending.Mends[i]
		if first, _, _ := strings.Cut(way(m), " "); plan.SameKey(first, by) {
			return m, nil
		}
	}
	return nil, &estate.NotFound{What: "way", Name: by, In: fmt.Sprintf("request %d; there are: %s", a.Number, strings.Join(slices.Compact(ways), ", "))}
}

// way is what a mend is called by: join GROUP, leave GROUP, entry or revoke.
func way(m *review.Mended) string {
	var out []string
	for _, s := range m.Steps {
		w := "revoke"
		switch s.Do {
		case "join", "leave":
			w = s.Do + " " + s.Group
		case "grant", "share-grant":
			w = "entry"
		}
		if !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return strings.Join(out, " and ")
}

// Accept gives what a request asks for, by one mend's steps.
func Accept(d *plan.Planner, n int64, m *review.Mended) (*plan.Plan, error) {
	r, err := open(d, n)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("request %d accepted: %s on %s for %s%s: %s", n, r.Level, r.Where, plan.Many(r.Names()), untilShort(r.Until), strings.Join(r.Reasons(), "; "))
	ownRequest(d, p, r)
	var how []string
	if m == nil { // they have it already
		if err := keptRequest(d, p, r); err != nil {
			return nil, err
		}
		p.Asks = false
		return settled(d, p, r, Accepted, "", nil)
	}
	b := d.Bundle(p)
	for _, s := range m.Steps {
		how = append(how, strings.Join(s.Words()[1:], " "))
		if err := take(d, b, s); err != nil {
			return nil, err
		}
	}
	if err := b.Done(); err != nil {
		return nil, err
	}
	return settled(d, p, r, Accepted, "", how)
}

// take adds a step to a bundle.
func take(d *plan.Planner, b *plan.Bundle, s explain.Step) error {
	onShare := s.Do == "share-grant" || s.Do == "share-revoke"
	var e plan.ItemEdit
	switch s.Do {
	case "join", "leave":
		var one *plan.Plan
		var err error
		if s.Do == "join" {
			one, err = people.Join(d, s.Group, []string{s.Who}, estate.Day(s.Until))
		} else {
			one, err = people.Leave(d, s.Group, []string{s.Who})
		}
		if err == nil {
			b.P.Work.Members = append(b.P.Work.Members, one.Work.Members...)
		}
		return err
	case "grant", "share-grant":
		x := entry.Entry{Kind: rule.Allow, Who: s.Who, What: s.Level, Share: onShare}
		if s.Scope != "" {
			scope, err := rule.ParseScope(s.Scope)
			if err != nil {
				return err
			}
			x.Scope = scope
		}
		if onShare {
			x.Scope = rule.Here
		}
		l, err := entry.Line(d, x, s.Where)
		if err != nil {
			return err
		}
		if err := d.Future(estate.Day(s.Until)); err != nil {
			return err
		}
		e = entry.GivingEdit(d, l, s.Level, estate.Day(s.Until), 0)
	default:
		which, err := entry.Which(d, entry.Taking{Who: s.Who, What: s.Level, Kinds: []rule.Kind{rule.Deny}, Share: onShare}, s.Where)
		if err != nil {
			return err
		}
		e = entry.TakingEdit(d, which)
	}
	if onShare {
		servers, shares, err := d.Shares([]string{s.Where})
		if err != nil {
			return err
		}
		b.Share(servers[0], shares[0], &e)
		return nil
	}
	targets, err := d.Find(plan.Targets{Where: []string{s.Where}, Plain: true})
	if err != nil {
		return err
	}
	for _, x := range targets {
		b.Item(x, &e)
	}
	return nil
}

// Requested lists requests: those open, with all every one; only those an
// account may decide; only those waiting longer than a time.
func Requested(d *plan.Planner, all bool, by string, longer time.Duration) ([]Asked, error) {
	list, err := Requests(d.T)
	if err != nil {
		return nil, err
	}
	k, err := keeper.Of(d)
	if err != nil {
		return nil, err
	}
	var who plan.ID
	if by != "" {
		a, err := d.T.Named(by, 0)
		if err != nil {
			return nil, err
		}
		who = a.ID
	}
	out := []Asked{}
	now := time.Now()
	for i := range list {
		r := &list[i]
		if !all && r.State != Open || longer > 0 && (r.State != Open || r.Waits(now) <= longer) {
			continue
		}
		keepers := ofRequest(k, r)
		if by != "" && !k.Is(who, keepers) {
			continue
		}
		a := Asked{Request: r, Keepers: keeper.KeeperNames(keepers)}
		if r.State == Open {
			a.Waiting = int(r.Waits(now).Hours() / 24)
		}
		out = append(out, a)
	}
	return out, d.T.Err()
}

// OtherWay is another way to accept a request.
type OtherWay struct{ Name, Text string }

// Others lists the ways to accept a request beside one.
func (a *Asked) Others(but *review.Mended) (out []OtherWay) {
	for i := range a.Mending.Mends {
		m := &a.Mending.Mends[i]
		if m == but {
			continue
		}
		text := "nobody else gains by it"
		if len(m.People) > 0 {
			text = fmt.Sprintf("%d others gain by it: %s", len(m.People), plan.Many(m.People))
			if len(m.People) == 1 {
				text = m.People[0] + " gains by it too"
			}
		}
		out = append(out, OtherWay{fmt.Sprintf("%d (%s)", i+1, way(m)), text})
	}
	return out
}
