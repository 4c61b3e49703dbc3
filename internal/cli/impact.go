package cli

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/impact"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

// shiftRow is one line of an impact, as JSON has it.
type shiftRow struct {
	Kind   string   `json:"kind"` // gain, lose or change
	Users  []string `json:"users"`
	Was    string   `json:"was"`
	Is     string   `json:"is"`
	Routes []string `json:"routes"`
	Items  int64    `json:"items"`
	Where  []string `json:"where"`

	bits          impact.Bits
	before, after right.Set
	more          int // places beyond Where
}

// impactOf works out who gains and loses what by a proposal.
func impactOf(t *estate.Tx, p *proposal) ([]*shiftRow, []impact.Route, error) {
	routes, err := routesOf(t, p)
	if err != nil {
		return nil, nil, err
	}
	levels := t.Levels()
	var rows []*shiftRow
	shifts := impact.Of(&p.forest.Set, routes)
	sort.Slice(shifts, func(i, j int) bool {
		a, b := shifts[i], shifts[j]
		if a.Route != b.Route {
			return a.Route < b.Route
		}
		if a.Before != b.Before {
			return a.Before < b.Before
		}
		return a.After < b.After
	})
	for _, s := range shifts {
		r := routes[s.Route]
		folder := p.forest.Nodes[s.Nodes[0]].Folder
		row := &shiftRow{Kind: "change", Was: levels.Show(s.Before, folder), Is: levels.Show(s.After, folder), Routes: []string{r.Name},
			Items: s.Items, bits: s.Users, before: s.Before, after: s.After}
		switch {
		case s.Gain():
			row.Kind = "gain"
		case s.Loss():
			row.Kind = "lose"
		}
		if i := slices.IndexFunc(rows, func(o *shiftRow) bool {
			return o.before == s.Before && o.after == s.After && o.Items == s.Items && slices.Equal(o.bits, s.Users)
		}); i >= 0 {
			rows[i].Routes = append(rows[i].Routes, r.Name)
			continue
		}
		s.Users.Each(func(i int) bool {
			row.Users = append(row.Users, r.People.Users[i].Name)
			return true
		})
		row.Where, row.more = placesOf(t, p, s.Nodes)
		rows = append(rows, row)
	}
	sort.SliceStable(rows, func(i, j int) bool { return len(rows[i].Users) > len(rows[j].Users) })
	return rows, routes, t.Err()
}

// placesOf names where a shift begins: the first few places, and how many more.
func placesOf(t *estate.Tx, p *proposal, nodes []int) (where []string, more int) {
	const few = 3
	for _, n := range nodes {
		if len(where) >= few {
			more += int(p.forest.Nodes[n].Items)
			continue
		}
		items := t.Items(p.forest.Strands[n], few-len(where))
		for _, item := range items {
			where = append(where, t.Place(item).String())
		}
		more += int(p.forest.Nodes[n].Items) - len(items)
	}
	return where, more
}

// routesOf lists every way to the items of a proposal, as it is before and after.
func routesOf(t *estate.Tx, p *proposal) ([]impact.Route, error) {
	dir, then := p.was, (*account.Directory)(nil)
	if dir != nil {
		then = t.Directory()
	}
	type both struct{ was, then *impact.Population }
	people := map[account.Traits]both{}
	var routes []impact.Route
	byServer := map[string][]estate.Place{}
	servers := map[string]estate.Server{}
	var order []string
	seen := map[int]bool{}
	for i, place := range p.places {
		n := p.nodes[i]
		if p.forest.Nodes[n].Parent >= 0 || seen[n] {
			continue
		}
		seen[n] = true
		name := place.Server.Name
		if _, ok := servers[name]; !ok {
			servers[name] = place.Server
			order = append(order, name)
		}
		byServer[name] = append(byServer[name], place)
	}
	for _, name := range order {
		s := servers[name]
		pop, ok := people[s.Traits.Traits]
		if !ok {
			if dir == nil {
				dir = t.Directory()
			}
			pop.was = impact.NewPopulation(dir, s.Traits.Traits)
			if then != nil {
				pop.then = impact.NewPopulation(then, s.Traits.Traits)
			}
			people[s.Traits.Traits] = pop
		}
		traits := s.Traits
		base := impact.Route{Traits: &traits, Administrators: t.Administrators(s), People: pop.was, Then: pop.then}
		if then != nil {
			base.Moved = pop.was.Differing(pop.then, then.All()...)
		}
		local := base
		local.Name, local.Local = "local", true
		for _, place := range byServer[name] {
			local.Starts = append(local.Starts, impact.Start{Node: p.forest.Node(place.Strand), Above: true})
		}
		for _, sh := range t.Shares(s) {
			r := base
			r.Name = sh.Address(s)
			r.Before = &verdict.Share{Rules: sh.Descriptor, ReadOnly: sh.ReadOnly}
			r.After = r.Before
			for _, e := range p.shares {
				if e.share.Name == sh.Name && e.server.Name == s.Name {
					r.After = &verdict.Share{Rules: e.after, ReadOnly: sh.ReadOnly}
				}
			}
			for _, place := range byServer[name] {
				if estate.Under(place.Path, sh.Folder) {
					r.Starts = append(r.Starts, impact.Start{Node: p.forest.Node(place.Strand), Above: place.Path != sh.Folder})
				} else if estate.Under(sh.Folder, place.Path) {
					if in, err := t.At(s, sh.Folder); err == nil {
						if n := p.forest.Node(in.Strand); n >= 0 {
							r.Starts = append(r.Starts, impact.Start{Node: n})
						}
					}
				}
			}
			if len(r.Starts) > 0 {
				routes = append(routes, r)
			}
		}
		routes = append(routes, local)
	}
	return routes, t.Err()
}

// printImpact prints who gains and who loses what.
func (a *app) printImpact(rows []*shiftRow) error {
	p := a.printer()
	if len(rows) == 0 {
		p.Line("\nImpact: nobody's access changes.")
		return nil
	}
	p.Line("\nImpact: %s.", report.Strong(headline(rows)))
	const most = 12
	g := report.Grid{Heads: []string{"", "who", "was", "becomes", "through", "items", "from here on"},
		Wrap: map[string]int{"who": 24, "was": 18, "becomes": 20, "through": 24, "from here on": 42}}
	for i, r := range rows {
		if i == most {
			break
		}
		kind := report.Good("gain")
		if r.Kind == "lose" {
			kind = report.Bad("lose")
		} else if r.Kind == "change" {
			kind = "change"
		}
		where := r.Where
		if r.more > 0 {
			where = append(slices.Clone(where), fmt.Sprintf("and %d more", r.more))
		}
		g.Rows = append(g.Rows, []string{kind, some(r.Users, 4), r.Was, r.Is, strings.Join(r.Routes, ", "), fmt.Sprint(r.Items), strings.Join(where, "\n")})
	}
	if err := p.Grid(g); err != nil {
		return err
	}
	if len(rows) > most {
		p.Line("and %s more of less people; --format json has them all", report.Count(int64(len(rows)-most), "line"))
	}
	return nil
}

// headline counts the people of each kind of shift: "3 people gain read, 1
// person loses edit".
func headline(rows []*shiftRow) string {
	var says []string
	for _, k := range []struct{ kind, one, many string }{{"gain", "gains", "gain"}, {"lose", "loses", "lose"}, {"change", "has other rights", "have other rights"}} {
		people, levels := map[string]bool{}, map[string]bool{}
		for _, r := range rows {
			if r.Kind != k.kind {
				continue
			}
			level := r.Is
			if r.Kind == "lose" {
				level = r.Was
			}
			levels[level] = true
			for _, u := range r.Users {
				people[u] = true
			}
		}
		if len(people) == 0 {
			continue
		}
		s := "1 person " + k.one
		if len(people) > 1 {
			s = strings.TrimSuffix(report.Count(int64(len(people)), "person"), "persons") + "people " + k.many
		}
		if k.kind != "change" {
			what := "rights"
			if len(levels) == 1 {
				for what = range levels {
				}
			}
			s += " " + what
		}
		says = append(says, s)
	}
	return strings.Join(says, ", ")
}

// some names the first few of many.
func some(names []string, few int) string {
	if len(names) <= few+1 {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:few], ", ") + fmt.Sprintf(" and %d more", len(names)-few)
}

// unmoved says for whom nothing changes although an entry that comes names
// them, and why, on each place the command names.
func (a *app) unmoved(t *estate.Tx, p *proposal, rows []*shiftRow, routes []impact.Route) {
	moved := map[string]bool{}
	for _, r := range rows {
		for _, u := range r.Users {
			moved[u] = true
		}
	}
	k := newAsker(t)
	out := a.printer()
	why := map[string][]string{}
	var order []string
	const most = 200
	asked := 0
	for i, place := range p.places {
		n := p.forest.Nodes[p.nodes[i]]
		for _, e := range n.After.Rules.Entries {
			if !e.Own() || e.Kind != rule.Allow || !e.Counts() || !isNew(n.Before, e) {
				continue
			}
			for _, r := range routes {
				if r.Local {
					continue
				}
				_, named := t.Account(e.Who)
				if !named || !strings.HasPrefix(r.Name, "//"+place.Server.Name+"/") {
					continue
				}
				r.People.Holders(e.Who, false).Each(func(u int) bool {
					user := r.People.Users[u]
					if moved[user.Name] {
						return true
					}
					asked++
					reason := "through " + r.Name + ": " + k.unchanged(user, place, &n.Before, &n.After, e, r)
					if why[reason] == nil {
						order = append(order, reason)
					}
					if !slices.Contains(why[reason], user.Name) {
						why[reason] = append(why[reason], user.Name)
					}
					return asked < most
				})
			}
		}
	}
	if len(order) > 0 {
		out.Line("")
	}
	for _, reason := range order {
		out.Line("No change for %s %s.", some(why[reason], 4), reason)
	}
}

// unchanged says why an entry gives a user nothing new on a place.
func (k *asker) unchanged(user account.Account, place estate.Place, before, after **rule.Descriptor, e rule.Entry, r impact.Route) string {
	var share *estate.Share
	for _, s := range k.t.Through(place) {
		if s.Address(place.Server) == r.Name {
			share = &s
		}
	}
	if share == nil {
		return "the place is on no share"
	}
	q := k.question(user.ID, place, share)
	q.Item = *before
	wanted := e.Rights.Map() & right.Access
	if verdict.Granted(q).Has(wanted) {
		return "they had it already"
	}
	q.Item = *after
	v := verdict.Decide(q)
	above := k.t.Above(place)
	for _, f := range v.Findings {
		if f.Right&wanted == 0 || f.Granted {
			continue
		}
		if !f.FileOK {
			reason := k.reason(q, place, above, f.File, false)
			if reason.SetOn != "" {
				return reason.Because + ", set on " + reason.SetOn
			}
			return reason.Because
		}
		reason := k.shareReason(q, place, share, f.Share, false)
		return reason.SetOn + ": " + reason.Because
	}
	return "they had it already"
}
