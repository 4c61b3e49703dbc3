package review

import (
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/keeper"
)

// MendFindings makes one plan of all mends that change nobody's access, or of all there are,
// and gives the findings it leaves: their mends change somebody's access, or a
// person has to choose.
func MendFindings(d *plan.Planner, list []findings.Finding, all bool) (*plan.Plan, []findings.Finding, error) {
	var can, left []findings.Finding
	for _, f := range list {
		if f.Repair.Any() {
			can = append(can, f)
		} else {
			left = append(left, f)
		}
	}
	if all {
		p, err := MendAll(d, can)
		if err == nil {
			p.Nothing = "none of these is mended without somebody choosing how"
			if len(list) == 0 {
				p.Nothing = "nothing of that kind was found"
			}
		}
		return p, left, err
	}
	var good []findings.Finding
	var part func(list []findings.Finding) error
	part = func(list []findings.Finding) error {
		if len(list) == 0 {
			return nil
		}
		d.Doing(fmt.Sprintf("trying %s", format.Count(int64(len(list)), "mend")))
		p, err := MendAll(d, list)
		if d.Ctx.Err() != nil {
			return d.Ctx.Err()
		}
		switch {
		case err == nil && !p.Moves && len(p.Warnings) == 0:
			good = append(good, list...)
			return nil
		case len(list) == 1:
			left = append(left, list[0])
			return d.T.Err()
		}
		if err := part(list[:len(list)/2]); err != nil {
			return err
		}
		return part(list[len(list)/2:])
	}
	if err := part(can); err != nil {
		return nil, nil, err
	}
	p, err := MendAll(d, good)
	if err != nil {
		return nil, nil, err
	}
	if len(list) == 0 {
		p.Nothing = "nothing of that kind was found"
	}
	if p.Moves { // each alone changes nothing, together they do: one after the other
		d.Doing("taking them one after the other")
		var some []findings.Finding
		for _, f := range good {
			q, err := MendAll(d, append(slices.Clone(some), f))
			if err != nil {
				return nil, nil, err
			}
			if q.Moves {
				left = append(left, f)
				continue
			}
			some, p = append(some, f), q
		}
		if len(some) == 0 {
			if p, err = MendAll(d, nil); err != nil {
				return nil, nil, err
			}
		}
	}
	return p, left, nil
}

// MendAll makes a plan of mends.
func MendAll(d *plan.Planner, list []findings.Finding) (*plan.Plan, error) {
	kinds := map[string]int{}
	var names []string
	for _, f := range list {
		if kinds[f.Kind]++; kinds[f.Kind] == 1 {
			names = append(names, f.Kind)
		}
	}
	var said []string
	for _, n := range names {
		said = append(said, fmt.Sprintf("%d %s", kinds[n], n))
	}
	p := d.NewPlan("findings mended: %s", plan.Many(said))
	p.Nothing = "no mend of these changes nobody's access"
	b := d.Bundle(p)
	without := func(gone []rule.Entry) *plan.ItemEdit {
		return &plan.ItemEdit{Make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
			return x.Without(gone), nil
		}}
	}
	order := &plan.ItemEdit{Make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) { return x.Ordered(), nil }}
	renew := &plan.ItemEdit{Make: func(x, up *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		if up == nil {
			return x, nil
		}
		return x.Renewed(up, folder), nil
	}}
	groups := map[plan.ID]bool{}
	for i := range list {
		m := &list[i].Repair
		var e *plan.ItemEdit
		switch {
		case m.Group != nil:
			if !groups[m.Group.ID] {
				groups[m.Group.ID] = true
				if err := mendGroup(d, p, b, *m.Group); err != nil {
					return nil, err
				}
			}
			continue
		case m.Level != "":
			if l, ok := d.T.Levels().Lookup(m.Level); ok {
				p.Work.Levels = append(p.Work.Levels, edit.Level{Level: l, Add: false})
			}
			continue
		case m.Share != nil:
			e = without(m.Gone)
			if m.Rights != 0 {
				e = &plan.ItemEdit{Make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
					c := x.Clone()
					for i := range c.Rules.Entries {
						if o := &c.Rules.Entries[i]; slices.Contains(m.Gone, *o) {
							o.Rights = o.Rights.Map() & m.Rights
						}
					}
					return c, nil
				}}
			}
			s, err := d.T.Server(m.Share.Server)
			if err != nil {
				return nil, err
			}
			b.Share(s, *m.Share, e)
			continue
		case m.Order:
			e = order
		case m.Renew:
			e = renew
		case m.Twice:
			e = &plan.ItemEdit{Make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
				c := x.Clone()
				seen := map[rule.Entry]bool{}
				c.Rules.Entries = slices.DeleteFunc(c.Rules.Entries, func(o rule.Entry) bool {
					again := slices.Contains(m.Gone, o) && seen[o]
					seen[o] = true
					return again
				})
				return c, nil
			}}
		default:
			e = without(m.Gone)
		}
		for _, x := range m.Targets {
			b.Item(x, e)
		}
	}
	if err := b.Done(); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// mendGroup makes a group go, with its memberships and every entry for it.
func mendGroup(d *plan.Planner, p *plan.Plan, b *plan.Bundle, g acc.Account) error {
	now, ok := d.T.Account(g.ID)
	if !ok {
		return nil
	}
	forms := d.T.Forms(now)
	names := func(x *rule.Descriptor) (out []rule.Entry) {
		for _, list := range [][]rule.Entry{x.Rules.Entries, x.Audit.Entries} {
			for _, e := range list {
				if slices.Contains(forms, e.Who) {
					out = append(out, e)
				}
			}
		}
		return out
	}
	owns := false
	e := &plan.ItemEdit{Make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
		after := x.Without(names(x))
		if audit := slices.DeleteFunc(slices.Clone(x.Audit.Entries), func(o rule.Entry) bool { return slices.Contains(forms, o.Who) }); len(audit) != len(x.Audit.Entries) {
			after = after.Clone()
			after.Audit.Entries = audit
		}
		return after, nil
	}, Posix: func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		for _, form := range forms {
			if _, _, ok := form.POSIX(); ok {
				r = r.Turned(form, posix.Drops(), posix.Drops())
			}
		}
		return r, nil
	}}
	t := d.T
	t.AllDescriptors(func(id int64, a rule.Any) {
		x := a.Listed()
		owner := slices.Contains(forms, x.Owner) || slices.Contains(forms, x.Group)
		if len(names(x)) == 0 && !owner {
			return
		}
		for _, s := range t.StrandsOf(id) {
			if t.Weight(s) > 0 {
				owns = owns || owner
				for _, target := range t.Targets(s) {
					b.Item(target, e)
				}
			}
		}
	})
	if owns {
		return &estate.Refused{Why: fmt.Sprintf("%s owns something", d.T.Name(g.ID))}
	}
	for _, s := range t.Servers() {
		if slices.Contains(t.Administrators(s), g.ID) {
			p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: s, Who: now, On: false})
		}
		for _, sh := range t.Shares(s) {
			if len(names(sh.Descriptor)) > 0 {
				b.Share(s, sh, e)
			}
		}
	}
	entry.StripPeople(d, p, now)
	p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &now})
	return t.Err()
}

// Findings looks for what is probably wrong.
func Findings(d *plan.Planner, where string, kinds []string) ([]findings.Finding, error) {
	k, err := keeper.Of(d)
	if err != nil {
		return nil, err
	}
	o := findings.FindingsOptions{Where: where, Kinds: kinds, Today: d.Today, Step: func(what string) { d.Doing("looking for " + what) }}
	if len(k.All) > 0 {
		o.Kept = func(name string) bool { return len(k.Group(name)) > 0 }
	}
	list, err := findings.Findings(d.K, o)
	if err != nil {
		return nil, err
	}
	responsible(d, k, list)
	return list, d.T.Err()
}

// responsible says of each finding whose server it is on, and who keeps what it is about.
func responsible(d *plan.Planner, k *keeper.Keeps, list []findings.Finding) {
	shares := map[string]map[string]string{} // folders by servers' and shares' names
	for _, s := range d.T.Servers() {
		of := map[string]string{}
		for _, sh := range d.T.Shares(s) {
			of[estate.Key(sh.Name)] = sh.Folder
		}
		shares[estate.Key(s.Name)] = of
	}
	for i := range list {
		f := &list[i]
		if name, ok := strings.CutPrefix(f.Where, "server "); ok {
			f.Server = name
			continue
		}
		if name, ok := strings.CutPrefix(f.Where, "group "); ok {
			f.Keepers = keeper.KeeperNames(k.Group(name))
			continue
		}
		at, err := place.ParsePlain(strings.TrimPrefix(f.Where, "share "))
		if err != nil {
			continue
		}
		f.Server = at.Server
		if len(k.All) == 0 {
			continue
		}
		path := at.Path
		if at.Share != "" {
			path = place.Join(shares[estate.Key(at.Server)][estate.Key(at.Share)], at.Path)
		}
		f.Keepers = keeper.KeeperNames(k.Place(at.Server + ":" + path))
	}
}
