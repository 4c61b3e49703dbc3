// Package plan works out what a command would do over the whole estate: what
// it edits, what follows below, who gains and loses by it, what the guards say.
// Every change of anybody's access is a Plan; there is no second way in.
//
// A plan is worked out by reading alone: it takes no write lock and leaves no
// trace until it is kept, whole or not at all (Plan.Keep, within a change).
package plan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tarnwold/core/change"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// Desk is where plans are worked out: one transaction that reads, and who acts.
type Desk struct {
	t     *estate.Tx
	k     *ask.Asker
	ctx   context.Context
	Actor string
	Today estate.Day
	// Step is told what long work is doing; nil: nobody listens.
	Step    func(what string)
	mayLose *int // in hundredths; nil: as usual
}

// New makes a desk.
func New(t *estate.Tx, actor string) *Desk {
	return &Desk{t: t, k: ask.New(t), ctx: t.Context(), Actor: actor, Today: estate.Today()}
}

// On is a desk on what an asker reads.
func On(k *ask.Asker, actor string) *Desk { return New(k.Tx(), actor) }

func (d *Desk) step(what string) {
	if d.Step != nil {
		d.Step(what)
	}
}

// Plan is a proposal worked out and not kept.
type Plan struct {
	Change  string `json:"change"` // what it does, as the journal will have it
	Actor   string `json:"by"`
	Nothing string `json:"nothing,omitempty"` // why it changes nothing, where it does
	Edits   []Edit `json:"edits"`             // what the command itself alters
	// Directed are memberships that come and go in directories too.
	Directed []DirectoryWrite `json:"to-directories,omitempty"`
	Untold   int              `json:"edits-untold,omitempty"` // accounts and memberships beyond those it tells of one by one
	// Handed is how many items below follow.
	Handed int64   `json:"handed-down-to"`
	Impact []Shift `json:"impact"`
	// NewItems are what files and folders made from then on get otherwise.
	NewItems []NewShift `json:"new-items,omitempty"`
	// NewUnasked is of how many folders more it wasn't asked.
	NewUnasked int64     `json:"new-items-not-asked,omitempty"`
	Unmoved    []Unmoved `json:"no-change-for"`
	Warnings   []Warning `json:"warnings"`
	Advice     []Advice  `json:"advice"`
	// Asks: it can change somebody's access, so that it is kept only on a yes.
	Asks bool  `json:"-"`
	Head int64 `json:"-"` // the journal's last change it was worked out on
	// Undoes is the change it takes back; 0: none. Over: with force.
	Undoes int64    `json:"undoes,omitempty"`
	Over   []string `json:"-"` // guards that making the plan itself overrode
	// IsSo: a real server has it so already; guards tell of it, and stop nothing.
	IsSo bool `json:"is-so-on-the-server,omitempty"`
	// since is when what it puts back stood last, or was written down; zero: it
	// is a new wish.
	since time.Time
	// ends: it takes away what was to end, as whoever set it said; keepers have
	// no say in that.
	ends bool
	// moves: somebody's rights change, be it by some that open nothing.
	moves bool
	// keepers are what keepers of places have against it.
	keepers []Warning

	work work
}

// Edit is what happens to one thing.
type Edit struct {
	// Kind: item, share, membership, account, administrator, server, level, tree.
	Kind  string `json:"kind"`
	Where string `json:"where"`
	Items int64  `json:"items,omitempty"` // how many items alike
	Lines []Line `json:"lines"`
	Below bool   `json:"below,omitempty"` // it isn't named itself, but mended below one that is
}

// Line is one thing that comes, goes, changes or moves.
type Line struct {
	Sign      string `json:"sign"`           // comes, goes, changes, moves
	What      string `json:"what"`           // entry, audit, owner, seal, order, last-day, membership, account, purpose, primary-group, share, …
	Text      string `json:"text,omitempty"` // the entry as written, the name, the day
	FromAbove bool   `json:"from-above,omitempty"`
}

// work is what is kept: data, so that it can be saved, and counted.
type work struct {
	forest  *estate.Forest
	roots   []root
	named   []int // nodes the command edits, in order
	isNamed map[int]bool
	renews  bool // what is mended below is told of too
	// everywhere: people, administrators or traits change too, so that the
	// forest is of everything there is.
	everywhere bool
	dates      []dateEdit
	shares     []shareEdit
	members    []memberEdit
	accounts   []accountEdit
	admins     []adminEdit
	servers    []serverEdit
	made       []madeItem
	moved      []movedItem
	removed    []int64
	puts       []putBack
	levels     []levelEdit
	addedAt    map[string]int // folders that come: server and path → node
	deletes    []deletion
	goes       []estate.Server // that go once all that hangs from them is gone
	links      []linkEdit
	papers     []paperEdit
	// fromDirectory: it is what a directory has, and not to be changed there.
	fromDirectory bool
	read          *Reading // how far a directory is read with that; nil: none is
	told          *Telling // what files of people told; nil: it is no such plan
}

// Read is how far a directory is read once the plan is kept; where it changes
// nothing, that is to be remembered all the same.
func (p *Plan) Read() *Reading { return p.work.read }

// Told is what files of people told, where it is such a plan.
func (p *Plan) Told() *Telling { return p.work.told }

// people tells whether memberships, administrators or accounts change.
func (w *work) people() bool {
	return len(w.members)+len(w.admins)+len(w.accounts)+len(w.formers()) > 0
}

// name marks a node as one the command edits.
func (w *work) name(n int) {
	if !w.isNamed[n] {
		w.isNamed[n] = true
		w.named = append(w.named, n)
	}
}

// root is the topmost node of what a plan touches, and where it is on each
// side; "" where it isn't there.
type root struct {
	node   int
	server estate.Server
	path   [2]string
	// chain: Above of the forest's node is the same on both sides unless Then says otherwise.
}

type dateEdit struct {
	of     estate.Bearer
	before estate.Dated
	after  estate.Dated
	folder bool
	node   int
}

type shareEdit struct {
	server        estate.Server
	before, after *estate.Share // nil: isn't there
}

type memberEdit struct {
	group, member *account
	was, is       *estate.Membership // nil: no member
}

type accountEdit struct {
	row           int64 // of one that is put back; 0: a new one
	before, after *account
}

type adminEdit struct {
	server estate.Server
	who    account
	on     bool
}

type serverEdit struct {
	row           int64
	before, after *estate.Server
	link          *estate.Link // of a new one: how the real server is reached
}

type linkEdit struct {
	server estate.Server
	link   *estate.Link // nil: a model alone
}

type madeItem struct {
	in     estate.Place // the folder; used where inMade < 0
	inMade int          // the place in made of the folder, where that is new too
	name   string
	folder bool
	d      rule.Any
	facts  format.Facts
}

type movedItem struct {
	item, folder int64
	name         string
}

// putBack is a row that undoing puts back under its old number.
type putBack struct {
	table  string
	id     int64
	values []any
}

type deletion struct {
	table       string
	first, last int64
}

type levelEdit struct {
	level right.Level
	add   bool
}

// Changes tells whether the plan alters anything.
func (p *Plan) Changes() bool {
	if len(p.Edits) > 0 {
		return true
	}
	if p.work.forest == nil {
		return false
	}
	nodes, _ := p.work.forest.Changed()
	return nodes > 0
}

// Keep stores what the plan alters, and gives the summary for the journal. It
// runs within a change whose Meta.Head is the plan's.
func (p *Plan) Keep(t *estate.Tx) (string, error) {
	w := &p.work
	for i := range w.servers {
		e := &w.servers[i]
		switch {
		case e.before == nil && e.row == 0:
			*e.after = t.AddServer(e.after.Name, e.after.Traits)
			if e.link != nil {
				t.SetLink(*e.after, *e.link)
			}
		case e.after == nil:
			t.ForgetScans(*e.before)
			t.Delete("servers", e.before.ID)
		case e.before != nil:
			t.SetTraits(*e.before, e.after.Traits)
		}
	}
	for _, e := range w.links {
		t.Relink(e.server, e.link)
	}
	w.parkNames(t)
	for _, b := range w.puts {
		t.Put(b.table, b.id, b.values)
	}
	w.keepPeople(t)
	for _, e := range w.admins {
		s := e.server
		if found, ok := t.FindServer(s.Name); ok {
			s = found
		}
		t.SetAdministrator(s, e.who.ID, e.on)
	}
	w.removePeople(t)
	if w.forest != nil {
		t.Keep(w.forest)
	}
	ids := make([]int64, len(w.made))
	for i, m := range w.made {
		if m.inMade >= 0 {
			ids[i] = t.MakeIn(ids[m.inMade], m.name, m.folder, m.d)
		} else {
			ids[i] = t.Make(m.in, m.name, m.folder, m.d)
		}
		if m.facts != (format.Facts{}) {
			t.SetFacts(ids[i], m.facts)
		}
	}
	for _, m := range w.moved {
		t.Move(m.item, m.folder, m.name)
	}
	if len(w.removed) > 0 {
		t.Remove(w.removed)
	}
	for _, x := range w.deletes {
		t.DeleteRange(x.table, x.first, x.last)
	}
	for _, e := range w.shares {
		switch {
		case e.before == nil:
			s := e.server
			if found, ok := t.FindServer(s.Name); ok {
				s = found
			}
			if e.after.ID == 0 {
				t.AddShare(s, *e.after)
			}
			if at, err := t.At(s, e.after.Folder); err == nil {
				t.Alone(at.Item) // routes end there
			}
		case e.after == nil:
			t.RemoveShare(e.before.ID)
		default:
			t.SetShare(e.before.ID, e.after.Descriptor)
			if e.before.ReadOnly != e.after.ReadOnly {
				t.SetSwitch(e.before.ID, e.after.ReadOnly)
			}
			if !e.before.Admission.Same(e.after.Admission) {
				t.SetAdmission(e.before.ID, e.after.Admission)
			}
		}
	}
	if len(w.puts)+len(w.moved)+len(w.made) > 0 { // what came may be what a share stands over
		for _, s := range t.Servers() {
			for _, sh := range t.Shares(s) {
				if at, err := t.At(s, sh.Folder); err == nil {
					t.Alone(at.Item)
				}
			}
		}
	}
	for _, s := range w.goes {
		t.ForgetScans(s)
		t.Delete("servers", s.ID)
	}
	for _, e := range w.dates {
		t.SetDated(e.of, e.after)
	}
	w.keepPapers(t)
	if w.read != nil {
		if err := w.read.Remember(t); err != nil {
			return "", err
		}
	}
	if w.told != nil {
		told := *w.told
		told.Head = p.Head + 1 // this change
		if err := told.Remember(t); err != nil {
			return "", err
		}
	}
	for _, e := range w.levels {
		if e.add {
			if err := t.AddLevel(e.level); err != nil {
				return "", err
			}
		} else if err := t.RemoveLevel(e.level.Name); err != nil {
			return "", err
		}
	}
	return p.Change, t.Err()
}

// Meta gives what the journal is told of the plan.
func (p *Plan) Meta(command string) estate.Meta {
	m := estate.Meta{Actor: p.Actor, Command: command, Head: p.Head, Undoes: p.Undoes, Forced: slices.Clone(p.Over),
		Large: len(p.work.accounts)+len(p.work.members)+len(p.work.papers) >= large}
	switch {
	case p.work.read != nil:
		m.Origin = originDirectory + p.work.read.Directory
	case p.work.fromDirectory:
		m.Origin = originPeople
	}
	for _, w := range p.Warnings {
		if p.Stops(w) && !slices.Contains(m.Forced, w.Guard) {
			m.Forced = append(m.Forced, w.Guard)
		}
	}
	return m
}

// Stops tells whether a guard's warning stops the plan, unless it is forced. Of
// what is so already nothing is to be stopped, but that a server is forgotten
// whose places somebody keeps, and that much goes at once, which is sooner a
// mistake where it is kept.
func (p *Plan) Stops(w Warning) bool {
	return !p.IsSo || w.Guard == "loses-much" || len(p.work.goes) > 0 && w.Guard == "kept"
}

// large is how many accounts, memberships and papers make a change a large one.
const large = 20_000

// begin makes a plan of a desk.
func (d *Desk) begin(format string, args ...any) *Plan {
	return &Plan{Change: fmt.Sprintf(format, args...), Actor: d.Actor, Head: d.t.Head(), Asks: true,
		Edits: []Edit{}, Impact: []Shift{}, Unmoved: []Unmoved{}, Warnings: []Warning{}, Advice: []Advice{},
		work: work{isNamed: map[int]bool{}, addedAt: map[string]int{}}}
}

// sec makes an edit of rules kept as security descriptors; those of another
// kind are refused.
func sec(fn func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error)) change.Edit {
	return func(d, parent rule.Any, folder bool) (rule.Any, error) {
		own, ok := d.(*rule.Descriptor)
		if !ok {
			return nil, &estate.Refused{Why: "rules of this kind can't be changed that way"}
		}
		up, _ := parent.(*rule.Descriptor)
		after, err := fn(own, up, folder)
		if err != nil {
			return nil, err
		}
		return after, nil
	}
}

// desc gives rules that are a security descriptor; nil for those of another kind.
func desc(a rule.Any) *rule.Descriptor {
	d, _ := a.(*rule.Descriptor)
	return d
}

// itemEdit is what a command does to items.
type itemEdit struct {
	// make edits a descriptor; dated are the last days of its own entries.
	make func(d, parent *rule.Descriptor, folder bool, dated estate.Dated) (*rule.Descriptor, error)
	// posix is make for rules of POSIX trees; nil: it can't be done there.
	posix func(r, parent *posix.Rules, dated estate.Dated) (*posix.Rules, error)
	// dates gives the last days afterwards; nil: those of entries that are
	// still there.
	dates func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated
	// hands: what the default list of a folder gives more or less is handed to
	// what is there.
	hands bool
	// each gives what is below an item what the item is given; nil: nothing.
	each func(r *posix.Rules) *posix.Rules
	// handsBack: a default list that goes takes what it gave too.
	handsBack bool
	// posixDates is dates for rules of POSIX trees, by what they list.
	posixDates func(before, after *rule.Descriptor, dated estate.Dated) estate.Dated
}

// on gives the edit as it is on rules of any kind.
func (e *itemEdit) on(dated estate.Dated) change.Edit {
	sec := sec(func(x, up *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
		return e.make(x, up, folder, dated)
	})
	return func(x, parent rule.Any, folder bool) (rule.Any, error) {
		r, ok := x.(*posix.Rules)
		if !ok {
			return sec(x, parent, folder)
		}
		if e.posix == nil {
			return nil, noPosix()
		}
		up, _ := parent.(*posix.Rules)
		after, err := e.posix(r, up, dated)
		if err != nil {
			return nil, err
		}
		return after, nil
	}
}

// onItems makes the plan edit items, and whatever is below them follow.
func (d *Desk) onItems(p *Plan, targets []estate.Target, e itemEdit, renew bool) error {
	return d.onStrands(p, targets, nil, e, renew)
}

// onStrands is onItems for all items of some strands beside; items with last
// days are among the targets.
func (d *Desk) onStrands(p *Plan, targets []estate.Target, strands []int64, e itemEdit, renew bool) error {
	return d.onPieces(p, []piece{{targets, strands, e}}, renew)
}

// piece is one edit and the items it is of; no item is in two pieces.
type piece struct {
	targets []estate.Target
	strands []int64
	edit    itemEdit
}

// allBelow makes an edit on everything below a plan's targets too.
func (d *Desk) allBelow(p *Plan, e itemEdit) error {
	f := p.work.forest
	hand := e.on(nil)
	for i := range f.Nodes {
		f.Edits[i] = hand
	}
	p.work.renews = true
	return f.Work(d.ctx)
}

// onPieces is onStrands for several edits at once. A piece without an edit is
// only looked at.
func (d *Desk) onPieces(p *Plan, pieces []piece, renew bool) error {
	d.step("looking at what is below")
	withDates := map[int64]bool{}
	if d.t.HasDates() {
		withDates = d.t.WithDates()
	}
	var groups []estate.Group
	dated := map[int64]estate.Dated{}
	whole := false
	for _, x := range pieces {
		e := x.edit
		plain := estate.Group{Strands: x.strands}
		whole = whole || len(x.strands) > 0
		if e.make != nil {
			plain.Edit = e.on(nil)
		}
		for _, x := range x.targets {
			if e.make == nil || !withDates[x.Item] {
				plain.Targets = append(plain.Targets, x)
				continue
			}
			days := d.t.Dated(estate.Bearer{Item: x.Item}, d.t.Of(x.Strand))
			dated[x.Item] = days
			groups = append(groups, estate.Group{Targets: []estate.Target{x}, Edit: e.on(days)})
		}
		if len(plain.Targets)+len(plain.Strands) > 0 {
			groups = append(groups, plain)
		}
	}
	carve := d.t.Carve
	if p.work.everywhere { // what else changes is seen on everything there is
		carve = d.t.CarveAll
	}
	f, err := carve(groups)
	if err != nil {
		return err
	}
	f.Renew = renew
	p.work.forest, p.work.renews = f, renew
	d.step("working out what follows below")
	if err := f.Work(d.ctx); err != nil {
		return err
	}
	for n := range f.Nodes {
		if f.Edits[n] != nil && f.Nodes[n].Changed() && whole {
			p.work.name(n)
		}
	}
	hands, back, each := map[int]bool{}, map[int]bool{}, map[int][]func(*posix.Rules) *posix.Rules{}
	for _, piece := range pieces {
		e := piece.edit
		if e.make == nil {
			continue
		}
		for _, x := range piece.targets {
			n := f.NodeFor(x.Item, x.Strand)
			if n < 0 {
				continue
			}
			p.work.name(n)
			hands[n] = hands[n] || e.hands
			back[n] = back[n] || e.handsBack
			if e.each != nil && f.Nodes[n].Folder {
				each[n] = append(each[n], e.each)
			}
			node := &f.Nodes[n]
			was := dated[x.Item]
			after := node.After.Listed()
			is := still(was, after)
			switch _, sec := node.After.(*rule.Descriptor); {
			case sec && e.dates != nil:
				is = e.dates(desc(node.Before), after, node.Folder, was)
			case !sec && e.posixDates != nil:
				is = e.posixDates(node.Before.Listed(), after, was)
			}
			if !maps.Equal(was, is) {
				p.work.dates = append(p.work.dates, dateEdit{of: estate.Bearer{Item: x.Item}, before: was, after: is, folder: node.Folder, node: n})
			}
		}
	}
	return d.handDown(p, hands, back, each)
}

// still gives the last days of entries that are still there.
func still(dated estate.Dated, after *rule.Descriptor) estate.Dated {
	out := estate.Dated{}
	for e, u := range dated {
		if after != nil && slices.Contains(after.Rules.Entries, e) {
			out[e] = u
		}
	}
	return out
}

// finish works out the roots, the edits in words, the impact, and what guards
// say.
func (d *Desk) finish(p *Plan) (*Plan, error) {
	if err := d.t.Err(); err != nil {
		return nil, err
	}
	if p.work.forest == nil {
		p.work.forest = estate.NewForest()
	}
	d.findRoots(p)
	d.describe(p)
	if !p.Changes() {
		return p, d.t.Err()
	}
	p.Nothing = ""
	if err := d.elsewhere(p); err != nil {
		return nil, err
	}
	if err := d.mayHandOn(p); err != nil {
		return nil, err
	}
	if err := d.weigh(p); err != nil {
		return nil, err
	}
	if len(reviews) == 0 {
		return nil, errors.New("nobody reviews plans here: keepers and policies aren't tied in")
	}
	for _, r := range reviews {
		if err := r.Done(d, p); err != nil {
			return nil, err
		}
	}
	return p, d.t.Err()
}

// Review is what else is asked of every plan, wherever it comes from, beside the
// guards.
type Review struct {
	// Laid is asked while all that a plan touches is laid out; moved tells of each
	// node whether anybody's access to it changes. nil: nothing is asked then.
	Laid func(d *Desk, p *Plan, moved []bool) error
	// Done is asked once the guards have spoken.
	Done func(d *Desk, p *Plan) error
}

var reviews []Review

// AddReview ties a review in, from the init of the package that knows it. A
// program where none is tied in makes no plan.
func AddReview(r Review) { reviews = append(reviews, r) }

// findRoots finds where the topmost nodes of a plan's forest are.
func (d *Desk) findRoots(p *Plan) {
	known := map[int]bool{}
	for _, r := range p.work.roots {
		known[r.node] = true
	}
	f := p.work.forest
	for i := range f.Nodes {
		if f.Nodes[i].Parent >= 0 || known[i] || f.Strand(i) == 0 {
			continue
		}
		items := f.Some(d.t, i, 1)
		if len(items) == 0 {
			continue
		}
		if s, path, ok := d.t.Stands(items[0]); ok {
			p.work.roots = append(p.work.roots, root{node: i, server: s, path: [2]string{path, path}})
		}
	}
}

// where names a node by one of its items.
func (d *Desk) where(p *Plan, node int) string {
	for _, r := range p.work.roots {
		if r.node == node && p.work.forest.Strand(node) == 0 {
			path := r.path[0]
			if r.path[1] != "" {
				path = r.path[1]
			}
			return estate.Place{Server: r.server, Path: path}.String()
		}
	}
	if p.work.forest.Strand(node) == 0 {
		if up := p.work.forest.Nodes[node].Parent; up >= 0 {
			return "in " + d.where(p, up)
		}
		return ""
	}
	for _, item := range p.work.forest.Some(d.t, node, 1) {
		return d.t.Where(item)
	}
	return ""
}

// many names several for a summary.
func many(names []string) string {
	if len(names) > 6 {
		return strings.Join(names[:5], ", ") + fmt.Sprintf(" and %d more", len(names)-5)
	}
	return strings.Join(names, ", ")
}
