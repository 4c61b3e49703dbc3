// Package undo makes plans of what takes a change of the journal back, or makes it
// again: to the byte where nothing came after.
package undo

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/item"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/store"
)

// records takes back what a change wrote down.
func (u *undoing) records() error {
	for _, n := range u.of("papers") {
		v := valuesOf(n)
		kind, name := estate.RecordKind(store.Text(v, 0)), store.Text(v, 1)
		e := plan.RecordEdit{Kind: kind, Name: name}
		now, there := u.d.T.RecordNow(n.id)
		sign := plan.Changes
		if n.after != nil {
			if !there || now.Body != store.Text(n.after, 2) {
				if err := u.later("papers", n.id, "it was altered since"); err != nil {
					return err
				}
				if !there {
					continue
				}
			}
			e.Before = now.Body
			if sign = plan.Goes; n.before != nil {
				sign, e.After = plan.Changes, store.Text(n.before, 2)
			}
		} else {
			if u.d.T.Record(kind, name) != "" {
				return u.never("there is a %s again", plan.RecordName(kind, name))
			}
			sign, e.After, e.Row = plan.Comes, store.Text(n.before, 2), n.id
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
	return s + "; undo that first, or insist with --force"
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
	d       *plan.Planner
	p       *plan.Plan
	id      int64
	force   bool
	rows    map[rowKey]*rowChange // the change's rows, each from its first before to its last after
	order   []*rowChange
	byTable map[string][]*rowChange
	people  *peopleNow // see undo_people.go
	// checks are accounts that go, whose entries are looked for at the end.
	checks    []acc.Account
	mine      map[plan.ID]map[string]bool // see mineOf
	elsewhere map[plan.ID]bool            // see namedElsewhere
	coming    map[int64]acc.Account       // by row: those that are put back
}

// rowKey is a row of a table.
type rowKey struct {
	table string
	id    int64
}

// rowChange is what a change did to one row, all in all.
type rowChange struct {
	table         string
	id, last      int64
	before, after []any
}

func (n *rowChange) made() bool { return n.before == nil && n.after != nil }

func (n *rowChange) gone() bool { return n.before != nil && n.after == nil }

func (n *rowChange) was(column string) any {
	return n.before[slices.Index(store.Columns(n.table), column)]
}

func (n *rowChange) is(column string) any {
	return n.after[slices.Index(store.Columns(n.table), column)]
}

// TakeBack works out what a change set, taken back, and everything below
// following. What can't be taken back is said, and nothing is done.
func TakeBack(d *plan.Planner, id int64, force bool, summary string) (*plan.Plan, error) {
	u := &undoing{d: d, p: d.NewPlan("%s", summary), id: id, force: force, rows: map[rowKey]*rowChange{}}
	u.p.Undoes = id
	if r, err := d.T.ChangeNumbered(id); err == nil {
		u.p.Since = plan.After(r.At)
	}
	u.p.Nothing = fmt.Sprintf("what change %d altered is as it was before it already", id)
	any := false
	for _, r := range d.T.Rows(id) {
		any = true
		key := rowKey{r.Table, r.ID}
		n := u.rows[key]
		if n == nil {
			n = &rowChange{table: r.Table, id: r.ID, last: r.Last, before: r.Before}
			u.rows[key] = n
			u.order = append(u.order, n)
		}
		n.after = r.After
	}
	if err := d.T.Err(); err != nil {
		return nil, err
	}
	if !any {
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

// of lists what the change did to rows of a table.
func (u *undoing) of(table string) []*rowChange {
	if u.byTable == nil {
		u.byTable = map[string][]*rowChange{}
		for _, n := range u.order {
			if n.last == 0 && (n.before != nil || n.after != nil) {
				u.byTable[n.table] = append(u.byTable[n.table], n)
			}
		}
	}
	return u.byTable[table]
}

func same(a, b []any) bool {
	return slices.EqualFunc(a, b, func(x, y any) bool { return x == y })
}

func (u *undoing) servers() error {
	for _, n := range u.of("links") {
		either, sign := n.after, plan.Goes
		switch {
		case n.made():
			u.p.Work.Deletes = append(u.p.Work.Deletes, plan.Deletion{Table: "links", First: n.id, Last: n.id})
		case n.gone():
			either, sign = n.before, plan.Comes
			u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "links", ID: n.id, Values: n.before})
		default:
			sign = plan.Changes
		}
		row := store.Number(either, 0)
		if of := u.rows[rowKey{"servers", row}]; of != nil && (of.made() || of.gone()) {
			continue // it comes and goes with its server
		}
		s, there, err := u.server(row)
		if err != nil {
			return err
		}
		if !there {
			return u.never("the server is no longer there")
		}
		if sign == plan.Changes {
			u.p.Work.Links = append(u.p.Work.Links, plan.LinkEdit{Server: s, Link: &estate.Link{Kind: store.Text(n.before, 1), Text: store.Text(n.before, 2)}})
		}
		u.p.Edits = append(u.p.Edits, plan.Edit{Kind: "server", Where: "server " + s.Name, Lines: []plan.Line{{Sign: sign, What: "link"}}})
	}
	return u.serverRows(u.of("servers"))
}

func (u *undoing) serverRows(list []*rowChange) error {
	t := u.d.T
	for _, n := range list {
		now := t.Now("servers", n.id)
		find := func() estate.Server {
			s, _ := t.FindServer(store.Text(now, 0))
			return s
		}
		switch {
		case n.made():
			if now == nil {
				continue
			}
			s := find()
			for _, sh := range t.Shares(s) {
				if m := u.rows[rowKey{"shares", sh.ID}]; m == nil || !m.made() {
					return u.never("server %s has the share %s now", s.Name, sh.Name)
				}
			}
			for _, top := range t.Tops(s) {
				if !u.removesTree(s, top) {
					return u.never("server %s has folders now, at %s", s.Name, top)
				}
			}
			if n := len(t.Administrators(s)); n > len(u.of("administrators")) {
				return u.never("server %s has administrators now", s.Name)
			}
			u.p.Work.Servers = append(u.p.Work.Servers, plan.ServerEdit{Before: &s})
		case n.gone():
			s, ok := t.FindServer(store.Text(n.before, 0))
			if ok {
				return u.never("there is a server %s now", s.Name)
			}
			u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "servers", ID: n.id, Values: n.before})
			u.p.Edits = append(u.p.Edits, plan.Edit{Kind: "server", Where: "server " + store.Text(n.before, 0), Lines: []plan.Line{{Sign: plan.Comes, What: "server"}}})
		default:
			if now == nil {
				return u.never("the server is no longer there")
			}
			if !same(now, n.after) {
				if err := u.later("servers", n.id, ""); err != nil {
					return err
				}
			}
			s := find()
			then := s
			old, err := servers.TraitsOf(store.Text(n.before, 2))
			if err != nil {
				return err
			}
			then.Traits = old
			u.p.Work.Servers = append(u.p.Work.Servers, plan.ServerEdit{Before: &s, After: &then})
		}
	}
	return nil
}

// removesTree tells whether the change made a tree, so that it goes with it.
func (u *undoing) removesTree(s estate.Server, top string) bool {
	for _, n := range u.order {
		if n.table != "trees" {
			continue
		}
		for id := n.id; id <= max(n.id, n.last); id++ {
			if now := u.d.T.Now("trees", id); now != nil && store.Number(now, 0) == s.ID && store.Text(now, 1) == top {
				return true
			}
		}
	}
	return false
}

// server finds a server by its row: one that is there, or that comes back with
// this undoing.
func (u *undoing) server(row int64) (s estate.Server, ok bool, err error) {
	if now := u.d.T.Now("servers", row); now != nil {
		s, err = u.d.T.Server(store.Text(now, 0))
		return s, true, err
	}
	n := u.rows[rowKey{"servers", row}]
	if n == nil || !n.gone() {
		return s, false, nil
	}
	s = estate.Server{ID: row, Name: store.Text(n.before, 0)}
	s.Traits, err = servers.TraitsOf(store.Text(n.before, 2))
	return s, true, err
}

func (u *undoing) administrators() error {
	for _, n := range u.of("administrators") {
		either := n.after
		if either == nil {
			either = n.before
		}
		a, ok := u.account(store.Number(either, 1))
		s, there, err := u.server(store.Number(either, 0))
		if err != nil {
			return err
		}
		if !ok || !there {
			if n.made() {
				continue
			}
			return u.never("the server or the account is no longer there")
		}
		on := slices.Contains(u.d.T.Administrators(s), a.ID)
		if want := n.gone(); want != on {
			u.p.Work.Admins = append(u.p.Work.Admins, plan.AdminEdit{Server: s, Who: a, On: want})
		}
	}
	u.p.Work.Everywhere = u.p.Work.Everywhere || len(u.p.Work.Admins) > 0 || len(u.p.Work.Accounts) > 0
	return nil
}

func (u *undoing) shares() error {
	t := u.d.T
	for _, n := range u.of("shares") {
		now, there := t.ShareByRow(n.id)
		either := n.after
		if either == nil {
			either = n.before
		}
		s, ok, err := u.server(store.Number(either, 0))
		if err != nil {
			return err
		}
		if !ok {
			return u.never("the share's server is no longer there")
		}
		at := slices.Index(store.Columns("shares"), "descriptor")
		switch {
		case n.made():
			if !there {
				continue
			}
			if now.Descriptor != t.Descriptor(store.Number(n.after, at)) {
				if err := u.later("shares", n.id, ""); err != nil {
					return err
				}
			}
			u.p.Work.Shares = append(u.p.Work.Shares, plan.ShareEdit{Server: s, Before: &now, After: nil})
		case n.gone():
			if _, err := t.Share(s, store.Text(n.before, 1)); err == nil || there {
				return u.never("there is a share //%s/%s now", s.Name, store.Text(n.before, 1))
			}
			sh := estate.Share{ID: n.id, ServerID: s.ID, Server: s.Name, Name: store.Text(n.before, 1), Folder: store.Text(n.before, 3),
				ReadOnly: store.Number(n.before, 4) != 0, Descriptor: t.Descriptor(store.Number(n.before, at)).Listed()}
			u.p.Work.Shares = append(u.p.Work.Shares, plan.ShareEdit{Server: s, Before: nil, After: &sh})
			u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "shares", ID: n.id, Values: n.before})
			u.daysBack(estate.Bearer{Share: n.id}, sh.Descriptor, false)
		default:
			if !there {
				return u.never("the share is no longer there")
			}
			was, is := t.Descriptor(store.Number(n.before, at)).Listed(), t.Descriptor(store.Number(n.after, at)).Listed()
			then := now
			then.Descriptor = was
			if store.Number(n.before, 4) != store.Number(n.after, 4) {
				then.ReadOnly = store.Number(n.before, 4) != 0
			}
			if now.Descriptor != is {
				if err := u.later("shares", n.id, ""); err != nil {
					return err
				}
				then.Descriptor = Inverse(now.Descriptor, was, is)
			}
			if then.Descriptor != now.Descriptor || then.ReadOnly != now.ReadOnly {
				u.p.Work.Shares = append(u.p.Work.Shares, plan.ShareEdit{Server: s, Before: &now, After: &then})
				u.days(estate.Bearer{Share: n.id}, now.Descriptor, then.Descriptor, false, -1)
			}
		}
	}
	return u.admissions()
}

// admissions takes back what a configuration was found to say of shares.
func (u *undoing) admissions() error {
	for _, n := range u.of("admissions") {
		either := n.after
		if either == nil {
			either = n.before
		}
		id := store.Number(either, 0)
		var was *estate.Admission
		if n.before != nil {
			a, err := estate.ParseAdmission(store.Text(n.before, 1))
			if err != nil {
				return err
			}
			was = a
		}
		if i := slices.IndexFunc(u.p.Work.Shares, func(e plan.ShareEdit) bool {
			return e.Before != nil && e.Before.ID == id || e.After != nil && e.After.ID == id
		}); i >= 0 {
			if e := &u.p.Work.Shares[i]; e.After != nil {
				e.After.Admission = was
				if e.Before == nil { // the share comes back, and this with it
					u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "admissions", ID: n.id, Values: n.before})
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
			u.p.Work.Shares = append(u.p.Work.Shares, plan.ShareEdit{Server: s, Before: &now, After: &then})
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
	for _, n := range u.of("deadlines") {
		either := n.after
		if either == nil {
			either = n.before
		}
		if store.Number(either, 0) != of.Item || store.Number(either, 1) != of.Share {
			continue
		}
		for _, e := range then.Rules.Own() {
			if estate.EntryKey(e) != store.Text(either, 2) {
				continue
			}
			if n.before == nil {
				delete(want, e)
			} else {
				want[e] = estate.Day(store.Text(n.before, 3))
			}
		}
	}
	if !maps.Equal(have, want) {
		u.p.Work.Dates = append(u.p.Work.Dates, plan.DateEdit{Of: of, Before: have, After: want, Folder: folder, Node: node})
	}
}

// daysBack puts the last days back of what is put back itself.
func (u *undoing) daysBack(of estate.Bearer, a rule.Any, folder bool) {
	d := a.Listed()
	want := estate.Dated{}
	for _, n := range u.of("deadlines") {
		if !n.gone() || store.Number(n.before, 0) != of.Item || store.Number(n.before, 1) != of.Share {
			continue
		}
		for _, e := range d.Rules.Own() {
			if estate.EntryKey(e) == store.Text(n.before, 2) {
				want[e] = estate.Day(store.Text(n.before, 3))
			}
		}
	}
	if len(want) > 0 {
		u.p.Work.Dates = append(u.p.Work.Dates, plan.DateEdit{Of: of, After: want, Folder: folder, Node: -1})
	}
}

func (u *undoing) levels() error {
	for _, n := range u.of("levels") {
		_, there := u.d.T.Levels().Lookup(store.Text(valuesOf(n), 0))
		switch {
		case n.made() && there:
			u.p.Work.Deletes = append(u.p.Work.Deletes, plan.Deletion{Table: "levels", First: n.id, Last: n.id})
		case n.gone() && there:
			return u.never("there is a level %s now", store.Text(n.before, 0))
		case n.gone():
			u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "levels", ID: n.id, Values: n.before})
		}
		sign := plan.Goes
		if n.gone() {
			sign = plan.Comes
		}
		u.p.Edits = append(u.p.Edits, plan.Edit{Kind: "level", Where: "level " + store.Text(valuesOf(n), 0), Lines: []plan.Line{{Sign: sign, What: "level"}}})
	}
	return nil
}

func valuesOf(n *rowChange) []any {
	if n.after != nil {
		return n.after
	}
	return n.before
}

// loads takes back what was loaded by the million: whole ranges of rows.
func (u *undoing) loads() error {
	t := u.d.T
	var items *rowChange
	var servers []*rowChange
	for _, n := range u.order {
		if n.last != 0 && n.table == "items" {
			items = n
		}
	}
	for _, n := range u.order {
		if n.last == 0 || n.table == "accounts" || n.table == "members" {
			continue
		}
		switch n.table {
		case "servers":
			for id := n.id; id <= n.last; id++ {
				if now := t.Now("servers", id); now != nil {
					servers = append(servers, &rowChange{table: "servers", id: id, after: now})
				}
			}
		default:
			u.p.Work.Deletes = append([]plan.Deletion{{Table: n.table, First: n.id, Last: n.last}}, u.p.Work.Deletes...)
		}
	}
	if err := u.serverRows(servers); err != nil || items == nil {
		return err
	}
	for _, table := range []string{"items", "strands"} {
		for _, n := range u.order {
			if n.table != table || n.last == 0 {
				continue
			}
			if later := t.StandingIn(u.id, table, n.id, n.last); later != 0 {
				if err := u.blocked(later, ""); err != nil {
					return err
				}
			}
		}
	}
	if in, out := t.CrossesRange(items.id, items.last); in > 0 || out > 0 {
		return u.never("something was put into what it made, or moved out of it")
	}
	var tops []estate.Target
	for _, top := range t.TopsIn(items.id, items.last) {
		if r, ok := t.ItemRow(top); ok {
			tops = append(tops, estate.Target{Item: top, Strand: r.Strand, Folder: r.Folder})
		}
	}
	return u.d.Gone(u.p, tops, "tree")
}

// items takes back items that were made, removed or moved, one by one.
func (u *undoing) items() error {
	t := u.d.T
	made := map[int64]bool{}
	var back []*rowChange
	var moved []*rowChange
	for _, n := range u.of("items") {
		switch {
		case n.made():
			made[n.id] = true
		case n.gone():
			back = append(back, n)
		case n.was("parent") != n.is("parent") || n.was("name") != n.is("name"):
			moved = append(moved, n)
		}
	}
	if len(made) > 0 {
		var tops []estate.Target
		var all []int64
		for _, n := range u.of("items") {
			if !made[n.id] || !n.made() {
				continue
			}
			r, ok := t.ItemRow(n.id)
			if !ok {
				continue
			}
			if r.Parent != store.Number(n.after, 0) || r.Name != store.Text(n.after, 1) {
				if err := u.later("items", n.id, ""); err != nil {
					return err
				}
			}
			for _, c := range t.Within(n.id) {
				if !made[c.Item] {
					return u.never("something was put into what it made: %s", t.Where(c.Item))
				}
			}
			all = append(all, n.id)
			if !made[r.Parent] {
				tops = append(tops, estate.Target{Item: n.id, Strand: r.Strand, Folder: r.Folder})
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
		for _, n := range u.of("trees") { // that came back with their tops
			if n.made() && t.Now("trees", n.id) != nil {
				u.p.Work.Deletes = append(u.p.Work.Deletes, plan.Deletion{Table: "trees", First: n.id, Last: n.id})
			}
		}
	}
	if len(back) > 0 {
		return u.putBack(back)
	}
	if len(moved) > 1 {
		return u.never("it moved more than one item")
	}
	for _, n := range moved {
		r, ok := t.ItemRow(n.id)
		if !ok {
			return u.never("what it moved is no longer there")
		}
		if r.Parent != store.Number(n.after, 0) || r.Name != store.Text(n.after, 1) {
			if err := u.later("items", n.id, ""); err != nil {
				return err
			}
		}
		if _, ok := t.ItemRow(store.Number(n.before, 0)); !ok {
			return u.never("the folder it came from is no longer there")
		}
		name := store.Text(n.before, 1)
		at, in := t.Place(n.id), t.Place(store.Number(n.before, 0))
		if c, ok := t.Child(in.Item, name); ok && c.Item != n.id {
			return u.never("%s holds %q again", in, name)
		}
		p, err := item.MoveTo(u.d, at, in, name, u.p.Change)
		if err != nil {
			return err
		}
		u.p.Work.Partition, u.p.Work.Roots, u.p.Work.Moved = p.Work.Partition, p.Work.Roots, p.Work.Moved
		u.p.Work.Named, u.p.Work.IsNamed = p.Work.Named, p.Work.IsNamed
		for _, e := range p.Edits {
			if e.Kind == "item" && len(e.Lines) > 0 && e.Lines[0].Sign == plan.Moves {
				u.p.Edits = append(u.p.Edits, e)
			}
		}
	}
	return nil
}

// madeWith gives the rules an item was made with by the change.
func (u *undoing) madeWith(item int64) (rule.Any, bool) {
	n := u.rows[rowKey{"items", item}]
	strand := store.Number(n.after, 2)
	if s := u.rows[rowKey{"strands", strand}]; s != nil && s.after != nil {
		return u.d.T.Descriptor(store.Number(s.after, 1)), true
	}
	return nil, false
}

// putBack puts removed items back in.
func (u *undoing) putBack(back []*rowChange) error {
	t := u.d.T
	f := u.p.Work.Partition
	if f == nil {
		f = estate.NewPartition()
	}
	names := map[[2]any]bool{}
	mine := map[int64]*rowChange{}
	for _, n := range back {
		mine[n.id] = n
	}
	trees := map[int64][]any{}
	for _, n := range u.of("trees") {
		if n.gone() {
			trees[store.Number(n.before, 2)] = n.before
			u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "trees", ID: n.id, Values: n.before})
		}
	}
	strandRow := func(id int64) []any {
		if s := u.rows[rowKey{"strands", id}]; s != nil && s.gone() {
			return s.before
		}
		return t.Now("strands", id)
	}
	nodes := map[int64]int{}
	counts := map[int64]int64{}
	var order []int64
	for _, n := range back {
		strand := store.Number(n.before, 2)
		if counts[strand] == 0 {
			order = append(order, strand)
		}
		counts[strand]++
	}
	restored := map[int64]bool{}
	for _, s := range order {
		row := strandRow(s)
		if row == nil {
			return u.never("the rules of what it removed are no longer there")
		}
		if t.Now("strands", s) == nil && !restored[s] {
			restored[s] = true
			u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "strands", ID: s, Values: row})
		}
	}
	// Strands the removed items no longer needed went with them; those above first.
	for _, n := range u.of("strands") {
		if n.gone() && !restored[n.id] && t.Now("strands", n.id) == nil {
			restored[n.id] = true
			u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "strands", ID: n.id, Values: n.before})
		}
	}
	for _, n := range back {
		parent, name := store.Number(n.before, 0), store.Text(n.before, 1)
		if names[[2]any{parent, store.Key(name)}] {
			continue
		}
		if parent != 0 && mine[parent] == nil {
			up, ok := t.ItemRow(parent)
			if !ok {
				return u.never("the folder it was in is no longer there")
			}
			if _, taken := t.Child(parent, name); taken {
				return u.never("%s holds %q again", t.Where(parent), name)
			}
			// It hangs from the strand its folder has now.
			s := store.Number(n.before, 2)
			for i := range u.p.Work.Puts {
				b := &u.p.Work.Puts[i]
				if b.Table == "strands" && b.ID == s {
					b.Values = slices.Clone(b.Values)
					b.Values[0] = up.Strand
				}
			}
		}
		if parent == 0 {
			row := trees[n.id]
			if row == nil {
				return u.never("the tree it was the top of is unknown")
			}
			s, there, err := u.server(store.Number(row, 0))
			if err != nil {
				return err
			}
			if !there {
				return u.never("its server is no longer there")
			}
			if err := t.Landing(&s, store.Text(row, 1)); err != nil {
				return u.never("%v", err)
			}
		}
		u.p.Work.Puts = append(u.p.Work.Puts, plan.PutBack{Table: "items", ID: n.id, Values: n.before})
		if row := strandRow(store.Number(n.before, 2)); len(u.of("deadlines")) > 0 {
			u.daysBack(estate.Bearer{Item: n.id}, t.Descriptor(store.Number(row, 1)), store.Number(row, 2) != 0)
		}
	}
	// What comes, as nodes: strand by strand, those above first.
	var node func(strand int64) int
	node = func(strand int64) int {
		if i, ok := nodes[strand]; ok {
			return i
		}
		row := strandRow(strand)
		if row == nil || counts[strand] == 0 {
			return -1
		}
		parent := node(store.Number(row, 0))
		i := f.Add(parent, store.Number(row, 2) != 0, counts[strand], nil, t.Descriptor(store.Number(row, 1)))
		nodes[strand] = i
		return i
	}
	for _, s := range order {
		node(s)
	}
	for _, n := range back {
		parent := store.Number(n.before, 0)
		i := nodes[store.Number(n.before, 2)]
		if f.Nodes[i].Parent >= 0 || mine[parent] != nil || slices.ContainsFunc(u.p.Work.Roots, func(r plan.Root) bool { return r.Node == i }) {
			continue
		}
		if parent == 0 {
			row := trees[n.id]
			s, _, err := u.server(store.Number(row, 0))
			if err != nil {
				return err
			}
			u.p.Work.Roots = append(u.p.Work.Roots, plan.Root{Node: i, Server: s, Path: [2]string{"", store.Text(row, 1)}})
			continue
		}
		in := t.Place(parent)
		chain := []rule.Any{t.Of(in.Strand)}
		chain = append(chain, t.Above(in)...)
		f.Above[i] = chain
		u.p.Work.Roots = append(u.p.Work.Roots, plan.Root{Node: i, Server: in.Server, Path: [2]string{"", place.Join(in.Path, store.Text(n.before, 1))}})
	}
	u.p.Work.Partition = f
	// Shares that stand over what comes back.
	child := map[[2]any]*rowChange{}
	for _, n := range back {
		child[[2]any{store.Number(n.before, 0), store.Key(store.Text(n.before, 1))}] = n
	}
	for _, n := range back {
		i := nodes[store.Number(n.before, 2)]
		k := slices.IndexFunc(u.p.Work.Roots, func(r plan.Root) bool { return r.Node == i && f.Strand(i) == 0 })
		if k < 0 || mine[store.Number(n.before, 0)] != nil {
			continue
		}
		r := u.p.Work.Roots[k]
		over := t.Shares(r.Server)
		for _, e := range u.p.Work.Shares { // and those that come back with it
			if e.Before == nil && e.Server.ID == r.Server.ID {
				over = append(over, *e.After)
			}
		}
		for _, sh := range over {
			rest, ok := place.Cut(store.Key(sh.Folder), store.Key(r.Path[1]))
			at := n
			for _, name := range strings.Split(rest, "/") {
				if name != "" && at != nil {
					at = child[[2]any{at.id, name}]
				}
			}
			if !ok || at == nil {
				continue
			}
			strand := store.Number(at.before, 2)
			if counts[strand] != 1 {
				return u.never("the share %s was made over what it would put back", sh.Address())
			}
			u.p.Work.AddedAt[plan.AddedKey(r.Server, sh.Folder)] = nodes[strand]
		}
	}
	for _, r := range u.p.Work.Roots {
		if f.Strand(r.Node) == 0 {
			var items int64
			for i := range f.Nodes {
				if plan.Within(f, i, r.Node) {
					items += f.Nodes[i].Items
				}
			}
			u.p.Edits = append(u.p.Edits, plan.Edit{Kind: "item", Where: estate.Place{Server: r.Server, Path: r.Path[1]}.String(), Items: items, Lines: []plan.Line{{Sign: plan.Comes, What: "item"}}})
		}
	}
	return t.Err()
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
	for i, x := range t.Turns(u.id) {
		if i&255 == 0 && u.d.Ctx.Err() != nil {
			return u.d.Ctx.Err()
		}
		for _, s := range t.Since(u.id, x.Strand) {
			now, _, items, ok := t.StrandNow(s)
			if !ok || items == 0 || strands[s] {
				continue
			}
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
	for _, n := range u.of("deadlines") {
		id := store.Number(valuesOf(n), 0)
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
		for _, e := range u.p.Work.Shares {
			for _, sh := range []*estate.Share{e.Before, e.After} {
				if sh != nil {
					if at, err := t.At(e.Server, sh.Folder); err == nil && !strands[at.Strand] {
						groups = append(groups, estate.Group{Targets: []estate.Target{at.Target()}})
					}
				}
			}
		}
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
	for _, n := range u.of("deadlines") {
		if id := store.Number(valuesOf(n), 0); id != 0 {
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
