package live

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"tarnwold/core/right"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/estate"
	"tarnwold/internal/server"
)

// Provable are the acts that are proved by opening alone, which leaves no
// trace: what the open asks for is what the act needs on the item.
var Provable = []string{"list", "read", "write", "append", "open-read", "open-write", "set-attributes", "read-rules", "change-rules", "take-owner", "delete"}

// Proof is what came of holding answers to a real server.
type Proof struct {
	Server   string       `json:"server"`
	Users    []string     `json:"users"`
	Items    int          `json:"items"` // by route
	Tried    int          `json:"acts-tried"`
	Allowed  int          `json:"allowed"`
	Differ   []Difference `json:"differences"`
	Unproved int          `json:"unproved"` // that would leave a trace: an act refused by the connection alone
}

// Difference is an act the server answers otherwise than the estate.
type Difference struct {
	User   string `json:"user"`
	Act    string `json:"act"`
	Where  string `json:"where"`
	Estate bool   `json:"estate-allows"`
	Server bool   `json:"server-allows"`
	Said   string `json:"server-said,omitempty"`
	Folder bool   `json:"folder"`
	By     string `json:"decided-by,omitempty"` // what decides it in the estate: kinds of ask.Reason
}

// Otherwise says each difference in a line.
func (p *Proof) Otherwise() (out []string) {
	may := map[bool]string{true: "may", false: "may not"}
	for _, d := range p.Differ {
		out = append(out, fmt.Sprintf("user %s %s %s %s there; the estate says that they %s", d.User, may[d.Server], d.Act, d.Where, may[d.Estate]))
	}
	return out
}

// Report is a proof without a name in it: nobody can tell from it whose server it was, or
// who may do what there.
type Report struct {
	Traits   map[string]string `json:"traits"`
	Set      string            `json:"traits-set"`
	Users    int               `json:"users"`
	Items    int               `json:"items"`
	Tried    int               `json:"acts-tried"`
	Allowed  int               `json:"allowed"`
	Unproved int               `json:"unproved"`
	Differ   []Differing       `json:"differences"`
}

// Differing is how often acts of one sort are answered differently.
type Differing struct {
	Act    string `json:"act"`
	Folder bool   `json:"folder"`
	Estate bool   `json:"estate-allows"`
	Server bool   `json:"server-allows"`
	By     string `json:"decided-by,omitempty"`
	Status string `json:"status,omitempty"`
	Times  int    `json:"times"`
}

// Report leaves every name out of a proof.
func (p *Proof) Report(s estate.Server) *Report {
	out := &Report{Traits: show.TraitValues(s.Traits), Set: s.Traits.Name, Users: len(p.Users), Items: p.Items, Tried: p.Tried, Allowed: p.Allowed, Unproved: p.Unproved, Differ: []Differing{}}
	for name := range out.Traits {
		if !slices.ContainsFunc(verdict.TraitList[:], func(t verdict.Trait) bool { return t.Name == name }) || name == "administrator-makes" {
			delete(out.Traits, name) // who has privileges, who owns what is made
		}
	}
	at := map[Differing]int{}
	for _, d := range p.Differ {
		one := Differing{Act: d.Act, Folder: d.Folder, Estate: d.Estate, Server: d.Server, By: d.By, Status: d.Said} // a status of the protocol, in our words
		i, ok := at[one]
		if !ok {
			i = len(out.Differ)
			at[one] = i
			out.Differ = append(out.Differ, one)
		}
		out.Differ[i].Times++
	}
	return out
}

// Prove says what is to be proved.
type Prove struct {
	Server estate.Server
	Users  []string
	Under  string // at and below this place; "": everything
	Items  int    // how many items by route: one of each sort first, then any
	Seed   uint64
	// Open signs on as a user.
	Open func(ctx context.Context, user string) (server.Opener, error)
	Step func(done, of int)
}

// spot is an item by one route.
type spot struct {
	where  string
	share  string
	path   string
	folder bool
}

// Run opens things as each user, and holds what the server says to what the
// estate answers.
func (p *Prove) Run(ctx context.Context, e *estate.Estate) (*Proof, error) {
	out := &Proof{Server: p.Server.Name, Users: p.Users, Differ: []Difference{}}
	err := e.View(ctx, func(t *estate.Tx) error {
		k := ask.New(t)
		spots, err := p.spots(t, k)
		if err != nil {
			return err
		}
		out.Items = len(spots)
		for n, user := range p.Users {
			if _, err := t.User(user); err != nil {
				return err
			}
			as, err := p.Open(ctx, user)
			if err != nil {
				return fmt.Errorf("as %s: %w", user, err)
			}
			for i, s := range spots {
				if err := p.one(ctx, k, as, user, s, out); err != nil {
					as.Close()
					return fmt.Errorf("as %s: %w", user, err)
				}
				if p.Step != nil && i%16 == 0 {
					p.Step(n*len(spots)+i, len(p.Users)*len(spots))
				}
			}
			as.Close()
		}
		return t.Err()
	})
	return out, err
}

func (p *Prove) one(ctx context.Context, k *ask.Asker, as server.Opener, user string, s spot, out *Proof) error {
	for _, name := range Provable {
		a, _ := verdict.ActNamed(name)
		if a.Takes == verdict.File && s.folder || a.Takes == verdict.Folder && !s.folder || name == "delete" && s.path == "" {
			continue
		}
		t, err := explain.Try(k, user, name, s.where, "", true)
		if err != nil {
			return err
		}
		var rights right.Set
		held, door := true, true
		for _, n := range a.Needs {
			if n.On == verdict.OnItem {
				rights = n.Rights
			}
		}
		for _, n := range t.Needs {
			if n.On == "connection" {
				door = door && n.Held
			} else {
				held = held && n.Held
			}
		}
		if held && !door && t.Door.Open {
			out.Unproved++
			continue
		}
		said, err := as.Open(ctx, s.share, s.path, rights)
		if err != nil {
			return err
		}
		out.Tried++
		if said == "" {
			out.Allowed++
		}
		if t.Allowed != (said == "") {
			out.Differ = append(out.Differ, Difference{user, name, s.where, t.Allowed, said == "", said, s.folder, decides(t)})
		}
	}
	return ctx.Err()
}

// decides gives what decided a trial: the first need that says otherwise than all do.
func decides(t *explain.Tried) string {
	for i := range t.Needs {
		if n := &t.Needs[i]; n.Reason != nil && n.Held == t.Allowed {
			return n.Reason.By
		}
	}
	return ""
}

// spots picks the items: one of every sort of rules first, then any.
func (p *Prove) spots(t *estate.Tx, k *ask.Asker) ([]spot, error) {
	var tops []estate.Place
	if p.Under != "" {
		at, err := k.Place(p.Under)
		if err != nil {
			return nil, err
		}
		if at.Server.ID != p.Server.ID {
			return nil, &estate.Refused{Why: fmt.Sprintf("%s is not on server %s", p.Under, p.Server.Name)}
		}
		tops = append(tops, at)
	} else {
		for _, top := range t.Tops(p.Server) {
			at, err := t.At(p.Server, top)
			if err != nil {
				return nil, err
			}
			tops = append(tops, at)
		}
	}
	rnd := rand.New(rand.NewPCG(p.Seed, 1))
	// Items alike, with alike rules above, are one node: a few of each are asked
	// for, and none is read that isn't tried.
	var first, rest []int64
	for _, top := range tops {
		f, err := t.PartitionAt(top)
		if err != nil {
			return nil, err
		}
		for _, n := range rnd.Perm(len(f.Nodes)) {
			if len(first) >= p.Items && len(rest) >= p.Items {
				break
			}
			const alike = 8
			some := f.Some(t, n, alike)
			if len(some) == 0 {
				continue
			}
			i := rnd.IntN(len(some))
			first = append(first, some[i])
			rest = append(rest, some[:i]...)
			rest = append(rest, some[i+1:]...)
		}
	}
	for _, list := range [][]int64{first, rest} {
		rnd.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	}
	var out []spot
	shares := t.Shares(p.Server)
	for _, item := range slices.Concat(first, rest) {
		at := t.Place(item)
		for i := range shares {
			if len(out) == p.Items {
				return out, t.Err()
			}
			rest, ok := shares[i].Cut(at.Path)
			if !ok {
				continue
			}
			where := strings.TrimSuffix(shares[i].Address()+"/"+rest, "/")
			out = append(out, spot{where, shares[i].Name, rest, at.Folder})
		}
	}
	if len(out) == 0 {
		return nil, &estate.Refused{Why: "no share of server " + p.Server.Name + " leads to anything there"}
	}
	return out, t.Err()
}
