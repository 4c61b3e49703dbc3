package census

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Compared is where two users' answers come to differ, going down, or to be
// alike again; what is below has the same until another line says otherwise.
type Compared struct {
	Where  string `json:"where"`
	Route  string `json:"route"`
	Kind   string `json:"kind"`
	First  string `json:"first"`
	Second string `json:"second"`
	// Right is the one the reason is about: the strongest that one has and the
	// other hasn't; Has says who has it.
	Right string      `json:"right,omitempty"`
	Has   string      `json:"has-it,omitempty"`
	Why   *ask.Reason `json:"because,omitempty"`     // why they have it
	Not   *ask.Reason `json:"because-not,omitempty"` // why the other hasn't
	Share bool        `json:"by-share,omitempty"`    // that is the share's doing
	Parts []string    `json:"-"`
}

// Comparison is two users side by side.
type Comparison struct {
	First  ask.Account `json:"first"`
	Second ask.Account `json:"second"`
	Only   [2][]Group  `json:"groups-only"` // groups that one of them is in, and the other isn't
	Lines  []Compared  `json:"lines"`
	More   int64       `json:"more"`
	Alike  int64       `json:"items-alike"` // items by route on which they don't differ
	Differ int64       `json:"items-that-differ"`
	// Like are the commands that would make the second equal to the first,
	// where that was asked for; the last does all of it at once.
	Like [][]string `json:"make-second-like-first,omitempty"`
}

// Group is a group someone is in, and how.
type Group struct {
	Name   string   `json:"name"`
	Chain  []string `json:"chain"`
	Direct bool     `json:"direct"` // it lists them itself, or is their primary group
}

// Compare puts two users side by side, everywhere or at and below a place.
func Compare(k *ask.Asker, first, second, under string, limit int) (*Comparison, error) {
	var users [2]account.Account
	for i, word := range []string{first, second} {
		u, err := k.T.User(word)
		if err != nil {
			return nil, err
		}
		users[i] = u
	}
	g, err := k.OverFor(under, users[0].ID, users[1].ID)
	if err != nil {
		return nil, err
	}
	out := &Comparison{First: k.Account(users[0].ID), Second: k.Account(users[1].ID), Lines: []Compared{}, Only: groupsOnly(k, users)}
	nodes := g.F.Nodes
	for _, w := range g.Ways {
		var changes []int
		a, b := g.See(users[0].ID, w, nil), g.See(users[1].ID, w, nil)
		differs := func(i int) bool {
			return g.Level(nodes[i].Before, a.Granted[i], nodes[i].Folder) != g.Level(nodes[i].Before, b.Granted[i], nodes[i].Folder)
		}
		for i := range nodes {
			n := &nodes[i]
			if !a.On[i] {
				continue
			}
			_, begins := w.Begins[i]
			was := !begins && differs(n.Parent)
			if differs(i) {
				out.Differ += n.Items
				if was && alike(g, a, i) && alike(g, b, i) {
					continue
				}
			} else {
				out.Alike += n.Items
				if !was { // a line says where they are alike again
					continue
				}
			}
			changes = append(changes, i)
		}
		some, most, left := estate.UpTo(g.F.Parts(changes), limit, len(out.Lines))
		out.More += left
		items := g.F.FirstOf(k.T, some, most)
		k.T.ReadChains(slices.Concat(items...))
		for j, p := range some {
			i := p.Node
			n := &nodes[i]
			line := Compared{Route: w.Name, Kind: ask.Kind(n.Folder), First: g.Level(n.Before, a.Granted[i], n.Folder), Second: g.Level(n.Before, b.Granted[i], n.Folder)}
			for first, item := range items[j] {
				at := k.T.Place(item)
				if first == 0 {
					tellApart(g, &line, users, w, at, a.Granted[i], b.Granted[i])
				}
				line.Where = w.Address(at)
				line.Parts = parts(line.Where)
				out.Lines = append(out.Lines, line)
			}
			if err := k.T.Context().Err(); err != nil {
				return nil, err
			}
		}
	}
	order := map[string]int{}
	for i, w := range g.Ways {
		order[w.Name+w.Server.Name] = i
	}
	slices.SortStableFunc(out.Lines, func(a, b Compared) int {
		if c := order[a.Route+serverOf(a)] - order[b.Route+serverOf(b)]; c != 0 {
			return c
		}
		return slices.Compare(a.Parts, b.Parts)
	})
	return out, k.T.Err()
}

func serverOf(c Compared) string { return c.Parts[0] }

// tellApart says why one of two users has what the other hasn't.
func tellApart(g *ask.Scope, line *Compared, users [2]account.Account, w *ask.Route, p estate.Place, a, b right.Set) {
	has, hasnt := 0, 1
	r := telling(a&^b, needed)
	if r == 0 {
		has, hasnt, r = 1, 0, telling(b&^a, needed)
	}
	if r == 0 {
		return
	}
	line.Right, line.Has = r.Names(p.Folder)[0], g.K.T.Name(users[has].ID)
	why := func(u account.Account, granted bool) (*ask.Reason, bool) {
		q := g.K.Question(u.ID, p, w.Share)
		d, above := g.K.T.Of(p.Strand), g.K.T.Above(p)
		for _, f := range verdict.Decide(q).Findings {
			if f.Right != r {
				continue
			}
			if !granted && f.FileOK {
				s := g.K.ShareReason(q, w.Share, f.Share, false)
				return &s, true
			}
			s := g.K.FileReason(q, p, d, above, f, w.Share)
			return &s, false
		}
		return nil, false
	}
	line.Why, _ = why(users[has], true)
	line.Not, line.Share = why(users[hasnt], false)
}

// groupsOnly lists the groups each of two users is in and the other isn't.
func groupsOnly(k *ask.Asker, users [2]account.Account) (out [2][]Group) {
	var tokens [2]*account.Token
	for i, u := range users {
		tokens[i] = account.NewToken(k.T, u.ID, account.Traits{})
	}
	for i := range users {
		out[i] = []Group{}
		for _, id := range tokens[i].IDs() {
			a, ok := k.T.Account(id)
			if !ok || a.Kind != account.Group || tokens[1-i].Has(id) {
				continue
			}
			x := Group{Name: k.T.Name(id)}
			for _, l := range tokens[i].Chain(id) {
				x.Chain = append(x.Chain, k.T.Name(l.ID))
			}
			x.Direct = len(x.Chain) == 2
			out[i] = append(out[i], x)
		}
		slices.SortFunc(out[i], func(a, b Group) int { return ask.CmpText(a.Name, b.Name) })
	}
	return out
}
