package plan_test

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/proptest"
)

// TestNobodyHasMoreOnTheWay: a plan of memberships and rules is written in phases; at no
// moment between two of them, whatever of a phase is done, can anybody do what they can
// neither before it nor after. Groups that entries give something here and refuse something
// there are no part of it: no order would do for them all.
func TestNobodyHasMoreOnTheWay(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(t, rt)
		if w.posix { // the class of a group may have less than others have
			return
		}
		paths, _ := w.all()
		for range 4 {
			at, group := rapid.SampledFrom(paths).Draw(rt, "at"), rapid.SampledFrom([]string{"g0", "g1", "g2", "g3"}).Draw(rt, "group")
			goes := rapid.Bool().Draw(rt, "goes")
			kind := rapid.SampledFrom([]rule.Kind{rule.Allow, rule.Deny}).Draw(rt, "kind")
			moves := rapid.Bool().Draw(rt, "mover")
			user := rapid.SampledFrom(w.users).Draw(rt, "user")
			level := rapid.SampledFrom([]string{"read", "edit", "full"}).Draw(rt, "level")
			build := func(d *plan.Planner) (*plan.Plan, error) {
				if moves {
					return entry.Mover(d, w.users[2], w.users[1], nil)
				}
				var p *plan.Plan
				var err error
				if goes {
					p, err = people.Leave(d, group, []string{user})
				} else {
					p, err = people.Join(d, group, []string{user}, "")
				}
				if err != nil || !p.Changes() {
					return p, err
				}
				rules, err := entry.Give(d, entry.Entry{Kind: kind, Who: group, What: level}, plan.Targets{Where: []string{at}, Plain: true})
				if err != nil {
					return nil, err
				}
				rules.Work.Members = p.Work.Members
				return d.Evaluate(rules)
			}
			p, err := w.work(build)
			if err != nil || !p.Changes() || len(p.Work.Members) == 0 {
				continue
			}
			phases, mixed := map[int]plan.Phase{}, false
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
				d := plan.New(tx, "outsider")
				for i := range p.Work.Members {
					e := &p.Work.Members[i]
					var m bool
					phases[i], m = d.PhaseOf(p, e.Group.ID, e.Is != nil)
					mixed = mixed || m
				}
				return tx.Err()
			}))
			if mixed {
				met["mixed"]++
				continue
			}
			stage := func(rules bool, takes func(plan.Phase) bool) access {
				var out access
				require.NoError(rt, w.e.Private(ctx, func(then *estate.Estate) error {
					whole := w.e
					w.e = then
					defer func() { w.e = whole }()
					q, err := w.work(func(d *plan.Planner) (*plan.Plan, error) {
						q, err := build(d)
						if err != nil {
							return nil, err
						}
						var left []edit.Membership
						for i, e := range q.Work.Members {
							if takes(phases[i]) {
								left = append(left, e)
							}
						}
						if !rules {
							q = d.NewPlan("memberships alone")
						}
						q.Work.Members = left
						return d.Evaluate(q)
					})
					if err != nil {
						return err
					}
					if q.Changes() {
						if _, err = then.Change(ctx, q.Meta("test"), q.Keep); err != nil {
							return err
						}
					}
					out = w.access()
					return nil
				}))
				return out
			}
			before := w.access()
			after := stage(true, func(plan.Phase) bool { return true })
			none := rapid.Bool().Draw(rt, "rules are not begun")
			on := stage(!none, func(x plan.Phase) bool { return x == plan.ClosingMembers })
			for _, x := range slices.Sorted(maps.Keys(on)) {
				require.Zero(rt, on[x]&^(before[x]|after[x])&right.Access, "%s: %#x, where %#x becomes %#x (%s; rules: %t; %v)", x, uint32(on[x]), uint32(before[x]), uint32(after[x]), p.Change, !none, phases)
			}
			for _, x := range slices.Sorted(maps.Values(phases)) {
				met[map[plan.Phase]string{plan.ClosingMembers: "closing", plan.OpeningMembers: "opening"}[x]]++
			}
			w.keep(build)
		}
	})
	t.Log(met)
	proptest.Reached(t, met["closing"], 20, "memberships that close")
	proptest.Reached(t, met["opening"], 20, "memberships that open")
}
