package plan

import (
	"cmp"
	"slices"

	"tarnwold/internal/estate"
)

// TheirsAlone is whose memberships a plan changes that a real server keeps itself: nothing
// is written there.
type TheirsAlone struct {
	Server string   `json:"server"`
	Groups []string `json:"groups"`
}

// theirs lists the groups of real servers whose members a plan changes: they are their
// machine's, or of the domain that the machine answers for, and no directory has them.
func (d *Planner) theirs(p *Plan) (out []TheirsAlone) {
	if p.IsSo || len(p.Work.Members) == 0 {
		return nil
	}
	var linked []estate.Server
	for _, s := range d.T.Servers() {
		if _, ok := d.T.Link(s); ok {
			linked = append(linked, s)
		}
	}
	if len(linked) == 0 {
		return nil
	}
	by := map[string][]string{}
	seen := map[ID]bool{}
	for i := range p.Work.Members {
		g := p.Work.Members[i].Group
		if seen[g.ID] {
			continue
		}
		seen[g.ID] = true
		if d.T.MetadataOf(g.ID).Directory != "" {
			continue
		}
		for _, s := range linked {
			if d.keeps(s, g.ID) {
				by[s.Name] = append(by[s.Name], g.Name)
			}
		}
	}
	for name, groups := range by {
		slices.Sort(groups)
		out = append(out, TheirsAlone{name, groups})
	}
	slices.SortFunc(out, func(a, b TheirsAlone) int { return cmp.Compare(a.Server, b.Server) })
	return out
}

// keeps tells whether a real server itself keeps who is in a group.
func (d *Planner) keeps(s estate.Server, group ID) bool {
	answers := d.T.Answered(s)
	if realm, _, ok := group.Realm(); ok {
		return realm == estate.ServerRealm(s) || realm == answers
	}
	if realm, _, ok := group.Machine(); ok {
		return realm == estate.ServerRealm(s)
	}
	domain, _, ok := group.Domain()
	return ok && !answers.IsZero() && domain == answers
}
