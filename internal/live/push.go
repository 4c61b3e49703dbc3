package live

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/saved"
	"tarnwold/internal/server"
)

// Dial signs on to a server of the estate by its name, once more each time.
type Dial func(ctx context.Context, name string) (server.Server, error)

// Directory is a directory that is signed on to, in whose groups memberships come and go.
type Directory interface {
	// HasMember tells whether a group lists a member now.
	HasMember(ctx context.Context, m server.Listed) (bool, error)
	// SetMember makes a membership come or go; where somebody else has made it so
	// already nothing is done (server.ErrChanged).
	SetMember(ctx context.Context, m server.Listed, in bool) error
	Close()
}

// DialDirectory signs on to a directory of the estate by its name.
type DialDirectory func(ctx context.Context, name string) (Directory, error)

// Push writes a change to real servers and directories and keeps it in the estate:
// wholly, or so that it can be finished or taken back.
//
// Before anything is written the whole of it is put down in the estate, as
// unfinished, and while it stands there the estate takes no other change.
// Which items are written already is never put down: the servers tell that,
// each item is as before or as after. So whatever breaks it off (the network,
// a kill, the server), Resume finishes it, and Back takes it back.
type Push struct {
	Estate *estate.Estate
	Dial   Dial
	// Directory is asked where memberships come and go in directories.
	Directory DialDirectory
	// Step is told how many of the writes are done; nil: nobody listens.
	Step func(done, of int)
	// Left is left out of what is written, and in the estate as it is there.
	Left []LeftOut
	// Partly: what can't be written is left out too.
	Partly bool
}

// workers is how many connections write at once.
const workers = 4

// Otherwise refuses to write where a server, or a directory, has something else than
// the estate.
type Otherwise struct {
	Server string `json:"server"`
	// Directory: the server is a directory.
	Directory bool     `json:"directory,omitempty"`
	Where     []string `json:"where"` // the first few
	Items     int      `json:"items"`
	// Membership: the first is one, or was.
	Membership bool `json:"membership,omitempty"`
}

func (e *Otherwise) Error() string {
	more := ""
	if n := e.Items - 1; n > 0 {
		more = fmt.Sprintf(" and %s more", format.Count(int64(n), "item"))
	}
	if e.Directory {
		return fmt.Sprintf("%s%s: who is a member there differs from the estate, and nothing was written; tarnwold directory sync %s takes in what the directory has, then look again", e.Where[0], more, e.Server)
	}
	if e.Membership {
		return fmt.Sprintf("%s%s: who is a member there differs from the estate, and nothing was written; tarnwold scan %s takes in what the server has, then look again", e.Where[0], more, e.Server)
	}
	return fmt.Sprintf("%s%s has other rules on the server than in the estate: somebody changed it there, and nothing was written; tarnwold scan %s takes that in, then look again", e.Where[0], more, e.Server)
}

// Broken is a push that was broken off: some items are written, some are not.
type Broken struct {
	Done int `json:"written"` // seen to be as they are to be
	// Unsure is how many more were being written, and whether they are isn't known.
	Unsure int   `json:"not-known"`
	Of     int   `json:"of"`
	Err    error `json:"-"`
}

func (e *Broken) Error() string {
	unsure := ""
	if e.Unsure > 0 {
		unsure = fmt.Sprintf(", of %d more it isn't known", e.Unsure)
	}
	return fmt.Sprintf("broken off: %d of %s written%s, and the estate is as it was: %v; tarnwold resume finishes it, tarnwold undo takes it back", e.Done, format.Count(int64(e.Of), "item"), unsure, e.Err)
}

func (e *Broken) Unwrap() error { return e.Err }

// Back is a push that a server refused, or that somebody else came between,
// all of it taken back again.
type Back struct {
	Where string `json:"where"`
	Why   string `json:"why"`
	// Left are items that somebody else has changed since they were written:
	// they are left as they are.
	Left []string `json:"left-as-they-are"`
}

func (e *Back) Error() string {
	left := ""
	if n := len(e.Left); n > 0 {
		left = fmt.Sprintf(" but for %s, which somebody else has changed since", e.Left[0])
		if n > 1 {
			left = fmt.Sprintf(" but for %s and %s more, which somebody else has changed since", e.Left[0], format.Count(int64(n-1), "item"))
		}
	}
	return fmt.Sprintf("%s: %s; what had been written is taken back%s, and nothing was kept", e.Where, e.Why, left)
}

// pending is what the estate keeps of an unfinished change.
type pending struct {
	Saved  json.RawMessage `json:"change-set"`
	Undoes int64           `json:"undoes,omitempty"`
	Forced []string        `json:"forced,omitempty"`
	Bodies []string        `json:"descriptors"` // base64, each once
	Out    []pendingServer `json:"servers"`
	Left   []pendingLeft   `json:"left-out,omitempty"`
}

type pendingLeft struct {
	Where  string `json:"where"`
	Why    string `json:"why"`
	Server string `json:"server"`
	Path   string `json:"path"`
	Folder bool   `json:"folder"`
	Rules  int    `json:"rules"` // a place in Bodies
}

type pendingServer struct {
	Server    string         `json:"server,omitempty"`
	Directory string         `json:"directory,omitempty"`
	Writes    []pendingWrite `json:"writes"`
}

type pendingWrite struct {
	Where   string `json:"where"`
	Share   string `json:"share"`
	Path    string `json:"path,omitempty"`
	OfShare bool   `json:"of-the-share,omitempty"`
	Depth   int    `json:"depth,omitempty"`
	Before  int    `json:"before"` // places in Bodies
	After   int    `json:"after"`
	// Was is the file it is written to, on a tree of this machine.
	Was *server.Stamp `json:"was,omitempty"`
	// Group and Member: it is a membership, which comes where In says so, and Before and
	// After are no places.
	Group  string `json:"group,omitempty"`
	Member string `json:"member,omitempty"`
	In     bool   `json:"in,omitempty"`
	// Entry: it is a membership in a directory.
	Entry *plan.DirectoryWrite `json:"entry,omitempty"`
	Phase plan.Phase           `json:"phase,omitempty"`
}

// membership reads the membership that is put down as a write; nil: it is rules.
func (w *pendingWrite) membership() (*server.Member, error) {
	if w.Group == "" {
		return nil, nil
	}
	group, err := account.ParseID(w.Group)
	if err != nil {
		return nil, err
	}
	member, err := account.ParseID(w.Member)
	return &server.Member{Group: group, Member: member}, err
}

func put(saved []byte, m estate.Meta, out []plan.Outbound, left []LeftOut) (*pending, error) {
	p := &pending{Saved: saved, Undoes: m.Undoes, Forced: m.Forced}
	at := map[string]int{}
	body := func(a rule.Any) (int, error) {
		s, err := plan.Encoded(a)
		i, ok := at[s]
		if !ok {
			i = len(p.Bodies)
			at[s] = i
			p.Bodies = append(p.Bodies, s)
		}
		return i, err
	}
	for _, o := range out {
		s := pendingServer{Server: o.Server, Directory: o.Directory}
		for _, w := range o.Writes {
			if w.Entry != nil {
				s.Writes = append(s.Writes, pendingWrite{Where: w.Where, Entry: w.Entry, In: w.In, Phase: w.Phase})
				continue
			}
			if m := w.Member; m != nil {
				s.Writes = append(s.Writes, pendingWrite{Where: w.Where, Depth: w.Depth, Group: m.Group.String(), Member: m.Member.String(), In: w.In, Phase: w.Phase})
				continue
			}
			before, err := body(w.Before)
			if err != nil {
				return nil, err
			}
			after, err := body(w.To)
			if err != nil {
				return nil, err
			}
			s.Writes = append(s.Writes, pendingWrite{Where: w.Where, Share: w.Share, Path: w.Writing.Path, OfShare: w.OfShare, Depth: w.Depth, Before: before, After: after, Was: w.Was})
		}
		p.Out = append(p.Out, s)
	}
	for _, x := range left {
		i, err := body(x.rules)
		if err != nil {
			return nil, err
		}
		p.Left = append(p.Left, pendingLeft{x.Where, x.Why, x.server, x.path, x.folder, i})
	}
	return p, nil
}

func (p *pending) outbound() (out []plan.Outbound, left []LeftOut, err error) {
	var bodies []rule.Any
	for _, s := range p.Bodies {
		d, err := plan.Decoded(s)
		if err != nil {
			return nil, nil, err
		}
		bodies = append(bodies, d)
	}
	unread := errors.New("the unfinished change can't be read")
	for _, x := range p.Left {
		if x.Rules < 0 || x.Rules >= len(bodies) {
			return nil, nil, unread
		}
		left = append(left, LeftOut{x.Where, x.Why, x.Server, x.Path, x.Folder, bodies[x.Rules]})
	}
	for _, s := range p.Out {
		o := plan.Outbound{Server: s.Server, Directory: s.Directory}
		for _, w := range s.Writes {
			if w.Entry != nil {
				o.Writes = append(o.Writes, plan.Write{Where: w.Where, Entry: w.Entry, In: w.In, Phase: w.Phase})
				continue
			}
			m, err := w.membership()
			if err != nil {
				return nil, nil, unread
			}
			if m != nil {
				o.Writes = append(o.Writes, plan.Write{Where: w.Where, Depth: w.Depth, Member: m, In: w.In, Phase: w.Phase})
				continue
			}
			if max(w.Before, w.After) >= len(bodies) || min(w.Before, w.After) < 0 {
				return nil, nil, unread
			}
			o.Writes = append(o.Writes, plan.Write{Where: w.Where, Depth: w.Depth,
				Writing: server.Writing{Share: w.Share, Path: w.Path, OfShare: w.OfShare, Before: bodies[w.Before], To: bodies[w.After], Was: w.Was}})
		}
		out = append(out, o)
	}
	return out, left, nil
}

// Keep writes a plan out, and keeps it. saved is the plan as a saved change set.
func (u *Push) Keep(ctx context.Context, p *plan.Plan, saved []byte, m estate.Meta, out []plan.Outbound) (int64, error) {
	if err := u.Estate.View(ctx, func(t *estate.Tx) error { // what is half written is otherwise there by that alone
		if t.Unfinished() != "" {
			return estate.Unfinished{}
		}
		return t.Err()
	}); err != nil {
		return 0, err
	}
	w, err := u.open(ctx, out)
	if err != nil {
		return 0, err
	}
	defer w.close()
	states, err := w.states(ctx)
	if err != nil {
		return 0, err
	}
	if states, err = u.leaveOut(w, states); err != nil {
		return 0, err
	}
	if err := w.unexpected(states, before); err != nil {
		return 0, err
	}
	w.recognise()
	intent, err := put(saved, m, w.outbound(), u.Left)
	if err != nil {
		return 0, err
	}
	js, err := json.Marshal(intent)
	if err != nil {
		return 0, err
	}
	if err := u.Estate.Begin(ctx, m.Head, string(js)); err != nil {
		return 0, err
	}
	return u.finish(ctx, w, states, p, m, string(js))
}

// leaveOut takes out of what is written what couldn't be looked at, and refuses
// that unless it was said that the rest is to be kept.
func (u *Push) leaveOut(w *writing, states []state) ([]state, error) {
	var no []LeftOut
	var kept []item
	var stand []state
	for i := range w.all {
		x := &w.all[i]
		if x.err == nil {
			kept, stand = append(kept, *x), append(stand, states[i])
			continue
		}
		no = append(no, x.leftOut(x.err))
	}
	if len(no) == 0 {
		return states, nil
	}
	for _, x := range no {
		if x.rules == nil { // a membership
			return nil, &estate.Refused{Why: fmt.Sprintf("%s: %s; nothing was written", x.Where, x.Why), Do: "change the estate alone with --model-only"}
		}
	}
	if !u.Partly {
		return nil, &Unwritable{no}
	}
	u.Left = append(u.Left, no...)
	w.all, w.seen = kept, make([]atomic.Int32, len(kept))
	return stand, nil
}

// leftOut tells of an item that it stays as it was.
func (x *item) leftOut(why error) LeftOut {
	l := LeftOut{Where: x.Where, Why: why.Error(), server: x.server, path: x.Path, rules: x.Before}
	if r, ok := x.Before.(*posix.Rules); ok {
		l.folder = r.Folder
	}
	return l
}

// recognise remembers which files are written to, and which of them are one
// under several names: that is written once.
func (w *writing) recognise() {
	first := map[server.Stamp]int{}
	for i := range w.all {
		x := &w.all[i]
		if x.found.Stamp == (server.Stamp{}) {
			continue
		}
		if x.Was == nil {
			was := x.found.Stamp
			x.Was = &was
		}
		if x.found.Names > 1 {
			at := x.found.Stamp
			if k, ok := first[at]; ok && w.all[k].To.Same(x.To) {
				x.twin = true
			} else {
				first[at] = i
			}
		}
	}
}

// outbound gives what is written, as a plan has it.
func (w *writing) outbound() (out []plan.Outbound) {
	at := map[target]int{}
	for _, x := range w.all {
		k, ok := at[x.target]
		if !ok {
			k = len(out)
			at[x.target] = k
			out = append(out, plan.Outbound{Server: x.server, Directory: x.directory})
		}
		out[k].Writes = append(out[k].Writes, x.Write)
	}
	return out
}

// finish writes what isn't written yet, then keeps the plan in the estate.
// All the while the estate is held, so that nobody else finishes it too.
func (u *Push) finish(ctx context.Context, w *writing, states []state, p *plan.Plan, m estate.Meta, js string) (id int64, err error) {
	var werr error
	wrote := false
	// Once all is written, being stopped comes too late: it is kept.
	id, err = u.Estate.Finish(context.WithoutCancel(ctx), m, js, func(t *estate.Tx) (string, error) {
		if werr = w.write(ctx, states, after); werr != nil {
			return "", werr
		}
		wrote = true
		if werr = w.stands(context.WithoutCancel(ctx)); werr != nil {
			return "", werr
		}
		for i, why := range w.left {
			u.Left = append(u.Left, w.all[i].leftOut(why))
		}
		summary, err := p.Keep(t)
		if err == nil && len(u.Left) > 0 {
			err = putBack(t, p.Actor, u.Left)
		}
		return summary, err
	})
	if err == nil {
		return id, nil
	}
	var no *refusal
	if errors.As(werr, &no) { // the server says no, or somebody came between: there is nothing to finish
		left, berr := u.back(w, js)
		if berr != nil {
			return 0, w.broken(errors.Join(werr, berr))
		}
		return 0, &Back{no.where, no.err.Error(), left}
	}
	if werr != nil || wrote {
		return 0, w.broken(cmp.Or(werr, err))
	}
	return 0, err
}

// broken tells how far a push came that is broken off by an error.
func (w *writing) broken(err error) *Broken {
	b := &Broken{Of: len(w.all), Err: plainly(err)}
	for i := range w.all {
		switch w.seen[i].Load() {
		case seenWritten:
			b.Done++
		case seenBegun:
			b.Unsure++
		}
	}
	return b
}

// plainly says of what was stopped that it was, and no more: what stands is for
// who tells of it.
func plainly(err error) error {
	if errors.Is(err, context.Canceled) {
		return errStopped
	}
	if said, ok := strings.CutSuffix(err.Error(), "; nothing was changed"); ok { // in the estate, which is half of it
		return errors.New(said)
	}
	return err
}

var errStopped = errors.New("stopped")

// back takes back what is written, within a while, and forgets the change. It
// gives what somebody else has changed since, and is left as it is.
func (u *Push) back(w *writing, js string) (left []string, err error) {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	err = u.Estate.Forget(ctx, js, func() error {
		states, err := w.states(ctx)
		if err != nil {
			return err
		}
		for i, s := range states { // what this run didn't write is so by somebody else's doing
			if s == after && w.seen[i].Load() == seenNothing {
				states[i] = other
			}
		}
		if err := w.write(ctx, states, before); err != nil {
			return err
		}
		for i, s := range states {
			if w.seen[i].Load() == seenNothing {
				continue
			}
			if err := w.all[i].err; err != nil && !errors.Is(err, server.ErrNotThere) { // how it stands isn't known
				return fmt.Errorf("%s: %w", w.all[i].Where, err)
			}
			if s == other || w.all[i].err != nil || w.seen[i].Load() == seenTheirs {
				left = append(left, w.all[i].Where)
			}
		}
		return nil
	})
	return left, err
}

// NothingUnfinished is why there is nothing to finish or take back.
const NothingUnfinished = "no change is unfinished"

// Unfinished is a change whose writing was broken off, and how far it came.
type Unfinished struct {
	Summary string   `json:"change"`
	By      string   `json:"by"`
	Written []string `json:"written"`
	Partly  []string `json:"half-written"` // on the way from one to the other
	Left    []string `json:"not-written"`
	Other   []string `json:"otherwise"` // somebody else has changed these since
}

// found is an unfinished change with its servers at hand.
type found struct {
	js      string
	pending pending
	saved   *saved.Saved
	w       *writing
	states  []state
}

func (u *Push) find(ctx context.Context) (*found, error) {
	var f found
	if err := u.Estate.View(ctx, func(t *estate.Tx) error {
		f.js = t.Unfinished()
		return t.Err()
	}); err != nil {
		return nil, err
	}
	if f.js == "" {
		return nil, &estate.Refused{Why: NothingUnfinished}
	}
	if err := json.Unmarshal([]byte(f.js), &f.pending); err != nil {
		return nil, fmt.Errorf("the unfinished change can't be read: %w", err)
	}
	var err error
	if f.saved, err = saved.ReadSaved(bytes.NewReader(f.pending.Saved), "the unfinished change"); err != nil {
		return nil, err
	}
	out, left, err := f.pending.outbound()
	if err != nil {
		return nil, err
	}
	u.Left = left
	if f.w, err = u.open(ctx, out); err != nil {
		return nil, err
	}
	f.states, err = f.w.states(ctx)
	for i := range f.w.all {
		if err == nil {
			err = f.w.all[i].err
		}
	}
	if err != nil {
		f.w.close()
	}
	f.w.recognise()
	return &f, err
}

func (f *found) told() *Unfinished {
	out := &Unfinished{Summary: f.saved.Summary, By: f.saved.By, Written: []string{}, Partly: []string{}, Left: []string{}, Other: []string{}}
	for i, s := range f.states {
		list := map[state]*[]string{before: &out.Left, partly: &out.Partly, after: &out.Written, other: &out.Other}[s]
		*list = append(*list, f.w.all[i].Where)
	}
	return out
}

// Look says how far an unfinished change came.
func (u *Push) Look(ctx context.Context) (*Unfinished, error) {
	f, err := u.find(ctx)
	if err != nil {
		return nil, err
	}
	defer f.w.close()
	return f.told(), nil
}

// Resume finishes an unfinished change.
func (u *Push) Resume(ctx context.Context) (*Unfinished, int64, error) {
	f, err := u.find(ctx)
	if err != nil {
		return nil, 0, err
	}
	defer f.w.close()
	told := f.told()
	if len(told.Other) > 0 {
		return told, 0, &estate.Refused{Why: fmt.Sprintf("%s has been changed by somebody else since, so that it can't be finished", told.Other[0]), Do: "tarnwold undo takes back the rest"}
	}
	var p *plan.Plan
	var m estate.Meta
	if err := u.Estate.View(ctx, func(t *estate.Tx) (err error) {
		d := plan.New(t, f.saved.By)
		if p, err = saved.Finish(d, f.saved, f.pending.Undoes); err != nil {
			return err
		}
		m = p.Meta(f.saved.Command)
		m.Forced = f.pending.Forced
		out, err := d.Outbound(p)
		if err == nil && !sameWrites(out, f.w.all, u.Left) {
			err = &estate.Refused{Why: "the change would do something else now than what was begun", Do: "tarnwold undo takes it back"}
		}
		return err
	}); err != nil {
		return told, 0, err
	}
	id, err := u.finish(ctx, f.w, f.states, p, m, f.js)
	return told, id, err
}

// TakeBack takes an unfinished change back: what was written is as before
// again, but what somebody else has changed since, which is left alone.
func (u *Push) TakeBack(ctx context.Context) (*Unfinished, error) {
	f, err := u.find(ctx)
	if err != nil {
		return nil, err
	}
	defer f.w.close()
	told := f.told()
	err = u.Estate.Forget(ctx, f.js, func() error { return f.w.write(ctx, f.states, before) })
	if err != nil {
		return told, &BackBroken{len(f.w.all), plainly(err)}
	}
	f.told().others(told)
	return told, nil
}

// others tells in an earlier account what somebody else has changed since it.
func (u *Unfinished) others(earlier *Unfinished) {
	now := map[string]bool{}
	for _, w := range u.Other {
		now[w] = true
	}
	earlier.Written = slices.DeleteFunc(earlier.Written, func(w string) bool { return now[w] })
	for _, w := range earlier.Other {
		delete(now, w)
	}
	for _, w := range u.Other { // in order
		if now[w] {
			earlier.Other = append(earlier.Other, w)
		}
	}
}

// BackBroken is taking back that was broken off itself.
type BackBroken struct {
	Of  int   `json:"of"`
	Err error `json:"-"`
}

func (e *BackBroken) Error() string {
	return fmt.Sprintf("taking back %s was broken off, and the change is still unfinished: %v; tarnwold resume --show says how each stands, tarnwold undo goes on taking it back", format.Count(int64(e.Of), "item"), e.Err)
}

func (e *BackBroken) Unwrap() error { return e.Err }

func sameWrites(out []plan.Outbound, all []item, left []LeftOut) bool {
	without := map[string]bool{}
	for _, x := range left {
		without[x.Where] = true
	}
	n := 0
	for _, x := range inOrder(out) {
		if without[x.Where] {
			continue
		}
		if n >= len(all) || x.target != all[n].target || !sameWrite(&x.Write, &all[n].Write) {
			return false
		}
		n++
	}
	return n == len(all)
}

func sameWrite(a, b *plan.Write) bool {
	switch {
	case a.Entry != nil || b.Entry != nil:
		return a.Entry != nil && b.Entry != nil && a.Entry.Same(b.Entry) && a.In == b.In
	case a.Member != nil || b.Member != nil:
		return a.Member != nil && b.Member != nil && *a.Member == *b.Member && a.In == b.In
	}
	return a.Where == b.Where && a.Before.Same(b.Before) && a.To.Same(b.To)
}

// state is how an item stands on its server.
type state int8

const (
	other state = iota
	before
	after
	partly // on a POSIX tree, where it takes several calls: some of them are done
)

// target is what an item is written to: a server or a directory, by its name.
type target struct{ server, directory string }

func (t target) name() string { return cmp.Or(t.server, t.directory) }

// connection is a server or a directory that is signed on to.
type connection struct {
	server.Server
	people Directory
}

func (c connection) close() {
	if c.people != nil {
		c.people.Close()
		return
	}
	c.Close()
}

// has tells whether a membership is there now.
func (c connection) has(ctx context.Context, w *plan.Write) (bool, error) {
	if w.Entry != nil {
		return c.people.HasMember(ctx, w.Entry.Listed())
	}
	return c.HasMember(ctx, *w.Member)
}

// set makes a membership come or go.
func (c connection) set(ctx context.Context, w *plan.Write, in bool) error {
	if w.Entry != nil {
		return c.people.SetMember(ctx, w.Entry.Listed(), in)
	}
	return c.SetMember(ctx, *w.Member, in)
}

type item struct {
	plan.Write
	target
	found server.Item // as it was looked at last
	twin  bool        // another name of a file that is written by its first
	err   error       // why it couldn't be looked at
}

// What is known of an item by the run that writes it.
const (
	seenNothing int32 = iota
	seenBegun         // a write went out
	seenWritten       // and what it was to be was read back
	seenMade          // the server made something of its own of it
	seenTheirs        // somebody else brought it to what it was to be
)

// writing is servers at hand, and what is to be written to them.
type writing struct {
	all   []item
	seen  []atomic.Int32
	conns map[target][]connection
	step  func(done, of int)
	count atomic.Int64
	last  atomic.Int64 // when the last write ended, in nanoseconds of the clock

	partly bool // what a server refuses is left as it is
	m      sync.Mutex
	left   map[int]error
}

// refusal is a server that says no to a write.
type refusal struct {
	where string
	err   error
}

func (e *refusal) Error() string { return e.where + ": " + e.err.Error() }

func (u *Push) open(ctx context.Context, out []plan.Outbound) (*writing, error) {
	w := &writing{conns: map[target][]connection{}, step: u.Step, partly: u.Partly, left: map[int]error{}, all: inOrder(out)}
	for _, o := range out {
		to := target{o.Server, o.Directory}
		for n := range min(workers, (len(o.Writes)+63)/64) {
			c, err := u.dial(ctx, to)
			if err != nil && n > 0 {
				break // fewer do it too
			}
			if err != nil {
				w.close()
				return nil, err
			}
			w.conns[to] = append(w.conns[to], c)
		}
	}
	w.seen = make([]atomic.Int32, len(w.all))
	return w, nil
}

func (u *Push) dial(ctx context.Context, to target) (c connection, err error) {
	if to.directory != "" {
		c.people, err = u.Directory(ctx, to.directory)
	} else {
		c.Server, err = u.Dial(ctx, to.server)
	}
	return c, err
}

// inOrder gives all that is to be written in the order in which it is: phase by phase,
// in each what goes to one server after the other.
func inOrder(out []plan.Outbound) (all []item) {
	for _, o := range out {
		for _, x := range o.Writes {
			all = append(all, item{Write: x, target: target{o.Server, o.Directory}})
		}
	}
	slices.SortStableFunc(all, func(a, b item) int { return cmp.Compare(a.Phase, b.Phase) })
	return all
}

func (w *writing) close() {
	for _, list := range w.conns {
		for _, c := range list {
			c.close()
		}
	}
}

// read reads an item as it is on its server now.
func (x *item) read(ctx context.Context, c server.Server) (rule.Any, error) {
	if x.OfShare {
		return c.ShareRules(ctx, x.Share)
	}
	i, err := c.Look(ctx, x.Share, x.Writing.Path, x.Audits())
	if err != nil {
		return nil, err
	}
	x.found = i
	return i.Rules, nil
}

func (x *item) state(ctx context.Context, c connection) (state, error) {
	if x.Membership() {
		in, err := c.has(ctx, &x.Write)
		switch {
		case err != nil:
			return other, err
		case in == x.In:
			return after, nil
		}
		return before, nil
	}
	now, err := x.read(ctx, c)
	if err != nil {
		return other, err
	}
	return x.is(now), nil
}

// is tells which state rules are.
func (x *item) is(now rule.Any) state {
	switch {
	case server.Same(x.Before, now, x.Audits()):
		return before
	case server.Same(x.To, now, x.Audits()):
		return after
	case between(now, x.Before, x.To):
		return partly
	}
	return other
}

// between tells whether rules of a POSIX tree are on their way from one to another.
func between(now, from, to rule.Any) bool {
	n, ok1 := now.(*posix.Rules)
	b, ok2 := from.(*posix.Rules)
	a, ok3 := to.(*posix.Rules)
	return ok1 && ok2 && ok3 && n.Marked(b.Marks).Between(b, a.Marked(b.Marks))
}

// states reads how every item stands.
func (w *writing) states(ctx context.Context) ([]state, error) {
	out := make([]state, len(w.all))
	err := w.each(ctx, 0, len(w.all), func(i int, c connection) (err error) {
		x := &w.all[i]
		if out[i], x.err = x.state(ctx, c); x.err != nil && (ctx.Err() != nil || gone(x.err)) {
			return x.err
		}
		return nil
	})
	return out, err
}

// unexpected refuses where an item isn't as it has to be.
func (w *writing) unexpected(states []state, want state) error {
	var e *Otherwise
	for i, s := range states {
		if s == want {
			continue
		}
		if e == nil {
			e = &Otherwise{Server: w.all[i].name(), Directory: w.all[i].directory != "", Membership: w.all[i].Membership()}
		}
		if e.Items++; len(e.Where) < 8 {
			e.Where = append(e.Where, w.all[i].Where)
		}
	}
	if e == nil {
		return nil
	}
	return e
}

// write brings every item that is in the other state to the wanted one, phase by
// phase (going back: the last first), folders before what is in them, each looked at
// directly before and read back after. Going forward it ends where somebody else has
// changed an item since; going back such items are left as they are.
func (w *writing) write(ctx context.Context, states []state, want state) error {
	done := 0
	for i, s := range states {
		if s == want {
			done++
		}
		if s == after && want == after {
			w.seen[i].Store(seenWritten)
		}
	}
	w.count.Store(int64(done))
	phases := w.runs(0, len(w.all), func(x *item) any { return x.Phase })
	if want == before {
		slices.Reverse(phases)
	}
	for _, phase := range phases {
		for _, run := range w.runs(phase[0], phase[1], func(x *item) any { return [2]any{x.Depth, x.target} }) {
			if err := w.each(ctx, run[0], run[1], func(i int, c connection) error { return w.one(ctx, i, c, states, want) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// runs divides the items from to to into such as are alike one after the other: where
// each begins and ends.
func (w *writing) runs(from, to int, of func(*item) any) (out [][2]int) {
	for i := from; i < to; i++ {
		if i > from && of(&w.all[i]) == of(&w.all[i-1]) {
			out[len(out)-1][1] = i + 1
		} else {
			out = append(out, [2]int{i, i + 1})
		}
	}
	return out
}

// one brings one item to the wanted state.
func (w *writing) one(ctx context.Context, i int, c connection, states []state, want state) error {
	// What stands there and is neither is somebody else's, but where this run
	// has seen the server itself make it of what was written.
	made := want == before && w.seen[i].Load() == seenMade
	if states[i] == want || states[i] == other && !made || w.all[i].twin {
		return nil
	}
	if w.all[i].Membership() {
		return w.member(ctx, i, c, states, want)
	}
	x := w.all[i].Writing
	if want == before {
		x.Before, x.To = x.To, x.Before
	}
	if states[i] == other || states[i] == partly {
		now, err := w.all[i].read(ctx, c)
		if err != nil {
			return w.failed(ctx, i, err)
		}
		if states[i] == other && !rewritten(w.all[i].To, now) || states[i] == partly && !between(now, x.Before, x.To) {
			states[i] = other
			return w.overtaken(i, want)
		}
		x.Before = now
	}
	if want == after {
		w.seen[i].Store(seenBegun)
	}
	err := c.Write(ctx, x)
	if errors.Is(err, server.ErrReplaced) && want == before { // all else is put back
		bare := *x.To.(*posix.Rules)
		bare.Special &^= posix.SetUID | posix.SetGID
		x.To = &bare
		if err = c.Write(ctx, x); err == nil {
			states[i] = other
			return nil
		}
	}
	if errors.Is(err, server.ErrChanged) {
		states[i] = other
		w.seen[i].Store(seenNothing)
		return w.overtaken(i, want)
	}
	if err != nil {
		if err = w.failed(ctx, i, err); w.leaves(ctx, i, c, err, want) {
			return nil
		}
		return err
	}
	w.last.Store(time.Now().UnixNano())
	now, err := w.all[i].read(ctx, c)
	if err != nil {
		return w.failed(ctx, i, err)
	}
	if is := w.all[i].is(now); is != want {
		states[i] = is
		if want == before { // somebody else came directly after
			return nil
		}
		if rewritten(w.all[i].To, now) {
			w.seen[i].Store(seenMade)
			return &refusal{w.all[i].Where, errors.New("the server took it and has something else now")}
		}
		return &refusal{w.all[i].Where, errOvertaken}
	}
	w.reached(i, states, want)
	return nil
}

// reached notes that an item was read back in the state it was to be brought to.
func (w *writing) reached(i int, states []state, want state) {
	states[i] = want
	if want == after {
		w.seen[i].Store(seenWritten)
	}
	n := int(w.count.Add(1))
	if w.step != nil {
		w.step(n, len(w.all))
	}
}

// member makes a membership come or go. That somebody else has made it so meanwhile is
// told by the server itself, where rules have to be looked at.
func (w *writing) member(ctx context.Context, i int, c connection, states []state, want state) error {
	x := &w.all[i]
	switch {
	case want == before && w.seen[i].Load() == seenTheirs:
		return nil
	case want == after:
		w.seen[i].Store(seenBegun)
	}
	err := c.set(ctx, &x.Write, (want == after) == x.In)
	if errors.Is(err, server.ErrChanged) {
		states[i] = want
		if want == after {
			w.seen[i].Store(seenTheirs)
		}
		return w.overtaken(i, want)
	}
	if err != nil {
		return w.failed(ctx, i, err)
	}
	is, err := x.state(ctx, c)
	if err != nil {
		return w.failed(ctx, i, err)
	}
	if states[i] = is; is != want {
		return w.overtaken(i, want)
	}
	w.reached(i, states, want)
	return nil
}

// leaves notes that an item is left as it is: the server says no to it, nothing
// of it was written, and what can't be written is to be left out.
func (w *writing) leaves(ctx context.Context, i int, c connection, why error, want state) bool {
	var no *refusal
	if !w.partly || want != after || !errors.As(why, &no) {
		return false
	}
	if is, err := w.all[i].state(ctx, c); err != nil || is != before {
		return false
	}
	w.m.Lock()
	defer w.m.Unlock()
	w.left[i] = no.err
	w.seen[i].Store(seenNothing)
	return true
}

var errOvertaken = errors.New("somebody else changed it on the server while this was written, and it is left as it is")

// overtaken is what an item comes to that somebody else has changed: it ends a
// change that goes forward, and is passed over where it goes back.
func (w *writing) overtaken(i int, want state) error {
	if want == before {
		return nil
	}
	return &refusal{w.all[i].Where, errOvertaken}
}

// stands reads everything again once all is written. There is no call that
// writes rules only where they are what they were, so somebody who looked
// before a write of ours may still write over it: as long as that takes is
// waited for, and what slipped through is found.
func (w *writing) stands(ctx context.Context) error {
	var settles time.Duration
	for _, list := range w.conns {
		if list[0].people == nil { // a directory changes each value of a list by itself
			settles = max(settles, list[0].Settles())
		}
	}
	if last := w.last.Load(); last != 0 {
		time.Sleep(time.Until(time.Unix(0, last).Add(settles)))
	}
	states, err := w.states(ctx)
	if err != nil {
		return err
	}
	for i, s := range states {
		if _, left := w.left[i]; left && s == before {
			continue
		}
		if w.all[i].err != nil {
			return w.failed(ctx, i, w.all[i].err)
		}
		if s != after {
			return &refusal{w.all[i].Where, errOvertaken}
		}
		w.seen[i].Store(seenWritten)
	}
	return nil
}

// rewritten tells whether rules are what a server may make of those it was
// given by itself: generic rights mapped ([MS-DTYP] §2.4.3), the list's own
// marks set anew. Anything else is somebody's work.
func rewritten(given, now rule.Any) bool {
	g, ok := given.(*rule.Descriptor)
	n, also := now.(*rule.Descriptor)
	if !ok || !also || g.Owner != n.Owner || g.Group != n.Group || g.Rules.Absent != n.Rules.Absent || len(g.Rules.Entries) != len(n.Rules.Entries) {
		return false
	}
	for i, e := range g.Rules.Entries {
		if have := n.Rules.Entries[i]; have.Kind != e.Kind || have.Who != e.Who || have.Rights.Map() != e.Rights.Map() {
			return false
		}
	}
	return true
}

// failed tells a server that says no from one that is gone.
func (w *writing) failed(ctx context.Context, i int, err error) error {
	if ctx.Err() != nil || gone(err) {
		return err
	}
	return &refusal{w.all[i].Where, err}
}

// each calls fn for the items from to to, by as many connections as there are.
func (w *writing) each(ctx context.Context, from, to int, fn func(i int, c connection) error) error {
	if from == to {
		return nil
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var next atomic.Int64
	next.Store(int64(from))
	var wg sync.WaitGroup
	conns := 0
	for _, list := range w.conns {
		conns = max(conns, len(list))
	}
	for k := range conns {
		wg.Go(func() {
			for ctx.Err() == nil {
				i := int(next.Add(1)) - 1
				if i >= to {
					return
				}
				list := w.conns[w.all[i].target]
				if err := fn(i, list[k%len(list)]); err != nil {
					stop(err)
					return
				}
			}
		})
	}
	wg.Wait()
	return context.Cause(ctx)
}
