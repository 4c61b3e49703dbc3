package plan

import (
	"fmt"
	"strings"

	"tarnwold/core/place"
	"tarnwold/internal/estate"
)

// Targets says which items a command means.
type Targets struct {
	Where   []string // addresses, or patterns
	Plain   bool     // they are taken as they stand: no sign in them is special
	OwnedBy string   // only what this account owns, at or below the places
	Kinds   estate.Kinds
	// Said is how the journal tells of them; empty: Where.
	Said string
}

// Text names the places of a command for the journal.
func (x Targets) Text() string {
	s := x.Said
	if s == "" {
		s = Many(x.Where)
	}
	if x.OwnedBy != "" {
		s += " owned by " + x.OwnedBy
	}
	return strings.TrimSpace(s)
}

// Find gives the items that addresses, patterns and the rest mean together.
func (d *Planner) Find(x Targets) ([]estate.Target, error) {
	t := d.T
	kinds := x.Kinds
	if kinds == 0 {
		kinds = estate.Folders | estate.Files
	}
	var out []estate.Target
	seen := map[int64]bool{}
	add := func(target estate.Target) {
		if !seen[target.Item] {
			seen[target.Item] = true
			out = append(out, target)
		}
	}
	owned := func(under *estate.Place) error {
		id, err := t.Who(x.OwnedBy)
		if err != nil {
			return err
		}
		ids := []ID{id}
		if a, ok := t.Account(id); ok {
			ids = t.Forms(a)
		}
		return t.Owned(ids, under, func(target estate.Target, _ string) error {
			if target.Folder && kinds&estate.Folders != 0 || !target.Folder && kinds&estate.Files != 0 {
				add(target)
			}
			return d.Ctx.Err()
		})
	}
	if len(x.Where) == 0 && x.OwnedBy != "" {
		if err := owned(nil); err != nil {
			return nil, err
		}
	}
	for _, w := range x.Where {
		p, err := parse(w, x.Plain)
		if err != nil {
			return nil, err
		}
		found := kinds
		if x.OwnedBy != "" {
			found = estate.Folders | estate.Files
		}
		base, items, err := t.Match(p, found)
		if err != nil {
			return nil, err
		}
		if x.OwnedBy == "" {
			for _, target := range items {
				add(target)
			}
			if len(items) == 0 && len(p.Parts) > 0 {
				return nil, &estate.Refused{Why: fmt.Sprintf("nothing fits %q", w), Do: "a backslash before * ? [ { makes the character an ordinary one; --plain does for all"}
			}
			continue
		}
		if len(p.Parts) == 0 {
			if err := owned(&base); err != nil {
				return nil, err
			}
			continue
		}
		for _, target := range items {
			at := t.Place(target.Item)
			if err := owned(&at); err != nil {
				return nil, err
			}
		}
	}
	if len(out) == 0 {
		return nil, &estate.Refused{Why: "nothing fits " + strings.TrimSpace(x.Text()+kindsSaid(kinds))}
	}
	return out, t.Err()
}

func kindsSaid(k estate.Kinds) string {
	switch k {
	case estate.Folders:
		return ", folders only"
	case estate.Files:
		return ", files only"
	}
	return ""
}

func parse(w string, plain bool) (place.Pattern, error) {
	if plain {
		a, err := place.ParsePlain(w)
		return place.Pattern{Base: a}, err
	}
	return place.ParsePattern(w)
}

// Shares finds the shares that addresses mean.
func (d *Planner) Shares(where []string) (servers []estate.Server, shares []estate.Share, err error) {
	for _, w := range where {
		a, err := ShareAddress(w)
		if err != nil {
			return nil, nil, err
		}
		s, sh, err := d.T.FindShare(a)
		if err != nil {
			return nil, nil, err
		}
		servers, shares = append(servers, s), append(shares, sh)
	}
	return servers, shares, nil
}

// ShareAddress reads //SERVER/SHARE.
func ShareAddress(w string) (place.Address, error) {
	a, err := place.Parse(w)
	if err == nil && (a.Share == "" || a.Path != "") {
		err = &place.Error{Text: w, Why: "it is not a share: write //SERVER/SHARE"}
	}
	return a, err
}
