package cli

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/impact"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

// warning is what a guard has against a proposal.
type warning struct {
	guard string // its name in the journal
	says  string
}

// guards look at a proposal and its impact. A warning stops the change unless
// --force insists; advice is only said.
func (a *app) guards(t *estate.Tx, p *proposal, rows []*shiftRow, routes []impact.Route) (warnings []warning, advice []string) {
	warn := func(guard, format string, args ...any) {
		warnings = append(warnings, warning{guard, fmt.Sprintf(format, args...)})
	}
	denies := false
	named := map[account.ID]bool{}
	look := func(before, after *rule.Descriptor) {
		for _, e := range after.Rules.Entries {
			if !e.Own() || !isNew(before, e) {
				continue
			}
			denies = denies || e.Kind.Refuses()
			named[e.Who] = true
		}
	}
	for _, s := range p.shares {
		look(s.before, s.after)
	}
	for _, i := range p.nodes {
		look(p.forest.Nodes[i].Before, p.forest.Nodes[i].After)
	}

	actor, err := t.Named(a.who(), account.User)
	for _, r := range rows {
		lost := r.before &^ r.after
		for _, u := range r.Users {
			if err == nil && u == actor.Name && lost&(right.ReadData|right.WriteACL) != 0 {
				warn("locks-out", "you act as %s, who would lose %s on %s", u, lost&(right.ReadData|right.WriteACL), strings.Join(r.Where, ", "))
				break
			}
		}
	}
	if denies {
		lose := map[string]bool{}
		var who []string
		for _, r := range rows {
			if r.Kind == "gain" {
				continue
			}
			for _, u := range r.Users {
				if !lose[u] {
					lose[u] = true
					who = append(who, u)
				}
			}
		}
		if len(who) > 0 {
			warn("overrules", "the deny entry overrules what %s %s now", some(who, 6), map[bool]string{true: "holds", false: "hold"}[len(who) == 1])
		}
	}
	people := map[int]*impact.Population{} // by the topmost node
	for _, r := range routes {
		if r.Local && !(r.Traits.AdministratorsPass && len(r.Administrators) > 0) {
			for _, s := range r.Starts {
				people[s.Node] = r.People
			}
		}
	}
	looked := map[*rule.Descriptor]bool{}
	top := make([]int, len(p.forest.Nodes))
	for i := range p.forest.Nodes {
		n := &p.forest.Nodes[i]
		if top[i] = i; n.Parent >= 0 {
			top[i] = top[n.Parent]
		}
		if !n.Changed() || looked[n.After] {
			continue
		}
		looked[n.After] = true
		if n.After.Rules.Absent && !n.Before.Rules.Absent {
			warn("opens", "%s would have absent rules, which open it to everyone", placeOf(t, p, i))
		}
		if pop := people[top[i]]; pop != nil && !pop.Anyone(n.After, right.WriteACL, true) && pop.Anyone(n.Before, right.WriteACL, true) {
			warn("orphans", "nobody would be left who can change the rules of %s", placeOf(t, p, i))
		}
		if len(warnings) > 8 {
			break
		}
	}
	for id := range named {
		acc, known := t.Account(id)
		_, special := account.SpecialName(id)
		_, _, posix := id.POSIX()
		switch {
		case known && acc.Purpose == account.Mail:
			warn("mail-group", "%s is a mail group, and a mail group carries no access", t.Name(id))
		case !known && !special && !posix && t.Name(id) == id.String():
			warn("dead", "%s is an identifier that belongs to no account of the estate", id)
		case known && acc.Kind == account.User:
			if g := sameInGroup(t, p, id); g != "" {
				advice = append(advice, fmt.Sprintf("%s is a user; %s, a group with that member, holds the same already", t.Name(id), g))
			} else {
				advice = append(advice, fmt.Sprintf("%s is a user; an entry for a group outlasts the person", t.Name(id)))
			}
		}
	}
	return warnings, advice
}

// isNew tells whether rules had no such entry before, from above or of their own.
func isNew(before *rule.Descriptor, e rule.Entry) bool {
	return !slices.ContainsFunc(before.Rules.Entries, func(o rule.Entry) bool {
		o.Flags &^= rule.Inherited
		return o == e
	})
}

// sameInGroup finds a group of a user's that has the entry the user is given.
func sameInGroup(t *estate.Tx, p *proposal, user account.ID) string {
	tok := account.NewToken(t, user, account.Traits{})
	for _, i := range p.nodes {
		for _, e := range p.forest.Nodes[i].After.Rules.Entries {
			if e.Who != user || !e.Own() {
				continue
			}
			for _, o := range p.forest.Nodes[i].Before.Rules.Entries {
				if o.Who != user && o.Kind == e.Kind && o.Rights.Has(e.Rights) && tok.Has(o.Who) {
					return t.Name(o.Who)
				}
			}
		}
	}
	return ""
}

func somePlace(t *estate.Tx, p *proposal, node int) (estate.Place, bool) {
	items := t.Items(p.forest.Strands[node], 1)
	if len(items) == 0 {
		return estate.Place{}, false
	}
	return t.Place(items[0]), true
}

func placeOf(t *estate.Tx, p *proposal, node int) string {
	place, ok := somePlace(t, p, node)
	if !ok {
		return "an item"
	}
	return place.String()
}

// heed prints what the guards have to say, and refuses where one warns and
// nobody insists.
func (a *app) heed(t *estate.Tx, p *proposal, k keeping, rows []*shiftRow, routes []impact.Route) error {
	warnings, advice := a.guards(t, p, rows, routes)
	out := a.printer()
	if !a.quiet {
		for _, s := range advice {
			out.Line("Advice: %s.", s)
		}
	}
	if len(warnings) == 0 {
		return nil
	}
	var says, names []string
	for _, w := range warnings {
		says = append(says, w.says)
		if !strings.Contains(strings.Join(names, " "), w.guard) {
			names = append(names, w.guard)
		}
	}
	if k.force {
		if !a.quiet {
			for _, s := range says {
				out.Line("%s %s.", report.Bad("Forced:"), s)
			}
		}
		t.SetForced(names)
		return nil
	}
	if k.dryRun {
		for _, s := range says {
			out.Line("%s %s.", report.Bad("Needs --force:"), s)
		}
		return nil
	}
	return &estate.Refused{Why: strings.Join(says, "; "), Do: "insist with --force"}
}
