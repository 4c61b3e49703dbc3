package estate

import (
	"database/sql"
	"fmt"

	"tarnwold/core/account"
	"tarnwold/internal/store"
)

// ID is core's identifier.
type ID = account.ID

// row is an account with its row number.
type row struct {
	account.Account
	id int64
}

const accountColumns = "id, kind, name, sid, posix, primary_group, purpose"

func scanAccount(r interface{ Scan(...any) error }) (*row, error) {
	var a row
	var sid, primary, purpose string
	if err := r.Scan(&a.id, &a.Kind, &a.Name, &sid, &a.POSIX, &primary, &purpose); err != nil {
		return nil, err
	}
	a.Purpose = account.Purpose(purpose)
	var err error
	if a.ID, err = account.ParseID(sid); err != nil {
		return nil, fmt.Errorf("%w: account %d: %w", store.ErrDamaged, a.id, err)
	}
	if primary != "" {
		if a.Primary, err = account.ParseID(primary); err != nil {
			return nil, fmt.Errorf("%w: account %d: %w", store.ErrDamaged, a.id, err)
		}
	}
	return &a, nil
}

func (t *Tx) accountsWhere(where string, args ...any) (out []*row) {
	former := t.formers()
	t.Each("SELECT "+accountColumns+" FROM accounts WHERE "+where, args, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		if err == nil {
			out = append(out, t.remember(a, former))
		}
		return err
	})
	if t.Err() != nil {
		return nil
	}
	return out
}

// account finds the row of an identifier and remembers it, or that there is none.
func (t *Tx) account(id account.ID) *row {
	if a, ok := t.accounts[id]; ok || id.IsZero() {
		return a
	}
	if t.accounts == nil {
		t.accounts = map[account.ID]*row{}
	}
	var a *row
	for _, a = range t.accountsWhere("sid=?", id.String()) {
	}
	t.accounts[id] = a
	return a
}

func (t *Tx) accountByRow(id int64) *row {
	for _, a := range t.accountsWhere("id=?", id) {
		return a
	}
	return nil
}

// RowAccount finds an account by its row number, as the journal holds it.
func (t *Tx) RowAccount(id int64) (account.Account, bool) {
	if a := t.accountByRow(id); a != nil {
		return a.Account, true
	}
	return account.Account{}, false
}

// EachAccount calls fn with every account and its row, oldest first.
func (t *Tx) EachAccount(fn func(row int64, a account.Account)) {
	for _, a := range t.accountsWhere("1=1 ORDER BY id") {
		fn(a.id, a.Account)
	}
}

// Foresee makes the transaction know an account that a plan makes come, so that
// what is told of the plan names it. Nothing is kept of it.
func (t *Tx) Foresee(a account.Account) {
	t.account(a.ID)
	t.accounts[a.ID] = &row{Account: a}
	delete(t.names, a.ID)
}

// forget drops what was remembered of accounts after some changed.
func (t *Tx) forget() {
	t.accounts, t.names, t.sole, t.domain, t.fresh, t.builtins, t.machines = nil, nil, nil, nil, nil, nil, nil
	clear(t.servers) // whose groups count on them is told by accounts
	t.former, t.formerRead = nil, false
	t.above, t.below, t.everyone, t.asked = nil, nil, false, 0
}

// Account finds an account.
func (t *Tx) Account(id account.ID) (account.Account, bool) {
	if a := t.account(id); a != nil {
		return a.Account, true
	}
	return account.Account{}, false
}

// Local tells whether a membership is known to be one of a local group.
func (t *Tx) Local(group, member account.ID) bool {
	m, ok := t.Member(group, member)
	return ok && m.Local
}

// Directory reads every account and membership.
func (t *Tx) Directory() *account.Directory {
	d, byRow := t.everybody()
	t.memberships(d, byRow)
	return d
}

// DirectoryBeside begins to read every account and membership beside whatever else this
// transaction is asked; wait gives them.
func (t *Tx) DirectoryBeside() (wait func() *account.Directory) {
	var d *account.Directory
	var read *Tx
	done := t.Beside(func(s *store.Tx) {
		read = newTx(s)
		d = read.Directory()
	})
	return func() *account.Directory {
		done()
		t.adopt(read)
		return d
	}
}

// adopt remembers the accounts that another transaction, which sees the same, has read.
func (t *Tx) adopt(read *Tx) {
	if t.accounts == nil {
		t.accounts = make(map[account.ID]*row, len(read.accounts))
	}
	for id, a := range read.accounts {
		if t.accounts[id] == nil {
			t.accounts[id] = a
		}
	}
	t.everyone = true
}

// everybody reads every account, without memberships.
func (t *Tx) everybody() (*account.Directory, map[int64]account.ID) {
	all := t.accountsWhere("1=1 ORDER BY id")
	d := account.NewDirectoryOf(len(all))
	byRow := make(map[int64]account.ID, len(all))
	if t.accounts == nil {
		t.accounts = make(map[account.ID]*row, len(all))
	}
	for _, a := range all {
		d.Add(a.Account)
		byRow[a.id] = a.ID
		if t.accounts[a.ID] == nil { // nor one that a plan foresees
			t.accounts[a.ID] = a
		}
	}
	t.everyone = true
	return d, byRow
}

// memberships reads every membership, by the rows of accounts.
func (t *Tx) memberships(d *account.Directory, byRow map[int64]account.ID) {
	places := make(map[int64]int32, len(byRow)) // by row
	at := make(map[account.ID]int32, len(byRow))
	for i, id := range d.All() {
		at[id] = int32(i)
	}
	dense := make([]int32, 8*len(byRow)) // the same, where numbers are as low as they mostly are; one more, as 0 is nobody's
	for row, id := range byRow {
		if places[row] = at[id]; row >= 0 && row < int64(len(dense)) {
			dense[row] = at[id] + 1
		}
	}
	place := func(row int64) (int32, bool) {
		if row >= 0 && row < int64(len(dense)) {
			return dense[row] - 1, dense[row] != 0
		}
		i, ok := places[row]
		return i, ok
	}
	var pairs [][2]int32
	var local []int
	t.EachNumbers("SELECT holder, member, local FROM members ORDER BY id", nil, func(n []int64) error {
		group, known := place(n[0])
		member, too := place(n[1])
		if !known || !too {
			return fmt.Errorf("%w: a membership names nobody", store.ErrDamaged)
		}
		if n[2] != 0 {
			local = append(local, len(pairs))
		}
		pairs = append(pairs, [2]int32{group, member})
		return nil
	})
	d.JoinAll(pairs)
	all := d.All()
	for _, i := range local {
		d.SetLocal(all[pairs[i][0]], all[pairs[i][1]], true)
	}
}

// manyGroups is how many groups are asked about one by one; then all of them
// are read.
const manyGroups = 64

// People is every account, with memberships read as they are asked for: for
// questions that are about few groups.
type People struct {
	*account.Directory
	t     *Tx
	byRow map[int64]account.ID
	row   map[account.ID]int64
	asked map[account.ID][]account.ID
	local map[[2]account.ID]bool
	whole bool
}

// People reads every account.
func (t *Tx) People() *People {
	d, byRow := t.everybody()
	p := &People{Directory: d, t: t, byRow: byRow, row: make(map[account.ID]int64, len(byRow)), asked: map[account.ID][]account.ID{}, local: map[[2]account.ID]bool{}}
	for row, id := range byRow {
		p.row[id] = row
	}
	return p
}

// MembersOf lists who a group lists.
func (p *People) MembersOf(group account.ID) []account.ID {
	if p.whole {
		return p.Directory.MembersOf(group)
	}
	if ms, ok := p.asked[group]; ok {
		return ms
	}
	row, ok := p.row[group]
	if !ok {
		return nil
	}
	if len(p.asked) >= manyGroups {
		p.t.memberships(p.Directory, p.byRow)
		p.whole = true
		return p.Directory.MembersOf(group)
	}
	var ms []account.ID
	p.t.Each("SELECT member, local FROM members WHERE holder=? ORDER BY id", []any{row}, func(r *sql.Rows) error {
		var m int64
		var local bool
		err := r.Scan(&m, &local)
		id := p.byRow[m]
		if id.IsZero() {
			return fmt.Errorf("%w: a membership names nobody", store.ErrDamaged)
		}
		ms = append(ms, id)
		if local {
			p.local[[2]account.ID{group, id}] = true
		}
		return err
	})
	p.asked[group] = ms
	return ms
}

// Local tells whether a membership is known to be one of a local group; the
// group's members were asked for before.
func (p *People) Local(group, member account.ID) bool {
	if p.whole {
		return p.Directory.Local(group, member)
	}
	return len(p.local) > 0 && p.local[[2]account.ID{group, member}]
}

// Domain is the domain whose accounts the estate knows: that of the first
// account that has one.
func (t *Tx) Domain() account.ID {
	if t.domain == nil {
		var sid string
		t.One("SELECT sid FROM accounts WHERE sid LIKE 'S-1-5-21-%' AND NOT (key>=? AND key<?) ORDER BY id LIMIT 1", []any{builtinKeys[0], builtinKeys[1]}, &sid)
		d := account.ID{}
		if id, err := account.ParseID(sid); err == nil {
			d, _, _ = id.Domain()
		}
		t.domain = &d
	}
	return *t.domain
}

// DomainUsers names the group every account of the estate's domain is in.
const DomainUsers = "domain-users@"

// Accounts lists all accounts of a kind (0: all) by name; special ones, which stand for
// nobody's own, only among all.
func (t *Tx) Accounts(kind account.Kind) (out []account.Account) {
	for _, a := range t.accountsWhere("?=0 OR kind=? ORDER BY key, kind", kind, kind) {
		if kind == account.Group && account.Open(a.ID) {
			continue
		}
		out = append(out, a.Account)
	}
	return out
}

// FirstAccounts lists the first accounts of a kind (0: all) by name, at most so many, and
// how many more there are.
func (t *Tx) FirstAccounts(kind account.Kind, most int) (out []account.Account, more int64) {
	some := 0
	for _, a := range t.accountsWhere("?=0 OR kind=? ORDER BY key, kind LIMIT ?", kind, kind, most) {
		some++
		if kind == account.Group && account.Open(a.ID) {
			continue
		}
		out = append(out, a.Account)
	}
	if some == most {
		more = t.Int("SELECT count(*) FROM accounts WHERE ?=0 OR kind=?", kind, kind) - int64(some)
	}
	return out, more
}

// CountUsersOn counts the users that are known on a server: all, but other machines' own.
func (t *Tx) CountUsersOn(s Server) int {
	n := t.Int("SELECT count(*) FROM accounts WHERE kind=?", account.User)
	if len(t.Machines()) > 0 {
		n -= t.Int("SELECT count(*) FROM accounts WHERE kind=? AND sid>=? AND sid<?", account.User, ownSIDs[0], ownSIDs[1])
		own := ServerRealm(s).String()
		n += t.Int("SELECT count(*) FROM accounts WHERE kind=? AND sid>=? AND sid<?", account.User, own+"-", own+".")
	}
	return int(n)
}

// AddAccount puts a new account in, which has an identifier.
func (t *Tx) AddAccount(a account.Account) int64 {
	defer t.forget()
	id := t.Exec("INSERT INTO accounts(kind, name, key, sid, posix, primary_group, purpose) VALUES(?,?,?,?,?,?,?)",
		a.Kind, a.Name, store.Key(a.Name), a.ID.String(), a.POSIX, a.Primary.String(), string(a.Purpose))
	t.Made("accounts", id, id)
	return id
}

// SetAccount gives an account that is there other particulars.
func (t *Tx) SetAccount(a account.Account) {
	defer t.forget()
	t.Exec("UPDATE accounts SET name=?, key=?, posix=?, primary_group=?, purpose=? WHERE sid=?",
		a.Name, store.Key(a.Name), a.POSIX, a.Primary.String(), string(a.Purpose), a.ID.String())
}

// RemoveAccount takes an account out that nothing names any more.
func (t *Tx) RemoveAccount(id account.ID) {
	defer t.forget()
	t.Exec("DELETE FROM accounts WHERE sid=?", id.String())
}

// RemoveAccounts takes accounts out that nothing names any more, many at a time.
func (t *Tx) RemoveAccounts(ids []account.ID) {
	numbers := t.numbersOf()
	rows := make([]int64, 0, len(ids))
	for _, id := range ids {
		if n := numbers[id]; n != 0 {
			rows = append(rows, n)
		}
	}
	t.DeleteMany("accounts", rows)
	t.forget()
}

// AddAccounts puts new accounts in, which have identifiers, many at a time, and
// remembers for ever which numbers were given.
func (t *Tx) AddAccounts(list []account.Account) {
	t.forget()
	first := t.InsertMany("accounts", len(list), func(i int) []any {
		a := &list[i]
		return []any{int64(a.Kind), a.Name, store.Key(a.Name), a.ID.String(), a.POSIX, a.Primary.String(), string(a.Purpose)}
	})
	last := map[account.ID]uint32{}
	for i := range list {
		if d, rid, ok := list[i].ID.Domain(); ok {
			last[d] = max(last[d], rid)
		}
	}
	for d, rid := range last {
		t.Gave(d.Child(rid))
	}
	t.fresh = make(map[account.ID]int64, len(list))
	for i := range list {
		t.fresh[list[i].ID] = first + int64(i)
	}
}

// PrimaryUsers lists the users whose primary group one is.
func (t *Tx) PrimaryUsers(group account.ID) (out []account.Account) {
	for _, a := range t.accountsWhere("primary_group=? AND primary_group<>'' ORDER BY key", group.String()) {
		out = append(out, a.Account)
	}
	return out
}

// AdministratorOf lists the servers on whose lists of administrators an account is.
func (t *Tx) AdministratorOf(id account.ID) []string {
	return t.Strings("SELECT v.name FROM administrators d JOIN servers v ON v.id=d.server JOIN accounts a ON a.id=d.account WHERE a.sid=? ORDER BY v.key", id.String())
}

// ByPOSIX finds the accounts that have a uid or gid everywhere; a server may have
// several. Machines' own are OwnOf's.
func (t *Tx) ByPOSIX(kind account.Kind, n uint32) (out []account.Account) {
	for _, a := range t.accountsWhere("kind=? AND posix=? ORDER BY id", kind, n) {
		if _, _, own := a.ID.Machine(); !own {
			out = append(out, a.Account)
		}
	}
	return out
}

// Forms lists the identifiers that mean an account: its own, those of its uid or
// gid, and those it had elsewhere that are nobody's here.
func (t *Tx) Forms(a account.Account) []account.ID {
	forms := Forms(a)
	for _, id := range a.Former.IDs() {
		if t.account(id) == nil {
			forms = append(forms, id)
		}
	}
	return forms
}

// Forms lists the identifiers that mean an account: its own, and those of its
// uid or gid.
func Forms(a account.Account) []account.ID {
	forms := []account.ID{a.ID}
	if a.POSIX != account.NoPOSIX {
		other := account.GID(uint32(a.POSIX))
		if a.Kind == account.User {
			other = account.UID(uint32(a.POSIX))
		}
		if other != a.ID {
			forms = append(forms, other)
		}
	}
	return forms
}
