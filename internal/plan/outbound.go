package plan

import (
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/server"
)

// Outbound is what a plan has to write to one real server.
type Outbound struct {
	Server string  `json:"server"`
	Writes []Write `json:"writes"` // folders before what is in them
}

// Write is one descriptor that is to be set.
type Write struct {
	Where          string `json:"where"`
	Path           string `json:"-"` // the server's own; of a share's rules: its name
	Depth          int    `json:"-"` // layers of folders above; what is deeper comes later
	server.Writing `json:"-"`
}

// ModelAlone refuses what isn't done on a real server from here.
type ModelAlone struct {
	Server string `json:"server"`
	Why    string `json:"why"`
}

func (e *ModelAlone) Error() string {
	return fmt.Sprintf("%s on the real server %s, which isn't done from here: do it there and take it in with tarnwold scan %s, or change the estate alone with --model-only", e.Why, e.Server, e.Server)
}

// Outbound gives what a plan has to write to the real servers its places are
// on. What only says what is so there already is written nowhere.
func (d *Desk) Outbound(p *Plan) ([]Outbound, error) {
	if p.IsSo || !p.Changes() {
		return nil, nil
	}
	linked, local := map[int64]bool{}, map[int64]bool{}
	any := false
	for _, s := range d.t.Servers() {
		var l estate.Link
		l, linked[s.ID] = d.t.Link(s)
		local[s.ID] = l.Kind == LocalKind
		any = any || linked[s.ID]
	}
	if !any || p.work.forest == nil {
		return nil, d.t.Err()
	}
	if err := d.madeThere(p, linked); err != nil {
		return nil, err
	}
	by := map[string]*Outbound{}
	var names []string
	put := func(s estate.Server, w Write) {
		if by[s.Name] == nil {
			by[s.Name] = &Outbound{Server: s.Name}
			names = append(names, s.Name)
		}
		by[s.Name].Writes = append(by[s.Name].Writes, w)
	}
	for _, e := range p.work.shares {
		if !linked[e.server.ID] || e.before == nil || e.after == nil || e.before.Descriptor.Equal(e.after.Descriptor) {
			continue
		}
		put(e.server, Write{Where: e.after.Address(), Path: e.after.Name,
			Writing: server.Writing{Share: e.after.Name, OfShare: true, Before: e.before.Descriptor, To: e.after.Descriptor}})
	}
	f := p.work.forest
	shares := map[int64][]estate.Share{}
	for n := range f.Nodes {
		node := &f.Nodes[n]
		before, after := node.Before, node.After
		if !node.Changed() || before == nil || after == nil || before.Same(after) {
			continue
		}
		if err := f.Each(d.t, n, func(item int64) error {
			s, path, ok := d.t.Stands(item)
			if !ok || !linked[s.ID] {
				return nil
			}
			if shares[s.ID] == nil {
				shares[s.ID] = d.t.Shares(s)
			}
			where := estate.Place{Server: s, Path: path}.String()
			share, rest, ok := Way(shares[s.ID], path)
			if local[s.ID] {
				share, rest, ok = topOf(d.t.Tops(s), path)
			}
			if !ok {
				return &estate.Refused{Why: fmt.Sprintf("no share of %s leads to %s, so that it can't be changed there", s.Name, where), Do: "change the estate alone with --model-only"}
			}
			w := Write{Where: where, Path: path, Depth: strings.Count(path, "/"),
				Writing: server.Writing{Share: share, Path: rest, Before: before, To: after}}
			if w.Runs() {
				w.Since = p.since
			}
			put(s, w)
			return d.ctx.Err()
		}); err != nil {
			return nil, err
		}
	}
	slices.Sort(names)
	if len(names) > 0 && slices.ContainsFunc(p.work.accounts, func(e accountEdit) bool { return e.before == nil || e.after == nil }) {
		return nil, &ModelAlone{names[0], "groups come or go with it"}
	}
	var out []Outbound
	for _, name := range names {
		o := by[name]
		slices.SortStableFunc(o.Writes, func(a, b Write) int {
			if a.Depth != b.Depth {
				return a.Depth - b.Depth
			}
			return strings.Compare(a.Path, b.Path)
		})
		out = append(out, *o)
	}
	return out, d.t.Err()
}

// Way finds a share by which a path of a server is reached and changed, and
// what is left of the path within it: one that limits nobody before one whose
// rules do, then that of the nearest folder above.
func Way(shares []estate.Share, path string) (share, rest string, ok bool) {
	best, most := -1, -1
	for i := range shares {
		if !shares[i].Covers(path) {
			continue
		}
		n := len(shares[i].Folder)
		if free(&shares[i]) {
			n += 1 << 20
		}
		if n > most {
			best, most = i, n
		}
	}
	if best < 0 {
		return "", "", false
	}
	rest, _ = shares[best].Cut(path)
	return shares[best].Name, rest, true
}

// LocalKind is the kind of link of a server that is this machine itself.
const LocalKind = "local"

// topOf finds the tree of a machine's own that a path is in, and what is left of
// the path within it.
func topOf(tops []string, path string) (top, rest string, ok bool) {
	for _, x := range tops {
		if r, in := place.Cut(path, x); in && (!ok || len(x) > len(top)) {
			top, rest, ok = x, r, true
		}
	}
	return top, rest, ok
}

// free tells whether a share limits nobody.
func free(s *estate.Share) bool {
	rules := s.Descriptor.Rules.Entries
	return !s.ReadOnly && slices.ContainsFunc(rules, func(e rule.Entry) bool {
		return e.Kind == rule.Allow && e.Who == acc.Everyone && e.Rights.Map().Has(right.All)
	}) && !slices.ContainsFunc(rules, func(e rule.Entry) bool { return e.Kind.Refuses() })
}

// madeThere refuses to make, move or remove items and shares of a real server.
func (d *Desk) madeThere(p *Plan, linked map[int64]bool) error {
	w := &p.work
	for _, e := range w.shares {
		if linked[e.server.ID] && (e.before == nil || e.after == nil) {
			return &ModelAlone{e.server.Name, "shares come and go"}
		}
	}
	if len(w.made)+len(w.moved)+len(w.removed)+len(w.deletes) == 0 && !slices.ContainsFunc(w.puts, func(b putBack) bool { return b.table == "items" }) {
		return nil
	}
	for _, r := range w.roots {
		if linked[r.server.ID] {
			return &ModelAlone{r.server.Name, "files and folders are made, moved and removed"}
		}
	}
	return nil
}

// Finish makes the plan of a change whose writing was broken off: the estate
// stands as it stood then.
func (d *Desk) Finish(s *Saved, undoes int64) (*Plan, error) {
	p, err := d.rebuild(s)
	if err != nil {
		return nil, err
	}
	p.Change, p.Undoes = s.Summary, undoes
	return d.finish(p)
}

// Lay gives items of a server just these rules, nothing following below them.
func (d *Desk) Lay(server string, items []Found) (*Plan, error) {
	s, err := d.t.Server(server)
	if err != nil {
		return nil, err
	}
	p, _, err := d.Now(s, items)
	if err != nil {
		return nil, err
	}
	p.IsSo = false
	p.Change = fmt.Sprintf("rules laid on %s of %s", format.Count(int64(len(items)), "item"), s.Name)
	p.Nothing = "they have these rules already"
	return d.finish(p)
}
