// Package saved writes a plan down as a change set, and makes it a plan again
// where all it rests on still holds.
package saved

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
)

// Finish makes the plan of a change whose writing was broken off: the estate
// stands as it stood then.
func Finish(d *plan.Planner, s *Saved, undoes int64) (*plan.Plan, error) {
	p, err := rebuild(d, s)
	if err != nil {
		return nil, err
	}
	p.Change, p.Undoes = s.Summary, undoes
	return d.Evaluate(p)
}

// SavedRecord is something written down in a saved change set.
type SavedRecord struct {
	Kind   string           `json:"kind"`
	Name   string           `json:"name"`
	Was    string           `json:"before,omitempty"`
	Is     string           `json:"after,omitempty"`
	Number int64            `json:"number,omitempty"`
	Edit   edit.Description `json:"told-as"`
}

func savedRecords(p *plan.Plan) (out []SavedRecord) {
	for _, e := range p.Work.Records {
		out = append(out, SavedRecord{string(e.Kind), e.Name, e.Before, e.After, e.Number, e.Edit})
	}
	return out
}

// rebuildRecords takes the records of a saved change set into a plan.
func rebuildRecords(d *plan.Planner, p *plan.Plan, s *Saved) error {
	for _, x := range s.Records {
		kind := estate.RecordKind(x.Kind)
		if !slices.Contains(estate.RecordKinds[:], kind) {
			return &estate.Refused{Why: "the change set writes down something of a kind this program doesn't know: " + x.Kind}
		}
		if d.T.Record(kind, x.Name) != x.Was || x.Number != 0 && d.T.NextNumber(kind) != x.Number {
			return moved(x.Edit.Where)
		}
		p.Work.Records = append(p.Work.Records, edit.Record{Kind: kind, Name: x.Name, Before: x.Was, After: x.Is, Number: x.Number, Edit: x.Edit})
	}
	return nil
}

// Saved is a change set in a file; docs/formats.md describes it.
type Saved struct {
	Tarnwold string        `json:"tarnwold"` // "change-set 2"
	Summary  string        `json:"summary"`
	Command  string        `json:"command"`
	By       string        `json:"saved-by"`
	At       string        `json:"saved-at"` // RFC 3339
	Saw      string        `json:"saw"`      // digest of all the change rests on
	Renew    bool          `json:"renew"`
	Items    []SavedEdit   `json:"items"`
	Shares   []SavedEdit   `json:"shares"`
	Members  []SavedMember `json:"members"`
	// Administrators come onto servers' lists or off them, users get another
	// primary group; both are absent where there are none.
	Administrators []SavedAdministrator `json:"administrators,omitempty"`
	Primaries      []SavedPrimary       `json:"primary-groups,omitempty"`
	// Records are what is written down beside the rules; absent where there are none.
	Records []SavedRecord `json:"papers,omitempty"`
	Digest  string        `json:"digest"` // of all the above
}

// SavedEdit is one descriptor before and after, self-relative in base64, and
// the last days of its own entries.
type SavedEdit struct {
	Where  string            `json:"where"`
	Before string            `json:"before"`
	After  string            `json:"after"`
	Was    map[string]string `json:"last-days-before"` // entry → day
	Is     map[string]string `json:"last-days-after"`
}

// SavedMember is one membership before and after: a day, "" for good, null for none.
type SavedMember struct {
	Group  string  `json:"group"`
	Member string  `json:"member"`
	Was    *string `json:"before"`
	Is     *string `json:"after"`
	// Local: it comes into a list of the server's own.
	Local bool `json:"local,omitempty"`
}

// SavedAdministrator is an account that comes onto a server's list of
// administrators, or goes off it.
type SavedAdministrator struct {
	Server  string `json:"server"`
	Account string `json:"account"`
	On      bool   `json:"comes"`
}

// SavedPrimary is a user's primary group before and after, as identifiers; ""
// for none.
type SavedPrimary struct {
	User string `json:"user"`
	Was  string `json:"before"`
	Is   string `json:"after"`
}

const savedMark = "change-set 2"

func (s *Saved) Computed() string {
	c := *s
	c.Digest = ""
	js, _ := json.Marshal(c) // of strings alone
	h := sha256.Sum256(js)
	return hex.EncodeToString(h[:])
}

// saw sums up what a plan rests on: every descriptor at, above and below its
// places and how many items have each, last days, the shares, and the people.
func saw(d *plan.Planner, p *plan.Plan) (string, error) {
	h := sha256.New()
	f := p.Work.Partition
	counts := map[int64]int64{}
	body := func(a rule.Any) ([]byte, error) {
		_, b, err := estate.Encode(a)
		return b, err
	}
	var lines []string
	for i := range f.Nodes {
		n := &f.Nodes[i]
		base := f.Strand(i)
		if counts[base] += n.Items; counts[base] == n.Items {
			b, err := body(n.Before)
			if err != nil {
				return "", err
			}
			lines = append(lines, fmt.Sprintf("%d %v %x", base, n.Folder, b))
		}
		if n.Parent < 0 {
			for _, a := range f.Chain(i, false) {
				b, err := body(a)
				if err != nil {
					return "", err
				}
				lines = append(lines, fmt.Sprintf("above %d %x", base, b))
			}
		}
	}
	for base, n := range counts {
		lines = append(lines, fmt.Sprintf("%d has %d", base, n))
	}
	slices.Sort(lines)
	lines = slices.Compact(lines)
	for _, s := range d.T.Servers() {
		if !slices.ContainsFunc(p.Work.Roots, func(r plan.Root) bool { return r.Server.ID == s.ID }) && !p.Work.People() {
			continue
		}
		lines = append(lines, fmt.Sprintf("server %s %v %v", s.Name, s.Traits, d.T.Administrators(s)))
		for _, sh := range d.T.Shares(s) {
			b, err := secdesc.Encode(sh.Descriptor)
			if err != nil {
				return "", err
			}
			lines = append(lines, fmt.Sprintf("share %s %s %v %x", sh.Address(), sh.Folder, sh.ReadOnly, b))
		}
	}
	dir := d.T.Directory()
	for _, id := range dir.All() {
		a, _ := dir.Account(id)
		lines = append(lines, fmt.Sprintf("%q %s %s %d %v", a.Name, a.ID, a.Primary, a.POSIX, dir.GroupsOf(id)))
	}
	for _, l := range lines {
		fmt.Fprintln(h, l)
	}
	return hex.EncodeToString(h.Sum(nil)), d.T.Err()
}

// Save writes a plan down instead of keeping it.
func Save(d *plan.Planner, p *plan.Plan, command string) ([]byte, error) {
	s := Saved{Tarnwold: savedMark, Summary: p.Change, Command: command, By: d.Actor, At: time.Now().Format(time.RFC3339),
		Renew: p.Work.Partition.Renew, Items: []SavedEdit{}, Shares: []SavedEdit{}, Members: []SavedMember{}}
	var err error
	days := func(dated estate.Dated) map[string]string {
		out := map[string]string{}
		for e, u := range dated {
			out[estate.EntryKey(e)] = string(u)
		}
		return out
	}
	written := func(where string, before, after rule.Any, was, is estate.Dated) (SavedEdit, error) {
		e := SavedEdit{Where: where, Was: days(was), Is: days(is)}
		if e.Before, err = plan.Encoded(before); err == nil {
			e.After, err = plan.Encoded(after)
		}
		return e, err
	}
	dates := map[estate.Bearer]edit.LastDays{}
	for _, x := range p.Work.Dates {
		dates[x.Of] = x
	}
	f := p.Work.Partition
	edits := func(n int) bool { return p.Work.IsNamed[n] || f.Edits[n] != nil }
	leads := map[int]bool{} // what is renewed below them changes, whether they do or not
	for n := range f.Nodes {
		at := n
		for at >= 0 && !edits(at) {
			at = f.Nodes[at].Parent
		}
		if f.Renew && at >= 0 && f.Nodes[n].Changed() {
			leads[at] = true
		}
	}
	for n := range f.Nodes {
		if !edits(n) {
			continue
		}
		node := &f.Nodes[n]
		for _, item := range f.Some(d.T, n, int(node.Items)) {
			x, dated := dates[estate.Bearer{Item: item}]
			if !node.Changed() && !dated && !leads[n] {
				continue
			}
			was := x.Before
			if !dated && d.T.HasDates() {
				was = d.T.Dated(estate.Bearer{Item: item}, node.Before)
			}
			is := x.After
			if !dated {
				is = plan.Still(was, node.After.Listed())
			}
			e, err := written(d.T.Where(item), node.Before, node.After, was, is)
			if err != nil {
				return nil, err
			}
			s.Items = append(s.Items, e)
		}
	}
	for _, x := range p.Work.Shares {
		if x.Before == nil || x.After == nil {
			return nil, &estate.Refused{Why: "shares that come or go can't be saved for later"}
		}
		if x.Before.ReadOnly != x.After.ReadOnly || !x.Before.Admission.Same(x.After.Admission) {
			return nil, &estate.Refused{Why: "a share's switch and what a configuration says of it can't be saved for later", Do: "load the configuration again then"}
		}
		was := d.T.Dated(estate.Bearer{Share: x.Before.ID}, x.Before.Descriptor)
		is := plan.Still(was, x.After.Descriptor)
		if y, ok := dates[estate.Bearer{Share: x.Before.ID}]; ok {
			is = y.After
		}
		e, err := written(x.Before.Address(), x.Before.Descriptor, x.After.Descriptor, was, is)
		if err != nil {
			return nil, err
		}
		s.Shares = append(s.Shares, e)
	}
	for _, m := range p.Work.Members {
		day := func(m *estate.Membership) *string {
			if m == nil {
				return nil
			}
			s := string(m.Until)
			return &s
		}
		s.Members = append(s.Members, SavedMember{"group:" + m.Group.Name, m.Member.Kind.String() + ":" + m.Member.Name, day(m.Was), day(m.Is), m.Is != nil && m.Is.Local})
	}
	for _, e := range p.Work.Admins {
		s.Administrators = append(s.Administrators, SavedAdministrator{e.Server.Name, e.Who.Kind.String() + ":" + e.Who.Name, e.On})
	}
	for _, e := range p.Work.Accounts {
		if e.Before == nil || e.After == nil {
			return nil, &estate.Refused{Why: "accounts that come or go can't be saved for later"}
		}
		only := *e.Before
		only.Primary = e.After.Primary
		if only != *e.After {
			return nil, &estate.Refused{Why: "of accounts only primary groups can be saved for later"}
		}
		text := func(id plan.ID) string {
			if id.IsZero() {
				return ""
			}
			return id.String()
		}
		s.Primaries = append(s.Primaries, SavedPrimary{e.Before.Name, text(e.Before.Primary), text(e.After.Primary)})
	}
	if w := &p.Work; len(w.Servers)+len(w.Made)+len(w.Moved)+len(w.Removed)+len(w.Rows)+len(w.Levels) > 0 {
		return nil, &estate.Refused{Why: "this change can't be saved for later", Do: "leave --save out"}
	}
	// What it rests on is what it will be seen to rest on when it is applied.
	s.Records = savedRecords(p)
	again, err := rebuild(d, &s)
	if err != nil {
		return nil, err
	}
	if s.Saw, err = saw(d, again); err != nil {
		return nil, err
	}
	s.Digest = s.Computed()
	js, err := json.MarshalIndent(s, "", "  ")
	return append(js, '\n'), err
}

// maxSaved is the most bytes of a saved change set.
const maxSaved = 256 << 20

// ReadSaved reads a saved change set.
func ReadSaved(r io.Reader, file string) (*Saved, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxSaved+1))
	if err != nil {
		return nil, err
	}
	bad := func(at int, what string, args ...any) error {
		return &format.Error{File: file, Line: 1 + bytes.Count(text[:min(at, len(text))], []byte("\n")), What: format.Clip(fmt.Sprintf(what, args...))}
	}
	if len(text) > maxSaved {
		return nil, bad(0, "it is larger than a change set can be (%d bytes)", maxSaved)
	}
	s := &Saved{}
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	if err := dec.Decode(s); err != nil {
		return nil, bad(int(dec.InputOffset()), "this is not a saved change set: %v", err)
	}
	end := int(dec.InputOffset())
	if _, err := dec.Token(); err != io.EOF {
		return nil, bad(end, "something stands behind the change set")
	}
	switch {
	case s.Tarnwold != savedMark:
		return nil, bad(0, "%q is not a kind of file this program knows, wanted %q", s.Tarnwold, savedMark)
	case strings.TrimSpace(s.Summary) == "":
		return nil, bad(0, "the change set says nothing of what it does: its summary is empty")
	case s.Digest != s.Computed():
		return nil, bad(0, "the change set was altered after it was saved: its digest doesn't fit")
	}
	return s, nil
}

// Apply makes a plan of a saved change set, as it would be now. It is refused
// where what it rests on is another one now.
func Apply(d *plan.Planner, s *Saved) (*plan.Plan, error) {
	p, err := rebuild(d, s)
	if err != nil {
		return nil, err
	}
	saw, err := saw(d, p)
	if err != nil {
		return nil, err
	}
	if saw != s.Saw {
		return nil, moved("what it rests on (rules around its places, shares, last days, or who is in which group)")
	}
	if p, err = d.Evaluate(p); err != nil {
		return nil, err
	}
	p.Change = kept(p)
	if s.By != d.Actor {
		p.Change += ", saved by " + s.By
	}
	return p, nil
}

func moved(where string) error {
	return &estate.Refused{Why: fmt.Sprintf("%s has changed since the change set was saved", where), Do: "work it out anew"}
}

// rebuild makes a plan of a saved change set, unfinished.
func rebuild(d *plan.Planner, s *Saved) (*plan.Plan, error) {
	p := d.NewPlan("%s", s.Summary)
	p.Since = plan.After(s.At)
	p.Nothing = "it is so already"
	r := &rebuilding{d: d, p: p, s: s}
	for _, part := range []func() error{r.items, r.shares, r.members, r.administrators, r.primaries, r.records, r.below} {
		if err := part(); err != nil {
			return nil, err
		}
	}
	d.FindRoots(p)
	return p, d.T.Err()
}

// rebuilding is a saved change set that becomes a plan: part by part, each held to
// what the estate has now.
type rebuilding struct {
	d      *plan.Planner
	p      *plan.Plan
	s      *Saved
	groups []*estate.Group // items, by the rules they get
}

// dated takes in the last days of an item or a share.
func (r *rebuilding) dated(of estate.Bearer, where string, before, after rule.Any, e SavedEdit, folder bool) error {
	have := r.d.T.Dated(of, before)
	if !sameKeys(have, e.Was) {
		return moved(where)
	}
	want := estate.Dated{}
	for _, x := range after.Listed().Rules.Own() {
		if u, ok := e.Is[estate.EntryKey(x)]; ok {
			day, err := estate.ParseDay(u)
			if err != nil {
				return &estate.Refused{Why: err.Error()}
			}
			if have[x] != day {
				if err := r.d.Future(day); err != nil {
					return err
				}
			}
			want[x] = day
		}
	}
	if !maps.Equal(have, want) {
		r.p.Work.Dates = append(r.p.Work.Dates, edit.LastDays{Of: of, Before: have, After: want, Folder: folder, Node: -1})
	}
	return nil
}

// items takes in what items had and get.
func (r *rebuilding) items() error {
	d, s := r.d, r.s
	afters := map[string]rule.Any{}
	groups := map[string]*estate.Group{}
	for _, e := range s.Items {
		at, err := d.K.Place(e.Where)
		if err != nil {
			return err
		}
		before, err := plan.Decoded(e.Before)
		if err != nil {
			return &estate.Refused{Why: fmt.Sprintf("%s, before: %v", e.Where, err)}
		}
		if !before.Same(d.T.Of(at.Strand)) {
			return moved(e.Where)
		}
		after := afters[e.After]
		if after == nil {
			if after, err = plan.Decoded(e.After); err != nil {
				return &estate.Refused{Why: fmt.Sprintf("%s, after: %v", e.Where, err)}
			}
			afters[e.After] = after
		}
		if err := r.dated(estate.Bearer{Item: at.Item}, e.Where, before, after, e, at.Folder); err != nil {
			return err
		}
		g := groups[e.After]
		if g == nil {
			g = &estate.Group{Edit: func(rule.Any, rule.Any, bool) (rule.Any, error) { return after, nil }}
			groups[e.After] = g
			r.groups = append(r.groups, g)
		}
		g.Targets = append(g.Targets, at.Target())
	}
	return nil
}

// shares takes in what shares had and get.
func (r *rebuilding) shares() error {
	d, p, s := r.d, r.p, r.s
	for _, e := range s.Shares {
		servers, shares, err := d.Shares([]string{e.Where})
		if err != nil {
			return err
		}
		before := shares[0]
		now, err := plan.Encoded(before.Descriptor)
		if err != nil {
			return err
		}
		if now != e.Before {
			return moved(e.Where)
		}
		after := before
		if after.Descriptor, err = plan.Listed(plan.Decoded(e.After)); err != nil {
			return &estate.Refused{Why: fmt.Sprintf("%s, after: %v", e.Where, err)}
		}
		if err := r.dated(estate.Bearer{Share: before.ID}, e.Where, before.Descriptor, after.Descriptor, e, false); err != nil {
			return err
		}
		p.Work.Shares = append(p.Work.Shares, edit.Share{Server: servers[0], Before: &before, After: &after})
	}
	return nil
}

// members takes in memberships that come, go and end otherwise.
func (r *rebuilding) members() error {
	d, p, s := r.d, r.p, r.s
	for _, m := range s.Members {
		g, err := d.T.Named(m.Group, acc.Group)
		if err != nil {
			return err
		}
		a, err := d.T.Named(m.Member, 0)
		if err != nil {
			return err
		}
		had, ok := d.T.Member(g.ID, a.ID)
		if ok != (m.Was != nil) || ok && string(had.Until) != *m.Was {
			return moved(fmt.Sprintf("%s in %s", d.T.Name(a.ID), d.T.Name(g.ID)))
		}
		e := edit.Membership{Group: &g, Member: &a, Was: nil, Is: nil}
		if ok {
			e.Was = &had
		}
		if m.Is != nil {
			day, err := estate.ParseDay(*m.Is)
			if err != nil {
				return &estate.Refused{Why: err.Error()}
			}
			if err := d.Future(day); err != nil {
				return err
			}
			e.Is = &estate.Membership{Until: day, Local: had.Local || m.Local}
			if a.Kind == acc.Group && !ok {
				if loop := d.T.Directory().Loop(g.ID, a.ID); loop != nil {
					return &people.Circle{Group: d.T.Name(g.ID), Member: d.T.Name(a.ID), Loop: d.T.Names(loop)}
				}
			}
		}
		p.Work.Members = append(p.Work.Members, e)
	}
	return nil
}

// administrators takes in who comes to a server's list, or goes.
func (r *rebuilding) administrators() error {
	d, p, s := r.d, r.p, r.s
	for _, x := range s.Administrators {
		server, err := d.T.Server(x.Server)
		if err != nil {
			return err
		}
		a, err := d.T.Named(x.Account, 0)
		if err != nil {
			return err
		}
		if slices.Contains(d.T.Administrators(server), a.ID) == x.On {
			return moved("server " + server.Name + "'s list of administrators")
		}
		p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: server, Who: a, On: x.On})
	}
	return nil
}

// primaries takes in primary groups.
func (r *rebuilding) primaries() error {
	d, p, s := r.d, r.p, r.s
	for _, x := range s.Primaries {
		u, err := d.T.Named(x.User, acc.User)
		if err != nil {
			return err
		}
		group := func(text string) (id plan.ID, err error) {
			if text != "" {
				if id, err = acc.ParseID(text); err != nil {
					err = &estate.Refused{Why: format.Clip(err.Error())}
				}
			}
			return id, err
		}
		was, err := group(x.Was)
		if err != nil {
			return err
		}
		if u.Primary != was {
			return moved("the primary group of " + d.T.Name(u.ID))
		}
		after := u
		if after.Primary, err = group(x.Is); err != nil {
			return err
		}
		if a, ok := d.T.Account(after.Primary); !after.Primary.IsZero() && (!ok || a.Kind != acc.Group) {
			return &estate.Refused{Why: x.Is + " is not a group of the estate"}
		}
		p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &u, After: &after})
	}
	return nil
}

// records takes in what is written down beside the rules.
func (r *rebuilding) records() error { return rebuildRecords(r.d, r.p, r.s) }

// below lays out the items, and works out what follows.
func (r *rebuilding) below() error {
	d, p, s := r.d, r.p, r.s
	p.Work.Everywhere = p.Work.People() && (len(s.Items) > 0 || len(s.Shares) > 0)
	if len(r.groups) == 0 {
		return d.Below(p)
	}
	var list []estate.Group
	for _, g := range r.groups {
		list = append(list, *g)
	}
	f, err := d.LayOut(p, list)
	if err != nil {
		return err
	}
	f.Renew = s.Renew
	p.Work.Partition, p.Work.Renews = f, s.Renew
	if err := f.Work(d.Ctx); err != nil {
		return err
	}
	for i := range f.Nodes {
		if f.Edits[i] != nil {
			p.Work.Name(i)
		}
	}
	for i := range p.Work.Dates {
		if x := &p.Work.Dates[i]; x.Of.Item != 0 {
			x.Node = f.Node(x.Of.Item)
		}
	}
	return nil
}

// kept says what a plan does from what it edits.
func kept(p *plan.Plan) string {
	var says []string
	for i, e := range p.Edits {
		if i == 4 {
			says = append(says, fmt.Sprintf("and %d more", len(p.Edits)-i))
			break
		}
		for k, l := range e.Lines {
			if k == 3 {
				says = append(says, "and more there")
				break
			}
			text := l.Text
			if text == "" {
				text = l.What
			}
			says = append(says, fmt.Sprintf("%s %s on %s", l.Sign, text, e.Where))
		}
	}
	return "apply: " + strings.Join(says, "; ")
}

func sameKeys(have estate.Dated, saved map[string]string) bool {
	if len(have) != len(saved) {
		return false
	}
	for e, u := range have {
		if saved[estate.EntryKey(e)] != string(u) {
			return false
		}
	}
	return true
}
