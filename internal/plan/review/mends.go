// Package review makes plans of what is found and of what would mend it: findings
// that change nobody's access, steps that give a user what is lacking.
package review

import (
	"context"
	"slices"
	"strings"

	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/people"
)

// Mended is a smallest change that makes an answer yes, with all else it opens.
type Mended struct {
	Steps   []explain.Step `json:"steps"`
	Command [][]string     `json:"commands"` // as arguments, one command a step
	// Counts is at-once, or from-the-next-sign-on where a membership comes in.
	Counts string `json:"counts"`
	// People are the others who gain by it, and Items on how many items by
	// route somebody does, the place itself among them.
	People []string       `json:"others-who-gain"`
	Items  int64          `json:"items"`
	Loses  []string       `json:"who-loses,omitempty"`
	Impact []plan.Shift   `json:"impact"`
	Guards []plan.Warning `json:"guards,omitempty"`
}

// Mending is what would give a user a level in a place by one route.
type Mending struct {
	Where string   `json:"where"`
	Route string   `json:"route"`
	Want  string   `json:"want"`
	Held  bool     `json:"held"` // they have it already
	Mends []Mended `json:"mends"`
	// Switched: the share is switched to read-only, which none of these mends.
	Switched bool `json:"share-switched-read-only,omitempty"`
	// Marks of the item take what is wanted, which none of these mends (explain.Lacking).
	Marks []string `json:"marks,omitempty"`
}

// Do works out one step of a mend.
func Do(d *plan.Planner, s explain.Step) (*plan.Plan, error) {
	switch s.Do {
	case "join":
		return people.Join(d, s.Group, []string{s.Who}, estate.Day(s.Until))
	case "leave":
		return people.Leave(d, s.Group, []string{s.Who})
	case "grant", "share-grant":
		e := entry.Entry{Kind: rule.Allow, Who: s.Who, What: s.Level, Share: s.Do == "share-grant", Until: estate.Day(s.Until)}
		if s.Scope != "" {
			scope, err := rule.ParseScope(s.Scope)
			if err != nil {
				return nil, err
			}
			e.Scope = scope
		}
		if e.Share {
			e.Scope = rule.Here
		}
		return entry.Give(d, e, plan.Targets{Where: []string{s.Where}, Plain: true})
	}
	y := entry.Taking{Who: s.Who, What: s.Level, Kinds: []rule.Kind{rule.Deny}, Share: s.Do == "share-revoke"}
	return entry.Take(d, y, plan.Targets{Where: []string{s.Where}, Plain: true})
}

// mostMends is how many mends are told of at most for one route.
const mostMends = 8

// Mends finds the smallest changes that would give a user a level in a place,
// each tried for real in a private estate and held to giving it; those with the
// least side effects first.
func Mends(ctx context.Context, e *estate.Estate, actor, who, where, want string, step func(string)) ([]Mending, error) {
	var lacks []explain.Lacking
	var routes []string
	if err := e.View(ctx, func(t *estate.Tx) (err error) {
		k := ask.New(t)
		if lacks, err = explain.LackingFor(k, who, where, want); err != nil {
			return err
		}
		all, err := explain.Explain(k, who, where, true)
		for _, x := range all {
			routes = append(routes, x.Route)
		}
		return err
	}); err != nil {
		return nil, err
	}
	out := []Mending{}
	w := Wish{People: []string{who}, Actor: actor}
	for _, route := range routes {
		m := Mending{Where: where, Route: route, Want: want, Held: true, Mends: []Mended{}}
		if i := slices.IndexFunc(lacks, func(l explain.Lacking) bool { return l.Route == route }); i >= 0 {
			l := &lacks[i]
			m.Where, m.Held, m.Switched, m.Marks = l.Where, false, l.Switch, l.Marks
			var err error
			if m.Mends, err = MendsOf(ctx, e, w, l, step); err != nil {
				return nil, err
			}
		}
		out = append(out, m)
	}
	return out, nil
}

// Wish is who is to have something, until when; several people by the like
// steps. The ways it may come about are the first's.
type Wish struct {
	People []string
	Until  estate.Day
	Actor  string // who would do it
}

// is tells whether a user of an impact is one of those it is for.
func (w Wish) is(user string) bool {
	return slices.ContainsFunc(w.People, func(who string) bool {
		return plan.SameKey(strings.TrimPrefix(who, "user:"), strings.TrimPrefix(user, "user:"))
	})
}

// steps makes the first's steps those of all.
func (w Wish) steps(first []explain.Step) (out []explain.Step) {
	for _, s := range first {
		if s.Do == "join" || s.Do == "grant" || s.Do == "share-grant" {
			s.Until = string(w.Until)
		}
		mine := plan.SameKey(strings.TrimPrefix(s.Who, "user:"), strings.TrimPrefix(w.People[0], "user:"))
		for i, who := range w.People {
			o := s
			if mine {
				o.Who = who
			}
			if (i == 0 || mine) && !slices.Contains(out, o) {
				out = append(out, o)
			}
		}
	}
	return out
}

func MendsOf(ctx context.Context, e *estate.Estate, w Wish, l *explain.Lacking, step func(string)) ([]Mended, error) {
	ways := l.FileWays
	switch {
	case l.File && l.Share: // one of each side; a single step may serve both
		ways = slices.Concat(l.FileWays, nil)
		for i, f := range l.FileWays {
			for j, s := range l.ShareWays {
				if i < 6 && j < 4 {
					ways = append(ways, slices.Concat(f, s))
				}
			}
		}
	case l.Share:
		ways = l.ShareWays
	}
	out := []Mended{}
	for i, steps := range ways {
		steps = w.steps(steps)
		if step != nil {
			step("trying " + steps[0].Said())
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if len(out) >= 2*mostMends && i > mostMends {
			break
		}
		m, err := try(ctx, e, w, l, steps)
		if err != nil {
			return nil, err
		}
		if m == nil || slices.ContainsFunc(out, func(o Mended) bool { return covers(o.Steps, steps) || o.narrower(m) }) {
			continue // it doesn't serve, or part of it does alone
		}
		out = append(out, *m)
	}
	slices.SortStableFunc(out, func(a, b Mended) int {
		if c := len(a.People) + len(a.Loses) - len(b.People) - len(b.Loses); c != 0 {
			return c
		}
		if c := a.Items - b.Items; c != 0 {
			return int(max(-1, min(1, c)))
		}
		return len(a.Steps) - len(b.Steps)
	})
	return out[:min(len(out), mostMends)], nil
}

// narrower tells whether a mend takes part of a deny entry, where the other
// takes it whole and opens just the same.
func (m *Mended) narrower(o *Mended) bool {
	if len(m.Steps) != 1 || len(o.Steps) != 1 {
		return false
	}
	a, b := m.Steps[0], o.Steps[0]
	a.Level, b.Level = "", ""
	return a == b && m.Items == o.Items && slices.Equal(m.People, o.People)
}

// covers tells whether all steps of a mend are among others.
func covers(some, all []explain.Step) bool {
	for _, s := range some {
		if !slices.Contains(all, s) {
			return false
		}
	}
	return true
}

// try takes the steps in a private estate; nil where they don't give what is
// wanted, or can't be taken.
func try(ctx context.Context, e *estate.Estate, w Wish, l *explain.Lacking, steps []explain.Step) (*Mended, error) {
	var out *Mended
	err := e.Private(ctx, func(p *estate.Estate) error {
		m := &Mended{Steps: steps, Counts: "at-once", People: []string{}, Impact: []plan.Shift{}}
		for _, s := range steps {
			var step *plan.Plan
			err := p.View(ctx, func(t *estate.Tx) (err error) {
				step, err = plan.New(t, w.Actor).Make(func(d *plan.Planner) (*plan.Plan, error) { return Do(d, s) })
				return err
			})
			if err != nil || !step.Changes() {
				return ctx.Err() // what can't be done mends nothing
			}
			if _, err := p.Change(ctx, step.Meta("mend"), step.Keep); err != nil {
				return err
			}
			m.Command = append(m.Command, s.Words())
			m.Impact = append(m.Impact, step.Impact...)
			m.Guards = append(m.Guards, step.Warnings...)
			if s.Do == "join" || s.Do == "leave" {
				m.Counts = "from-the-next-sign-on"
			}
		}
		holds := false
		if err := p.View(ctx, func(t *estate.Tx) (err error) {
			holds = true
			for _, who := range w.People {
				has, herr := explain.Holds(ask.New(t), who, l.Where, l.Want)
				if herr != nil {
					return herr
				}
				holds = holds && has
			}
			for _, x := range m.Impact {
				list := &m.People
				if x.Kind == "lose" {
					list = &m.Loses
				} else {
					m.Items += x.Items * int64(len(x.Routes))
				}
				for _, u := range x.Users { // what they lose themselves by leaving a group is told too
					if (x.Kind == "lose" || !w.is(u)) && !slices.Contains(*list, u) {
						*list = append(*list, u)
					}
				}
			}
			return err
		}); err != nil {
			return err
		}
		if holds {
			out = m
		}
		return nil
	})
	return out, err
}
