package servers

import (
	"fmt"

	"tarnwold/core/place"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/format/exports"
	"tarnwold/internal/plan"
)

// Exports makes a plan of shares as a table of exports has them. Each way in
// which a folder is exported is a share of its own: the first has the folder's
// name, the others a number behind it.
func Exports(d *plan.Planner, name, file string, found []exports.Export) (*plan.Plan, error) {
	s, err := d.T.Server(name)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("%s of server %s as %s has them", format.Count(int64(len(found)), "export"), s.Name, format.Clip(file))
	p.Nothing = "the estate has them so already"
	met := map[string]int{}
	for i := range found {
		x := &found[i]
		bad := func(err error) error { return &format.Error{File: file, Line: x.Line, What: err.Error()} }
		as := x.Name()
		if met[as]++; met[as] > 1 {
			as = fmt.Sprintf("%s-%d", as, met[as])
		}
		if err := estate.GoodName("share", as); err != nil {
			return nil, bad(err)
		}
		folder, err := place.Clean(x.Path)
		if err != nil {
			return nil, bad(fmt.Errorf("%q is not a path on a server", format.Clip(x.Path)))
		}
		adm := &estate.Admission{File: file, Exported: true, Squash: x.Squash, Anon: [2]uint32{x.UID, x.GID}, Hosts: x.Hosts}
		before, err := d.T.Share(s, as)
		if err != nil {
			rules, err := shareRules(d, nil)
			if err != nil {
				return nil, err
			}
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: nil, After: &estate.Share{Server: s.Name, ServerID: s.ID, Name: as, Folder: folder, ReadOnly: x.ReadOnly, Descriptor: rules, Admission: adm}})
			continue
		}
		if !place.Under(folder, before.Folder) || !place.Under(before.Folder, folder) {
			return nil, bad(fmt.Errorf("share %s stands over %s here and over %s in the estate; remove it first", before.Name, format.Clip(folder), before.Folder))
		}
		after := before
		after.ReadOnly, after.Admission = x.ReadOnly, adm
		if after.ReadOnly != before.ReadOnly || !after.Admission.Same(before.Admission) {
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &before, After: &after})
		}
	}
	if err := d.Below(p); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}
