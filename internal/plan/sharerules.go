package plan

import (
	"maps"

	"tarnwold/internal/estate"
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
		p.Work.Dates = append(p.Work.Dates, DateEdit{Of: of, Before: dated, After: is})
	}
	if after.Descriptor != before.Descriptor || !maps.Equal(dated, is) {
		p.Work.Shares = append(p.Work.Shares, ShareEdit{s, &before, &after})
	}
	return nil
}

// Below takes into a plan's partition what the shares it edits stand over.
func (d *Planner) Below(p *Plan) error {
	if p.Work.Partition != nil {
		return nil
	}
	var g estate.Group
	for _, e := range p.Work.Shares {
		for _, sh := range []*estate.Share{e.Before, e.After} {
			if sh == nil || e.Server.ID == 0 {
				continue
			}
			if at, err := d.T.At(e.Server, sh.Folder); err == nil {
				g.Targets = append(g.Targets, at.Target())
			}
		}
	}
	f, err := d.LayOut(p, []estate.Group{g})
	p.Work.Partition = f
	return err
}
