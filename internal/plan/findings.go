package plan

import (
	"fmt"
	"slices"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// MendFindings makes one plan of all mends that change nobody's access, and
// gives the findings it leaves: their mends change somebody's access, or a
// person has to choose.
func (d *Desk) MendFindings(list []ask.Finding) (*Plan, []ask.Finding, error) {
	var can, left []ask.Finding
	for _, f := range list {
		if f.Repair.Any() {
			can = append(can, f)
		} else {
			left = append(left, f)
		}
	}
	var good []ask.Finding
	var part func(list []ask.Finding) error
	part = func(list []ask.Finding) error {
		if len(list) == 0 {
			return nil
		}
		d.step(fmt.Sprintf("trying %s", format.Count(int64(len(list)), "mend")))
		p, err := d.mendAll(list)
		if d.ctx.Err() != nil {
			return d.ctx.Err()
		}
		switch {
		case err == nil && !p.moves && len(p.Warnings) == 0:
			good = append(good, list...)
			return nil
		case len(list) == 1:
			left = append(left, list[0])
			return d.t.Err()
		}
		if err := part(list[:len(list)/2]); err != nil {
			return err
		}
		return part(list[len(list)/2:])
	}
	if err := part(can); err != nil {
		return nil, nil, err
	}
	p, err := d.mendAll(good)
	if err != nil {
		return nil, nil, err
	}
	if len(list) == 0 {
		p.Nothing = "nothing of that kind was found"
	}
	if p.moves { // each alone changes nothing, together they do: one after the other
		d.step("taking them one after the other")
		var some []ask.Finding
		for _, f := range good {
			q, err := d.mendAll(append(slices.Clone(some), f))
			if err != nil {
				return nil, nil, err
			}
			if q.moves {
				left = append(left, f)
				continue
			}
			some, p = append(some, f), q
		}
		if len(some) == 0 {
			if p, err = d.mendAll(nil); err != nil {
				return nil, nil, err
			}
		}
	}
	return p, left, nil
}

// mendAll makes a plan of mends.
func (d *Desk) mendAll(list []ask.Finding) (*Plan, error) {
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
	p := d.begin("findings mended: %s", many(said))
	p.Nothing = "no mend of these changes nobody's access"
	b := d.bundle(p)
	without := func(gone []rule.Entry) *itemEdit {
		return &itemEdit{make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
			return x.Without(gone), nil
		}}
	}
	order := &itemEdit{make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) { return x.Ordered(), nil }}
	renew := &itemEdit{make: func(x, up *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		if up == nil {
			return x, nil
		}
		return x.Renewed(up, folder), nil
	}}
	groups := map[ID]bool{}
	for i := range list {
		m := &list[i].Repair
		var e *itemEdit
		switch {
		case m.Group != nil:
			if !groups[m.Group.ID] {
				groups[m.Group.ID] = true
				if err := d.mendGroup(p, b, *m.Group); err != nil {
					return nil, err
				}
			}
			continue
		case m.Level != "":
			if l, ok := d.t.Levels().Lookup(m.Level); ok {
				p.work.levels = append(p.work.levels, levelEdit{level: l, add: false})
			}
			continue
		case m.Share != nil:
			e = without(m.Gone)
			if m.Rights != 0 {
				e = &itemEdit{make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
					c := x.Clone()
					for i := range c.Rules.Entries {
						if o := &c.Rules.Entries[i]; slices.Contains(m.Gone, *o) {
							o.Rights = o.Rights.Map() & m.Rights
						}
					}
					return c, nil
				}}
			}
			s, err := d.t.Server(m.Share.Server)
			if err != nil {
				return nil, err
			}
			b.share(s, *m.Share, e)
			continue
		case m.Order:
			e = order
		case m.Renew:
			e = renew
		case m.Twice:
			e = &itemEdit{make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
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
			b.item(x, e)
		}
	}
	if err := b.done(); err != nil {
		return nil, err
	}
	return d.finish(p)
}

// mendGroup makes a group go, with its memberships and every entry for it.
func (d *Desk) mendGroup(p *Plan, b *bundle, g account) error {
	now, ok := d.t.Account(g.ID)
	if !ok {
		return nil
	}
	forms := d.t.Forms(now)
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
	e := &itemEdit{make: func(x, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
		after := x.Without(names(x))
		if audit := slices.DeleteFunc(slices.Clone(x.Audit.Entries), func(o rule.Entry) bool { return slices.Contains(forms, o.Who) }); len(audit) != len(x.Audit.Entries) {
			after = after.Clone()
			after.Audit.Entries = audit
		}
		return after, nil
	}, posix: func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		for _, form := range forms {
			if _, _, ok := form.POSIX(); ok {
				r = r.Turned(form, posix.Drops(), posix.Drops())
			}
		}
		return r, nil
	}}
	t := d.t
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
					b.item(target, e)
				}
			}
		}
	})
	if owns {
		return &estate.Refused{Why: fmt.Sprintf("%s owns something", d.t.Name(g.ID))}
	}
	for _, s := range t.Servers() {
		if slices.Contains(t.Administrators(s), g.ID) {
			p.work.admins = append(p.work.admins, adminEdit{s, now, false})
		}
		for _, sh := range t.Shares(s) {
			if len(names(sh.Descriptor)) > 0 {
				b.share(s, sh, e)
			}
		}
	}
	d.stripPeople(p, now)
	p.work.accounts = append(p.work.accounts, accountEdit{before: &now})
	return t.Err()
}

// Findings looks for what is probably wrong.
func (d *Desk) Findings(where string, kinds []string) ([]ask.Finding, error) {
	k, err := d.keeps()
	if err != nil {
		return nil, err
	}
	o := ask.FindingsOptions{Where: where, Kinds: kinds, Today: d.Today, Step: func(what string) { d.step("looking for " + what) }}
	if len(k.all) > 0 {
		o.Kept = func(name string) bool { return len(k.group(name)) > 0 }
	}
	return d.k.Findings(o)
}
