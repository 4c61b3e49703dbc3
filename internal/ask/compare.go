package ask

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/verdict"
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
	Right string   `json:"right,omitempty"`
	Has   string   `json:"has-it,omitempty"`
	Why   *Reason  `json:"because,omitempty"`     // why he has it
	Not   *Reason  `json:"because-not,omitempty"` // why the other hasn't
	Share bool     `json:"by-share,omitempty"`    // that is the share's doing
	Parts []string `json:"-"`
}

// Comparison is two users side by side.
type Comparison struct {
	First  Account    `json:"first"`
	Second Account    `json:"second"`
	Only   [2][]Group `json:"groups-only"` // groups that one of them is in, and the other isn't
	Lines  []Compared `json:"lines"`
	More   int64      `json:"more"`
	Alike  int64      `json:"items-alike"` // items by route on which they don't differ
	Differ int64      `json:"items-that-differ"`
	// Like are the commands that would make the second equal to the first,
	// where that was asked for; the last does all of it at once.
	Like [][]string `json:"make-second-like-first,omitempty"`
}

// Group is a group someone is in, and how.
type Group struct {
	Name   string   `json:"name"`
	Chain  []string `json:"chain"`
	Direct bool     `json:"direct"` // it lists him itself, or is his primary group
}

// Compare puts two users side by side, everywhere or at and below a place.
func (k *Asker) Compare(first, second, under string, limit int) (*Comparison, error) {
	var users [2]account.Account
	for i, word := range []string{first, second} {
		u, err := k.t.User(word)
		if err != nil {
			return nil, err
		}
		users[i] = u
	}
	g, err := k.over(under)
	if err != nil {
		return nil, err
	}
	out := &Comparison{First: k.Account(users[0].ID), Second: k.Account(users[1].ID), Lines: []Compared{}, Only: k.groupsOnly(users)}
	nodes := g.f.Nodes
	for _, w := range g.ways {
		a, b := g.see(users[0].ID, w, nil), g.see(users[1].ID, w, nil)
		differs := func(i int) bool {
			return g.level(nodes[i].Before, a.granted[i], nodes[i].Folder) != g.level(nodes[i].Before, b.granted[i], nodes[i].Folder)
		}
		for i := range nodes {
			n := &nodes[i]
			if !a.on[i] {
				continue
			}
			_, begins := w.begins[i]
			was := !begins && differs(n.Parent)
			if differs(i) {
				out.Differ += n.Items
				if was && g.alike(a, i) && g.alike(b, i) {
					continue
				}
			} else {
				out.Alike += n.Items
				if !was { // a line says where they are alike again
					continue
				}
			}
			most := n.Items
			if limit > 0 {
				most = min(most, int64(max(0, limit-len(out.Lines))))
			}
			line := Compared{Route: w.route, Kind: Kind(n.Folder), First: g.level(n.Before, a.granted[i], n.Folder), Second: g.level(n.Before, b.granted[i], n.Folder)}
			for j, item := range g.f.Some(k.t, i, int(most)) {
				at := k.t.Place(item)
				if j == 0 {
					g.tellApart(&line, users, w, at, a.granted[i], b.granted[i])
				}
				line.Where = w.address(at)
				line.Parts = parts(line.Where)
				out.Lines = append(out.Lines, line)
			}
			out.More += n.Items - most
			if err := k.t.Context().Err(); err != nil {
				return nil, err
			}
		}
	}
	order := map[string]int{}
	for i, w := range g.ways {
		order[w.route+w.server.Name] = i
	}
	slices.SortStableFunc(out.Lines, func(a, b Compared) int {
		if c := order[a.Route+serverOf(a)] - order[b.Route+serverOf(b)]; c != 0 {
			return c
		}
		return slices.Compare(a.Parts, b.Parts)
	})
	return out, k.t.Err()
}

func serverOf(c Compared) string { return c.Parts[0] }

// tellApart says why one of two users has what the other hasn't.
func (g *ground) tellApart(line *Compared, users [2]account.Account, w *way, p estate.Place, a, b right.Set) {
	has, hasnt := 0, 1
	r := telling(a&^b, needed)
	if r == 0 {
		has, hasnt, r = 1, 0, telling(b&^a, needed)
	}
	if r == 0 {
		return
	}
	line.Right, line.Has = r.Names(p.Folder)[0], g.k.t.Name(users[has].ID)
	why := func(u account.Account, granted bool) (*Reason, bool) {
		q := g.k.Question(u.ID, p, w.share)
		d, above := g.k.t.Of(p.Strand), g.k.t.Above(p)
		for _, f := range verdict.Decide(q).Findings {
			if f.Right != r {
				continue
			}
			if !granted && f.FileOK {
				s := g.k.shareReason(q, w.share, f.Share, false)
				return &s, true
			}
			s := g.k.fileReason(q, p, d, above, f, w.share)
			return &s, false
		}
		return nil, false
	}
	line.Why, _ = why(users[has], true)
	line.Not, line.Share = why(users[hasnt], false)
}

// groupsOnly lists the groups each of two users is in and the other isn't.
func (k *Asker) groupsOnly(users [2]account.Account) (out [2][]Group) {
	var tokens [2]*account.Token
	for i, u := range users {
		tokens[i] = account.NewToken(k.t, u.ID, account.Traits{})
	}
	for i := range users {
		out[i] = []Group{}
		for _, id := range tokens[i].IDs() {
			a, ok := k.t.Account(id)
			if !ok || a.Kind != account.Group || tokens[1-i].Has(id) {
				continue
			}
			x := Group{Name: k.t.Name(id)}
			for _, l := range tokens[i].Chain(id) {
				x.Chain = append(x.Chain, k.t.Name(l.ID))
			}
			x.Direct = len(x.Chain) == 2
			out[i] = append(out[i], x)
		}
		slices.SortFunc(out[i], func(a, b Group) int { return cmpText(a.Name, b.Name) })
	}
	return out
}
