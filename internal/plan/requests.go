package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

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
func (r *Request) People(t *estate.Tx) (out []account) {
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

// Requests lists all requests, oldest first.
func Requests(t *estate.Tx) ([]Request, error) {
	return papersAs[Request](t, estate.RequestPaper)
}

// FindRequest finds one request.
func FindRequest(t *estate.Tx, n int64) (*Request, error) {
	r, err := paperAs[Request](t, estate.RequestPaper, fmt.Sprint(n))
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
func (d *Desk) Ask(who []string, level, where, why string, until estate.Day) (*Plan, *Request, error) {
	if err := d.future(until); err != nil {
		return nil, nil, err
	}
	why, err := reason(why)
	if err != nil {
		return nil, nil, err
	}
	at, err := d.k.Place(where)
	if err != nil {
		return nil, nil, err
	}
	if routes := d.k.Through(at); at.Share == nil && len(routes) > 0 {
		var by []string
		for _, sh := range routes {
			by = append(by, at.By(&sh).String())
		}
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("%s is reached by %s", at, many(by)), Do: "say by which"}
	}
	want, err := d.k.Level(level)
	if err != nil {
		return nil, nil, err
	}
	var people []account
	has := 0
	for _, w := range who {
		u, err := d.t.Named(w, acc.User)
		if err != nil {
			return nil, nil, err
		}
		lacks, err := d.k.Lacking(d.t.Name(u.ID), where, level)
		if err != nil {
			return nil, nil, err
		}
		if len(lacks) == 0 {
			has++
		}
		if !slices.ContainsFunc(people, func(o account) bool { return o.ID == u.ID }) {
			people = append(people, u)
		}
	}
	if has == len(who) {
		verb := "have"
		if len(who) == 1 {
			verb = "has"
		}
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("%s %s %s on %s already", many(who), verb, want.Name, at.Via())}
	}
	all, err := Requests(d.t)
	if err != nil {
		return nil, nil, err
	}
	r := &Request{Number: d.t.NextNumber(estate.RequestPaper), State: Open, Level: want.Name, Where: at.Via(), Place: at.By(nil).String(),
		Until: string(until), By: d.Actor, At: time.Now().UTC().Format(time.RFC3339)}
	fresh, before := true, ""
	for i := range all {
		o := &all[i]
		if o.State == Open && sameKey(o.Level, r.Level) && o.Where == r.Where && o.Until == r.Until {
			r, fresh = o, false
			before = d.t.Paper(estate.RequestPaper, fmt.Sprint(o.Number))
		}
	}
	added := []string{}
	for _, u := range people {
		if slices.ContainsFunc(r.Who, func(a Asking) bool { return a.ID == u.ID.String() }) {
			continue
		}
		r.Who = append(r.Who, Asking{u.ID.String(), d.t.Name(u.ID), why})
		added = append(added, d.t.Name(u.ID))
	}
	p := d.begin("request %d: %s on %s for %s%s: %s", r.Number, r.Level, r.Where, many(r.Names()), untilShort(r.Until), why)
	p.Asks = false
	p.Nothing = fmt.Sprintf("that is asked for already, in request %d", r.Number)
	sign := "comes"
	if !fresh {
		sign = "changes"
	}
	if len(added) > 0 {
		e := Edit{Kind: "request", Where: fmt.Sprintf("request %d", r.Number), Lines: []Line{{Sign: sign, What: "request", Text: fmt.Sprintf("%s for %s on %s%s", r.Level, many(added), r.Where, untilShort(r.Until))}}}
		if err := p.paper(estate.RequestPaper, fmt.Sprint(r.Number), before, r, e); err != nil {
			return nil, nil, err
		}
		if fresh {
			p.work.papers[0].number = r.Number
		}
	}
	p, err = d.finish(p)
	return p, r, err
}

func untilShort(day string) string {
	if day == "" {
		return ""
	}
	return " until " + day
}

// Settle refuses or withdraws a request.
func (d *Desk) Settle(n int64, state, why string) (*Plan, error) {
	r, err := d.open(n)
	if err != nil {
		return nil, err
	}
	if state == Refused {
		if why, err = reason(why); err != nil {
			return nil, err
		}
	}
	p := d.begin("request %d %s: %s on %s for %s", n, state, r.Level, r.Where, many(r.Names()))
	if why != "" {
		p.Change += ": " + why
	}
	p.Asks = false
	if state == Refused {
		if err := d.keptRequest(p, r); err != nil {
			return nil, err
		}
	}
	return d.settled(p, r, state, why, nil)
}

// settled writes down what became of a request, and finishes the plan.
func (d *Desk) settled(p *Plan, r *Request, state, why string, how []string) (*Plan, error) {
	before := d.t.Paper(estate.RequestPaper, fmt.Sprint(r.Number))
	r.State, r.Decided, r.DecidedAt, r.Because, r.How = state, d.Actor, time.Now().UTC().Format(time.RFC3339), why, how
	e := Edit{Kind: "request", Where: fmt.Sprintf("request %d", r.Number), Lines: []Line{{Sign: "changes", What: "request", Text: state}}}
	if err := p.paper(estate.RequestPaper, fmt.Sprint(r.Number), before, r, e); err != nil {
		return nil, err
	}
	return d.finish(p)
}

func (d *Desk) open(n int64) (*Request, error) {
	r, err := FindRequest(d.t, n)
	if err != nil {
		return nil, err
	}
	return r, r.stillOpen()
}

// ownRequest warns of who decides about what he has asked for himself.
func (d *Desk) ownRequest(p *Plan, r *Request) {
	actor, _ := d.actor()
	for _, w := range r.Who {
		if !actor.ID.IsZero() && w.ID == actor.ID.String() {
			p.Warnings = append(p.Warnings, Warning{Guard: "own-request", Who: w.Name, Where: fmt.Sprintf("request %d", r.Number)})
		}
	}
}

// keptRequest warns of who decides and keeps nothing that is asked for.
func (d *Desk) keptRequest(p *Plan, r *Request) error {
	k, err := d.keeps()
	if err != nil {
		return err
	}
	actor, _ := d.actor()
	if keepers := k.ofRequest(r); len(keepers) > 0 && !k.is(actor.ID, keepers) {
		p.Warnings = append(p.Warnings, Warning{Guard: "kept", Users: keeperNames(keepers), Where: fmt.Sprintf("request %d", r.Number)})
	}
	return nil
}

// ofRequest lists who keeps something that a request is about: the place, and
// the groups that entries there name, with all that are in them.
func (k *keeps) ofRequest(r *Request) []Keeper {
	out := slices.Clone(k.place(r.Place))
	at, err := k.d.t.FindText(r.Place)
	if err != nil || !slices.ContainsFunc(k.all, func(o Keeper) bool { _, ok := o.group(); return ok }) {
		return out
	}
	dir := k.dir()
	named := map[ID]bool{}
	for _, e := range k.d.k.AsEntries(k.d.t.Of(at.Strand)).Rules.Entries {
		if e.Kind != rule.Allow || named[e.Who] {
			continue
		}
		named[e.Who] = true
		groups := []ID{e.Who}
		for _, m := range dir.MembersBelow(e.Who) {
			groups = append(groups, m.ID)
		}
		for _, id := range groups {
			if a, ok := dir.Account(id); ok && a.Kind == acc.Group {
				for _, o := range k.group(a.Name) {
					if !slices.Contains(out, o) {
						out = append(out, o)
					}
				}
			}
		}
	}
	return out
}

func (k *keeps) dir() *acc.Directory {
	if k.people == nil {
		k.people = k.d.t.Directory()
	}
	return k.people
}

// Asked is a request with what its people have, and what would give them what
// they ask for.
type Asked struct {
	*Request
	Keepers []string         `json:"keepers"` // who may decide; none: anybody
	Waiting int              `json:"waiting-days,omitempty"`
	People  []*ask.Explained `json:"people,omitempty"`
	Mending *Mending         `json:"mending,omitempty"`
	Gone    string           `json:"gone,omitempty"` // why it can't be looked at any more
}

// LookAt tells of a request: what its people have, why not more, and the
// changes that would give it to them, those with the least side effects first.
func LookAt(ctx context.Context, e *estate.Estate, actor string, n int64, step func(string)) (*Asked, error) {
	out := &Asked{}
	var lacks []ask.Lacking
	w := wish{actor: actor}
	err := e.View(ctx, func(t *estate.Tx) (err error) {
		if out.Request, err = FindRequest(t, n); err != nil {
			return err
		}
		d := New(t, "")
		k, err := d.keeps()
		if err != nil {
			return err
		}
		out.Keepers = keeperNames(k.ofRequest(out.Request))
		if out.State != Open {
			return nil
		}
		out.Waiting = int(out.Waits(time.Now()).Hours() / 24)
		w.until = estate.Day(out.Until)
		people := out.Request.People(t)
		if len(people) == 0 {
			out.Gone = "nobody on it is in the estate any more"
			return nil
		}
		for _, u := range people {
			name := t.Name(u.ID)
			got, err := d.k.Explain(name, out.Where, false)
			if err != nil {
				out.Gone = err.Error()
				return t.Err()
			}
			out.People = append(out.People, got...)
			lack, err := d.k.Lacking(name, out.Where, out.Level)
			if err != nil {
				out.Gone = err.Error()
				return t.Err()
			}
			if len(lack) > 0 {
				w.people = append(w.people, name)
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
	m := &Mending{Where: out.Where, Want: out.Level, Held: len(lacks) == 0, Mends: []Mended{}}
	if len(lacks) > 0 {
		l := &lacks[0]
		m.Route, m.Switched = l.Route, l.Switch
		if m.Mends, err = mendsOf(ctx, e, w, l, step); err != nil {
			return nil, err
		}
	}
	out.Mending = m
	return out, nil
}

// Chosen finds the mend that somebody names: its number in the list, "join
// GROUP", "leave GROUP", "entry" or "revoke"; "" is the first. It is nil where
// they have what is asked for already.
func (a *Asked) Chosen(by string) (*Mended, error) {
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
		way := m.way()
		if fmt.Sprint(i+1) == by || sameKey(way, by) {
			return m, nil
		}
		ways = append(ways, way)
	}
	for i := range a.Mending.Mends {
		m := &a.Mending.Mends[i]
		if first, _, _ := strings.Cut(m.way(), " "); sameKey(first, by) {
			return m, nil
		}
	}
	return nil, &estate.NotFound{What: "way", Name: by, In: fmt.Sprintf("request %d; there are: %s", a.Number, strings.Join(slices.Compact(ways), ", "))}
}

// way is what a mend is called by: join GROUP, leave GROUP, entry or revoke.
func (m *Mended) way() string {
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
func (d *Desk) Accept(n int64, m *Mended) (*Plan, error) {
	r, err := d.open(n)
	if err != nil {
		return nil, err
	}
	p := d.begin("request %d accepted: %s on %s for %s%s: %s", n, r.Level, r.Where, many(r.Names()), untilShort(r.Until), strings.Join(r.Reasons(), "; "))
	d.ownRequest(p, r)
	var how []string
	if m == nil { // they have it already
		if err := d.keptRequest(p, r); err != nil {
			return nil, err
		}
		p.Asks = false
		return d.settled(p, r, Accepted, "", nil)
	}
	b := d.bundle(p)
	for _, s := range m.Steps {
		how = append(how, strings.Join(s.Words()[1:], " "))
		if err := d.take(b, s); err != nil {
			return nil, err
		}
	}
	if err := b.done(); err != nil {
		return nil, err
	}
	return d.settled(p, r, Accepted, "", how)
}

// take adds a step to a bundle.
func (d *Desk) take(b *bundle, s ask.Step) error {
	onShare := s.Do == "share-grant" || s.Do == "share-revoke"
	var e itemEdit
	switch s.Do {
	case "join", "leave":
		var one *Plan
		var err error
		if s.Do == "join" {
			one, err = d.Join(s.Group, []string{s.Who}, estate.Day(s.Until))
		} else {
			one, err = d.Leave(s.Group, []string{s.Who})
		}
		if err == nil {
			b.p.work.members = append(b.p.work.members, one.work.members...)
		}
		return err
	case "grant", "share-grant":
		x := Entry{Kind: rule.Allow, Who: s.Who, What: s.Level, Share: onShare}
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
		l, err := d.line(x)
		if err != nil {
			return err
		}
		if err := d.future(estate.Day(s.Until)); err != nil {
			return err
		}
		e = d.giving(l, s.Level, estate.Day(s.Until), 0)
	default:
		which, err := d.which(Taking{Who: s.Who, What: s.Level, Kinds: []rule.Kind{rule.Deny}, Share: onShare})
		if err != nil {
			return err
		}
		e = d.taking(which)
	}
	if onShare {
		servers, shares, err := d.shares([]string{s.Where})
		if err != nil {
			return err
		}
		b.share(servers[0], shares[0], &e)
		return nil
	}
	targets, err := d.Find(Targets{Where: []string{s.Where}, Plain: true})
	if err != nil {
		return err
	}
	for _, x := range targets {
		b.item(x, &e)
	}
	return nil
}

// Requested lists requests: those open, with all every one; only those an
// account may decide; only those waiting longer than a time.
func (d *Desk) Requested(all bool, by string, longer time.Duration) ([]Asked, error) {
	list, err := Requests(d.t)
	if err != nil {
		return nil, err
	}
	k, err := d.keeps()
	if err != nil {
		return nil, err
	}
	var who ID
	if by != "" {
		a, err := d.t.Named(by, 0)
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
		keepers := k.ofRequest(r)
		if by != "" && !k.is(who, keepers) {
			continue
		}
		a := Asked{Request: r, Keepers: keeperNames(keepers)}
		if r.State == Open {
			a.Waiting = int(r.Waits(now).Hours() / 24)
		}
		out = append(out, a)
	}
	return out, d.t.Err()
}

// OtherWay is another way to accept a request.
type OtherWay struct{ Name, Text string }

// Others lists the ways to accept a request beside one.
func (a *Asked) Others(but *Mended) (out []OtherWay) {
	for i := range a.Mending.Mends {
		m := &a.Mending.Mends[i]
		if m == but {
			continue
		}
		text := "nobody else gains by it"
		if len(m.People) > 0 {
			text = fmt.Sprintf("%d others gain by it: %s", len(m.People), many(m.People))
			if len(m.People) == 1 {
				text = m.People[0] + " gains by it too"
			}
		}
		out = append(out, OtherWay{fmt.Sprintf("%d (%s)", i+1, m.way()), text})
	}
	return out
}
