package keeper

import (
	"fmt"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
)

// mayAct warns where who acts is a user of the estate and could not do on the
// server what the plan does: change the rules of an item, or what only an
// administrator of the server may (its shares, administrators and traits). A
// keeper of a place decides over its rules. Who acts and is not a user of the estate
// works on the model from outside.
func mayAct(d *plan.Planner, p *plan.Plan) error {
	actor, ok := d.ActingUser()
	if !ok || p.IsSo || p.Ends {
		return nil
	}
	w := &p.Work
	k, err := Of(d)
	if err != nil {
		return err
	}
	passes := map[int64]bool{}
	administers := func(s *estate.Server) bool {
		is, known := passes[s.ID]
		if !known {
			token := acc.NewToken(d.T, actor.ID, s.Traits.Traits)
			is = slices.ContainsFunc(estate.PassingBy(&s.Traits, d.T.Administrators(*s)), token.Has)
			passes[s.ID] = is
		}
		return is
	}
	warn := func(where string, why *ask.Reason) {
		p.Warnings = append(p.Warnings, plan.Warning{Guard: "may-not", Users: []string{actor.Name}, Where: where, Because: why})
	}
	act, _ := verdict.ActNamed("change-rules")
	for _, n := range w.Named {
		node := &w.Partition.Nodes[n]
		if node.Before == nil || node.After == nil || !node.Changed() || node.Before.Owned() != node.After.Owned() { // owning is held elsewhere
			continue
		}
		items := w.Partition.Some(d.T, n, 1)
		if len(items) == 0 {
			continue
		}
		at := d.T.Place(items[0])
		if administers(&at.Server) || k.Is(actor.ID, k.Place(at.By(nil).String())) {
			continue
		}
		if t := explain.TryAt(d.K, actor, act, at); !t.Allowed {
			var why *ask.Reason
			if i := slices.IndexFunc(t.Needs, func(x explain.Needed) bool { return !x.Held && x.Reason != nil }); i >= 0 {
				why = t.Needs[i].Reason
			}
			warn("change the rules of "+at.String(), why)
			break // one is enough
		}
	}
	only := func(s *estate.Server, what string) {
		if len(d.T.Administrators(*s)) > 0 && !administers(s) { // where none is known yet, nobody is
			warn(fmt.Sprintf("%s: that takes an administrator of %s", what, s.Name), nil)
		}
	}
	for i := range w.Shares {
		e := &w.Shares[i]
		either := e.After
		if either == nil {
			either = e.Before
		}
		if at := (estate.Place{Server: e.Server, Path: either.Folder}).String(); !k.Is(actor.ID, k.Place(at)) {
			only(&e.Server, "change share "+either.Address())
			break
		}
	}
	for i := range w.Admins {
		if s := &w.Admins[i].Server; s.ID != 0 {
			only(s, "say who administers "+s.Name)
			break
		}
	}
	for i := range w.Servers {
		if e := &w.Servers[i]; e.Before != nil && e.After != nil {
			only(e.Before, "say what traits "+e.Before.Name+" has")
			break
		}
	}
	return d.T.Err()
}
