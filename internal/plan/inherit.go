package plan

import (
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// Seal lets items take no entries from above any more. With keep those they
// have become their own, in canonical order where that changes nobody's access.
func (d *Desk) Seal(keep bool, x Targets) (*Plan, error) {
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	make := func(ordered bool) (*Plan, error) {
		p := d.begin("seal %s", x.said())
		p.Nothing = "it is sealed already"
		err := d.onItems(p, targets, itemEdit{make: func(b, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
			after := b.Seal(keep)
			if ordered && after != b {
				after = after.Ordered()
			}
			return after, nil
		}, posix: func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
			if !r.Folder {
				return nil, &estate.Refused{Why: "a file of a POSIX tree takes nothing from above and hands nothing down"}
			}
			return r.WithDefault(nil), nil
		}}, false)
		if err != nil {
			return nil, err
		}
		return d.finish(p)
	}
	p, err := make(keep)
	if err != nil || !keep || len(p.Impact) == 0 {
		return p, err
	}
	// Entries kept in canonical order would decide otherwise: keep their order.
	if p, err = make(false); err != nil {
		return nil, err
	}
	for _, n := range p.work.named {
		if after := desc(p.work.forest.Nodes[n].After); after != nil && after.Rules.Misplaced() >= 0 {
			p.Advice = append(p.Advice, Advice{Kind: "out-of-order", Where: d.where(p, n)})
		}
	}
	return p, nil
}

// Unseal lets items take entries from above again, and mends what is below.
func (d *Desk) Unseal(clear bool, x Targets) (*Plan, error) {
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	p := d.begin("unseal %s", x.said())
	p.Nothing = "it is not sealed"
	err = d.onItems(p, targets, itemEdit{make: func(b, up *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		if up == nil {
			return nil, &estate.Refused{Why: "it is the top of its tree: nothing is known above it"}
		}
		if !b.Sealed() && !clear {
			return b, nil
		}
		return b.Unseal(up, folder, clear), nil
	}, posix: func(r, up *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
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
		return nil, d.at(err, targets)
	}
	return d.finish(p)
}

// Reflow makes items and everything below match what is handed down.
func (d *Desk) Reflow(x Targets) (*Plan, error) {
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	p := d.begin("reflow %s", x.said())
	p.Nothing = "nothing there is stale"
	err = d.onItems(p, targets, itemEdit{make: func(b, up *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		if up == nil {
			return b, nil
		}
		return b.Renewed(up, folder), nil
	}, posix: func(r, up *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		if up == nil {
			return r, nil
		}
		return r.Renewed(up), nil
	}}, true)
	if err != nil {
		return nil, err
	}
	return d.finish(p)
}

// Own hands ownership of items on, with below of everything below them too.
func (d *Desk) Own(to string, below bool, x Targets) (*Plan, error) {
	owner, err := d.t.Who(to)
	if err != nil {
		return nil, err
	}
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	p := d.begin("owner of %s to %s", x.said(), to)
	p.Nothing = d.t.Name(owner) + " owns it already"
	edit := itemEdit{make: func(b, _ *rule.Descriptor, _ bool, _ estate.Dated) (*rule.Descriptor, error) {
		return b.OwnedBy(owner), nil
	}, posix: func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		id, err := d.number(owner)
		if err != nil {
			return nil, err
		}
		if _, user, ok := id.POSIX(); ok && !user {
			return r.OwnedBy(ID{}, id), nil
		} else if !ok {
			return nil, &estate.Refused{Why: to + " can't own anything on a POSIX tree", Do: "name a user, or a group as the owning group"}
		}
		return r.OwnedBy(id, ID{}), nil
	}}
	if err := d.onItems(p, targets, edit, false); err != nil {
		return nil, err
	}
	if below {
		if err := d.allBelow(p, edit); err != nil {
			return nil, err
		}
	}
	return d.finish(p)
}
