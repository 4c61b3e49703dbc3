// Package undo makes plans of what takes a change of the journal back, or makes it
// again: to the byte where nothing came after.
package undo

import (
	"fmt"
	"maps"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/item"
)

// records takes back what a change wrote down.
func (u *undoing) records() error {
	for i := range u.did.Records.List {
		n := &u.did.Records.List[i]
		kind, name := n.Either().Kind, n.Either().Name
		e := edit.Record{Kind: kind, Name: name}
		now, there := u.d.T.RecordNow(n.ID)
		sign := edit.Changes
		if n.After != nil {
			if !there || now.Body != n.After.Body {
				if err := u.later("papers", n.ID, "it was altered since"); err != nil {
					return err
				}
				if !there {
					continue
				}
			}
			e.Before = now.Body
			if sign = edit.Goes; n.Before != nil {
				sign, e.After = edit.Changes, n.Before.Body
			}
		} else {
			if u.d.T.Record(kind, name) != "" {
				return u.never("there is a %s again", plan.RecordName(kind, name))
			}
			sign, e.After, e.Row = edit.Comes, n.Before.Body, n.ID
		}
		body := e.After
		if body == "" {
			body = e.Before
		}
		e.Edit = u.d.DescribeRecord(kind, name, body, sign)
		if e.Before != e.After {
			u.p.Work.Records = append(u.p.Work.Records, e)
			if _, differs := e.Former(); differs {
				u.p.Work.Everywhere = true
			}
		}
	}
	return nil
}

// BuiltOn refuses to take back what a later change builds on.
type BuiltOn struct {
	Change  int64  `json:"change"`
	Later   int64  `json:"later,omitempty"`
	Summary string `json:"later-what,omitempty"`
	Why     string `json:"why,omitempty"`
	Never   bool   `json:"never,omitempty"` // --force doesn't help
}

func (e *BuiltOn) Error() string {
	s := e.Why
	if e.Later != 0 {
		s = fmt.Sprintf("change %d (%s) builds on change %d", e.Later, e.Summary, e.Change)
		if e.Why != "" {
			s += ": " + e.Why
		}
	}
	if e.Never {
		return s + "; undo what came later first"
	}
	return s + "; undo that first, or use --force to override"
}

// Undo takes a change back.
func Undo(d *plan.Planner, id int64, force bool) (*plan.Plan, error) {
	r, err := d.T.ChangeNumbered(id)
	if err != nil {
		return nil, err
	}
	if r.UndoneBy != 0 {
		return nil, &estate.Refused{Why: fmt.Sprintf("change %d is undone already, by change %d", id, r.UndoneBy)}
	}
	return TakeBack(d, id, force, fmt.Sprintf("undo %d: %s", id, r.Summary))
}

// Redo makes a change again that was undone.
func Redo(d *plan.Planner, id int64, force bool) (*plan.Plan, error) {
	r, err := d.T.ChangeNumbered(id)
	if err != nil {
		return nil, err
	}
	if r.UndoneBy == 0 {
		return nil, &estate.Refused{Why: fmt.Sprintf("change %d is not undone", id)}
	}
	return TakeBack(d, r.UndoneBy, force, fmt.Sprintf("redo %d: %s", id, r.Summary))
}

// undoing is a change being taken back.
type undoing struct {
	d      *plan.Planner
	p      *plan.Plan
	id     int64
	force  bool
	did    *edit.Journal // what the change did, row by row
	people *peopleNow    // see undo_people.go
	// checks are accounts that go, whose entries are looked for at the end.
	checks    []acc.Account
	mine      map[plan.ID]map[string]bool // see mineOf
	elsewhere map[plan.ID]bool            // see namedElsewhere
	coming    map[int64]acc.Account       // by row: those that are put back
}

// TakeBack works out what a change set, taken back, and everything below
// following. What can't be taken back is said, and nothing is done.
func TakeBack(d *plan.Planner, id int64, force bool, summary string) (*plan.Plan, error) {
	u := &undoing{d: d, p: d.NewPlan("%s", summary), id: id, force: force}
	u.p.Undoes = id
	if r, err := d.T.ChangeNumbered(id); err == nil {
		u.p.Since = plan.After(r.At)
	}
	u.p.Nothing = fmt.Sprintf("what change %d altered is as it was before it already", id)
	var err error
	if u.did, err = edit.ReadJournal(d.T, id); err != nil {
		return nil, err
	}
	if u.did.Empty {
		return nil, &estate.Refused{Why: fmt.Sprintf("change %d altered nothing that could be taken back", id)}
	}
	d.Doing("seeing what has been built on it")
	for _, fn := range []func() error{u.servers, u.accounts, u.members, u.administrators, u.shares, u.levels, u.records, u.loads, u.items, u.rules, u.entriesGone} {
		if err := fn(); err != nil {
			return nil, err
		}
	}
	return d.Evaluate(u.p)
}

// later refuses, or with force goes on, where a later change altered a row.
func (u *undoing) later(table string, row int64, why string) error {
	return u.blocked(u.d.T.LaterTurn(u.id, table, row), why)
}

func (u *undoing) blocked(later int64, why string) error {
	if u.force {
		if !slices.Contains(u.p.Over, "built-on") {
			u.p.Over = append(u.p.Over, "built-on")
		}
		return nil
	}
	return &BuiltOn{Change: u.id, Later: later, Summary: u.d.T.Summary(later), Why: why}
}

// never refuses what can't be taken back, force or not.
func (u *undoing) never(why string, args ...any) error {
	return &BuiltOn{Change: u.id, Why: fmt.Sprintf("change %d can't be taken back: ", u.id) + fmt.Sprintf(why, args...), Never: true}
}

func (u *undoing) servers() error {
	for i := range u.did.Links.List {
		n := &u.did.Links.List[i]
		sign := edit.Changes
		switch {
		case n.Made():
			sign = edit.Goes
			u.back(n.Back())
		case n.Gone():
			sign = edit.Comes
			u.back(n.Back())
		}
		row := n.Either().Server
		if of := u.did.Servers.Of(row); of != nil && (of.Made() || of.Gone()) {
			continue // it comes and goes with its server
		}
		s, there, err := u.server(row)
		if err != nil {
			return err
		}
		if !there {
			return u.never("the server is no longer there")
		}
		if sign == edit.Changes {
			u.p.Work.Links = append(u.p.Work.Links, edit.Link{Server: s, Link: &n.Before.Link})
		}
		u.p.Edits = append(u.p.Edits, edit.Description{Kind: "server", Where: "server " + s.Name, Lines: []edit.Line{{Sign: sign, What: "link"}}})
	}
	return u.serverRows(u.did.Servers.List)
}

// back puts a row back as it was, or takes it out again where it was made.
func (u *undoing) back(r edit.Raw) { u.p.Work.Rows = append(u.p.Work.Rows, r) }

func (u *undoing) serverRows(list []edit.Row[edit.ServerRow]) error {
	t := u.d.T
	for i := range list {
		n := &list[i]
		now, err := edit.ServerNow(t, n.ID)
		if err != nil {
			return err
		}
		find := func() estate.Server {
			s, _ := t.FindServer(now.Name)
			return s
		}
		switch {
		case n.Made():
			if now == nil {
				continue
			}
			s := find()
			for _, sh := range t.Shares(s) {
				if !u.did.Shares.Made(sh.ID) {
					return u.never("server %s has the share %s now", s.Name, sh.Name)
				}
			}
			for _, top := range t.Tops(s) {
				if !u.removesTree(s, top) {
					return u.never("server %s has folders now, at %s", s.Name, top)
				}
			}
			if n := len(t.Administrators(s)); n > len(u.did.Administrators.List) {
				return u.never("server %s has administrators now", s.Name)
			}
			u.p.Work.Servers = append(u.p.Work.Servers, edit.Server{Before: &s})
		case n.Gone():
			s, ok := t.FindServer(n.Before.Name)
			if ok {
				return u.never("there is a server %s now", s.Name)
			}
			u.back(n.Back())
			u.p.Edits = append(u.p.Edits, edit.Description{Kind: "server", Where: "server " + n.Before.Name, Lines: []edit.Line{{Sign: edit.Comes, What: "server"}}})
		default:
			if now == nil {
				return u.never("the server is no longer there")
			}
			if *now != *n.After {
				if err := u.later("servers", n.ID, ""); err != nil {
					return err
				}
			}
			s := find()
			then := s
			then.Traits = n.Before.Traits
			u.p.Work.Servers = append(u.p.Work.Servers, edit.Server{Before: &s, After: &then})
		}
	}
	return nil
}

// removesTree tells whether the change made a tree, so that it goes with it.
func (u *undoing) removesTree(s estate.Server, top string) bool {
	is := func(id int64) bool {
		now, err := edit.TreeNow(u.d.T, id)
		return err == nil && now != nil && now.Server == s.ID && now.Path == top
	}
	for i := range u.did.Trees.List {
		if is(u.did.Trees.List[i].ID) {
			return true
		}
	}
	for _, x := range u.did.Loaded {
		if x.Table != "trees" {
			continue
		}
		for id := x.Row; id <= x.Last; id++ {
			if is(id) {
				return true
			}
		}
	}
	return false
}

// server finds a server by its row: one that is there, or that comes back with
// this undoing.
func (u *undoing) server(row int64) (s estate.Server, ok bool, err error) {
	now, err := edit.ServerNow(u.d.T, row)
	if err != nil {
		return s, false, err
	}
	if now != nil {
		s, err = u.d.T.Server(now.Name)
		return s, true, err
	}
	n := u.did.Servers.Of(row)
	if n == nil || !n.Gone() {
		return s, false, nil
	}
	return estate.Server{ID: row, Name: n.Before.Name, Traits: n.Before.Traits}, true, nil
}

func (u *undoing) administrators() error {
	for i := range u.did.Administrators.List {
		n := &u.did.Administrators.List[i]
		a, ok := u.account(n.Either().Account)
		s, there, err := u.server(n.Either().Server)
		if err != nil {
			return err
		}
		if !ok || !there {
			if n.Made() {
				continue
			}
			return u.never("the server or the account is no longer there")
		}
		on := slices.Contains(u.d.T.Administrators(s), a.ID)
		if want := n.Gone(); want != on {
			u.p.Work.Admins = append(u.p.Work.Admins, edit.Administrator{Server: s, Who: a, On: want})
		}
	}
	u.p.Work.Everywhere = u.p.Work.Everywhere || len(u.p.Work.Admins) > 0 || len(u.p.Work.Accounts) > 0
	return nil
}

func (u *undoing) shares() error {
	for i := range u.did.Shares.List {
		if err := u.share(&u.did.Shares.List[i]); err != nil {
			return err
		}
	}
	return u.admissions()
}

func (u *undoing) share(n *edit.Row[edit.ShareRow]) error {
	t := u.d.T
	now, there := t.ShareByRow(n.ID)
	s, ok, err := u.server(n.Either().Server)
	if err != nil {
		return err
	}
	if !ok {
		return u.never("the share's server is no longer there")
	}
	switch {
	case n.Made():
		if !there {
			return nil
		}
		if now.Descriptor != t.Descriptor(n.After.Descriptor) {
			if err := u.later("shares", n.ID, ""); err != nil {
				return err
			}
		}
		u.p.Work.Shares = append(u.p.Work.Shares, edit.Share{Server: s, Before: &now, After: nil})
	case n.Gone():
		if _, err := t.Share(s, n.Before.Name); err == nil || there {
			return u.never("there is a share //%s/%s now", s.Name, n.Before.Name)
		}
		sh := estate.Share{ID: n.ID, ServerID: s.ID, Server: s.Name, Name: n.Before.Name, Folder: n.Before.Folder,
			ReadOnly: n.Before.ReadOnly, Descriptor: t.Descriptor(n.Before.Descriptor).Listed()}
		u.p.Work.Shares = append(u.p.Work.Shares, edit.Share{Server: s, Before: nil, After: &sh})
		u.back(n.Back())
		u.daysBack(estate.Bearer{Share: n.ID}, sh.Descriptor, false)
	default:
		if !there {
			return u.never("the share is no longer there")
		}
		was, is := t.Descriptor(n.Before.Descriptor).Listed(), t.Descriptor(n.After.Descriptor).Listed()
		then := now
		then.Descriptor = was
		if n.Before.ReadOnly != n.After.ReadOnly {
			then.ReadOnly = n.Before.ReadOnly
		}
		if now.Descriptor != is {
			if err := u.later("shares", n.ID, ""); err != nil {
				return err
			}
			then.Descriptor = Inverse(now.Descriptor, was, is)
		}
		if then.Descriptor != now.Descriptor || then.ReadOnly != now.ReadOnly {
			u.p.Work.Shares = append(u.p.Work.Shares, edit.Share{Server: s, Before: &now, After: &then})
			u.days(estate.Bearer{Share: n.ID}, now.Descriptor, then.Descriptor, false, -1)
		}
	}
	return nil
}

// admissions takes back what a configuration was found to say of shares.
func (u *undoing) admissions() error {
	for i := range u.did.Admissions.List {
		n := &u.did.Admissions.List[i]
		id := n.Either().Share
		var was *estate.Admission
		if n.Before != nil {
			was = n.Before.Is
		}
		if i := slices.IndexFunc(u.p.Work.Shares, func(e edit.Share) bool { return e.Of(id) }); i >= 0 {
			if e := &u.p.Work.Shares[i]; e.After != nil {
				e.After.Admission = was
				if e.Before == nil { // the share comes back, and this with it
					u.back(n.Back())
				}
			}
			continue
		}
		now, there := u.d.T.ShareByRow(id)
		if !there {
			continue
		}
		s, err := u.d.T.Server(now.Server)
		if err != nil {
			return err
		}
		then := now
		if then.Admission = was; !then.Admission.Same(now.Admission) {
			u.p.Work.Shares = append(u.p.Work.Shares, edit.Share{Server: s, Before: &now, After: &then})
		}
	}
	return nil
}

// days works out the last days after a bearer's list is taken back: those of
// entries that stay, with what the change did to them undone.
func (u *undoing) days(of estate.Bearer, now, after rule.Any, folder bool, node int) {
	t := u.d.T
	have := t.Dated(of, now)
	then := after.Listed()
	want := plan.Still(have, then)
	for i := range u.did.LastDays.List {
		n := &u.did.LastDays.List[i]
		if n.Either().Of != of {
			continue
		}
		for _, e := range then.Rules.Own() {
			if estate.EntryKey(e) != n.Either().Entry {
				continue
			}
			if n.Before == nil {
				delete(want, e)
			} else {
				want[e] = n.Before.Until
			}
		}
	}
	if !maps.Equal(have, want) {
		u.p.Work.Dates = append(u.p.Work.Dates, edit.LastDays{Of: of, Before: have, After: want, Folder: folder, Node: node})
	}
}

// daysBack puts the last days back of what is put back itself.
func (u *undoing) daysBack(of estate.Bearer, a rule.Any, folder bool) {
	d := a.Listed()
	want := estate.Dated{}
	for i := range u.did.LastDays.List {
		n := &u.did.LastDays.List[i]
		if !n.Gone() || n.Before.Of != of {
			continue
		}
		for _, e := range d.Rules.Own() {
			if estate.EntryKey(e) == n.Before.Entry {
				want[e] = n.Before.Until
			}
		}
	}
	if len(want) > 0 {
		u.p.Work.Dates = append(u.p.Work.Dates, edit.LastDays{Of: of, After: want, Folder: folder, Node: -1})
	}
}

func (u *undoing) levels() error {
	for i := range u.did.Levels.List {
		n := &u.did.Levels.List[i]
		name := *n.Either()
		_, there := u.d.T.Levels().Lookup(name)
		switch {
		case n.Gone() && there:
			return u.never("there is a level %s now", name)
		case n.Gone(), n.Made() && there:
			u.back(n.Back())
		}
		sign := edit.Goes
		if n.Gone() {
			sign = edit.Comes
		}
		u.p.Edits = append(u.p.Edits, edit.Description{Kind: "level", Where: "level " + name, Lines: []edit.Line{{Sign: sign, What: "level"}}})
	}
	return nil
}

// loads takes back what was loaded by the million: whole ranges of rows.
func (u *undoing) loads() error {
	t := u.d.T
	var items *edit.Raw
	var servers []edit.Row[edit.ServerRow]
	for i := range u.did.Loaded {
		x := &u.did.Loaded[i]
		switch x.Table {
		case "servers":
			for id := x.Row; id <= x.Last; id++ {
				now, err := edit.ServerNow(t, id)
				if err != nil {
					return err
				}
				if now != nil {
					servers = append(servers, edit.Row[edit.ServerRow]{ID: id, After: now})
				}
			}
		case "accounts", "members":
		default:
			if x.Table == "items" {
				items = x
			}
			u.p.Work.Rows = append([]edit.Raw{edit.Gone(x.Table, x.Row, x.Last)}, u.p.Work.Rows...) // what hangs from what first
		}
	}
	if err := u.serverRows(servers); err != nil || items == nil {
		return err
	}
	for _, table := range []string{"items", "strands"} {
		for _, x := range u.did.Loaded {
			if x.Table != table {
				continue
			}
			if later := t.StandingIn(u.id, table, x.Row, x.Last); later != 0 {
				if err := u.blocked(later, ""); err != nil {
					return err
				}
			}
		}
	}
	if in, out := t.CrossesRange(items.Row, items.Last); in > 0 || out > 0 {
		return u.never("something was put into what it made, or moved out of it")
	}
	var tops []estate.Target
	for _, top := range t.TopsIn(items.Row, items.Last) {
		if r, ok := t.ItemRow(top); ok {
			tops = append(tops, estate.Target{Item: top, Strand: r.Strand, Folder: r.Folder})
		}
	}
	return u.d.Gone(u.p, tops, "tree")
}

// items takes back items that were made, removed or moved, one by one.
func (u *undoing) items() error {
	var made, back, moved []*edit.Row[edit.ItemRow]
	for i := range u.did.Items.List {
		n := &u.did.Items.List[i]
		switch {
		case n.Made():
			made = append(made, n)
		case n.Gone():
			back = append(back, n)
		case n.Before.Parent != n.After.Parent || n.Before.Name != n.After.Name:
			moved = append(moved, n)
		}
	}
	if len(made) > 0 {
		if err := u.unmake(made); err != nil {
			return err
		}
	}
	if len(back) > 0 {
		return u.putBack(back)
	}
	if len(moved) > 1 {
		return u.never("it moved more than one item")
	}
	for _, n := range moved {
		if err := u.moveBack(n); err != nil {
			return err
		}
	}
	return nil
}

// unmake takes out items that were made.
func (u *undoing) unmake(made []*edit.Row[edit.ItemRow]) error {
	t := u.d.T
	var tops []estate.Target
	var all []int64
	for _, n := range made {
		r, ok := t.ItemRow(n.ID)
		if !ok {
			continue
		}
		if r.Parent != n.After.Parent || r.Name != n.After.Name {
			if err := u.later("items", n.ID, ""); err != nil {
				return err
			}
		}
		for _, c := range t.Within(n.ID) {
			if !u.did.Items.Made(c.Item) {
				return u.never("something was put into what it made: %s", t.Where(c.Item))
			}
		}
		all = append(all, n.ID)
		if !u.did.Items.Made(r.Parent) {
			tops = append(tops, estate.Target{Item: n.ID, Strand: r.Strand, Folder: r.Folder})
		}
	}
	// Rules that were changed since go with the items: only with force.
	for _, id := range all {
		r, _ := t.ItemRow(id)
		if first, ok := u.madeWith(id); ok && t.Of(r.Strand) != first {
			if err := u.blocked(t.LaterTurn(u.id, "strands", r.Strand), ""); err != nil {
				return err
			}
		}
	}
	if err := u.d.Gone(u.p, tops, "item"); err != nil {
		return err
	}
	u.p.Work.Removed = append(u.p.Work.Removed, all...)
	for i := range u.did.Trees.List { // that came back with their tops
		n := &u.did.Trees.List[i]
		if now, err := edit.TreeNow(t, n.ID); err != nil {
			return err
		} else if n.Made() && now != nil {
			u.back(n.Back())
		}
	}
	return nil
}

// moveBack moves an item back where it was.
func (u *undoing) moveBack(n *edit.Row[edit.ItemRow]) error {
	t := u.d.T
	r, ok := t.ItemRow(n.ID)
	if !ok {
		return u.never("what it moved is no longer there")
	}
	if r.Parent != n.After.Parent || r.Name != n.After.Name {
		if err := u.later("items", n.ID, ""); err != nil {
			return err
		}
	}
	if _, ok := t.ItemRow(n.Before.Parent); !ok {
		return u.never("the folder it came from is no longer there")
	}
	name := n.Before.Name
	at, in := t.Place(n.ID), t.Place(n.Before.Parent)
	if c, ok := t.Child(in.Item, name); ok && c.Item != n.ID {
		return u.never("%s holds %q again", in, name)
	}
	p, err := item.MoveTo(u.d, at, in, name, u.p.Change)
	if err != nil {
		return err
	}
	u.p.Work.Partition, u.p.Work.Roots, u.p.Work.Moved = p.Work.Partition, p.Work.Roots, p.Work.Moved
	u.p.Work.Named, u.p.Work.IsNamed = p.Work.Named, p.Work.IsNamed
	for _, e := range p.Edits {
		if e.Kind == "item" && len(e.Lines) > 0 && e.Lines[0].Sign == edit.Moves {
			u.p.Edits = append(u.p.Edits, e)
		}
	}
	return nil
}

// madeWith gives the rules an item was made with by the change.
func (u *undoing) madeWith(item int64) (rule.Any, bool) {
	n := u.did.Items.Of(item)
	if s := u.did.Strands.Of(n.After.Strand); s != nil && s.After != nil {
		return u.d.T.Descriptor(s.After.Descriptor), true
	}
	return nil, false
}

// rules takes back the descriptors the change turned: to the very bytes where
// they are as it left them, else what it set, with everything below following.
func (u *undoing) rules() error {
	t := u.d.T
	byBefore := map[rule.Any]*estate.Group{}
	exact := func(strand int64, before rule.Any) {
		g := byBefore[before]
		if g == nil {
			g = &estate.Group{Edit: func(rule.Any, rule.Any, bool) (rule.Any, error) { return before, nil }}
			byBefore[before] = g
		}
		g.Strands = append(g.Strands, strand)
	}
	var groups []estate.Group
	strands := map[int64]bool{}
	turns := t.Turns(u.id)
	since := make([][]int64, len(turns)) // each strand, and those that were parted from it since
	var all []int64
	for i, x := range turns {
		since[i] = t.Since(u.id, x.Strand)
		all = append(all, since[i]...)
	}
	stand := t.StrandsNow(all)
	for i, x := range turns {
		if i&255 == 0 && u.d.Ctx.Err() != nil {
			return u.d.Ctx.Err()
		}
		for _, s := range since[i] {
			row, ok := stand[s]
			if !ok || row.Items == 0 || strands[s] {
				continue
			}
			now := t.Descriptor(row.Descriptor)
			switch now {
			case x.After:
				strands[s] = true
				exact(s, x.Before)
				continue
			case x.Before:
				continue
			}
			if err := u.later("strands", s, ""); err != nil {
				return err
			}
			// It follows what is above; what the change set itself is taken back.
			if !setItself(x.Before, x.After) {
				continue
			}
			strands[s] = true
			groups = append(groups, estate.Group{Strands: []int64{s}, Edit: func(b, _ rule.Any, _ bool) (rule.Any, error) {
				return takenBack(b, x.Before, x.After), nil
			}})
		}
	}
	for _, g := range byBefore {
		groups = append(groups, *g)
	}
	// Last days that were set or taken off where no rules turned.
	var dated estate.Group
	seen := map[int64]bool{}
	for i := range u.did.LastDays.List {
		id := u.did.LastDays.List[i].Either().Of.Item
		if r, ok := t.ItemRow(id); ok && !seen[id] && !strands[r.Strand] {
			seen[id] = true
			dated.Targets = append(dated.Targets, estate.Target{Item: id, Strand: r.Strand, Folder: r.Folder})
		}
	}
	if len(dated.Targets) > 0 {
		groups = append(groups, dated)
	}
	if len(groups) == 0 {
		return u.d.Below(u.p)
	}
	var f *estate.Partition
	if u.p.Work.Partition != nil && len(u.p.Work.Moved) > 0 {
		// Moved back, and turned: within what is moved.
		f = u.p.Work.Partition
		for _, g := range groups {
			for _, s := range g.Strands {
				if n := f.NodeOf(s); n >= 0 {
					f.Edits[n] = g.Edit
				}
			}
		}
	} else {
		var err error
		if f, err = u.d.LayOut(u.p, groups); err != nil {
			return err
		}
		if u.p.Work.Partition != nil && len(u.p.Work.Partition.Nodes) > 0 {
			return u.never("it both turned rules and made or removed items")
		}
	}
	u.leave(f, byBefore)
	if err := f.Work(u.d.Ctx); err != nil {
		return err
	}
	u.p.Work.Partition = f
	for i := range f.Nodes {
		n := &f.Nodes[i]
		if !n.Changed() || n.Before == nil || n.After == nil {
			continue
		}
		top := n.Parent < 0 || !f.Nodes[n.Parent].Changed()
		if top || setItself(n.After, n.Before) {
			u.p.Work.Name(i)
		}
	}
	// Last days: of every item whose rules turn and that has some, now or before.
	items := t.WithDates()
	for i := range u.did.LastDays.List {
		if id := u.did.LastDays.List[i].Either().Of.Item; id != 0 {
			items[id] = true
		}
	}
	for id := range items {
		r, ok := t.ItemRow(id)
		if !ok {
			continue
		}
		n := f.NodeFor(id, r.Strand)
		if n < 0 {
			continue
		}
		before := len(u.p.Work.Dates)
		u.days(estate.Bearer{Item: id}, f.Nodes[n].Before, f.Nodes[n].After, r.Folder, n)
		if len(u.p.Work.Dates) > before {
			u.p.Work.Name(n)
		}
	}
	return t.Err()
}

// leave leaves alone what is below rules that go back to their very bytes, was
// not turned by the change and was not altered since: it was as it is before
// the change too, although what is above it handed something else down.
func (u *undoing) leave(f *estate.Partition, byBefore map[rule.Any]*estate.Group) {
	exact := map[int64]bool{}
	for _, g := range byBefore {
		for _, s := range g.Strands {
			exact[s] = true
		}
	}
	if len(exact) == 0 {
		return
	}
	altered := u.d.T.AlteredSince(u.id, "strands")
	back := make([]bool, len(f.Nodes))
	for i := range f.Nodes {
		n := &f.Nodes[i]
		s := f.Strand(i)
		switch {
		case s != 0 && exact[s]:
			back[i] = true
		case n.Parent >= 0 && back[n.Parent] && f.Edits[i] == nil && s != 0 && !altered[s]:
			back[i] = true
			f.Edits[i] = func(rule.Any, rule.Any, bool) (rule.Any, error) { return n.Before, nil }
		}
	}
}

// setItself tells whether two descriptors differ in more than what comes from above.
func setItself(x, y rule.Any) bool {
	a, b := plan.Desc(x), plan.Desc(y)
	if a == nil || b == nil {
		return !x.Same(y) // nothing comes from above by itself
	}
	return a.Owner != b.Owner || a.Group != b.Group || a.Sealed() != b.Sealed() || a.Rules.Absent != b.Rules.Absent ||
		!slices.Equal(a.Rules.Own(), b.Rules.Own()) || !slices.Equal(a.Audit.Own(), b.Audit.Own())
}

// takenBack is inverse for rules of any kind; those that became of another kind
// go back to what they were.
func takenBack(now, was, is rule.Any) rule.Any {
	if n, w, i := plan.Desc(now), plan.Desc(was), plan.Desc(is); n != nil && w != nil && i != nil {
		return Inverse(n, w, i)
	}
	n, ok1 := now.(*posix.Rules)
	w, ok2 := was.(*posix.Rules)
	i, ok3 := is.(*posix.Rules)
	if ok1 && ok2 && ok3 {
		return n.TakingBack(w, i)
	}
	return was
}

// Inverse takes what led from was to is out of what stands now: entries that
// came go, those that went come back to their place.
func Inverse(now, was, is *rule.Descriptor) *rule.Descriptor {
	c := now.Clone()
	if was.Owner != is.Owner && now.Owner == is.Owner {
		c.Owner = was.Owner
	}
	if was.Group != is.Group && now.Group == is.Group {
		c.Group = was.Group
	}
	if was.Sealed() != is.Sealed() {
		c.Control = c.Control&^rule.RulesSealed | was.Control&rule.RulesSealed
	}
	for _, l := range []struct{ now, was, is *rule.Rules }{{&c.Rules, &was.Rules, &is.Rules}, {&c.Audit, &was.Audit, &is.Audit}} {
		came := func(e rule.Entry) bool { return e.Own() && !slices.Contains(l.was.Entries, e) }
		for i, e := range l.was.Entries {
			if !e.Own() || slices.Contains(l.is.Entries, e) || slices.Contains(l.now.Entries, e) {
				continue
			}
			// In the place of what came for it, else behind its old neighbour.
			at := slices.IndexFunc(l.now.Entries, func(o rule.Entry) bool {
				return slices.Contains(l.is.Entries, o) && came(o) && o.Kind == e.Kind && o.Who == e.Who && o.Flags == e.Flags
			})
			if at >= 0 {
				l.now.Entries[at] = e
				continue
			}
			at = 0
			for _, o := range slices.Backward(l.was.Entries[:i]) {
				if k := slices.Index(l.now.Entries, o); k >= 0 {
					at = k + 1
					break
				}
			}
			l.now.Entries = slices.Insert(l.now.Entries, at, e)
		}
		for _, e := range l.is.Own() {
			if came(e) {
				l.now.Entries = slices.DeleteFunc(l.now.Entries, func(o rule.Entry) bool { return o == e })
			}
		}
	}
	if c.Equal(now) {
		return now
	}
	return c
}
