package findings

import (
	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
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
