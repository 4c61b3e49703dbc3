package findings

import (
	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Entering is a user who has access at or below a place, by any route.
type Entering struct {
	ID     account.ID
	Change bool         // they can change something, not only read
	By     []account.ID // the accounts of entries that let them in, at most a few
}

// WhoEnters lists everybody who has access at or below a place: by the share it
// is an address of, or by any route.
func WhoEnters(k *ask.Asker, p estate.Place) ([]Entering, error) {
	g, err := k.LayOut(p)
	if err != nil {
		return nil, err
	}
	x := &finding{k: k, g: g, ways: map[*ask.Route]*wayCrowd{}}
	var order []account.ID
	found := map[account.ID]*Entering{}
	for _, w := range g.Ways {
		if p.Share != nil && (w.Share == nil || w.Share.ID != p.Share.ID) {
			continue
		}
		c := x.crowd(w)
		seen := map[*rule.List]bool{} // where folders above aren't asked, alike for all
		c.each(func(i int, s crowd.Situation) bool {
			if seen[s.Item] && s.Gate == nil {
				return true
			}
			seen[s.Item] = true
			for _, r := range []right.Set{right.ReadData, right.WriteData, right.AppendData} {
				c.d.Holding(s, r).Each(func(u int) bool {
					id := c.d.People.Users[u].ID
					e := found[id]
					if e == nil {
						e = &Entering{ID: id}
						found[id] = e
						order = append(order, id)
					}
					if r != right.ReadData {
						e.Change = true
					}
					if d := k.AsEntries(g.F.Nodes[i].Before); len(e.By) == 0 {
						tok := account.NewToken(k.Directory(), id, account.Traits{})
						for _, en := range d.Rules.Entries {
							if en.Kind == rule.Allow && en.Rights.Map()&r != 0 && en.Counts() && tok.Has(en.Who) {
								e.By = append(e.By, en.Who)
								break
							}
						}
					}
					return true
				})
			}
			return true
		})
		if err := k.T.Context().Err(); err != nil {
			return nil, err
		}
	}
	out := make([]Entering, 0, len(order))
	for _, id := range order {
		out = append(out, *found[id])
	}
	return out, k.T.Err()
}
