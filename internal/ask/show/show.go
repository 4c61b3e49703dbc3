// Package show answers what stands written: rules, servers, shares, people.
package show

import (
	"time"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Shown is an item's owner and rules, and where each entry comes from.
type Shown struct {
	Where   string       `json:"where"`
	Item    string       `json:"item"` // the server's own address
	Kind    string       `json:"kind"`
	Owner   ask.Account  `json:"owner"`
	Group   ask.Account  `json:"group"`
	Sealed  bool         `json:"sealed"`
	Top     bool         `json:"top-of-its-tree,omitempty"`
	Above   string       `json:"takes-entries-from,omitempty"`
	Rules   string       `json:"rules"` // present, absent (open to everyone) or empty (closed)
	Order   int          `json:"out-of-order-at,omitempty"`
	Entries []ShownEntry `json:"entries"`
	Audit   []ShownEntry `json:"audit-entries"`
	Shares  []string     `json:"shares"`
	// POSIX is the mode and the lists of an item of a POSIX tree.
	POSIX *PosixShown `json:"posix,omitempty"`
	// Size and Modified are what a real server told: bytes of a file, and when
	// its contents were changed last, RFC 3339; absent where nothing is known.
	Size     *int64 `json:"size,omitempty"`
	Modified string `json:"modified,omitempty"`
}

// ShownEntry is one entry as it stands.
type ShownEntry struct {
	Place int    `json:"place"` // from 1
	Entry string `json:"entry"`
	Deny  bool   `json:"deny,omitempty"`
	Own   bool   `json:"own"`
	From  string `json:"set-on,omitempty"` // the place it is set on; empty: no folder above hands it down now
	Stale bool   `json:"stale,omitempty"`
	Until string `json:"until,omitempty"` // its last day
	Who   string `json:"account"`         // what its account is, see Known
}

// Show answers what stands on a place.
func Show(k *ask.Asker, where string) (*Shown, error) {
	p, err := k.Place(where)
	if err != nil {
		return nil, err
	}
	s := ShowPlace(k, p)
	return s, k.T.Err()
}

// ShowPlace is Show for a place found already.
func ShowPlace(k *ask.Asker, p estate.Place) *Shown {
	defer k.T.NumbersOf(p.Server)()
	t := k.T
	rules := t.Of(p.Strand)
	d := k.AsEntries(rules)
	s := &Shown{Where: p.Via(), Item: p.String(), Kind: ask.Kind(p.Folder), Owner: k.Account(d.Owner), Group: k.Account(d.Group),
		Sealed: d.Sealed(), Rules: ask.RulesAre(&d.Rules), Order: d.Rules.Misplaced() + 1, Shares: []string{}}
	if len(p.Trail) > 1 {
		if !s.Sealed {
			s.Above = p.Up(1)
		}
	} else {
		s.Top = true
	}
	if f, ok := t.Facts(p.Item); ok {
		if !p.Folder {
			s.Size = &f.Size
		}
		if f.Modified != 0 {
			s.Modified = time.Unix(f.Modified, 0).UTC().Format(time.RFC3339)
		}
	}
	s.Entries = entries(k, p, d, &d.Rules, k.Dated(estate.Bearer{Item: p.Item}, rules))
	s.Audit = entries(k, p, d, &d.Audit, nil)
	if x, ok := rules.(*posix.Rules); ok {
		s.POSIX, s.Above = showPosix(k, x), ""
	}
	for _, sh := range k.Through(p) {
		s.Shares = append(s.Shares, sh.Address())
	}
	return s
}

func entries(k *ask.Asker, p estate.Place, d *rule.Descriptor, list *rule.Rules, days estate.Dated) []ShownEntry {
	above := k.ListedAbove(p)
	if list == &d.Audit {
		// Origins of audit entries are looked for among audit entries.
		for i, a := range above {
			above[i] = &rule.Descriptor{Rules: a.Audit, Owner: a.Owner, Group: a.Group}
		}
	}
	out := []ShownEntry{}
	for i, e := range list.Entries {
		x := ShownEntry{Place: i + 1, Entry: k.Lang.Write(e, p.Folder), Deny: e.Kind.Refuses(), Own: e.Own(), Until: string(days[e]), Who: k.Known(e.Who)}
		if e.Own() {
			x.From = p.String()
		} else if at, _, ok := rule.Origin(e, p.Folder, above); ok {
			x.From = p.Up(1 + at)
		} else {
			x.Stale = true
		}
		out = append(out, x)
	}
	return out
}
