package estate

import (
	"database/sql"
	"fmt"
	"maps"
	"slices"

	"tarnwold/core/account"
	"tarnwold/internal/store"
)

// above is memberships by who is in the groups, as far as somebody was climbed from:
// a token asks of one group after the other, and all of them are read at once.
type above struct {
	groups map[account.ID][]account.ID
	is     map[[2]account.ID]Membership // group, member
}

// GroupsOf lists the groups that list id as a member; together with Account it makes
// a Tx an account.Book.
func (t *Tx) GroupsOf(id account.ID) []account.ID {
	if t.above == nil {
		t.above = &above{map[account.ID][]account.ID{}, map[[2]account.ID]Membership{}}
	}
	groups, climbed := t.above.groups[id]
	if a, asked := t.accounts[id]; climbed || asked && a == nil {
		return groups
	}
	t.climb(id)
	return t.above.groups[id]
}

// climb reads everything above an account: the memberships, the accounts, and who has
// the identifiers that mean one of them too.
func (t *Tx) climb(id account.ID) {
	up := t.above
	up.groups[id] = nil
	var edges []edge
	t.Each(`WITH RECURSIVE up(id) AS (SELECT id FROM accounts WHERE sid=? UNION SELECT m.holder FROM up CROSS JOIN members m ON m.member=up.id)
		SELECT m.holder, m.member, m.until, m.local FROM up CROSS JOIN members m ON m.member=up.id ORDER BY m.id`, []any{id.String()}, func(r *sql.Rows) error {
		return scanEdge(r, &edges)
	})
	var rows []int64
	for _, e := range edges {
		rows = append(rows, e.group, e.member)
	}
	known := t.accountsOf(rows)
	var forms []account.ID
	for _, a := range known {
		forms = append(forms, Forms(a.Account)[1:]...)
		forms = append(forms, a.Former.IDs()...)
		if d, _, ok := a.ID.Domain(); ok { // everybody of a domain may be in it
			forms = append(forms, d.Child(account.DomainUsersRID))
		}
	}
	t.look(append(forms, specialIDs...))
	t.know(known)
	for _, a := range known {
		if _, ok := up.groups[a.ID]; !ok {
			up.groups[a.ID] = nil
		}
	}
	fresh := map[account.ID]bool{} // those whose groups weren't read before
	for _, e := range edges {
		g, m := known[e.group], known[e.member]
		if g == nil || m == nil {
			t.Fail(fmt.Errorf("%w: a membership names nobody", store.ErrDamaged))
			return
		}
		pair := [2]account.ID{g.ID, m.ID}
		if _, ok := up.is[pair]; ok && !fresh[m.ID] {
			continue
		}
		fresh[m.ID] = true
		up.is[pair] = e.is
		up.groups[m.ID] = append(up.groups[m.ID], g.ID)
	}
}

// Below is the directory of an account and of everybody below it: its members at any
// depth, users by their primary group among them, with the memberships that lead there
// and the groups that list the account itself. Nobody else is read.
func (t *Tx) Below(id account.ID) *account.Directory {
	in := map[int64]bool{}
	t.Each(`WITH RECURSIVE down(id) AS (SELECT id FROM accounts WHERE sid=?
			UNION SELECT m.member FROM down CROSS JOIN members m ON m.holder=down.id
			UNION SELECT u.id FROM down CROSS JOIN accounts g ON g.id=down.id CROSS JOIN accounts u ON u.primary_group=g.sid AND u.primary_group<>'')
		SELECT id FROM down`, []any{id.String()}, func(r *sql.Rows) error {
		var row int64
		err := r.Scan(&row)
		in[row] = true
		return err
	})
	var edges []edge
	add := func(r *sql.Rows) error { return scanEdge(r, &edges) }
	rows := slices.Sorted(maps.Keys(in))
	t.EachOf("SELECT holder, member, until, local FROM members WHERE holder IN {set} ORDER BY id", rows, add)
	if a := t.account(id); a != nil {
		above := len(edges)
		t.Each("SELECT holder, member, until, local FROM members WHERE member=? ORDER BY id", []any{a.id}, add)
		for _, e := range edges[above:] {
			rows = append(rows, e.group)
		}
	}
	known := t.accountsOf(rows)
	t.know(known)
	return t.directoryOf(known, edges)
}

// Around is the directory of some accounts, of the groups that list them and of whom they
// list: nobody else is read.
func (t *Tx) Around(ids []account.ID) *account.Directory {
	var sids []string
	for _, id := range ids {
		sids = append(sids, id.String())
	}
	var rows []int64
	t.EachOfText("SELECT id FROM accounts WHERE sid IN {set}", sids, func(r *sql.Rows) error {
		var row int64
		err := r.Scan(&row)
		rows = append(rows, row)
		return err
	})
	byID := map[int64]edge{}
	add := func(r *sql.Rows) error {
		var id int64
		var e edge
		err := r.Scan(&id, &e.group, &e.member, &e.is.Until, &e.is.Local)
		byID[id] = e
		return err
	}
	t.EachOf("SELECT id, holder, member, until, local FROM members WHERE holder IN {set}", rows, add)
	t.EachOf("SELECT id, holder, member, until, local FROM members WHERE member IN {set}", rows, add)
	edges := make([]edge, 0, len(byID))
	for _, id := range slices.Sorted(maps.Keys(byID)) {
		e := byID[id]
		edges = append(edges, e)
		rows = append(rows, e.group, e.member)
	}
	return t.directoryOf(t.accountsOf(rows), edges)
}

// edge is a membership by the rows of its accounts.
type edge struct {
	group, member int64
	is            Membership
}

func scanEdge(r *sql.Rows, edges *[]edge) error {
	var e edge
	err := r.Scan(&e.group, &e.member, &e.is.Until, &e.is.Local)
	*edges = append(*edges, e)
	return err
}

// directoryOf makes a directory of some accounts and memberships.
func (t *Tx) directoryOf(known map[int64]*row, edges []edge) *account.Directory {
	d := account.NewDirectoryOf(len(known))
	for _, row := range slices.Sorted(maps.Keys(known)) {
		d.Add(known[row].Account)
	}
	if t.below == nil {
		t.below = map[[2]account.ID]Membership{}
	}
	for _, e := range edges {
		g, m := known[e.group], known[e.member]
		if g == nil || m == nil {
			t.Fail(fmt.Errorf("%w: a membership names nobody", store.ErrDamaged))
			return d
		}
		d.Join(g.ID, m.ID)
		if e.is.Local {
			d.SetLocal(g.ID, m.ID, true)
		}
		t.below[[2]account.ID{g.ID, m.ID}] = e.is
	}
	return d
}

// Holders is the directory of everybody whose token may hold one of some identifiers,
// and of all they are in: whoever is below an account that one of them means, by lists
// and by primary groups, and everything above those and above some groups besides.
// Nobody else's token is another for whatever names only these.
func (t *Tx) Holders(ids, groups []account.ID) *account.Directory {
	return t.directoryAbove(t.holders(ids), groups)
}

// HoldersAlone is Holders without what they are in beside what leads to one of the
// identifiers: for who asks of nothing else.
func (t *Tx) HoldersAlone(ids []account.ID) *account.Directory {
	rows := t.holders(ids)
	in := make(map[int64]bool, len(rows))
	for _, row := range rows {
		in[row] = true
	}
	var all, edges []edge
	t.EachOf("SELECT holder, member, until, local FROM members WHERE holder IN {set} ORDER BY id", rows, func(r *sql.Rows) error { return scanEdge(r, &all) })
	for _, e := range all {
		if in[e.member] {
			edges = append(edges, e)
		}
	}
	return t.directoryOf(t.accountsOf(rows), edges)
}

// holders lists everybody below an account that one of some identifiers means, by row.
func (t *Tx) holders(ids []account.ID) (rows []int64) {
	var seeds []int64
	var names []string
	seed := func(r *sql.Rows) error {
		var row int64
		err := r.Scan(&row)
		seeds = append(seeds, row)
		return err
	}
	for _, id := range ids {
		names = append(names, id.String())
		for _, g := range t.realmsOf(id) {
			names = append(names, g.ID.String())
		}
		if n, user, ok := id.POSIX(); ok {
			kind := account.Group
			if user {
				kind = account.User
			}
			t.Each("SELECT id FROM accounts WHERE kind=? AND posix=?", []any{kind, n}, seed)
		}
	}
	t.EachOfText("SELECT id FROM accounts WHERE sid IN {set}", names, seed)
	t.EachOfText("SELECT id FROM accounts WHERE primary_group IN {set} AND primary_group<>''", names, seed)
	if former := t.formers(); former != nil {
		for id, f := range former {
			for _, old := range f.former.IDs() {
				if slices.Contains(ids, old) {
					t.EachOfText("SELECT id FROM accounts WHERE sid IN {set}", []string{id.String()}, seed)
				}
			}
		}
	}
	t.EachOf(`WITH RECURSIVE down(id) AS (SELECT id FROM accounts WHERE id IN {set}
			UNION SELECT m.member FROM down CROSS JOIN members m ON m.holder=down.id
			UNION SELECT u.id FROM down CROSS JOIN accounts g ON g.id=down.id CROSS JOIN accounts u ON u.primary_group=g.sid AND u.primary_group<>''
			UNION SELECT u.id FROM down CROSS JOIN accounts g ON g.id=down.id AND g.posix>=0 CROSS JOIN accounts u ON u.primary_group='S-1-22-2-'||g.posix AND u.primary_group<>'')
		SELECT id FROM down`, seeds, func(r *sql.Rows) error {
		var row int64
		err := r.Scan(&row)
		rows = append(rows, row)
		return err
	})
	return rows
}

// directoryAbove is the directory of some accounts by row and of everything above those
// and above some groups besides.
func (t *Tx) directoryAbove(rows []int64, groups []account.ID) *account.Directory {
	var above []string
	for _, id := range append(slices.Clip(groups), specialIDs...) { // everybody may be in what lists those
		above = append(above, id.String())
	}
	t.EachOfText("SELECT id FROM accounts WHERE sid IN {set}", above, func(r *sql.Rows) error {
		var row int64
		err := r.Scan(&row)
		rows = append(rows, row)
		return err
	})
	all := map[int64]bool{}
	var edges []edge
	for next := rows; len(next) > 0 && t.Err() == nil; { // layer by layer upward
		for _, row := range next {
			all[row] = true
		}
		var up []int64
		from := len(edges)
		t.EachOf("SELECT holder, member, until, local FROM members WHERE member IN {set} ORDER BY id", next, func(r *sql.Rows) error { return scanEdge(r, &edges) })
		for _, e := range edges[from:] {
			up = append(up, e.group)
		}
		t.EachOf("SELECT g.id FROM accounts u CROSS JOIN accounts g ON g.sid=u.primary_group WHERE u.id IN {set} AND u.primary_group<>''", next, func(r *sql.Rows) error {
			var row int64
			err := r.Scan(&row)
			up = append(up, row)
			return err
		})
		next = nil
		for _, row := range up {
			if !all[row] {
				all[row] = true
				next = append(next, row)
			}
		}
	}
	return t.directoryOf(t.accountsOf(slices.Collect(maps.Keys(all))), edges)
}

// accountsOf reads accounts by their rows, and remembers them.
func (t *Tx) accountsOf(rows []int64) map[int64]*row {
	out := map[int64]*row{}
	former := t.formers()
	t.EachOf("SELECT "+accountColumns+" FROM accounts WHERE id IN {set}", rows, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		if err == nil {
			out[a.id] = t.remember(a, former)
		}
		return err
	})
	return out
}

// look reads accounts by their identifiers, and remembers them, or that there are
// none, so that nobody asks of them one by one.
func (t *Tx) look(ids []account.ID) {
	var want []string
	for _, id := range ids {
		if _, known := t.accounts[id]; !known {
			want = append(want, id.String())
		}
	}
	if len(want) == 0 {
		return
	}
	former := t.formers()
	if t.accounts == nil {
		t.accounts = map[account.ID]*row{}
	}
	t.EachOfText("SELECT "+accountColumns+" FROM accounts WHERE sid IN {set}", want, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		if err == nil {
			t.remember(a, former)
		}
		return err
	})
	for _, id := range ids {
		if _, known := t.accounts[id]; !known {
			t.accounts[id] = nil
		}
	}
}

// remember keeps an account that was read, but where a plan foresees another.
func (t *Tx) remember(a *row, former map[account.ID]deciding) *row {
	if former != nil {
		a.Former, a.Claims = former[a.ID].former, former[a.ID].claims
	}
	if t.accounts == nil {
		t.accounts = map[account.ID]*row{}
	}
	if t.accounts[a.ID] == nil {
		t.accounts[a.ID] = a
	}
	return a
}

// know finds out, for all of some accounts at once, whether their names are theirs
// alone.
func (t *Tx) know(accounts map[int64]*row) {
	var keys []string
	for _, a := range accounts {
		if _, known := t.sole[store.Key(a.Name)]; !known {
			keys = append(keys, store.Key(a.Name))
		}
	}
	t.soleOf(keys)
}

// soleOf asks of names, as they are compared, whether each is one account's alone and
// nobody is called it elsewhere.
func (t *Tx) soleOf(keys []string) {
	if t.sole == nil {
		t.sole = map[string]bool{}
	}
	// A name of elsewhere is written NAME@DOMAIN here; A is behind @.
	t.EachOfText(`SELECT x.value, (SELECT count(*) FROM (SELECT 1 FROM accounts WHERE key=x.value LIMIT 2))
			+ 2*EXISTS(SELECT 1 FROM accounts WHERE key>x.value||'@' AND key<x.value||'A')
		FROM {set} AS x`, keys, func(r *sql.Rows) error {
		var key string
		var n int
		err := r.Scan(&key, &n)
		t.sole[key] = n == 1
		return err
	})
}

// soleOfAll is soleOf of every name there is, from the accounts that were read.
func (t *Tx) soleOfAll() {
	called := make(map[string]int, len(t.accounts))
	for _, a := range t.accounts {
		if a == nil {
			continue
		}
		key := store.Key(a.Name)
		called[key]++
		for at := range len(key) {
			if key[at] == '@' { // may be called what is before it
				called[key[:at]] += 2
			}
		}
	}
	t.sole = make(map[string]bool, len(called))
	for key, n := range called {
		t.sole[key] = n == 1
	}
}

// Identifiers gives all that the tokens of a directory's people may hold of somebody's.
func Identifiers(d *account.Directory) map[account.ID]bool {
	out := map[account.ID]bool{}
	for _, id := range d.All() {
		a, _ := d.Account(id)
		out[a.Primary], out[a.Primary.Named()], out[a.ID.Named()] = true, true, true
		for _, form := range append(Forms(a), a.Former.IDs()...) {
			out[form] = true
		}
		if domain, _, ok := id.Domain(); ok {
			out[domain.Child(account.DomainUsersRID)] = true
		}
	}
	return out
}
