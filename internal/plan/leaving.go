package plan

import (
	"slices"

	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
)

// Went makes a plan take items out, with all that is below them.
func (d *Planner) Went(p *Plan, tops []estate.Target) error {
	if len(tops) == 0 {
		return nil
	}
	added := p.Work.Partition
	p.Work.Partition = nil
	if err := d.Gone(p, tops, "item"); err != nil {
		return err
	}
	for _, x := range tops {
		all := d.T.Subtree(x.Item, 1<<31-1)
		slices.Reverse(all) // what is in a folder goes before it
		p.Work.Removed = append(p.Work.Removed, all...)
	}
	if added == nil {
		return d.T.Err()
	}
	// What came stands beside what went.
	shift := p.Work.Partition.Append(added)
	for i := range p.Work.Roots {
		p.Work.Roots[i].Node += shift
	}
	for k := range p.Work.AddedAt {
		p.Work.AddedAt[k] += shift
	}
	return d.T.Err()
}

// Gone marks items and all below them as removed.
func (d *Planner) Gone(p *Plan, tops []estate.Target, kind string) error {
	if len(tops) == 0 {
		return nil
	}
	f, err := d.LayOut(p, []estate.Group{{Targets: tops}})
	if err != nil {
		return err
	}
	p.Work.Partition = f
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
		at := d.T.Place(x.Item)
		var items int64
		if f.Node(x.Item) >= 0 {
			for i := range f.Nodes {
				if Within(f, i, f.Node(x.Item)) {
					items += f.Nodes[i].Items
				}
			}
		}
		p.Edits = append(p.Edits, edit.Description{Kind: kind, Where: at.String(), Items: items, Lines: []edit.Line{{Sign: edit.Goes, What: kind}}})
	}
	return nil
}
