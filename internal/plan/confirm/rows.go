package confirm

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"path"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/keeper"
)

// Row is one thing that somebody has, and that is confirmed or taken away: an allow entry
// that is set on a place or a share, or a membership.
type Row struct {
	Key   string `json:"row"`  // 16 hexadecimal digits; another where it says something else
	Kind  string `json:"kind"` // entry, share, member
	Where string `json:"where"`
	Who   string `json:"who"`
	What  string `json:"what"`
	Until string `json:"until,omitempty"`
	// People is how many users it is for, one by one or by groups; -1: whoever can sign on;
	// -2: it isn't known, as of who makes something.
	People int `json:"people"`

	key    uint64
	item   int64
	share  *estate.Share
	server *estate.Server
	group  plan.ID
	who    plan.ID
	entry  rule.Entry
	posix  bool
	parts  []int
}

// Rows of a review.
const (
	OfEntry  = "entry"
	OfShare  = "share"
	OfMember = "member"
)

// walk goes through all that is reviewed.
type walk struct {
	d      *plan.Planner
	k      *keeper.Keeps
	brief  bool                  // keys and parts alone
	only   func(key uint64) bool // nil: all
	people map[plan.ID]int
	dir    *acc.Directory
	lang   rule.Language
	at     map[string]int // parts by who keeps
	parts  []Part
	dated  map[int64]bool // items with last days
	by     string         // whom all of it goes to; "": to its keepers
	byName string
}

func newWalk(d *plan.Planner, by acc.Account, brief bool) (*walk, error) {
	k, err := keeper.Of(d)
	if err != nil {
		return nil, err
	}
	w := &walk{d: d, k: k, brief: brief, people: map[plan.ID]int{}, lang: ask.Language(d.T), at: map[string]int{}, dated: d.T.WithDates()}
	if !by.ID.IsZero() {
		w.by, w.byName = by.ID.String(), by.Name
	}
	return w, nil
}

// part finds or makes the part of whoever keeps something.
func (w *walk) part(who, name string) int {
	i, ok := w.at[who]
	if !ok {
		i = len(w.parts)
		w.at[who] = i
		w.parts = append(w.parts, Part{Who: who, Name: name})
	}
	return i
}

func (w *walk) partsOf(keepers []keeper.Keeper) (out []int) {
	if w.by != "" {
		return []int{w.part(w.by, w.byName)}
	}
	for i := range keepers {
		if p := w.part(keepers[i].Who, keepers[i].Name); !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	if out == nil {
		out = []int{w.part("", "")}
	}
	return out
}

// scopes finds what a review is of: places, and groups by their patterns; none: all that is
// kept.
func (w *walk) scopes(of []string) (places []estate.Place, groups []string, err error) {
	if len(of) == 0 {
		seen := map[string]bool{}
		for _, o := range w.k.All {
			if seen[o.Of] {
				continue
			}
			seen[o.Of] = true
			if pattern, ok := o.Group(); ok {
				groups = append(groups, pattern)
			} else if p, err := w.d.T.FindText(o.Of); err == nil { // or it is there no more
				places = append(places, p)
			}
		}
		return topmost(places), groups, w.d.T.Err()
	}
	for _, x := range of {
		if pattern, ok := strings.CutPrefix(x, "group:"); ok {
			groups = append(groups, estate.Key(pattern))
			continue
		}
		p, err := w.d.K.Place(x)
		if err != nil {
			return nil, nil, err
		}
		places = append(places, p)
	}
	return topmost(places), groups, nil
}

// topmost leaves out what is below another.
func topmost(list []estate.Place) (out []estate.Place) {
	for i, p := range list {
		covered := false
		for j, o := range list {
			same := o.Server.ID == p.Server.ID && estate.Key(o.Path) == estate.Key(p.Path)
			if i != j && o.Server.ID == p.Server.ID && place.Under(estate.Key(p.Path), estate.Key(o.Path)) && (!same || j < i) {
				covered = true
				break
			}
		}
		if !covered {
			out = append(out, p)
		}
	}
	return out
}

// each calls fn with every row of what a review is of. What it is given is good until it
// returns.
func (w *walk) each(of []string, fn func(*Row) error) error {
	places, groups, err := w.scopes(of)
	if err != nil {
		return err
	}
	for _, p := range places {
		if err := w.place(p, fn); err != nil {
			return err
		}
	}
	if len(groups) > 0 {
		return w.groups(groups, fn)
	}
	return w.d.T.Err()
}

// place is at and below a place, and the shares that begin there.
func (w *walk) place(p estate.Place, fn func(*Row) error) error {
	t := w.d.T
	for _, sh := range t.Shares(p.Server) {
		if !place.Under(estate.Key(sh.Folder), estate.Key(p.Path)) || sh.Descriptor == nil {
			continue
		}
		r := Row{Kind: OfShare, Where: sh.Address(), share: &sh, server: &p.Server, parts: w.partsOf(w.k.At(place.Address{Server: p.Server.Name, Path: sh.Folder}))}
		dated := t.Dated(estate.Bearer{Share: sh.ID}, sh.Descriptor)
		for _, e := range sh.Descriptor.Rules.Entries {
			if e.Kind != rule.Allow {
				continue
			}
			if err := w.entry(&r, e, true, string(dated[e]), sh.ID, fn); err != nil {
				return err
			}
		}
	}
	f, err := t.PartitionAt(p)
	if err != nil {
		return err
	}
	var nodes []int
	for i := range f.Nodes {
		if own, _ := w.set(f.Nodes[i].Before, f.Over(i, false)); len(own) > 0 {
			nodes = append(nodes, i)
		}
	}
	return f.EachOf(t, nodes, func(node int, item int64) error {
		n := &f.Nodes[node]
		own, list := w.set(n.Before, f.Over(node, false))
		s, path, ok := t.Stands(item)
		if !ok {
			return nil
		}
		at := place.Address{Server: s.Name, Path: path}
		r := Row{Kind: OfEntry, item: item, posix: list, parts: w.partsOf(w.k.At(at))}
		if !w.brief {
			r.Where = at.String()
		}
		var dated estate.Dated
		if w.dated[item] {
			dated = t.Dated(estate.Bearer{Item: item}, n.Before)
		}
		for _, e := range own {
			if err := w.entry(&r, e, n.Folder, string(dated[e]), item, fn); err != nil {
				return err
			}
		}
		return nil
	})
}

// set gives the allow entries that are set on an item; of a POSIX tree those of its list
// that name somebody, where they aren't what the folder's default list gives.
func (w *walk) set(rules, above rule.Any) (own []rule.Entry, list bool) {
	switch x := rules.(type) {
	case *rule.Descriptor:
		for _, e := range x.Rules.Own() {
			if e.Kind == rule.Allow {
				own = append(own, e)
			}
		}
	case *posix.Rules:
		handed := map[posix.Entry]bool{}
		if up, ok := above.(*posix.Rules); ok {
			for _, e := range up.Default {
				handed[e] = true
			}
		}
		var names []plan.ID
		for _, e := range x.Access {
			if e.Who == x.Owner || e.Who == x.Group { // who owns it has what the mode says
				continue
			}
			if (e.Tag == posix.User || e.Tag == posix.Group) && !handed[e] {
				names = append(names, e.Who, w.d.T.AccountOf(e.Who))
			}
		}
		for _, e := range w.d.K.AsEntries(x).Rules.Entries {
			if e.Kind == rule.Allow && slices.Contains(names, e.Who) {
				own = append(own, e)
			}
		}
		return own, true
	}
	return own, false
}

// entry tells of one entry of a place or a share.
func (w *walk) entry(r *Row, e rule.Entry, folder bool, until string, of int64, fn func(*Row) error) error {
	r.entry, r.who, r.Until = e, e.Who, until
	r.key = keyOf(r.Kind, fmt.Sprintf("%d %s %d %d %d %s %s", of, e.Who, e.Kind, e.Rights, e.Flags, e.Extra.Tail, until))
	if w.only != nil && !w.only(r.key) {
		return nil
	}
	if !w.brief {
		r.Key = fmt.Sprintf("%016x", r.key)
		r.Who, r.What, r.People = w.d.T.Name(e.Who), w.lang.Write(e, folder), w.users(e.Who)
		r.What = strings.Replace(r.What, " "+r.Who+" ", " ", 1)
	}
	return fn(r)
}

// groups is who is in the groups that patterns name.
func (w *walk) groups(patterns []string, fn func(*Row) error) error {
	t := w.d.T
	for _, g := range t.Accounts(acc.Group) {
		if !fits(patterns, estate.Key(g.Name)) {
			continue
		}
		r := Row{Kind: OfMember, Where: "group " + t.Name(g.ID), What: "member", group: g.ID, parts: w.partsOf(w.k.Group(g.Name))}
		for _, m := range t.MembersOf(g.ID) {
			is, _ := t.Member(g.ID, m)
			r.who, r.Until = m, string(is.Until)
			r.key = keyOf(OfMember, fmt.Sprintf("%s %s %s", g.ID, m, is.Until))
			if w.only != nil && !w.only(r.key) {
				continue
			}
			if !w.brief {
				r.Key = fmt.Sprintf("%016x", r.key)
				r.Who, r.People = t.Name(m), w.users(m)
			}
			if err := fn(&r); err != nil {
				return err
			}
		}
		if err := w.d.Ctx.Err(); err != nil {
			return err
		}
	}
	return t.Err()
}

// fits tells whether a name is meant by one of some patterns.
func fits(patterns []string, key string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, _ := path.Match(p, key)
		return ok || p == key
	})
}

// keyOf names a row by all that it says.
func keyOf(kind, text string) uint64 {
	sum := sha256.Sum256([]byte(kind + " " + text))
	return binary.BigEndian.Uint64(sum[:8])
}

// users is how many users an account is.
func (w *walk) users(id plan.ID) int {
	if n, ok := w.people[id]; ok {
		return n
	}
	if w.dir == nil {
		w.dir = w.k.Dir()
	}
	n := 0
	a, ok := w.d.T.Account(w.d.T.AccountOf(id))
	switch {
	case ok && a.Kind == acc.User:
		n = 1
	case ok:
		for _, m := range w.dir.MembersBelow(a.ID) {
			if x, ok := w.dir.Account(m.ID); ok && x.Kind == acc.User {
				n++
			}
		}
	case id == acc.Everyone || id == acc.Authenticated:
		n = -1
	default:
		n = -2
	}
	w.people[id] = n
	return n
}
