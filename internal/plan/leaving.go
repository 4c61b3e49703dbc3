package plan

import (
	"slices"

	"tarnwold/internal/estate"
)

// went makes a plan take items out, with all that is below them.
func (d *Desk) went(p *Plan, tops []estate.Target) error {
	if len(tops) == 0 {
		return nil
	}
	added := p.work.forest
	p.work.forest = nil
	if err := d.gone(p, tops, "item"); err != nil {
		return err
	}
	for _, x := range tops {
		all := d.t.Subtree(x.Item, 1<<31-1)
		slices.Reverse(all) // what is in a folder goes before it
		p.work.removed = append(p.work.removed, all...)
	}
	if added == nil {
		return d.t.Err()
	}
	// What came stands beside what went.
	shift := p.work.forest.Append(added)
	for i := range p.work.roots {
		p.work.roots[i].node += shift
	}
	for k := range p.work.addedAt {
		p.work.addedAt[k] += shift
	}
	return d.t.Err()
}

// gone marks items and all below them as removed.
func (d *Desk) gone(p *Plan, tops []estate.Target, kind string) error {
	if len(tops) == 0 {
		return nil
	}
	carve := d.t.Carve
	if p.work.everywhere {
		carve = d.t.CarveAll
	}
	f, err := carve([]estate.Group{{Targets: tops}})
	if err != nil {
		return err
	}
	p.work.forest = f
	top := map[int]bool{}
	for _, x := range tops {
		top[f.Node(x.Item)] = true
	}
	in := make([]bool, len(f.Nodes))
	for i := range f.Nodes {
		n := &f.Nodes[i]
		if in[i] = top[i] || n.Parent >= 0 && in[n.Parent]; in[i] {
			n.After, n.Fixed = nil, true
		}
	}
	for _, x := range tops {
		at := d.t.Place(x.Item)
		var items int64
		if f.Node(x.Item) >= 0 {
			for i := range f.Nodes {
				if within(f, i, f.Node(x.Item)) {
					items += f.Nodes[i].Items
				}
			}
		}
		p.Edits = append(p.Edits, Edit{Kind: kind, Where: at.String(), Items: items, Lines: []Line{{Sign: "goes", What: kind}}})
	}
	return nil
}
