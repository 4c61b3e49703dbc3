package plan

import (
	"fmt"

	"tarnwold/core/place"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/exports"
)

// Exports makes a plan of shares as a table of exports has them. Each way in
// which a folder is exported is a share of its own: the first has the folder's
// name, the others a number behind it.
func (d *Desk) Exports(name, file string, found []exports.Export) (*Plan, error) {
	s, err := d.t.Server(name)
	if err != nil {
		return nil, err
	}
	p := d.begin("%s of server %s as %s has them", format.Count(int64(len(found)), "export"), s.Name, format.Clip(file))
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
			return nil, bad(fmt.Errorf("%q is no path on a server", format.Clip(x.Path)))
		}
		adm := &estate.Admission{File: file, Exported: true, Squash: x.Squash, Anon: [2]uint32{x.UID, x.GID}, Hosts: x.Hosts}
		before, err := d.t.Share(s, as)
		if err != nil {
			rules, err := d.shareRules(nil)
			if err != nil {
				return nil, err
			}
			p.work.shares = append(p.work.shares, shareEdit{s, nil, &estate.Share{Server: s.Name, ServerID: s.ID, Name: as, Folder: folder, ReadOnly: x.ReadOnly, Descriptor: rules, Admission: adm}})
			continue
		}
		if !place.Under(folder, before.Folder) || !place.Under(before.Folder, folder) {
			return nil, bad(fmt.Errorf("share %s stands over %s here and over %s in the estate; remove it first", before.Name, format.Clip(folder), before.Folder))
		}
		after := before
		after.ReadOnly, after.Admission = x.ReadOnly, adm
		if after.ReadOnly != before.ReadOnly || !after.Admission.Same(before.Admission) {
			p.work.shares = append(p.work.shares, shareEdit{s, &before, &after})
		}
	}
	if err := d.below(p); err != nil {
		return nil, err
	}
	return d.finish(p)
}
