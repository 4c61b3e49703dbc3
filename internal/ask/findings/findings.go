// Package findings looks at everything for what is probably wrong.
package findings

import (
	"cmp"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Finding is something that is probably wrong, found by looking at everything.
type Finding struct {
	Kind  string `json:"kind"`
	Where string `json:"where,omitempty"` // the first place, or what else it is about
	More  int64  `json:"more-places,omitempty"`
	Who   string `json:"account,omitempty"`
	What  string `json:"what,omitempty"`  // the entry as written, or what is to be told
	Other string `json:"other,omitempty"` // the account or entry that makes it needless
	// Items is how many items it touches, Users how many users.
	Items int64 `json:"items"`
	Users int   `json:"users"`
	// Commands mend it, as lists of words; none: there is no one command.
	Commands [][]string `json:"commands"`
	// Server is whose it is, and Keepers who decides there; none: nobody in particular.
	Server  string   `json:"server,omitempty"`
	Keepers []string `json:"keepers,omitempty"`
	// Tried is what they were seen to do; nil: nobody tried.
	Tried *Trial `json:"tried,omitempty"`

	Repair Repair `json:"-"`
}

// Trial is what commands did in an estate that was thrown away.
type Trial struct {
	Done  bool     `json:"done"`
	Why   string   `json:"why-not,omitempty"`
	Gains []string `json:"gain"` // who gains rights somewhere
	Loses []string `json:"lose"`
}

// Repair is what mends a finding, for a plan: exactly one of its parts is set,
// or none where a person has to choose.
type Repair struct {
	Gone    []rule.Entry     // own entries that go from Targets
	Twice   bool             // of each of Gone the first stays
	Order   bool             // Targets' entries are put in canonical order
	Renew   bool             // Targets take what is handed down now
	Targets []estate.Target  // items
	Share   *estate.Share    // its entries Gone go, or are cut to Rights
	Rights  right.Set        // what a share lets through at most
	Group   *account.Account // a group that goes, with its memberships and the entries that name it
	Level   string           // a level that goes
}

// Any tells whether there is something a plan can do.
func (m *Repair) Any() bool {
	return len(m.Targets) > 0 || m.Share != nil || m.Group != nil || m.Level != ""
}

// Key is what two findings of one thing have in common.
func (f *Finding) Key() string {
	return strings.Join([]string{f.Kind, f.Where, f.Who, f.What, f.Other}, "\x00")
}

// FindingKind is one kind of finding.
type FindingKind struct {
	Name string
	// estate: it is of the whole estate, and not asked for below a place.
	estate bool
	// waits: it goes by what everybody sees, which is looked at beside.
	waits bool
	look  func(*finding) error
}

// FindingKinds lists the kinds, those that matter most first.
func FindingKinds() (names []string) {
	for _, k := range findingKinds {
		names = append(names, k.Name)
	}
	return names
}

var findingKinds = [...]FindingKind{
	{"rules-absent", false, false, (*finding).absent},
	{"open-to-everyone", false, false, (*finding).open},
	{"nobody-in-charge", false, false, (*finding).uncharged},
	{"nobody-owns", false, false, (*finding).unowned},
	{"owner-left", false, false, (*finding).ownersLeft},
	{"group-unknown", false, false, (*finding).ungrouped},
	{"stranger-in-home", false, false, (*finding).strangers},
	{"home-open", false, false, (*finding).openHomes},
	{"home-of-nobody", false, false, (*finding).homeless},
	{"opens-further", false, true, (*finding).further},
	{"runs-as-others", false, false, (*finding).runsAs},
	{"runs-as-root", false, false, (*finding).asRoot},
	{"administrators-alone", false, true, (*finding).administrators},
	{"passes-by-privilege", true, false, (*finding).privileged},
	{"not-counted", false, false, (*finding).uncounted},
	{"otherwise-there", true, false, (*finding).otherwise},
	{"stale", false, false, (*finding).stale},
	{"out-of-order", false, false, (*finding).disorder},
	{"dead-identifier", false, false, (*finding).dead},
	{"mail-group", false, false, (*finding).mail},
	{"single-user", false, false, (*finding).single},
	{"idle-entry", false, false, (*finding).idle},
	{"idle-deny", false, false, (*finding).idleDenies},
	{"out-of-sight", false, true, (*finding).outOfSight},
	{"share-too-wide", false, false, (*finding).wideShares},
	{"share-too-narrow", false, false, (*finding).narrowShares},
	{"last-day-over", true, false, (*finding).over},
	{"account-ends", true, false, (*finding).ending},
	{"never-reviewed", true, false, (*finding).unreviewed},
	{"group-in-circle", true, false, (*finding).circles},
	{"empty-group", true, false, (*finding).empty},
	{"unused-group", true, false, (*finding).unused},
	{"twin-groups", true, false, (*finding).twins},
	{"unused-level", true, false, (*finding).levels},
}

// FindingsOptions narrow what is looked for.
type FindingsOptions struct {
	Where string
	Kinds []string               // none: all
	Today estate.Day             // for last days
	Kept  func(name string) bool // whether a group is spoken of beside the rules (keepers)
	Step  func(what string)      // is told how far it is; may be nil
}

// mostTargets is how many places of one finding a mend is worked out for at once.
const mostTargets = 200_000

// finding is one look at everything.
type finding struct {
	k       *ask.Asker
	g       *ask.Scope
	o       *FindingsOptions
	out     []Finding
	dir     *account.Directory
	toks    tokens
	ways    map[*ask.Route]*wayCrowd
	sights  []*sight // what everybody sees by each share, once looked is closed
	far     *reach   // what opens further, once looked is closed
	looked  <-chan struct{}
	opened  []opened                  // of each node
	home    map[int]account.ID        // homes, once asked for
	by      grouped[*rule.Descriptor] // nodes by their own descriptor, or what they list
	posix   map[*rule.Descriptor]*posix.Rules
	primary map[account.ID][]account.ID // users by their primary group, once asked for
	owns    []owning                    // ownEntries, once asked for
	named   map[account.ID]int64        // spoken, once asked for
	// directories that accounts are kept in, once asked for
	directories map[account.ID]string
	below       []int64             // how many items are at and below each node, once asked for
	full        map[account.ID]bool // populated, once asked for
}

// Findings looks for what is probably wrong.
func Findings(k *ask.Asker, o FindingsOptions) ([]Finding, error) {
	for _, name := range o.Kinds {
		if !slices.Contains(FindingKinds(), name) {
			return nil, &estate.NotFound{What: "kind of finding", Name: name, Near: estate.Nearest(name, FindingKinds())}
		}
	}
	x := &finding{k: k, o: &o, ways: map[*ask.Route]*wayCrowd{}, posix: map[*rule.Descriptor]*posix.Rules{}}
	people := k.DirectoryBeside()
	var err error
	if o.Where == "" {
		x.g, err = k.Everything()
	} else {
		var p estate.Place
		if p, err = k.Place(o.Where); err == nil {
			p.Share = nil
			x.g, err = k.LayOut(p)
		}
	}
	x.dir = people() // waited for in any case: it reads the estate
	x.toks.dir = x.dir
	if err != nil {
		return nil, err
	}
	for i := range x.g.F.Nodes {
		d := k.AsEntries(x.g.F.Nodes[i].Before)
		if r, ok := x.g.F.Nodes[i].Before.(*posix.Rules); ok {
			x.posix[d] = r
		}
		x.by.add(d, i)
	}
	if slices.ContainsFunc(findingKinds[:], func(kind FindingKind) bool { return kind.waits && x.wanted(kind.Name) }) {
		defer x.lookOut()()
	}
	found := make([][]Finding, len(findingKinds))
	for _, waits := range []bool{false, true} { // for who sees what, which takes longest
		for n, kind := range findingKinds {
			if kind.waits != waits || !x.wanted(kind.Name) || kind.estate && o.Where != "" {
				continue
			}
			if o.Step != nil {
				o.Step(kind.Name)
			}
			x.out = nil
			if err := kind.look(x); err != nil {
				return nil, err
			}
			for j := range x.out {
				f := &x.out[j]
				f.Kind = kind.Name
				if f.Commands == nil {
					f.Commands = [][]string{}
				}
			}
			slices.SortStableFunc(x.out, func(a, b Finding) int {
				return cmp.Or(cmp.Compare(b.Items, a.Items), ask.CmpText(a.Where+a.Who, b.Where+b.Who))
			})
			if found[n] = x.out; k.T.Context().Err() != nil {
				return nil, k.T.Context().Err()
			}
			if err := k.T.Err(); err != nil {
				return nil, err
			}
		}
	}
	out := slices.Concat(found...)
	if out == nil {
		out = []Finding{}
	}
	return out, nil
}

// wanted tells whether a kind is asked for.
func (x *finding) wanted(kind string) bool {
	return len(x.o.Kinds) == 0 || slices.Contains(x.o.Kinds, kind)
}

// grouped gathers nodes by what they have in common, in order.
type grouped[K comparable] struct {
	nodes map[K][]int
	order []K
}

func (g *grouped[K]) add(key K, nodes ...int) {
	if g.nodes == nil {
		g.nodes = map[K][]int{}
	}
	if g.nodes[key] == nil {
		g.order = append(g.order, key)
	}
	g.nodes[key] = append(g.nodes[key], nodes...)
}

func (x *finding) add(f Finding) { x.out = append(x.out, f) }

// mostTokens is how many tokens are remembered: groups come again and again, and of single
// users each is asked about once.
const mostTokens = 4096

// tokens are what accounts present, groups alike.
type tokens struct {
	dir   *account.Directory
	known map[account.ID]*account.Token
}

func (t *tokens) of(id account.ID) *account.Token {
	tok := t.known[id]
	if tok == nil {
		if len(t.known) >= mostTokens || t.known == nil {
			t.known = map[account.ID]*account.Token{}
		}
		tok = account.NewToken(t.dir, id, account.Traits{})
		t.known[id] = tok
	}
	return tok
}

// within tells whether everybody an account stands for is in another too.
func (x *finding) within(who, in account.ID) bool {
	if who == in || in == account.Everyone {
		return true
	}
	if _, special := account.SpecialName(in); special {
		return false
	}
	if _, known := x.dir.Account(who); !known {
		return false
	}
	// As far as each server follows groups in groups.
	for _, w := range x.local() {
		pop := x.crowd(w).pop
		for _, local := range []bool{true, false} {
			if !pop.SomeHolders(who, local).Within(pop.SomeHolders(in, local)) {
				return false
			}
		}
	}
	return x.toks.of(who).Has(in) // asked last: it costs most
}

// items counts the items of nodes.
func (x *finding) items(nodes []int) (n int64) {
	for _, i := range nodes {
		n += x.g.F.Nodes[i].Items
	}
	return n
}

// at gives the first place of nodes, and how many more there are.
func (x *finding) at(nodes []int) (string, int64) {
	for _, i := range nodes {
		for _, item := range x.g.F.Some(x.k.T, i, 1) {
			return x.k.T.Where(item), x.items(nodes) - 1
		}
	}
	return "", x.items(nodes)
}

// targets lists the items of nodes; nothing where they are too many to mend at
// once.
func (x *finding) targets(nodes []int) (out []estate.Target) {
	if x.items(nodes) > mostTargets {
		return nil
	}
	f := x.g.F
	for _, i := range nodes {
		for _, item := range f.Some(x.k.T, i, int(f.Nodes[i].Items)) {
			out = append(out, estate.Target{Item: item, Strand: f.Strand(i), Folder: f.Nodes[i].Folder})
		}
	}
	return out
}

// place is a finding about the items of some nodes.
func (x *finding) place(nodes []int) Finding {
	f := Finding{Items: x.items(nodes)}
	f.Where, f.More = x.at(nodes)
	return f
}

// folder tells whether the first of nodes are folders.
func (x *finding) folder(nodes []int) bool { return x.g.F.Nodes[nodes[0]].Folder }

// kinds parts nodes into folders and files.
func (x *finding) kinds(nodes []int) (out [][]int) {
	if !slices.ContainsFunc(nodes, func(i int) bool { return x.g.F.Nodes[i].Folder != x.g.F.Nodes[nodes[0]].Folder }) {
		return [][]int{nodes}
	}
	var files, folders []int
	for _, i := range nodes {
		if x.g.F.Nodes[i].Folder {
			folders = append(folders, i)
		} else {
			files = append(files, i)
		}
	}
	return [][]int{folders, files}
}

func plainly(words []string) []string {
	for _, w := range words {
		if strings.ContainsAny(w, `*?[]{}\`) {
			return append(words, "--plain")
		}
	}
	return words
}

// mended is the command that has the findings of a kind mended in a place.
func mended(kind, where string, more ...string) []string {
	w := []string{"tarnwold", "findings"}
	if where != "" {
		w = append(w, where)
	}
	return append(append(w, "--mend", kind), more...)
}

// accessToo makes mends that change somebody's access too: what brings entries into order, or up
// to date, may.
const accessToo = "--access-too"

// revoking is the command that takes an entry away: exact only where it is the
// only one of its account and kind there.
func (x *finding) revoking(where, who string, d *rule.Descriptor, e rule.Entry, share bool) []string {
	w := []string{"tarnwold", "revoke", who, where}
	same := 0
	for _, o := range d.Rules.Own() {
		if o.Who == e.Who {
			same++
		}
	}
	if same > 1 {
		w = append(w, "--entries", e.Kind.String())
		if !share {
			w = append(w, "--scope", e.Scope().String())
		}
	}
	if share {
		return append(w, "--share")
	}
	return plainly(w)
}

// shares lists the shares that come to what is looked at, each once.
func (x *finding) shares() (out []*ask.Route) {
	for _, w := range x.g.Ways {
		if w.Share != nil {
			out = append(out, w)
		}
	}
	return out
}

func (x *finding) known(id account.ID) bool { return x.k.Known(id) != "unknown" }

// strange gives those of some nodes whose rules mean nobody by an identifier: a number may
// be a machine's own account's, and nobody's on the next.
func (x *finding) strange(id account.ID, nodes []int) (out []int) {
	if x.known(id) {
		return nil
	}
	if _, _, number := id.POSIX(); !number || len(x.k.T.Machines()) == 0 {
		return nodes
	}
	for _, i := range nodes {
		s, _, ok := x.k.T.Stands(x.first([]int{i}))
		if own, _ := id.On(estate.ServerRealm(s)); ok {
			if _, ok := x.k.T.Account(own); ok {
				continue
			}
		}
		out = append(out, i)
	}
	return out
}
