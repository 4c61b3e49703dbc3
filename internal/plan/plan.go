// Package plan works out what a command would do over the whole estate: what
// it edits, what follows below, who gains and loses by it, what the guards say.
// Every change of anybody's access is a Plan; there is no second way in.
//
// A plan is worked out by reading alone: it takes no write lock and leaves no
// trace until it is kept, whole or not at all (Plan.Keep, within a change).
package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tarnwold/core/change"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
)

// Planner is where plans are worked out: one transaction that reads, and who acts.
type Planner struct {
	T     *estate.Tx
	K     *ask.Asker
	Ctx   context.Context
	Actor string
	Today estate.Day
	// Step is told what long work is doing; nil: nobody listens.
	Progress func(what string)
	again    func(*Planner) (*Plan, error) // makes the plan at hand again; see Make
	exact    bool                          // everything is laid out, and everybody
	known    bool                          // who gains and who loses is known already
	mayLose  *int                          // in hundredths; nil: as usual
	acting   *account                      // who acts, once asked; without an identifier: nobody the estate knows
	// Apart: memberships that directories keep are no part of a plan, but told beside it.
	Apart bool
}

// New makes a planner.
func New(t *estate.Tx, actor string) *Planner {
	return &Planner{T: t, K: ask.New(t), Ctx: t.Context(), Actor: actor, Today: estate.Today()}
}

// On is a planner on what an asker reads.
func On(k *ask.Asker, actor string) *Planner { return New(k.Tx(), actor) }

func (d *Planner) Doing(what string) {
	if d.Progress != nil {
		d.Progress(what)
	}
}

// Plan is a proposal worked out and not kept.
type Plan struct {
	Change  string             `json:"change"` // what it does, as the journal will have it
	Actor   string             `json:"by"`
	Nothing string             `json:"nothing,omitempty"` // why it changes nothing, where it does
	Edits   []edit.Description `json:"edits"`             // what the command itself alters
	// Directed are memberships that come and go in directories too.
	Directed []DirectoryWrite `json:"to-directories,omitempty"`
	// Laid is how many policies are laid where the plan is looked at.
	Laid int `json:"-"`
	// ToDo are memberships that are to be changed in directories, and aren't from here.
	ToDo   []DirectoryWrite `json:"to-do-in-directories,omitempty"`
	Untold int              `json:"edits-untold,omitempty"` // accounts and memberships beyond those it tells of one by one
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
	// Theirs is what real servers keep themselves, and the plan changes in the estate alone.
	Theirs []TheirsAlone `json:"in-the-estate-alone,omitempty"`
	// since is when what it puts back stood last, or was written down; zero: it
	// is a new wish.
	Since time.Time `json:"-"`
	// ends: it takes away what was to end, as whoever set it said; keepers have
	// no say in that.
	Ends bool `json:"-"`
	// moves: somebody's rights change, be it by some that open nothing.
	Moves bool `json:"-"`
	again func(*Planner) (*Plan, error)
	// OnWord is on whose word it is made, beside who makes it: what they keep is theirs to say.
	OnWord []ID `json:"-"`
	// keepers are what keepers of places have against it.
	Keepers []Warning `json:"-"`

	Work work `json:"-"`
}

// work is what is kept: the edits, and the partition on which rules are edited and
// what follows below is worked out.
type work struct {
	edit.Set
	Partition *estate.Partition
	Roots     []Root
	Named     []int // nodes the command edits, in order
	IsNamed   map[int]bool
	Renews    bool // what is mended below is told of too
	// everywhere: people, administrators or traits change too, so that the
	// partition is of everything there is.
	Everywhere bool
	// For is whom the plan touches, where it is worked out for them alone.
	For     *touched
	AddedAt map[string]int // folders that come: server and path → node
	// fromDirectory: it is what a directory has, and not to be changed there.
	FromDirectory bool
	// Apart: what of it is to be done in directories was taken out of it.
	Apart bool
	// FromFile: it is what a list of accounts says, which no server is told.
	FromFile    bool
	Cursor      *SyncCursor  // how far a directory is read with that; nil: none is
	Fingerprint *Fingerprint // what files of people told; nil: it is no such plan
}

// Read is how far a directory is read once the plan is kept; where it changes
// nothing, that is to be remembered all the same.
func (p *Plan) Cursor() *SyncCursor { return p.Work.Cursor }

// Told is what files of people told, where it is such a plan.
func (p *Plan) Fingerprint() *Fingerprint { return p.Work.Fingerprint }

// Name marks a node as one the command edits.
func (w *work) Name(n int) {
	if !w.IsNamed[n] {
		w.IsNamed[n] = true
		w.Named = append(w.Named, n)
	}
}

// Root is the topmost node of what a plan touches, and where it is on each
// side; "" where it isn't there.
type Root struct {
	Node   int
	Server estate.Server
	Path   [2]string
	// chain: Above of the partition's node is the same on both sides unless Then says otherwise.
}

// Changes tells whether the plan alters anything.
func (p *Plan) Changes() bool {
	if len(p.Edits) > 0 {
		return true
	}
	if p.Work.Partition == nil {
		return false
	}
	nodes, _ := p.Work.Partition.Changed()
	return nodes > 0
}

// Keep stores what the plan alters, and gives the summary for the journal. It
// runs within a change whose Meta.Head is the plan's.
func (p *Plan) Keep(t *estate.Tx) (string, error) {
	if !t.Supposed() && !p.Work.Apart {
		if err := p.InDirectory(); err != nil {
			return "", err
		}
	}
	p, err := p.exactly(t)
	if err != nil {
		return "", err
	}
	w := &p.Work
	if err := w.Apply(t, func() {
		if w.Partition != nil {
			t.Keep(w.Partition)
		}
	}); err != nil {
		return "", err
	}
	if w.Cursor != nil {
		if err := w.Cursor.Remember(t); err != nil {
			return "", err
		}
	}
	if w.Fingerprint != nil {
		told := *w.Fingerprint
		told.Head = p.Head + 1 // this change
		if err := told.Remember(t); err != nil {
			return "", err
		}
	}
	return p.Change, t.Err()
}

// Meta gives what the journal is told of the plan.
func (p *Plan) Meta(command string) estate.Meta {
	m := estate.Meta{Actor: p.Actor, Command: command, Head: p.Head, Undoes: p.Undoes, Forced: slices.Clone(p.Over),
		Large: len(p.Work.Accounts)+len(p.Work.Members)+len(p.Work.Records) >= large}
	switch {
	case p.Work.Cursor != nil:
		m.Origin = OriginDirectory + p.Work.Cursor.Directory
	case p.Work.FromDirectory:
		m.Origin = OriginPeople
	case p.Work.FromFile:
		m.Origin = OriginAccounts
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
	return !p.IsSo || w.Guard == "loses-much" || len(p.Work.Goes) > 0 && w.Guard == "kept"
}

// large is how many accounts, memberships and records make a change a large one.
const large = 20_000

// NewPlan makes a plan of a planner.
func (d *Planner) NewPlan(format string, args ...any) *Plan {
	return &Plan{Change: fmt.Sprintf(format, args...), Actor: d.Actor, Head: d.T.Head(), Asks: true, again: d.again,
		Edits: []edit.Description{}, Impact: []Shift{}, Unmoved: []Unmoved{}, Warnings: []Warning{}, Advice: []Advice{},
		Work: work{IsNamed: map[int]bool{}, AddedAt: map[string]int{}}}
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

// Desc gives rules that are a security descriptor; nil for those of another kind.
func Desc(a rule.Any) *rule.Descriptor {
	d, _ := a.(*rule.Descriptor)
	return d
}

// ItemEdit is what a command does to items.
type ItemEdit struct {
	// make edits a descriptor; dated are the last days of its own entries.
	Make func(d, parent *rule.Descriptor, folder bool, dated estate.Dated) (*rule.Descriptor, error)
	// posix is make for rules of POSIX trees; nil: it can't be done there.
	Posix func(r, parent *posix.Rules, dated estate.Dated) (*posix.Rules, error)
	// dates gives the last days afterwards; nil: those of entries that are
	// still there.
	Dates func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated
	// hands: what the default list of a folder gives more or less is handed to
	// what is there.
	Hands bool
	// each gives what is below an item what the item is given; nil: nothing.
	Each func(r *posix.Rules) *posix.Rules
	// handsBack: a default list that goes takes what it gave too.
	HandsBack bool
	// posixDates is dates for rules of POSIX trees, by what they list.
	PosixDates func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated
}

// on gives the edit as it is on rules of any kind.
func (e *ItemEdit) on(dated estate.Dated) change.Edit {
	sec := sec(func(x, up *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
		return e.Make(x, up, folder, dated)
	})
	return func(x, parent rule.Any, folder bool) (rule.Any, error) {
		r, ok := x.(*posix.Rules)
		if !ok {
			return sec(x, parent, folder)
		}
		if e.Posix == nil {
			return nil, noPosix()
		}
		up, _ := parent.(*posix.Rules)
		after, err := e.Posix(r, up, dated)
		if err != nil {
			return nil, err
		}
		return after, nil
	}
}

// OnItems makes the plan edit items, and whatever is below them follow.
func (d *Planner) OnItems(p *Plan, targets []estate.Target, e ItemEdit, renew bool) error {
	return d.onStrands(p, targets, nil, e, renew)
}

// onStrands is onItems for all items of some strands beside; items with last
// days are among the targets.
func (d *Planner) onStrands(p *Plan, targets []estate.Target, strands []int64, e ItemEdit, renew bool) error {
	return d.OnPieces(p, []Piece{{targets, strands, e}}, renew)
}

// Piece is one edit and the items it is of; no item is in two pieces.
type Piece struct {
	Targets []estate.Target
	Strands []int64
	Edit    ItemEdit
}

// AllBelow makes an edit on everything below a plan's targets too.
func (d *Planner) AllBelow(p *Plan, e ItemEdit) error {
	f := p.Work.Partition
	hand := e.on(nil)
	for i := range f.Nodes {
		f.Edits[i] = hand
	}
	p.Work.Renews = true
	return f.Work(d.Ctx)
}

// OnPieces is onStrands for several edits at once. A piece without an edit is
// only looked at.
func (d *Planner) OnPieces(p *Plan, pieces []Piece, renew bool) error {
	d.Doing("looking at what is below")
	withDates := map[int64]bool{}
	if d.T.HasDates() {
		withDates = d.T.WithDates()
	}
	var groups []estate.Group
	dated := map[int64]estate.Dated{}
	whole := false
	for _, x := range pieces {
		e := x.Edit
		plain := estate.Group{Strands: x.Strands}
		whole = whole || len(x.Strands) > 0
		if e.Make != nil {
			plain.Edit = e.on(nil)
		}
		for _, x := range x.Targets {
			if e.Make == nil || !withDates[x.Item] {
				plain.Targets = append(plain.Targets, x)
				continue
			}
			days := d.T.Dated(estate.Bearer{Item: x.Item}, d.T.Of(x.Strand))
			dated[x.Item] = days
			groups = append(groups, estate.Group{Targets: []estate.Target{x}, Edit: e.on(days)})
		}
		if len(plain.Targets)+len(plain.Strands) > 0 {
			groups = append(groups, plain)
		}
	}
	p.Work.Renews = p.Work.Renews || renew
	f, err := d.layOutTouched(p, groups)
	if err != nil {
		return err
	}
	f.Renew = renew
	p.Work.Partition, p.Work.Renews = f, renew
	d.Doing("working out what follows below")
	if err := f.Work(d.Ctx); err != nil {
		return err
	}
	for n := range f.Nodes {
		if f.Edits[n] != nil && f.Nodes[n].Changed() && whole {
			p.Work.Name(n)
		}
	}
	hands, back, each := map[int]bool{}, map[int]bool{}, map[int][]func(*posix.Rules) *posix.Rules{}
	for _, piece := range pieces {
		e := piece.Edit
		if e.Make == nil {
			continue
		}
		for _, x := range piece.Targets {
			n := f.NodeFor(x.Item, x.Strand)
			if n < 0 {
				continue
			}
			p.Work.Name(n)
			hands[n] = hands[n] || e.Hands
			back[n] = back[n] || e.HandsBack
			if e.Each != nil && f.Nodes[n].Folder {
				each[n] = append(each[n], e.Each)
			}
			node := &f.Nodes[n]
			was := dated[x.Item]
			after := node.After.Listed()
			is := Still(was, after)
			switch _, sec := node.After.(*rule.Descriptor); {
			case sec && e.Dates != nil:
				is = e.Dates(Desc(node.Before), after, node.Folder, was)
			case !sec && e.PosixDates != nil:
				is = e.PosixDates(node.Before.Listed(), after, node.Folder, was)
			}
			if !maps.Equal(was, is) {
				p.Work.Dates = append(p.Work.Dates, edit.LastDays{Of: estate.Bearer{Item: x.Item}, Before: was, After: is, Folder: node.Folder, Node: n})
			}
		}
	}
	return d.handDown(p, hands, back, each)
}

// Still gives the last days of entries that are still there.
func Still(dated estate.Dated, after *rule.Descriptor) estate.Dated {
	out := estate.Dated{}
	for e, u := range dated {
		if after != nil && slices.Contains(after.Rules.Entries, e) {
			out[e] = u
		}
	}
	return out
}

// Evaluate works out the roots, the edits in words, the impact, and what guards
// say.
func (d *Planner) Evaluate(p *Plan) (*Plan, error) {
	if err := d.T.Err(); err != nil {
		return nil, err
	}
	if p.Work.Partition == nil {
		p.Work.Partition = estate.NewPartition()
	}
	if err := d.leaveToDirectories(p); err != nil {
		return nil, err
	}
	d.FindRoots(p)
	d.describe(p)
	if !p.Changes() {
		return p, d.T.Err()
	}
	p.Nothing = ""
	p.Theirs = d.theirs(p)
	if d.known {
		return p, d.T.Err()
	}
	if err := d.elsewhere(p); err != nil {
		return nil, err
	}
	if err := d.mayHandOn(p); err != nil {
		return nil, err
	}
	if err := d.impact(p); err != nil {
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
	return p, d.T.Err()
}

// Review is what else is asked of every plan, wherever it comes from, beside the
// guards.
type Review struct {
	// Places are items it looks at one by one; nil: none.
	Places func(d *Planner) ([]estate.Target, error)
	// Laid is asked while all that a plan touches is laid out; moved tells of each
	// node whether anybody's access to it changes. nil: nothing is asked then.
	Laid func(d *Planner, p *Plan, moved []bool) error
	// Done is asked once the guards have spoken.
	Done func(d *Planner, p *Plan) error
}

var reviews []Review

// AddReview ties a review in, from the init of the package that knows it. A
// program where none is tied in makes no plan.
func AddReview(r Review) { reviews = append(reviews, r) }

// FindRoots finds where the topmost nodes of a plan's partition are.
func (d *Planner) FindRoots(p *Plan) {
	known := map[int]bool{}
	for _, r := range p.Work.Roots {
		known[r.Node] = true
	}
	f := p.Work.Partition
	for i := range f.Nodes {
		if f.Nodes[i].Parent >= 0 || known[i] || f.Strand(i) == 0 {
			continue
		}
		items := f.Some(d.T, i, 1)
		if len(items) == 0 {
			continue
		}
		if s, path, ok := d.T.Stands(items[0]); ok {
			p.Work.Roots = append(p.Work.Roots, Root{Node: i, Server: s, Path: [2]string{path, path}})
		}
	}
}

// Where names a node by one of its items; one that is to come, and has no name at hand, by
// the nearest folder above that has.
func (d *Planner) Where(p *Plan, node int) string {
	where, above := d.named(p, node)
	switch {
	case where == "" || above == 0:
		return where
	case above == 1:
		return "in " + where
	}
	return "below " + where
}

// Nearest names a node, or the nearest one above it that has a name.
func (d *Planner) Nearest(p *Plan, node int) string {
	where, _ := d.named(p, node)
	return where
}

// named finds the nearest node that has a name, and how many layers above it is.
func (d *Planner) named(p *Plan, node int) (where string, above int) {
	f := p.Work.Partition
	for ; node >= 0; node, above = f.Nodes[node].Parent, above+1 {
		if f.Strand(node) != 0 {
			for _, item := range f.Some(d.T, node, 1) {
				return d.T.Where(item), above
			}
			return "", above
		}
		for _, r := range p.Work.Roots {
			if r.Node == node {
				return estate.Place{Server: r.Server, Path: cmp.Or(r.Path[1], r.Path[0])}.String(), above
			}
		}
	}
	return "", above
}

// Many names several for a summary.
func Many(names []string) string {
	if len(names) > 6 {
		return strings.Join(names[:5], ", ") + fmt.Sprintf(" and %d more", len(names)-5)
	}
	return strings.Join(names, ", ")
}
