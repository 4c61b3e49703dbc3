package findings

import (
	"encoding/json"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// privileged: who passes rules by a privilege and isn't there as an administrator is.
func (x *finding) privileged() error {
	for _, s := range x.k.T.Servers() {
		powers := s.Traits.Counting()
		if len(powers) == 0 {
			continue
		}
		pop := crowd.NewPopulation(x.dir, s.Traits.Traits, nil)
		for _, p := range powers {
			users := pop.Holders(p.Who, false).Len()
			if name, _ := account.SpecialName(p.Who); users == 0 || name == account.BuiltinPrefix+"Administrators" {
				continue
			}
			who := x.k.T.Name(p.Who)
			x.add(Finding{Where: "server " + s.Name, Who: who, What: string(p.Privilege), Users: users,
				Commands: [][]string{{"tarnwold", "server", "privilege", s.Name, string(p.Privilege), who, "--remove"}}})
		}
	}
	return nil
}

// uncounted: what changes answers and no answer counts, of shares' configurations and of
// policies from outside of items.
func (x *finding) uncounted() error {
	for _, w := range x.shares() {
		for _, what := range ask.NotCounted(w.Share) {
			x.add(Finding{Where: "share " + w.Share.Address(), What: what})
		}
	}
	var under grouped[account.ID]
	for _, d := range x.by.order {
		for i := range d.Audit.Entries {
			if e := &d.Audit.Entries[i]; e.Kind == rule.Policy && e.Flags&rule.InheritOnly == 0 {
				under.add(e.Who, x.by.nodes[d]...)
			}
		}
	}
	for _, id := range under.order {
		f := x.place(under.nodes[id])
		f.What = ask.CentralPolicy + id.String()
		x.add(f)
	}
	return nil
}

// otherwise: what real servers were seen to have or to answer otherwise, by the last scan
// and the last proof of each.
func (x *finding) otherwise() error {
	for _, s := range x.k.T.Servers() {
		for _, what := range x.k.T.Otherwise(s) {
			x.add(Finding{Where: "server " + s.Name, What: what})
		}
	}
	return nil
}

// unreviewed: what is kept and was in no review that was closed. Where none ever was, nothing
// is said: who doesn't review anything isn't told so of each place.
func (x *finding) unreviewed() error {
	var reviewed struct {
		State  string   `json:"state"`
		Covers []string `json:"covers"`
	}
	covered, any := map[string]bool{}, false
	for _, r := range x.k.T.Records(estate.ReviewRecord) {
		if err := json.Unmarshal([]byte(r.Body), &reviewed); err != nil || reviewed.State != "closed" {
			continue
		}
		any = true
		for _, of := range reviewed.Covers {
			covered[of] = true
		}
	}
	if !any {
		return nil
	}
	for _, r := range x.k.T.Records(estate.KeeperRecord) {
		var kept struct {
			Of    string `json:"of"`
			Place string `json:"place"`
		}
		if err := json.Unmarshal([]byte(r.Body), &kept); err != nil || covered[kept.Of] {
			continue
		}
		covered[kept.Of] = true // it is told once, however many keep it
		f := Finding{Where: kept.Of, Commands: [][]string{{"tarnwold", "review", "start", "NAME", "--of", kept.Place}}}
		if pattern, ok := strings.CutPrefix(kept.Place, "group:"); ok {
			f.Where = "group " + pattern
		}
		x.add(f)
	}
	return nil
}
