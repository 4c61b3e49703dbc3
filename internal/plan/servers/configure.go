package servers

import (
	"fmt"
	"slices"

	"tarnwold/core/place"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/format/smbconf"
	"tarnwold/internal/plan"
)

// Configure takes in what a server's own configuration says of its shares
// beside their rules. Shares the estate has are completed, others come with
// rules that limit nobody; shares the file doesn't name stay as they are.
// It gives the names in it that no account of the estate has.
func Configure(d *plan.Planner, name, file string, found []smbconf.Share) (*plan.Plan, []string, error) {
	s, err := d.T.Server(name)
	if err != nil {
		return nil, nil, err
	}
	p := d.NewPlan("%s of server %s as %s has them", format.Count(int64(len(found)), "share"), s.Name, format.Clip(file))
	p.Nothing = "the estate has them so already"
	var unknown []string
	for _, x := range found {
		for _, n := range slices.Concat(x.Only, x.Never, x.Reading, x.Writing, x.Administrators, []string{x.As, x.Group}) {
			if _, ok := d.K.Listed(n); !ok && n != "" && !slices.Contains(unknown, n) {
				unknown = append(unknown, n)
			}
		}
		bad := func(err error) error { return &format.Error{File: file, Line: x.Line, What: err.Error()} }
		adm := &estate.Admission{File: file, Limited: x.Limited, Only: x.Only, Never: x.Never, Reading: x.Reading, Writing: x.Writing,
			Administrators: x.Administrators, Passes: x.Passes, As: x.As, Group: x.Group, GroupOfMembers: x.GroupOfMembers, Hides: x.Hides, NoMachine: x.NoMachine, Runs: x.Runs, Uncounted: x.Uncounted}
		if !adm.Says() {
			adm = nil
		}
		before, err := d.T.Share(s, x.Name)
		if err != nil {
			if err := estate.GoodName("share", x.Name); err != nil {
				return nil, nil, bad(err)
			}
			folder, err := place.Clean(x.Path)
			if err != nil {
				return nil, nil, bad(fmt.Errorf("share %s: %q is no path on a server", format.Clip(x.Name), format.Clip(x.Path)))
			}
			rules, err := shareRules(d, nil)
			if err != nil {
				return nil, nil, err
			}
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: nil, After: &estate.Share{Server: s.Name, ServerID: s.ID, Name: x.Name, Folder: folder, ReadOnly: x.ReadOnly, Descriptor: rules, Admission: adm}})
			continue
		}
		if folder, err := place.Clean(x.Path); err == nil && !place.Under(folder, before.Folder) && x.Path != "" {
			return nil, nil, bad(fmt.Errorf("share %s stands over %s here and over %s in the estate; scan or remove it first", before.Name, format.Clip(folder), before.Folder))
		}
		after := before
		after.ReadOnly, after.Admission = x.ReadOnly, adm
		if after.ReadOnly != before.ReadOnly || !after.Admission.Same(before.Admission) {
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &before, After: &after})
		}
	}
	if err := d.Below(p); err != nil {
		return nil, nil, err
	}
	p, err = d.Evaluate(p)
	return p, unknown, err
}
