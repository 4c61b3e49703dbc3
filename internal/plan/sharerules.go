package plan

import (
	"maps"
	"slices"

	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
)

// OnShares makes a plan edit shares' own rules.
func (d *Planner) OnShares(p *Plan, where []string, e ItemEdit) (*Plan, error) {
	servers, shares, err := d.Shares(where)
	if err != nil {
		return nil, err
	}
	for i := range shares {
		if err := d.editShare(p, servers[i], shares[i], e); err != nil {
			return nil, err
		}
	}
	if err := d.Below(p); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// editShare makes a plan edit one share's own rules.
func (d *Planner) editShare(p *Plan, s estate.Server, before estate.Share, e ItemEdit) error {
	of := estate.Bearer{Share: before.ID}
	dated := d.T.Dated(of, before.Descriptor)
	after := before
	var err error
	if after.Descriptor, err = e.Make(before.Descriptor, nil, true, dated); err != nil {
		return err
	}
	is := Still(dated, after.Descriptor)
	if e.Dates != nil {
		is = e.Dates(before.Descriptor, after.Descriptor, true, dated)
	}
	if !maps.Equal(dated, is) {
		p.Work.Dates = append(p.Work.Dates, edit.LastDays{Of: of, Before: dated, After: is})
	}
	if after.Descriptor != before.Descriptor || !maps.Equal(dated, is) {
		p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &before, After: &after})
	}
	return nil
}

// Below lays out what the shares a plan edits stand over, where nothing is laid out
// yet.
func (d *Planner) Below(p *Plan) error {
	if p.Work.Partition != nil {
		return nil
	}
	f, err := d.layOutTouched(p, nil)
	p.Work.Partition = f
	return err
}

// layOutTouched is LayOut for those alone whom a plan touches, where all that it
// changes is known already, and whom that can touch.
func (d *Planner) layOutTouched(p *Plan, groups []estate.Group) (*estate.Partition, error) {
	groups = d.withShares(p, groups)
	if p.Work.For = d.touches(p, groups); p.Work.For != nil {
		return d.layOutFor(p, groups, p.Work.Everywhere)
	}
	return d.layOut(p, groups)
}

// LayOut lays out what a plan's groups name and what the shares it edits stand over,
// with everything below: all there is, where what else the plan changes is seen
// there. Whatever a plan touches is laid out here, so that none of it is forgotten.
func (d *Planner) LayOut(p *Plan, groups []estate.Group) (*estate.Partition, error) {
	return d.layOut(p, d.withShares(p, groups))
}

func (d *Planner) layOut(p *Plan, groups []estate.Group) (*estate.Partition, error) {
	if p.Work.Everywhere {
		return d.T.PartitionAll(groups)
	}
	return d.T.Partition(groups)
}

// layOutFor lays it out for those alone whom the plan touches.
func (d *Planner) layOutFor(p *Plan, groups []estate.Group, everything bool) (*estate.Partition, error) {
	apart, err := d.apart()
	if err != nil {
		return nil, err
	}
	return d.T.PartitionFor(groups, apart, everything, p.Work.For.counts)
}

// withShares adds the folders that the shares of a plan stand over to its groups, but
// those that they name already.
func (d *Planner) withShares(p *Plan, groups []estate.Group) []estate.Group {
	var over []estate.Target
	if len(p.Work.Shares) == 0 {
		return groups
	}
	items, strands := map[int64]bool{}, map[int64]bool{}
	for i := range groups {
		for _, x := range groups[i].Targets {
			items[x.Item] = true
		}
		for _, s := range groups[i].Strands {
			strands[s] = true
		}
	}
	for i := range p.Work.Shares {
		e := &p.Work.Shares[i]
		if e.Server.ID == 0 {
			continue
		}
		for _, sh := range e.Sides() {
			if at, err := d.T.At(e.Server, sh.Folder); err == nil && !items[at.Item] && !strands[at.Strand] {
				items[at.Item] = true
				over = append(over, at.Target())
			}
		}
	}
	if len(over) == 0 {
		return groups
	}
	return append(slices.Clip(groups), estate.Group{Targets: over})
}
