// Package policies lays rules written as text on places, tells where they no
// longer hold, and lifts them.
package policies

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/format/policy"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/plan/undo"
)

// LaidPolicy is a policy as it lies on places.
type LaidPolicy struct {
	Name    string      `json:"policy"`
	Because string      `json:"because"`
	Version int         `json:"version"` // 1, and one more for each other text
	On      []string    `json:"on"`      // what its relative places are relative to
	Places  []LaidPlace `json:"places"`
	Text    string      `json:"text"`
}

// LaidPlace is what a policy set on one item.
type LaidPlace struct {
	Where string `json:"where"` // the server's own path, when it was laid
	On    string `json:"on"`    // relative to this; "": by its whole address
	Item  int64  `json:"item"`
	Line  int    `json:"line"` // of the policy's text
	// Before is the rules without it, After with it, self-relative in base64;
	// and the last days of their own entries.
	Before string            `json:"before"`
	After  string            `json:"after"`
	Was    map[string]string `json:"last-days-before,omitempty"`
	Is     map[string]string `json:"last-days-after,omitempty"`
}

// Policies lists the policies that are laid, oldest first.
func Policies(t *estate.Tx) ([]LaidPolicy, error) {
	return plan.RecordsAs[LaidPolicy](t, estate.PolicyRecord)
}

// Policy finds a laid policy.
func Policy(t *estate.Tx, name string) (*LaidPolicy, error) {
	p, err := plan.RecordAs[LaidPolicy](t, estate.PolicyRecord, name)
	if p != nil || err != nil {
		return p, err
	}
	all, err := Policies(t)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, p := range all {
		names = append(names, p.Name)
	}
	return nil, &estate.NotFound{What: "policy", Name: name, In: "what is laid", Near: estate.Nearest(name, names)}
}

// wants is what a block of a policy wants, its names known.
type wants struct {
	seal    string
	owner   plan.ID
	entries []wantedEntry
}

type wantedEntry struct {
	line  rule.Line
	what  string // as it was written
	only  bool
	until estate.Day
}

// resolve finds the names of a policy in the estate; an error says which line
// names nobody.
func resolve(d *plan.Planner, p *policy.Policy, on []string) ([]wants, error) {
	out := make([]wants, len(p.Blocks))
	for i := range p.Blocks {
		b := &p.Blocks[i]
		w := &out[i]
		w.seal = b.Seal
		var err error
		bad := func(line, column int, err error) error {
			return &format.Error{File: p.File, Line: line, Column: column, What: err.Error()}
		}
		if b.Owner != "" {
			if w.owner, err = d.RuleAccount(b.Owner, on...); err != nil {
				return nil, bad(b.OwnerAt[0], b.OwnerAt[1], err)
			}
		}
		for _, e := range b.Entries {
			x := wantedEntry{what: e.What, only: e.Only, until: estate.Day(e.Until), line: rule.Line{Kind: e.Kind, Scope: e.Scope, On: e.On}}
			if x.line.Scope == 0 {
				x.line.Scope = rule.Tree
			}
			if x.line.Who, err = d.RuleAccount(e.Who, on...); err != nil {
				return nil, bad(e.Line, e.WhoAt, err)
			}
			if x.line.What, err = d.Level(e.What); err != nil {
				return nil, bad(e.Line, e.WhatAt, err)
			}
			w.entries = append(w.entries, x)
		}
	}
	return out, d.T.Err()
}

// set is what a policy's block makes of rules. today: entries whose last day
// is past are not wanted any more.
func (w *wants) set(x *rule.Descriptor, folder bool, dated estate.Dated, today estate.Day) (*rule.Descriptor, estate.Dated, error) {
	out := estate.Dated{}
	maps.Copy(out, dated)
	switch w.seal {
	case "keep":
		x = x.Seal(true)
	case "clear":
		x = x.Seal(false)
	}
	if !w.owner.IsZero() {
		x = x.OwnedBy(w.owner)
	}
	var mine []rule.Entry // all that it wants here
	onlys := map[plan.ID]bool{}
	for _, e := range w.entries {
		if e.only {
			onlys[e.line.Who] = true
		}
		es, err := e.line.Entries(folder)
		if err != nil {
			return nil, nil, plan.EntryRefused(err)
		}
		mine = append(mine, es...)
	}
	var gone []rule.Entry
	for _, e := range x.Rules.Own() {
		if onlys[e.Who] && !slices.Contains(mine, e) {
			gone = append(gone, e)
			delete(out, e)
		}
	}
	x = x.Without(gone)
	for _, e := range w.entries {
		if e.until != "" && e.until < today {
			continue
		}
		es, _ := e.line.Entries(folder)
		if e.line.Kind == rule.Audit {
			x = x.GiveAudit(es)
			continue
		}
		after, stand, err := x.Give(es, rule.Giving{Alone: true, Apart: func(o rule.Entry) bool { _, ok := out[o]; return ok }})
		if err != nil {
			return nil, nil, plan.EntryRefused(err)
		}
		for _, s := range stand {
			if e.until == "" {
				delete(out, s)
			} else if _, was := out[s]; was || !slices.Contains(x.Rules.Entries, s) {
				out[s] = e.until
			}
		}
		x = after
	}
	return x, plan.Still(out, x), nil
}

// without gives what rules would be without what a policy set there. keep: they are sealed
// again then, with what stood there from above when they were first.
func (l *LaidPlace) without(x, up *rule.Descriptor, folder, keep bool, dated estate.Dated) (*rule.Descriptor, estate.Dated, error) {
	before, err := plan.Listed(plan.Decoded(l.Before))
	if err != nil {
		return nil, nil, err
	}
	after, err := plan.Listed(plan.Decoded(l.After))
	if err != nil {
		return nil, nil, err
	}
	out := estate.Dated{}
	maps.Copy(out, dated)
	back := undo.Inverse(x, before, after)
	if after.Sealed() && !before.Sealed() && x.Sealed() {
		switch {
		case keep:
			back = back.Clone()
			back.Rules.Entries = append(back.Rules.Own(), before.Rules.FromAbove()...)
			back.Audit.Entries = append(back.Audit.Own(), before.Audit.FromAbove()...)
		case up != nil: // it takes from above again
			back = back.Renewed(up, folder)
		}
	}
	if x.Equal(after) && inherits(before, back) {
		back = before
	}
	for _, e := range before.Rules.Own() { // entries that come back, or stay, have their last days again
		k := estate.EntryKey(e)
		now, has := out[e]
		if l.Is[k] != "" && has && string(now) == l.Is[k] || l.Was[k] != l.Is[k] && !has {
			delete(out, e)
			if l.Was[k] != "" {
				out[e] = estate.Day(l.Was[k])
			}
		}
		if !slices.Contains(x.Rules.Entries, e) && l.Was[k] != "" {
			out[e] = estate.Day(l.Was[k])
		}
	}
	return back, plan.Still(out, back), nil
}

// inherits tells whether two take the same from above.
func inherits(a, b *rule.Descriptor) bool {
	return slices.Equal(a.Rules.FromAbove(), b.Rules.FromAbove()) && slices.Equal(a.Audit.FromAbove(), b.Audit.FromAbove())
}

// LaidOn gives the item a policy was laid on, wherever it is now.
func LaidOn(d *plan.Planner, l *LaidPlace) (estate.Place, bool) {
	if _, ok := d.T.ItemRow(l.Item); ok {
		return d.T.Place(l.Item), true
	}
	p, err := d.T.FindText(l.Where)
	return p, err == nil
}

// laying is one item a policy comes to, is altered on, or goes from.
type laying struct {
	at   estate.Place
	on   string
	line int
	was  *LaidPlace // how it is laid there now; nil: not
	want *wants     // nil: it goes from there
	base rule.Any
	days [2]estate.Dated // without it, with it
}

// edit is what happens to the item.
func (y *laying) edit(d *plan.Planner) plan.ItemEdit {
	work := func(x, up *rule.Descriptor, folder bool, dated estate.Dated) (base, after *rule.Descriptor, without, with estate.Dated, err error) {
		base, without = x, dated
		if y.was != nil {
			if base, without, err = y.was.without(x, up, folder, y.want != nil && y.want.seal == "keep", dated); err != nil {
				return nil, nil, nil, nil, err
			}
		}
		after, with = base, without
		if y.want != nil {
			if after, with, err = y.want.set(base, folder, without, d.Today); err != nil {
				return nil, nil, nil, nil, err
			}
		}
		return base, after, without, with, nil
	}
	var became estate.Dated
	return plan.ItemEdit{
		Make: func(x, up *rule.Descriptor, folder bool, dated estate.Dated) (*rule.Descriptor, error) {
			base, after, without, with, err := work(x, up, folder, dated)
			var r *estate.Refused
			if errors.As(err, &r) {
				err = &estate.Refused{Why: y.at.Via() + ": " + r.Why, Do: r.Do}
			}
			y.base, y.days, became = base, [2]estate.Dated{without, with}, with
			return after, err
		},
		Dates: func(_, after *rule.Descriptor, _ bool, _ estate.Dated) estate.Dated {
			return plan.Still(became, after)
		},
		Posix: func(r, up *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
			base, without := r, dated
			var err error
			if y.was != nil {
				if base, without, err = y.was.withoutPosix(r, dated); err != nil {
					return nil, err
				}
			}
			after, with := base, without
			if y.want != nil {
				after, with, err = y.want.setPosix(d, base, without, d.Today, true)
			}
			var no *estate.Refused
			if errors.As(err, &no) {
				err = &estate.Refused{Why: y.at.Via() + ": " + no.Why, Do: no.Do}
			}
			y.base, y.days, became = base, [2]estate.Dated{without, with}, with
			return after, err
		},
		PosixDates: func(_, after *rule.Descriptor, _ bool, _ estate.Dated) estate.Dated { return plan.Still(became, after) },
		Hands:      true,
		HandsBack:  y.was != nil && (y.want == nil || y.want.seal == ""),
	}
}

// LayPolicy lays a policy on places: what it wants comes, and where it is laid
// already the difference.
func LayPolicy(d *plan.Planner, pol *policy.Policy, on []string) (*plan.Plan, []expect.Expectation, error) {
	body := d.T.Record(estate.PolicyRecord, pol.Name)
	old, err := plan.RecordAs[LaidPolicy](d.T, estate.PolicyRecord, pol.Name)
	if err != nil {
		return nil, nil, err
	}
	if old == nil {
		old = &LaidPolicy{}
	}
	all := slices.Clone(old.On)
	for _, o := range on {
		at, err := d.K.Place(o)
		if err != nil {
			return nil, nil, err
		}
		if via := at.Via(); !slices.Contains(all, via) {
			all = append(all, via)
		}
	}
	want, err := resolve(d, pol, all)
	if err != nil {
		return nil, nil, err
	}
	now := LaidPolicy{Name: pol.Name, Because: pol.Because, Version: max(1, old.Version), On: all, Text: pol.Text}
	if old.Version > 0 && old.Text != pol.Text {
		now.Version = old.Version + 1
	}
	if now.On == nil {
		now.On = []string{}
	}
	list, err := layings(d, pol, want, all, old)
	if err != nil {
		return nil, nil, err
	}
	said := "policy " + pol.Name + " laid"
	if len(all) > 0 {
		said += " on " + plan.Many(all)
	}
	if now.Version > 1 {
		said += fmt.Sprintf(", version %d", now.Version)
	}
	p := d.NewPlan("%s: %s", said, pol.Because)
	p.Nothing = "it is laid just so already"
	if err := lays(d, p, list); err != nil {
		return nil, nil, err
	}
	for _, y := range list {
		if y.want == nil {
			continue
		}
		// A descriptor as it will be: base and after as the partition has them.
		n := p.Work.Partition.NodeFor(y.at.Item, y.at.Strand)
		l := LaidPlace{Where: y.at.By(nil).String(), On: y.on, Item: y.at.Item, Line: y.line}
		base := y.base
		if base == nil {
			base = p.Work.Partition.Nodes[n].Before
		}
		if l.Before, err = plan.Encoded(base); err == nil {
			l.After, err = plan.Encoded(p.Work.Partition.Nodes[n].After)
		}
		if err != nil {
			return nil, nil, err
		}
		l.Was, l.Is = dayKeys(y.days[0]), dayKeys(y.days[1])
		now.Places = append(now.Places, l)
	}
	e := edit.Description{Kind: "policy", Where: "policy " + pol.Name, Lines: []edit.Line{{Sign: edit.Comes, What: "policy", Text: fmt.Sprintf("version %d, on %s", now.Version, format.Count(int64(len(now.Places)), "place"))}}}
	if body != "" {
		e.Lines[0].Sign = edit.Changes
	}
	if err := p.SetRecord(estate.PolicyRecord, pol.Name, body, now, e); err != nil {
		return nil, nil, err
	}
	p, err = d.Evaluate(p)
	return p, Expected(pol, all), err
}

func dayKeys(dated estate.Dated) map[string]string {
	if len(dated) == 0 {
		return nil
	}
	out := map[string]string{}
	for e, u := range dated {
		out[estate.EntryKey(e)] = string(u)
	}
	return out
}

// layings finds the places of a policy, and those where it is laid and no
// longer wanted.
func layings(d *plan.Planner, pol *policy.Policy, want []wants, on []string, old *LaidPolicy) (list []*laying, err error) {
	byItem := map[int64]*laying{}
	for i := range pol.Blocks {
		b := &pol.Blocks[i]
		for k, w := range b.Where {
			bad := func(err error) error {
				return &format.Error{File: pol.File, Line: b.Line, Column: b.WhereAt[k], What: err.Error()}
			}
			tops := on
			if place.Whole(w) {
				tops = []string{""}
			} else if len(on) == 0 {
				return nil, &estate.Refused{Why: fmt.Sprintf("%s has relative places, and nothing to lay them on", pol.Name), Do: "say where: --on //SERVER/SHARE"}
			}
			for _, top := range tops {
				at, err := d.K.Place(policy.Join(top, w))
				if err != nil {
					return nil, bad(err)
				}
				for _, e := range want[i].entries {
					if _, err := e.line.Entries(at.Folder); err != nil {
						return nil, bad(fmt.Errorf("%s: %w", at.Via(), err))
					}
				}
				if first := byItem[at.Item]; first != nil {
					return nil, bad(fmt.Errorf("%s is named in line %d already, by another way", at.Via(), first.line))
				}
				y := &laying{at: at, on: top, line: b.Line, want: &want[i]}
				byItem[at.Item] = y
				list = append(list, y)
			}
		}
	}
	for i := range old.Places {
		l := &old.Places[i]
		at, ok := LaidOn(d, l)
		if !ok {
			continue
		}
		if y := byItem[at.Item]; y != nil {
			y.was = l
			continue
		}
		list = append(list, &laying{at: at, on: l.On, line: l.Line, was: l})
	}
	return list, d.T.Err()
}

// lays works out what happens to the places.
func lays(d *plan.Planner, p *plan.Plan, list []*laying) error {
	b := d.Bundle(p)
	for _, y := range list {
		e := y.edit(d)
		b.Item(y.at.Target(), &e)
	}
	if err := b.Done(); err != nil {
		return err
	}
	if p.Work.Partition == nil {
		p.Work.Partition = estate.NewPartition()
	}
	return nil
}

// Expected lists what a policy expects where it is laid.
func Expected(pol *policy.Policy, on []string) (out []expect.Expectation) {
	for i := range pol.Expect {
		l := &pol.Expect[i]
		tops := on
		if place.Whole(l.Where) {
			tops = []string{""}
		}
		for _, top := range tops {
			e := review.Expects(l, pol.File)
			e.Where = policy.Join(top, l.Where)
			out = append(out, *e)
		}
	}
	return out
}

// Relied is an expectation that a laid policy has.
type Relied struct {
	Policy string
	expect.Expectation
}

// ReliedOn lists what all laid policies expect.
func ReliedOn(t *estate.Tx) (out []Relied, err error) {
	list, err := Policies(t)
	if err != nil {
		return nil, err
	}
	for i := range list {
		l := &list[i]
		pol, err := policy.Read(strings.NewReader(l.Text), "policy "+l.Name)
		if err != nil {
			return nil, err
		}
		for _, x := range Expected(pol, l.On) {
			out = append(out, Relied{l.Name, x})
		}
	}
	return out, nil
}

// LiftPolicy takes a policy off places, all of them where none are named: what it
// set goes and what it replaced comes back, as far as nothing later builds on it.
func LiftPolicy(d *plan.Planner, name string, on []string) (*plan.Plan, error) {
	old, err := Policy(d.T, name)
	if err != nil {
		return nil, err
	}
	body := d.T.Record(estate.PolicyRecord, name)
	said := "policy " + old.Name + " lifted"
	if len(on) == 0 {
		// Nothing came after it: it is undone, to the byte and everywhere below.
		if laid := d.T.RecordChanges(estate.PolicyRecord, name); len(laid) == 1 {
			var later *undo.BuiltOn
			p, err := undo.TakeBack(d, laid[0], false, said)
			if err == nil || !errors.As(err, &later) {
				return p, err
			}
		}
	}
	var tops []string
	for _, o := range on {
		at, err := d.K.Place(o)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(old.On, at.Via()) {
			return nil, &estate.Refused{Why: fmt.Sprintf("%s is not laid on %s, but on %s", old.Name, at.Via(), plan.Many(old.On))}
		}
		tops = append(tops, at.Via())
	}
	if len(tops) > 0 {
		said += " from " + plan.Many(tops)
	}
	p := d.NewPlan("%s", said)
	now := *old
	now.Places, now.On = nil, slices.DeleteFunc(slices.Clone(old.On), func(o string) bool { return slices.Contains(tops, o) })
	var list []*laying
	for i := range old.Places {
		l := &old.Places[i]
		if len(tops) > 0 && !slices.Contains(tops, l.On) {
			now.Places = append(now.Places, *l)
			continue
		}
		at, ok := LaidOn(d, l)
		if !ok {
			p.Advice = append(p.Advice, plan.Advice{Kind: "left", Where: l.Where, Text: "it is there no more"})
			continue
		}
		leaves(d, p, l, at)
		list = append(list, &laying{at: at, was: l})
	}
	if err := lays(d, p, list); err != nil {
		return nil, err
	}
	e := edit.Description{Kind: "policy", Where: "policy " + old.Name, Lines: []edit.Line{{Sign: edit.Goes, What: "policy"}}}
	var after any
	if len(now.Places) > 0 {
		after = now
		e.Lines[0] = edit.Line{Sign: edit.Changes, What: "policy", Text: fmt.Sprintf("on %s", format.Count(int64(len(now.Places)), "place"))}
	}
	if err := p.SetRecord(estate.PolicyRecord, old.Name, body, after, e); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// leaves says what lifting a policy leaves on a place, since it came later.
func leaves(d *plan.Planner, p *plan.Plan, l *LaidPlace, at estate.Place) {
	was, err := plan.Decoded(l.Before)
	is, err2 := plan.Decoded(l.After)
	if err != nil || err2 != nil {
		return
	}
	before, after := d.K.AsNamed(was), d.K.AsNamed(is)
	now := d.K.AsNamed(d.T.Of(at.Strand))
	left := func(text string) {
		p.Advice = append(p.Advice, plan.Advice{Kind: "left", Where: at.String(), Text: text})
	}
	lang := ask.Language(d.T)
	if before.Owner != after.Owner && now.Owner != after.Owner {
		left("owner " + d.T.Name(now.Owner) + ", who was made that later")
	}
	for _, e := range now.Rules.Own() {
		if !slices.Contains(after.Rules.Entries, e) && !slices.Contains(before.Rules.Entries, e) {
			left(lang.Write(e, at.Folder) + ", set there later")
		}
	}
	if before.Sealed() != after.Sealed() && now.Sealed() != after.Sealed() {
		left("unsealed as it is, which came later")
	}
}

// PolicyDrift is what is otherwise than a laid policy wants.
type PolicyDrift struct {
	Policy  string             `json:"policy"`
	Version int                `json:"version"`
	Places  int                `json:"places"`
	Lines   []PolicyOff        `json:"otherwise"`
	Unmet   []*expect.Expected `json:"expectations-unmet"`
}

// PolicyOff is one thing that is otherwise.
type PolicyOff struct {
	Where string `json:"where"`
	// Line is what is not as wanted: goes what was wanted and is gone, comes
	// what is there beside; gone: the place is there no more.
	Line edit.Line `json:"line"`
	// Change is the change that made it so, By whom and when; 0: not known.
	Change int64  `json:"change,omitempty"`
	By     string `json:"by,omitempty"`
	At     string `json:"at,omitempty"`
	What   string `json:"what,omitempty"`
}

// DriftOf tells what is otherwise now than a laid policy wants.
func DriftOf(d *plan.Planner, l *LaidPolicy, asked func(*expect.Expectation) (*expect.Expected, error)) (*PolicyDrift, error) {
	out := &PolicyDrift{Policy: l.Name, Version: l.Version, Places: len(l.Places), Lines: []PolicyOff{}, Unmet: []*expect.Expected{}}
	pol, want, err := laidWants(d, l)
	if err != nil { // somebody it names is gone
		if terr := d.T.Err(); terr != nil {
			return nil, terr
		}
		out.Lines = append(out.Lines, PolicyOff{Where: "policy " + l.Name, Line: edit.Line{Sign: edit.Goes, What: "name", Text: err.Error()}})
		return out, nil
	}
	laid := d.T.RecordChanges(estate.PolicyRecord, l.Name)
	for i := range l.Places {
		x := &l.Places[i]
		at, ok := LaidOn(d, x)
		if !ok {
			out.Lines = append(out.Lines, PolicyOff{Where: x.Where, Line: edit.Line{Sign: edit.Goes, What: "item", Text: "the place itself"}})
			continue
		}
		w := wantOf(pol, want, x)
		if w == nil {
			continue
		}
		for _, line := range off(d, w, at) {
			o := PolicyOff{Where: at.String(), Line: line}
			if len(laid) > 0 {
				if r, ok := offSince(d, w, at, line, laid[0]); ok {
					o.Change, o.By, o.At, o.What = r.ID, r.Actor, r.At, r.Summary
				}
			}
			out.Lines = append(out.Lines, o)
		}
	}
	for _, e := range Expected(pol, l.On) {
		got, err := asked(&e)
		if err != nil {
			return nil, err
		}
		if !got.Holds {
			out.Unmet = append(out.Unmet, got)
		}
	}
	return out, d.T.Err()
}

// laidWants reads the text a policy was laid with.
func laidWants(d *plan.Planner, l *LaidPolicy) (*policy.Policy, []wants, error) {
	pol, err := policy.Read(strings.NewReader(l.Text), "policy "+l.Name)
	if err != nil {
		return nil, nil, err
	}
	want, err := resolve(d, pol, l.On)
	return pol, want, err
}

// wantOf gives the block a place was laid by.
func wantOf(pol *policy.Policy, want []wants, l *LaidPlace) *wants {
	for i := range pol.Blocks {
		if pol.Blocks[i].Line == l.Line {
			return &want[i]
		}
	}
	return nil
}

// off lists what of an item's rules is not as wanted.
func off(d *plan.Planner, w *wants, at estate.Place) []edit.Line {
	now := d.T.Of(at.Strand)
	dated := d.T.Dated(estate.Bearer{Item: at.Item}, now)
	return offOf(d, w, now, dated, at.Folder)
}

func offOf(d *plan.Planner, w *wants, is rule.Any, dated estate.Dated, folder bool) (lines []edit.Line) {
	if r, ok := is.(*posix.Rules); ok {
		return offPosix(d, w, r, dated, folder)
	}
	now := plan.Desc(is)
	then, days, err := w.set(now, folder, dated, d.Today)
	if err != nil {
		return []edit.Line{{Sign: edit.Goes, What: "entry", Text: err.Error()}}
	}
	turn := map[edit.Sign]edit.Sign{edit.Comes: edit.Goes, edit.Goes: edit.Comes}
	for _, l := range d.Diff(now, then, folder, dated, days) {
		if w.seal != "" && l.FromAbove { // they go with the seal
			continue
		}
		if s, ok := turn[l.Sign]; ok {
			l.Sign = s
		}
		lines = append(lines, l)
	}
	for _, e := range then.Rules.Own() {
		if slices.Contains(now.Rules.Entries, e) && dated[e] != days[e] {
			lines = append(lines, edit.Line{Sign: edit.Changes, What: "last-day", Text: ask.Language(d.T).Write(e, folder) + untilSaid(dated[e]) + ", wanted" + untilSaid(days[e])})
		}
	}
	return lines
}

func untilSaid(u estate.Day) string {
	if u == "" {
		return " for good"
	}
	return " until " + string(u)
}

// offSince finds the last change after one that made a line so.
func offSince(d *plan.Planner, w *wants, at estate.Place, line edit.Line, since int64) (estate.Change, bool) {
	has := func(a rule.Any) bool { return slices.Contains(offOf(d, w, a, nil, at.Folder), line) }
	for _, r := range d.T.Log() {
		if r.ID <= since {
			break
		}
		for _, x := range d.T.Turns(r.ID) {
			if d.T.Descends(at.Strand, x.Strand) && has(x.After) && !has(x.Before) {
				return r, true
			}
		}
		if line.What == "last-day" && d.T.DatedBy(r.ID, at.Item) {
			return r, true
		}
	}
	return estate.Change{}, false
}

func init() { plan.AddReview(plan.Review{Places: laid, Done: keepsPolicies}) }

// laid lists the places of all laid policies.
func laid(d *plan.Planner) (out []estate.Target, err error) {
	all, err := Policies(d.T)
	for i := range all {
		for k := range all[i].Places {
			x := &all[i].Places[k]
			if row, ok := d.T.ItemRow(x.Item); ok {
				out = append(out, estate.Target{Item: x.Item, Strand: row.Strand, Folder: row.Folder})
			} else if at, found := LaidOn(d, x); found {
				out = append(out, at.Target())
			}
		}
	}
	return out, err
}

// keepsPolicies warns of what a plan alters that a laid policy wants
// otherwise.
func keepsPolicies(d *plan.Planner, p *plan.Plan) error {
	all, err := Policies(d.T)
	p.Laid = len(all)
	if err != nil || len(all) == 0 || p.Work.Partition == nil {
		return err
	}
	f := p.Work.Partition
	mine := map[string]bool{} // those the plan itself lays, alters or lifts
	for _, e := range p.Work.Records {
		if e.Kind == estate.PolicyRecord {
			mine[estate.Key(e.Name)] = true
		}
	}
	for i := range all {
		l := &all[i]
		if mine[estate.Key(l.Name)] {
			continue
		}
		var pol *policy.Policy
		var want []wants
		for k := range l.Places {
			x := &l.Places[k]
			item := x.Item
			row, ok := d.T.ItemRow(item)
			if !ok { // it went, and something else may stand there
				at, found := LaidOn(d, x)
				if !found {
					continue
				}
				item = at.Item
				if row, ok = d.T.ItemRow(item); !ok {
					continue
				}
			}
			n := f.NodeFor(item, row.Strand)
			if n >= 0 && !f.Nodes[n].Changed() && !slices.ContainsFunc(p.Work.Dates, func(e edit.LastDays) bool { return e.Of.Item == item }) || n < 0 && !p.Work.TakesOut() && len(p.Work.Removed) == 0 {
				continue
			}
			at := d.T.Place(item)
			warn := func() {
				p.Warnings = append(p.Warnings, plan.Warning{Guard: "laid-policy", Who: l.Name, Where: at.String()})
			}
			if slices.ContainsFunc(p.Work.Rows, func(y edit.Raw) bool {
				return y.After == nil && y.Table == "items" && y.Row <= at.Item && at.Item <= y.Last
			}) || slices.Contains(p.Work.Removed, at.Item) {
				warn()
				continue
			}
			if n < 0 {
				continue
			}
			before, after := f.Nodes[n].Before, f.Nodes[n].After
			dates := slices.IndexFunc(p.Work.Dates, func(e edit.LastDays) bool { return e.Of.Item == at.Item })
			if before == nil || after == nil || before == after && dates < 0 {
				continue
			}
			if pol == nil {
				if pol, want, err = laidWants(d, l); err != nil {
					pol, err = nil, nil // what it names is gone: its drift says so
					break
				}
			}
			w := wantOf(pol, want, x)
			if w == nil {
				continue
			}
			was := d.T.Dated(estate.Bearer{Item: at.Item}, before)
			is := plan.Still(was, after.Listed())
			if dates >= 0 {
				is = p.Work.Dates[dates].After
			}
			held := offOf(d, w, before, was, at.Folder)
			for _, line := range offOf(d, w, after, is, at.Folder) {
				if !slices.Contains(held, line) {
					warn()
					break
				}
			}
		}
	}
	return d.T.Err()
}

// PolicyStands is a laid policy with where it came from.
type PolicyStands struct {
	LaidPolicy
	Since   string  `json:"since"` // when it was first laid
	By      string  `json:"by"`
	Changed string  `json:"changed,omitempty"` // when it was last altered, if it was
	Changes []int64 `json:"changes"`
}

// StandsOf tells since when a policy is laid, and by whom.
func StandsOf(d *plan.Planner, l *LaidPolicy) PolicyStands {
	out := PolicyStands{LaidPolicy: *l, Changes: d.T.RecordChanges(estate.PolicyRecord, l.Name)}
	for i, id := range out.Changes {
		r, err := d.T.ChangeNumbered(id)
		if err != nil {
			continue
		}
		if i == 0 {
			out.Since, out.By = r.At, r.Actor
		} else {
			out.Changed = r.At
		}
	}
	return out
}
