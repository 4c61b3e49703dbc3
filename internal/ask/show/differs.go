package show

import (
	"sort"
	"strings"

	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
)

// Difference is one place that is not as its folder would have it.
type Difference struct {
	Where string   `json:"where"`
	Kind  string   `json:"kind"`
	Why   []Why    `json:"why"`
	Parts []string `json:"-"` // the names from the folder asked about down to it
}

// Why is one way in which a place differs: sealed, absent, closed (sealed
// and empty), entry, stale, or owner.
type Why struct {
	By    string `json:"by"`
	Entry string `json:"entry,omitempty"`
	Deny  bool   `json:"deny,omitempty"`
	Owner string `json:"owner,omitempty"` // of owner: who; of stale: whose it was when the entries came
}

// Differing is the places below a folder that differ, in order of their paths.
type Differing struct {
	Where  string       `json:"where"`
	Places []Difference `json:"places"`
	More   int64        `json:"more"` // beyond the limit
}

// Differs lists what differs at or below a place; limit 0: all of it.
func Differs(k *ask.Asker, where string, limit int) (*Differing, error) {
	t := k.T
	p, err := k.Place(where)
	if err != nil {
		return nil, err
	}
	f, err := t.PartitionAt(p)
	if err != nil {
		return nil, err
	}
	out := &Differing{Where: p.String(), Places: []Difference{}}
	for i := range f.Nodes {
		n := &f.Nodes[i]
		why := why(k, n.Before, f.Over(i, false), n.Folder)
		if len(why) == 0 {
			continue
		}
		most := n.Items
		if limit > 0 {
			most = min(most, int64(max(0, limit-len(out.Places))))
		}
		for _, item := range f.Some(t, i, int(most)) {
			at := t.Place(item)
			rest, _ := place.Cut(at.Path, p.Path)
			x := Difference{Where: at.String(), Kind: ask.Kind(n.Folder), Why: why}
			if rest != "" {
				x.Parts = strings.Split(rest, "/")
			}
			out.Places = append(out.Places, x)
		}
		out.More += n.Items - most
		if err := t.Context().Err(); err != nil {
			return nil, err
		}
	}
	sort.Slice(out.Places, func(i, j int) bool {
		a, b := out.Places[i].Parts, out.Places[j].Parts
		for k := 0; k < len(a) && k < len(b); k++ {
			if a[k] != b[k] {
				return a[k] < b[k]
			}
		}
		return len(a) < len(b)
	})
	return out, t.Err()
}

func why(k *ask.Asker, a, above rule.Any, folder bool) (why []Why) {
	if x, ok := a.(*posix.Rules); ok {
		return whyPOSIX(k, x, above)
	}
	d, _ := a.(*rule.Descriptor)
	parent, _ := above.(*rule.Descriptor)
	switch {
	case d.Rules.Absent:
		why = append(why, Why{By: "absent"})
	case d.Sealed() && len(d.Rules.Entries) == 0:
		why = append(why, Why{By: "closed"})
	case d.Sealed():
		why = append(why, Why{By: "sealed"})
	}
	for _, e := range append(d.Rules.Own(), d.Audit.Own()...) {
		why = append(why, Why{By: "entry", Entry: k.Lang.Write(e, folder), Deny: e.Kind.Refuses()})
	}
	if parent == nil {
		return why
	}
	if d.StaleUnder(parent, folder) {
		w := Why{By: "stale"}
		for _, e := range d.Rules.FromAbove() {
			if e.Who != d.Owner && !d.OwnedBy(e.Who).StaleUnder(parent, folder) {
				w.Owner = k.T.Name(e.Who)
				break
			}
		}
		why = append(why, w)
	}
	if d.Owner != parent.Owner {
		why = append(why, Why{By: "owner", Owner: k.T.Name(d.Owner)})
	}
	return why
}
