package plan

import (
	"fmt"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// mayAct warns where who acts is a user of the estate and could not do on the
// server what the plan does: change the rules of an item, or what only an
// administrator of the server may (its shares, administrators and traits). A
// keeper of a place decides over its rules. Who acts and is no user of the estate
// works on the model from outside.
func (d *Desk) mayAct(p *Plan) error {
	actor, ok := d.actor()
	if !ok || p.IsSo || p.ends {
		return nil
	}
	w := &p.work
	k, err := d.keeps()
	if err != nil {
		return err
	}
	passes := map[int64]bool{}
	administers := func(s *estate.Server) bool {
		is, known := passes[s.ID]
		if !known {
			token := acc.NewToken(d.t, actor.ID, s.Traits.Traits)
			is = slices.ContainsFunc(estate.PassingBy(&s.Traits, d.t.Administrators(*s)), token.Has)
			passes[s.ID] = is
		}
		return is
	}
	warn := func(where string, why *ask.Reason) {
		p.Warnings = append(p.Warnings, Warning{Guard: "may-not", Users: []string{actor.Name}, Where: where, Because: why})
	}
	act, _ := verdict.ActNamed("change-rules")
	for _, n := range w.named {
		node := &w.forest.Nodes[n]
		if node.Before == nil || node.After == nil || !node.Changed() || node.Before.Owned() != node.After.Owned() { // owning is held elsewhere
			continue
		}
		items := w.forest.Some(d.t, n, 1)
		if len(items) == 0 {
			continue
		}
		at := d.t.Place(items[0])
		if administers(&at.Server) || k.is(actor.ID, k.place(at.By(nil).String())) {
			continue
		}
		if t := d.k.TryAt(actor, act, at); !t.Allowed {
			var why *ask.Reason
			if i := slices.IndexFunc(t.Needs, func(x ask.Needed) bool { return !x.Held && x.Reason != nil }); i >= 0 {
				why = t.Needs[i].Reason
			}
			warn("change the rules of "+at.String(), why)
			break // one is enough
		}
	}
	only := func(s *estate.Server, what string) {
		if len(d.t.Administrators(*s)) > 0 && !administers(s) { // where none is known yet, nobody is
			warn(fmt.Sprintf("%s: that takes an administrator of %s", what, s.Name), nil)
		}
	}
	for i := range w.shares {
		e := &w.shares[i]
		either := e.after
		if either == nil {
			either = e.before
		}
		if at := (estate.Place{Server: e.server, Path: either.Folder}).String(); !k.is(actor.ID, k.place(at)) {
			only(&e.server, "change share "+either.Address())
			break
		}
	}
	for i := range w.admins {
		if s := &w.admins[i].server; s.ID != 0 {
			only(s, "say who administers "+s.Name)
			break
		}
	}
	for i := range w.servers {
		if e := &w.servers[i]; e.before != nil && e.after != nil {
			only(e.before, "say what traits "+e.before.Name+" has")
			break
		}
	}
	return d.t.Err()
}
