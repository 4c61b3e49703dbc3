package plan

import (
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/impact"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
)

// NewShift is what a change makes of files and folders that somebody else makes
// from then on in a folder: users, from one level to another.
type NewShift struct {
	Kind  string   `json:"kind"` // file or folder
	Users []string `json:"users"`
	Was   string   `json:"was"`
	Is    string   `json:"becomes"`
	Where string   `json:"in"` // the first folder of which it is so
	More  int64    `json:"more-folders"`
}

// mostPairs is how many different changes of a folder's rules are looked at for
// what new items get.
const mostPairs = 64

// newItems asks what a new file and a new folder would get in each folder whose
// rules change, at the server itself, by somebody who is in no group there (on a
// POSIX tree by the umasks 022 and 077, the wider of which counts), and tells where
// users come to have otherwise than the impact says already.
func (d *Desk) newItems(p *Plan, routes []impact.Route) {
	type pair struct{ before, after rule.Any }
	seen := map[pair]bool{}
	f := p.work.forest
	for i := range f.Nodes {
		n := &f.Nodes[i]
		k := pair{n.Before, n.After}
		if !n.Folder || n.Before == nil || n.After == nil || !n.Changed() || seen[k] || len(seen) >= mostPairs {
			continue
		}
		seen[k] = true
		at := slices.IndexFunc(routes, func(r impact.Route) bool {
			return r.Local && slices.ContainsFunc(r.Starts, func(s impact.Start) bool { return within(f, i, s.Node) })
		})
		if at < 0 {
			continue
		}
		r := &routes[at]
		for _, folder := range []bool{false, true} {
			var levels [2][]string
			for x, rules := range []rule.Any{n.Before, n.After} {
				if r.Ways[x] == nil {
					return
				}
				levels[x] = d.newLevels(r.Ways[x], rules, folder)
			}
			d.newShift(p, r.Users(), levels, folder, i)
		}
	}
}

// stranger makes things and is in nobody's groups.
var stranger = verdict.Maker{UID: acc.UID(acc.MostPOSIX), GID: acc.GID(acc.MostPOSIX)}

// newLevels gives each user's level on what a stranger makes in a folder.
func (d *Desk) newLevels(way *crowd.Way, parent rule.Any, folder bool) []string {
	out := make([]string, len(way.People.Users))
	tr := *way.Traits
	var child rule.Any
	if _, ok := parent.(*posix.Rules); ok {
		tr.Umask = 0o022
	}
	m := stranger
	m.Owner, m.Primary, m.PosixGroup = m.UID, m.GID, m.GID
	if child = made(parent, folder, m, &tr); child == nil {
		return out
	}
	dec := crowd.NewDecider(*way)
	read := rule.NewReader(way.Traits.Reading())
	var sc crowd.Scratch
	for _, class := range dec.Classes(crowd.Situation{Item: read.Of(child)}, &sc) {
		level := "nothing"
		if !ask.NothingOn(child, class.Rights) {
			level = ask.LevelOn(d.t.Levels(), child, class.Rights, folder)
		}
		class.Users.Each(func(u int) bool {
			out[u] = level
			return true
		})
	}
	return out
}

// newShift tells how users' levels on new items differ, but where the impact has
// the same of what is there.
func (d *Desk) newShift(p *Plan, users []acc.Account, levels [2][]string, folder bool, node int) {
	kind := ask.Kind(folder)
	by := map[[2]string][]string{}
	var order [][2]string
	for u := range users {
		if u >= len(levels[0]) || u >= len(levels[1]) || levels[0][u] == levels[1][u] {
			continue
		}
		k := [2]string{levels[0][u], levels[1][u]}
		if slices.ContainsFunc(p.Impact, func(s Shift) bool {
			return s.Was == k[0] && s.Is == k[1] && s.Users != nil && slices.Contains(s.Users, users[u].Name)
		}) {
			continue
		}
		if by[k] == nil {
			order = append(order, k)
		}
		by[k] = append(by[k], users[u].Name)
	}
	for _, k := range order {
		i := slices.IndexFunc(p.NewItems, func(o NewShift) bool {
			return o.Kind == kind && o.Was == k[0] && o.Is == k[1] && slices.Equal(o.Users, by[k])
		})
		if i >= 0 {
			p.NewItems[i].More += p.work.forest.Nodes[node].Items
			continue
		}
		p.NewItems = append(p.NewItems, NewShift{Kind: kind, Users: by[k], Was: k[0], Is: k[1], Where: d.where(p, node), More: p.work.forest.Nodes[node].Items - 1})
	}
}
