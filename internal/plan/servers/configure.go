package servers

import (
	"fmt"
	"slices"

	acc "tarnwold/core/account"
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
// Where each user has a share of their own, it comes for those whose folder the estate
// has; homes are the folders that the system has for users, by name. It gives what is to
// be known besides: names that no account has, homes that aren't counted.
func Configure(d *plan.Planner, name, file string, c *smbconf.Config, homes map[string]string) (*plan.Plan, []string, error) {
	s, err := d.T.Server(name)
	if err != nil {
		return nil, nil, err
	}
	found, left, err := withHomes(d, s, c, homes)
	if err != nil {
		return nil, nil, err
	}
	p := d.NewPlan("%s of server %s as %s has them", format.Count(int64(len(found)), "share"), s.Name, format.Clip(file))
	p.Nothing = "the estate has them so already"
	var unknown []string
	known := map[string]bool{}
	for _, x := range found {
		known[estate.Key(x.Name)] = true
		for _, n := range slices.Concat(x.Only, x.Never, x.Reading, x.Writing, x.Administrators, []string{x.As, x.Group}) {
			if _, ok := d.K.Listed(n); !ok && n != "" && !slices.Contains(unknown, n) {
				unknown = append(unknown, n)
			}
		}
		bad := func(err error) error { return &format.Error{File: file, Line: x.Line, What: err.Error()} }
		adm := &estate.Admission{File: file, Limited: x.Limited, Only: x.Only, Never: x.Never, Reading: x.Reading, Writing: x.Writing,
			Administrators: x.Administrators, Passes: x.Passes, As: x.As, Group: x.Group, GroupOfMembers: x.GroupOfMembers, Hides: x.Hides, Home: x.Home, NoMachine: x.NoMachine, Runs: x.Runs, Uncounted: x.Uncounted}
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
				return nil, nil, bad(fmt.Errorf("share %s: %q is not a path on a server", format.Clip(x.Name), format.Clip(x.Path)))
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
	for _, sh := range d.T.Shares(s) { // of who isn't here any more, or has no home now
		if before := sh; sh.Admission != nil && sh.Admission.Home != "" && sh.Admission.File == file && !known[estate.Key(sh.Name)] {
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &before})
		}
	}
	if err := d.Below(p); err != nil {
		return nil, nil, err
	}
	for i, n := range unknown {
		unknown[i] = fmt.Sprintf("no account of the estate is called %s, so that it fits nobody", n)
	}
	p, err = d.Evaluate(p)
	return p, append(unknown, left...), err
}

// mostHomes is how many shares of single users are taken in: each is a route of its own
// in every answer.
const mostHomes = 1000

// withHomes gives the shares of a configuration with those that it makes for each user, of
// whose folder the estate knows, and what of that isn't counted.
func withHomes(d *plan.Planner, s estate.Server, c *smbconf.Config, homes map[string]string) (out []smbconf.Share, left []string, err error) {
	out = slices.Clone(c.Shares)
	if c.Homes == nil {
		return out, nil, nil
	}
	taken := map[string]bool{}
	for _, x := range out {
		taken[estate.Key(x.Name)] = true
	}
	users, came, more, nowhere := d.T.Accounts(acc.User), 0, 0, 0
	for i, u := range users {
		if i&1023 == 0 && d.Ctx.Err() != nil {
			return nil, nil, d.Ctx.Err()
		}
		called := estate.Called(u)
		if taken[estate.Key(called)] || s.Traits.Elsewhere(u.ID) || estate.GoodName("share", called) != nil {
			continue
		}
		home, known := homes[called]
		if known && (home == "" || home == "/") {
			continue // the server makes none for them
		}
		x, err := c.Homes.Of(called, home)
		if err != nil {
			return nil, nil, err
		}
		if x.Name == "" {
			return out, nil, nil // they aren't available
		}
		folder, err := place.Clean(x.Path)
		if err != nil || x.Path == "" {
			nowhere++
			continue
		}
		if at, err := d.T.At(s, folder); err != nil || !at.Folder {
			if d.T.Err() != nil {
				return nil, nil, d.T.Err()
			}
			continue // there is nothing to be asked about
		}
		if came++; came > mostHomes {
			more++
			continue
		}
		taken[estate.Key(called)] = true
		out = append(out, x)
	}
	switch {
	case came == 0 && nowhere > 0:
		left = append(left, "[homes] makes a share for each user over the folder the system has for them, which isn't known: say where with --passwd FILE")
	case came == 0:
		left = append(left, "[homes] makes a share for each user, and the estate has nobody's folder: load or scan the folders, then this again")
	case more > 0:
		left = append(left, fmt.Sprintf("[homes] makes a share for each user; the first %s are counted, %d more are not", format.Number(mostHomes), more))
	}
	return out, left, nil
}
