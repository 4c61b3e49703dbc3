package census

import (
	"slices"

	"tarnwold/core/crowd"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// OpenBelow is what below a folder is open to people who have no access to the
// folder itself, by one route.
type OpenBelow struct {
	Places int64    `json:"places"` // the topmost of them
	Users  int      `json:"users"`
	Names  []string `json:"who"`
	// List are the places one by one, where they were asked for.
	List []OpenBelowPlace `json:"list,omitempty"`
	// Uncounted: there are too many different rules below to look at them all
	// unasked.
	Uncounted bool `json:"not-counted,omitempty"`
}

// OpenBelowPlace is one such place, or several alike.
type OpenBelowPlace struct {
	Where string   `json:"where"`
	Items int64    `json:"items"`
	Who   []string `json:"who"`
}

// mostBelow is how many sets of items with rules of their own are looked at
// unasked.
const mostBelow = 5000

// beyond works out, for each route of an answer, what is open below. With all
// every place is told.
func beyond(k *ask.Asker, p estate.Place, c *ask.Can, out *Having, all bool) error {
	if !p.Folder || c != nil && c.Act != nil {
		return nil
	}
	out.BelowAsked = all
	g, err := k.LayOut(p)
	if err != nil {
		return err
	}
	for r := range out.Routes {
		i := slices.IndexFunc(g.Ways, func(w *ask.Route) bool { return w.Name == out.Routes[r].Route })
		if i < 0 {
			continue
		}
		if len(g.F.Nodes) > mostBelow && !all {
			out.Routes[r].Below = &OpenBelow{Uncounted: true, Names: []string{}}
			continue
		}
		out.Routes[r].Below = beyondBy(k, g, g.Ways[i], c, all)
	}
	return k.T.Context().Err()
}

func beyondBy(k *ask.Asker, g *ask.Scope, w *ask.Route, c *ask.Can, all bool) *OpenBelow {
	pop := k.Population(w.Server)
	d := g.Decider(w, pop)
	var sc crowd.Scratch
	var here crowd.Bits // who has access to the folder
	more := map[int]crowd.Bits{}
	union := pop.Empty()
	out := &OpenBelow{Names: []string{}}
	g.Everyone(w, pop, d, func(i int, s crowd.Situation) bool {
		node := &g.F.Nodes[i]
		open := pop.Empty()
		if c != nil {
			if c.Of(node.Folder) {
				open.Or(d.Holding(s, c.Rights(node.Before, node.Folder)))
			}
		} else {
			for _, class := range d.Classes(s, &sc) {
				if !ask.NothingOn(node.Before, class.Rights) {
					open.Or(class.Users)
				}
			}
		}
		if here == nil {
			here = open
			return true
		}
		extra := open.Minus(here)
		more[i] = extra
		fresh := extra
		if up, ok := more[node.Parent]; ok { // of them it is told above already
			fresh = extra.Minus(up)
		}
		if fresh.Len() == 0 {
			return k.T.Context().Err() == nil
		}
		union.Or(fresh)
		out.Places += node.Items
		if all {
			b := OpenBelowPlace{Items: node.Items, Who: names(pop, fresh)}
			for _, item := range g.F.Some(k.T, i, 1) {
				b.Where = g.Named(w, item)
			}
			out.List = append(out.List, b)
		}
		return k.T.Context().Err() == nil
	})
	out.Users, out.Names = union.Len(), names(pop, union)
	if out.Places == 0 {
		return nil
	}
	return out
}

// names lists the users of a set.
func names(pop *crowd.Population, users crowd.Bits) []string {
	out := []string{}
	users.Each(func(i int) bool {
		out = append(out, pop.Users[i].Name)
		return true
	})
	return out
}
