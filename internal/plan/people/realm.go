package people

import (
	"fmt"

	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
)

// LinkRealm writes down that a machine takes its accounts from a directory, so that scans
// know whose they are; by is what makes an account there one of the directory's. Nobody
// comes or goes by that alone.
func LinkRealm(d *plan.Planner, server, directory string, by estate.LinkedBy) (*plan.Plan, error) {
	s, err := d.T.Server(server)
	if err != nil {
		return nil, err
	}
	x, err := plan.DirectoryNamed(d.T, directory)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("server %s takes its accounts from directory %s, by %s", s.Name, x.Name, bySaid[by])
	p.Asks, p.Nothing = false, "that is so already"
	before := d.T.Record(estate.RealmRecord, estate.ServerRealm(s).String())
	is := estate.RealmLink{Server: s.Name, With: x.Name, By: by}
	e := edit.Description{Kind: "realm", Where: "server " + s.Name, Lines: []edit.Line{{Sign: edit.Comes, What: "accounts", Text: fmt.Sprintf("from directory %s, by %s", x.Name, bySaid[by])}}}
	if err := p.SetRecord(estate.RealmRecord, estate.ServerRealm(s).String(), before, is, e); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// UnlinkRealm takes that back.
func UnlinkRealm(d *plan.Planner, server string) (*plan.Plan, error) {
	s, err := d.T.Server(server)
	if err != nil {
		return nil, err
	}
	was := d.T.RealmLink(s)
	if was == nil {
		return nil, &estate.Refused{Why: fmt.Sprintf("nobody said where server %s takes its accounts from", s.Name)}
	}
	p := d.NewPlan("server %s takes its accounts from directory %s no more", s.Name, was.With)
	p.Asks = false
	name := estate.ServerRealm(s).String()
	e := edit.Description{Kind: "realm", Where: "server " + s.Name, Lines: []edit.Line{{Sign: edit.Goes, What: "accounts", Text: fmt.Sprintf("from directory %s, by %s", was.With, bySaid[was.By])}}}
	if err := p.SetRecord(estate.RealmRecord, name, d.T.Record(estate.RealmRecord, name), nil, e); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

var bySaid = map[estate.LinkedBy]string{estate.ByBoth: "number and name", estate.ByNumber: "number"}
