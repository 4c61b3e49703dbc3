package plan

import (
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/server"
)

// Outbound is what a plan has to write to one real server, or to one directory.
type Outbound struct {
	Server    string  `json:"server,omitempty"`
	Directory string  `json:"directory,omitempty"`
	Writes    []Write `json:"writes"` // by phase; folders before what is in them
}

// Write is one descriptor that is to be set, or a membership that is to come or go.
type Write struct {
	Where          string `json:"where"`
	Path           string `json:"-"` // the server's own; of a share's rules: its name
	Depth          int    `json:"-"` // layers of folders above; what is deeper comes later
	server.Writing `json:"-"`
	// Member is a membership of a group that the server keeps itself; nil: it is none. In
	// tells whether it comes.
	Member *server.Member `json:"-"`
	In     bool           `json:"-"`
	// Entry is a membership of a group that a directory keeps; nil: it is none.
	Entry *DirectoryWrite `json:"-"`
	Phase Phase           `json:"-"`
}

// Membership tells whether a membership is written, and no rules.
func (w *Write) Membership() bool { return w.Member != nil || w.Entry != nil }

// Phase is when a write has its turn, on all servers and in all directories: so that
// at no moment in between anybody can do what they can neither before nor after. While
// rules are written, memberships that open anything haven't come yet, and those that
// would let anybody use what is opened are gone already.
type Phase int8

const (
	ClosingMembers Phase = iota - 1 // memberships that take from who is in them
	Rules
	OpeningMembers // and those that give
)

// membersDepth is the layer of memberships among writes of one phase that was put down
// by programs without phases: before anything of the folders.
const membersDepth = -1

// memberPhase tells when a membership has its turn: one that comes opens, and one that
// goes closes, but where entries do nothing but refuse the group, or those it is in.
func (d *Planner) memberPhase(p *Plan, group ID, comes bool) Phase {
	refused, given := d.namedAs(p, d.upFrom(group))
	if onlyRefused := refused && !given; comes != onlyRefused {
		return OpeningMembers
	}
	return ClosingMembers
}

// upFrom lists a group and all that it is in, at any depth.
func (d *Planner) upFrom(group ID) []ID {
	out := []ID{group}
	for i := 0; i < len(out); i++ {
		for _, g := range d.T.GroupsOf(out[i]) {
			if !slices.Contains(out, g) {
				out = append(out, g)
			}
		}
	}
	return out
}

// namedAs tells whether rules refuse one of some groups anything, before or after a plan,
// and whether they, or a server whose administrator it is or that it has privileges on,
// give one anything.
func (d *Planner) namedAs(p *Plan, groups []ID) (refused, given bool) {
	for _, id := range groups {
		given = given || len(d.T.AdministratorOf(id)) > 0
		if _, named, own := id.Realm(); own { // as rules and privileges name it
			groups = append(groups, named)
		}
	}
	given = given || slices.Contains(groups, acc.NewID(5, 32, 544))
	for _, s := range d.T.Servers() {
		given = given || slices.ContainsFunc(s.Traits.Held().List(), func(x verdict.Power) bool { return slices.Contains(groups, x.Who) })
	}
	look := func(a rule.Any) {
		switch x := a.(type) {
		case *rule.Descriptor:
			given = given || slices.Contains(groups, x.Owner)
			for _, e := range x.Rules.Entries {
				if slices.Contains(groups, e.Who) {
					refused = refused || e.Kind.Refuses()
					given = given || !e.Kind.Refuses()
				}
			}
		case *posix.Rules:
			given = given || slices.ContainsFunc(groups, x.Mentions)
		}
	}
	d.T.Naming(groups, func(_ int64, a rule.Any) { look(a) })
	if f := p.Work.Partition; f != nil {
		for n := range f.Nodes {
			if f.Nodes[n].Changed() {
				look(f.Nodes[n].After)
			}
		}
	}
	for _, e := range p.Work.Shares {
		if e.After != nil {
			look(e.After.Descriptor)
		}
	}
	return refused, given
}

// directed gives the memberships that a plan makes come and go in directories.
func (d *Planner) directed(p *Plan) (out []Outbound) {
	known := map[ID]map[bool]Phase{}
	for _, w := range p.Directed {
		at := slices.IndexFunc(out, func(o Outbound) bool { return o.Directory == w.Directory })
		if at < 0 {
			at = len(out)
			out = append(out, Outbound{Directory: w.Directory})
		}
		of := known[w.group]
		if of == nil {
			of = map[bool]Phase{}
			known[w.group] = of
		}
		phase, ok := of[w.Goes]
		if !ok {
			phase = d.memberPhase(p, w.group, !w.Goes)
			of[w.Goes] = phase
		}
		out[at].Writes = append(out[at].Writes, Write{Where: fmt.Sprintf("%s in %s (directory %s)", w.Name, d.T.Name(w.group), w.Directory), Entry: &w, In: !w.Goes, Phase: phase})
	}
	for i := range out {
		inPhases(out[i].Writes)
	}
	return out
}

// inPhases puts writes into the order of their phases, and leaves it as it is within each.
func inPhases(list []Write) {
	slices.SortStableFunc(list, func(a, b Write) int { return int(a.Phase) - int(b.Phase) })
}

// Memberships counts those of what is written that are memberships.
func (o *Outbound) Memberships() (n int) {
	for i := range o.Writes {
		if o.Writes[i].Membership() {
			n++
		}
	}
	return n
}

// ModelAlone refuses what isn't done on a real server from here.
type ModelAlone struct {
	Server string `json:"server"`
	Why    string `json:"why"`
}

func (e *ModelAlone) Error() string {
	return fmt.Sprintf("%s on the real server %s, which isn't done from here: do it there and take it in with tarnwold scan %s, or change the estate alone with --model-only", e.Why, e.Server, e.Server)
}

// Outbound gives what a plan has to write to the real servers its places are on, and to
// the directories that have its groups. What only says what is so there already is
// written nowhere.
func (d *Planner) Outbound(p *Plan) ([]Outbound, error) {
	if p.IsSo || !p.Changes() {
		return nil, nil
	}
	out, err := d.toServers(p)
	if err != nil || len(p.Directed) == 0 {
		return out, err
	}
	return append(d.directed(p), out...), d.T.Err()
}

// toServers gives what a plan has to write to real servers.
func (d *Planner) toServers(p *Plan) ([]Outbound, error) {
	linked, local := map[int64]bool{}, map[int64]bool{}
	for id, l := range d.T.Links() {
		linked[id], local[id] = true, l.Kind == estate.LocalLink
	}
	if len(linked) == 0 || p.Work.Partition == nil {
		return nil, d.T.Err()
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
	if err := d.membersThere(p, put); err != nil {
		return nil, err
	}
	if err := d.madeThere(p, linked); err != nil {
		return nil, err
	}
	for _, e := range p.Work.Shares {
		if !linked[e.Server.ID] || e.Before == nil || e.After == nil || e.Before.Descriptor.Equal(e.After.Descriptor) {
			continue
		}
		if err := d.madeUp(e.Server, e.Before.Descriptor, e.After.Descriptor); err != nil {
			return nil, err
		}
		put(e.Server, Write{Where: e.After.Address(), Path: e.After.Name,
			Writing: server.Writing{Share: e.After.Name, OfShare: true, Before: e.Before.Descriptor, To: e.After.Descriptor}})
	}
	f := p.Work.Partition
	shares, writers := map[int64][]estate.Share{}, map[int64]func(*estate.Share) right.Set{}
	for n := range f.Nodes {
		node := &f.Nodes[n]
		before, after := node.Before, node.After
		if !node.Changed() || before == nil || after == nil || before.Same(after) {
			continue
		}
		checked := false
		if err := f.Each(d.T, n, func(item int64) error {
			s, path, ok := d.T.Stands(item)
			if !ok || !linked[s.ID] {
				return nil
			}
			if shares[s.ID] == nil {
				shares[s.ID] = d.T.Shares(s)
				writers[s.ID] = d.writer(s)
			}
			if !checked { // what is of one node has the same rules
				if checked = true; !local[s.ID] {
					if err := d.madeUp(s, before, after); err != nil {
						return err
					}
				}
			}
			where := estate.Place{Server: s, Path: path}.String()
			share, rest, ok := Way(shares[s.ID], path, writers[s.ID])
			if local[s.ID] {
				share, rest, ok = topOf(d.T.Tops(s), path)
			}
			if !ok {
				return &estate.Refused{Why: fmt.Sprintf("no share of %s leads to %s, so that it can't be changed there", s.Name, where), Do: "change the estate alone with --model-only"}
			}
			w := Write{Where: where, Path: path, Depth: strings.Count(path, "/"),
				Writing: server.Writing{Share: share, Path: rest, Before: before, To: after}}
			if w.Runs() {
				w.Since = p.Since
			}
			put(s, w)
			return d.Ctx.Err()
		}); err != nil {
			return nil, err
		}
	}
	slices.Sort(names)
	if len(names) > 0 && slices.ContainsFunc(p.Work.Accounts, func(e edit.Account) bool { return e.Before == nil || e.After == nil }) {
		return nil, &ModelAlone{names[0], "accounts come or go with it"}
	}
	var out []Outbound
	for _, name := range names {
		o := by[name]
		slices.SortStableFunc(o.Writes, func(a, b Write) int {
			if a.Phase != b.Phase {
				return int(a.Phase) - int(b.Phase)
			}
			if a.Depth != b.Depth {
				return a.Depth - b.Depth
			}
			return strings.Compare(a.Path, b.Path)
		})
		out = append(out, *o)
	}
	return out, d.T.Err()
}

// madeUp refuses to write entries for accounts that the estate alone knows: the server
// would keep an identifier that is nobody's.
func (d *Planner) madeUp(s estate.Server, was, is rule.Any) error {
	before, ok := was.(*rule.Descriptor)
	after, also := is.(*rule.Descriptor)
	if !ok || !also {
		return nil
	}
	id, ok := estate.MadeUpIn(before, after)
	if !ok {
		return nil
	}
	return &estate.Refused{Why: fmt.Sprintf("%s exists in the estate alone, and the real server %s would keep an identifier that is nobody's", d.T.Name(id), s.Name),
		Do: fmt.Sprintf("make the account there and take it in with tarnwold scan %s, or change the estate alone with --model-only", s.Name)}
}

// Way finds a share by which a path of a server is reached and changed, and
// what is left of the path within it: one that lets who writes change rules and owners
// before one that doesn't, as far as that is known, one that limits nobody before one whose
// rules do, then that of the nearest folder above.
func Way(shares []estate.Share, path string, lets func(*estate.Share) right.Set) (share, rest string, ok bool) {
	best, most := -1, -1
	for i := range shares {
		if !shares[i].Covers(path) {
			continue
		}
		n := len(shares[i].Folder)
		var may right.Set
		if lets != nil {
			may = lets(&shares[i])
		}
		for k, yes := range []bool{free(&shares[i]), may.Has(right.WriteOwner), may.Has(right.WriteACL)} {
			if yes {
				n += 1 << (20 + k)
			}
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

// writer tells what each share of a server lets through whom it is written to as; nil:
// that is nobody the estate knows.
func (d *Planner) writer(s estate.Server) func(*estate.Share) right.Set {
	l, ok := d.T.Link(s)
	if !ok {
		return nil
	}
	word := l.SignsOnAs()
	a, err := d.T.Named(word, acc.User)
	if _, name, found := strings.Cut(word, `\`); err != nil && found {
		a, err = d.T.Named(name, acc.User)
	}
	if err != nil {
		return nil
	}
	known := map[int64]right.Set{} // it is asked for every item
	return func(sh *estate.Share) right.Set {
		may, ok := known[sh.ID]
		if !ok {
			may = d.K.Lets(a.ID, &s, sh)
			known[sh.ID] = may
		}
		return may
	}
}

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
func (d *Planner) madeThere(p *Plan, linked map[int64]bool) error {
	w := &p.Work
	for _, e := range w.Shares {
		if linked[e.Server.ID] && (e.Before == nil || e.After == nil) {
			return &ModelAlone{e.Server.Name, "shares come and go"}
		}
	}
	if len(w.Made)+len(w.Moved)+len(w.Removed) == 0 && !w.TakesOut() && !w.PutsBack("items") {
		return nil
	}
	for _, r := range w.Roots {
		if linked[r.Server.ID] {
			return &ModelAlone{r.Server.Name, "files and folders are made, moved and removed"}
		}
	}
	return nil
}
