package entry

import (
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
)

// Seal lets items take no entries from above any more. With keep those they
// have become their own, in canonical order where that changes nobody's access.
func Seal(d *plan.Planner, keep bool, x plan.Targets) (*plan.Plan, error) {
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	make := func(ordered bool) (*plan.Plan, error) {
		p := d.NewPlan("seal %s", x.Text())
		p.Nothing = "it is sealed already"
		err := d.OnItems(p, targets, plan.ItemEdit{Make: func(b, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
			after := b.Seal(keep)
			if ordered && after != b {
				after = after.Ordered()
			}
			return after, nil
		}, Posix: func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
			if !r.Folder {
				return nil, &estate.Refused{Why: "a file of a POSIX tree takes nothing from above and hands nothing down"}
			}
			return r.WithDefault(nil), nil
		}}, false)
		if err != nil {
			return nil, err
		}
		return d.Evaluate(p)
	}
	p, err := make(keep)
	if err != nil || !keep || len(p.Impact) == 0 {
		return p, err
	}
	// Entries kept in canonical order would decide otherwise: keep their order.
	if p, err = make(false); err != nil {
		return nil, err
	}
	for _, n := range p.Work.Named {
		if after := plan.Desc(p.Work.Partition.Nodes[n].After); after != nil && after.Rules.Misplaced() >= 0 {
			p.Advice = append(p.Advice, plan.Advice{Kind: "out-of-order", Where: d.Where(p, n)})
		}
	}
	return p, nil
}

// Unseal lets items take entries from above again, and mends what is below.
func Unseal(d *plan.Planner, clear bool, x plan.Targets) (*plan.Plan, error) {
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("unseal %s", x.Text())
	p.Nothing = "it is not sealed"
	err = d.OnItems(p, targets, plan.ItemEdit{Make: func(b, up *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		if up == nil {
			return nil, &estate.Refused{Why: "it is the top of its tree: nothing is known above it"}
		}
		if !b.Sealed() && !clear {
			return b, nil
		}
		return b.Unseal(up, folder, clear), nil
	}, Posix: func(r, up *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		switch {
		case up == nil:
			return nil, &estate.Refused{Why: "it is the top of its tree: nothing is known above it"}
		case !r.Folder || r.Default != nil && !clear:
			return r, nil
		case clear:
			return r.Renewed(up.Handing()), nil
		}
		return r.WithDefault(up.Handing().Default), nil
	}}, clear)
	if err != nil {
		return nil, at(d, err, targets)
	}
	return d.Evaluate(p)
}

// Reflow makes items and everything below match what is handed down.
func Reflow(d *plan.Planner, x plan.Targets) (*plan.Plan, error) {
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("reflow %s", x.Text())
	p.Nothing = "nothing there is stale"
	err = d.OnItems(p, targets, plan.ItemEdit{Make: func(b, up *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		if up == nil {
			return b, nil
		}
		return b.Renewed(up, folder), nil
	}, Posix: func(r, up *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		if up == nil {
			return r, nil
		}
		return r.Renewed(up), nil
	}}, true)
	if err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// Own hands ownership of items on, with below of everything below them too.
func Own(d *plan.Planner, to string, below bool, x plan.Targets) (*plan.Plan, error) {
	owner, err := d.RuleAccount(to, x.Where...)
	if err != nil {
		return nil, err
	}
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("owner of %s to %s", x.Text(), to)
	p.Nothing = d.T.Name(owner) + " owns it already"
	edit := plan.ItemEdit{Make: func(b, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
		return b.OwnedBy(owner), nil
	}, Posix: func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		id, err := Number(d, owner)
		if err != nil {
			return nil, err
		}
		if _, user, ok := id.POSIX(); ok && !user {
			return r.OwnedBy(plan.ID{}, id), nil
		} else if !ok {
			return nil, &estate.Refused{Why: to + " can't own anything on a POSIX tree", Do: "name a user, or a group as the owning group"}
		}
		return r.OwnedBy(id, plan.ID{}), nil
	}}
	p.Work.Renews = below // then everything there is told of, item by item
	if err := d.OnItems(p, targets, edit, false); err != nil {
		return nil, err
	}
	if below {
		if err := d.AllBelow(p, edit); err != nil {
			return nil, err
		}
	}
	return d.Evaluate(p)
}
