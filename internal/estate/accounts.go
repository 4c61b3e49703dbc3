package estate

import (
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/account"
)

// row is an account with its row number.
type row struct {
	account.Account
	id int64
}

const accountColumns = "id, kind, name, sid, posix, main, purpose"

func scanAccount(r interface{ Scan(...any) error }) (*row, error) {
	var a row
	var sid, main, purpose string
	if err := r.Scan(&a.id, &a.Kind, &a.Name, &sid, &a.POSIX, &main, &purpose); err != nil {
		return nil, err
	}
	a.Purpose = account.Purpose(purpose)
	var err error
	if a.ID, err = account.ParseID(sid); err != nil {
		return nil, err
	}
	if main != "" {
		a.Primary, err = account.ParseID(main)
	}
	return &a, err
}

// account finds the row of an identifier and remembers it, or that there is none.
func (t *Tx) account(id account.ID) *row {
	if a, ok := t.accounts[id]; ok {
		return a
	}
	if t.accounts == nil {
		t.accounts = map[account.ID]*row{}
	}
	var a *row
	t.each("SELECT "+accountColumns+" FROM accounts WHERE sid=?", []any{id.String()}, func(r *sql.Rows) (err error) {
		a, err = scanAccount(r)
		return err
	})
	t.accounts[id] = a
	return a
}

// forget drops what was remembered of accounts after some changed.
func (t *Tx) forget() { t.accounts, t.names, t.domain = nil, nil, nil }

// Account finds an account; together with GroupsOf it makes a Tx an account.Book.
func (t *Tx) Account(id account.ID) (account.Account, bool) {
	if a := t.account(id); a != nil {
		return a.Account, true
	}
	return account.Account{}, false
}

// GroupsOf lists the groups that list id as a member.
func (t *Tx) GroupsOf(id account.ID) []account.ID {
	var out []account.ID
	t.each(`SELECT g.sid FROM members m JOIN accounts a ON a.id=m.member JOIN accounts g ON g.id=m.holder
		WHERE a.sid=? ORDER BY m.id`, []any{id.String()}, func(r *sql.Rows) error {
		var sid string
		if err := r.Scan(&sid); err != nil {
			return err
		}
		g, err := account.ParseID(sid)
		out = append(out, g)
		return err
	})
	return out
}

// Directory reads every account and membership.
func (t *Tx) Directory() *account.Directory {
	d := account.NewDirectory()
	byRow := map[int64]account.ID{}
	t.each("SELECT "+accountColumns+" FROM accounts ORDER BY id", nil, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		if err == nil {
			d.Add(a.Account)
			byRow[a.id] = a.ID
		}
		return err
	})
	t.each("SELECT holder, member FROM members ORDER BY id", nil, func(r *sql.Rows) error {
		var g, m int64
		err := r.Scan(&g, &m)
		d.Join(byRow[g], byRow[m])
		return err
	})
	return d
}

// Domain is the domain whose accounts the estate knows: that of the first
// account that has one.
func (t *Tx) Domain() account.ID {
	if t.domain == nil {
		var sid string
		t.one("SELECT sid FROM accounts WHERE sid LIKE 'S-1-5-21-%' ORDER BY id LIMIT 1", nil, &sid)
		d := account.ID{}
		if id, err := account.ParseID(sid); err == nil {
			d, _, _ = id.Domain()
		}
		t.domain = &d
	}
	return *t.domain
}

// domainUsers names the group every account of the estate's domain is in.
const domainUsers = "domain-users@"

// Name gives the name of an identifier as Who reads it: a special account's,
// an account's (with user: or group: before it where both have it), or the
// identifier.
func (t *Tx) Name(id account.ID) string {
	if id.IsZero() {
		return "nobody"
	}
	n, ok := t.names[id]
	if !ok {
		n = t.name(id)
		if t.names == nil {
			t.names = map[account.ID]string{}
		}
		t.names[id] = n
	}
	return n
}

func (t *Tx) name(id account.ID) string {
	if n, ok := account.SpecialName(id); ok {
		return n
	}
	if a := t.account(id); a != nil {
		if twin := t.twin(a); twin != nil && (a.Kind == account.Group || !t.private(a, twin)) {
			return a.Kind.String() + ":" + a.Name
		}
		return a.Name
	}
	if d, rid, ok := id.Domain(); ok && rid == account.DomainUsersRID && d == t.Domain() {
		return domainUsers
	}
	if n, user, ok := id.POSIX(); ok {
		if user {
			return fmt.Sprintf("uid:%d", n)
		}
		return fmt.Sprintf("gid:%d", n)
	}
	return id.String()
}

// twin finds the account of the other kind that has the same name.
func (t *Tx) twin(a *row) *row { return t.exactly(a.Name, account.User+account.Group-a.Kind) }

// exactly finds the account of a kind and name; nil where there is none.
func (t *Tx) exactly(name string, kind account.Kind) (a *row) {
	t.each("SELECT "+accountColumns+" FROM accounts WHERE name=? AND kind=?", []any{name, kind}, func(r *sql.Rows) (err error) {
		a, err = scanAccount(r)
		return err
	})
	return a
}

// private tells whether a group is one user's own: his primary group, of his
// name, with no other members. The bare name then means the user.
func (t *Tx) private(user, group *row) bool {
	return user.Kind == account.User && user.Primary == group.ID &&
		t.int("SELECT count(*) FROM members WHERE holder=?", group.id) == 0
}

// Who finds the identifier that a word on the command line means: a special
// account, an account's name (user: or group: may stand before it), S-1-…,
// uid:N or gid:N.
func (t *Tx) Who(word string) (account.ID, error) {
	if id, ok := account.ParseSpecial(word); ok {
		return id, nil
	}
	if strings.EqualFold(word, domainUsers) && !t.Domain().IsZero() {
		return t.Domain().Child(account.DomainUsersRID), nil
	}
	if strings.HasSuffix(word, "@") {
		return account.ID{}, &NotFound{What: "special account", Name: word, Near: nearest(word, append(account.SpecialNames(), domainUsers))}
	}
	if strings.HasPrefix(word, "uid:") || strings.HasPrefix(word, "gid:") || strings.HasPrefix(strings.ToUpper(word), "S-1-") {
		return account.ParseID(word)
	}
	a, err := t.find(word, 0)
	if err != nil {
		return account.ID{}, err
	}
	return a.ID, nil
}

// find looks an account up by name; kind 0 takes either.
func (t *Tx) find(word string, kind account.Kind) (*row, error) {
	name := word
	for _, k := range []account.Kind{account.User, account.Group} {
		if rest, ok := strings.CutPrefix(word, k.String()+":"); ok {
			if kind != 0 && kind != k {
				return nil, refuse("", "%q is a %s, wanted a %s", word, k, kind)
			}
			name, kind = rest, k
		}
	}
	var found []*row
	t.each("SELECT "+accountColumns+" FROM accounts WHERE name=? ORDER BY kind", []any{name}, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		found = append(found, a)
		return err
	})
	if t.err != nil {
		return nil, t.Err()
	}
	var fit []*row
	for _, a := range found {
		if kind == 0 || a.Kind == kind {
			fit = append(fit, a)
		}
	}
	switch {
	case len(fit) == 2 && t.private(fit[0], fit[1]):
		return fit[0], nil
	case len(fit) == 2:
		return nil, refuse(fmt.Sprintf("say user:%s or group:%s", name, name), "%q is a user and a group", name)
	case len(fit) == 1:
		return fit[0], nil
	}
	what := "account"
	if kind != 0 {
		what = kind.String()
	}
	if len(found) > 0 {
		return nil, &NotFound{What: what, Name: name, In: fmt.Sprintf("the estate (there is a %s of that name)", found[0].Kind)}
	}
	names := t.strings("SELECT name FROM accounts WHERE ?=0 OR kind=?", kind, kind)
	if kind == 0 {
		names = append(names, account.SpecialNames()...)
	}
	return nil, &NotFound{What: what, Name: name, Near: nearest(name, names)}
}

// Named looks up a user or group by name; kind 0 takes either.
func (t *Tx) Named(word string, kind account.Kind) (account.Account, error) {
	a, err := t.find(word, kind)
	if err != nil {
		return account.Account{}, err
	}
	return a.Account, nil
}

// Accounts lists all accounts of a kind (0: all) by name.
func (t *Tx) Accounts(kind account.Kind) (out []account.Account) {
	t.each("SELECT "+accountColumns+" FROM accounts WHERE ?=0 OR kind=? ORDER BY name, kind", []any{kind, kind}, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		if err == nil {
			out = append(out, a.Account)
		}
		return err
	})
	return out
}

// AddAccount puts a new account in. An account without an identifier of its
// own is given that of its POSIX id, or the next free one of the estate's own
// range.
func (t *Tx) AddAccount(a account.Account) (account.Account, error) {
	if err := goodName("account", a.Name); err != nil {
		return a, err
	}
	if t.exactly(a.Name, a.Kind) != nil {
		return a, refuse("", "there is a %s %q already", a.Kind, a.Name)
	}
	if a.ID.IsZero() {
		a.ID = t.freeID(a)
	}
	if old := t.account(a.ID); old != nil {
		return a, refuse("", "%s is the identifier of %s %q already", a.ID, old.Kind, old.Name)
	}
	t.insertAccount(a)
	t.forget()
	return a, t.Err()
}

func (t *Tx) insertAccount(a account.Account) int64 {
	return t.exec("INSERT INTO accounts(kind, name, sid, posix, main, purpose) VALUES(?,?,?,?,?,?)",
		a.Kind, a.Name, a.ID.String(), a.POSIX, a.Primary.String(), string(a.Purpose))
}

// ownDomain is the domain of accounts made in an estate that knows no other.
var ownDomain = account.NewID(5, 21, 1952541294, 2002873188, 0)

func (t *Tx) freeID(a account.Account) account.ID {
	if a.POSIX != account.NoPOSIX {
		if a.Kind == account.User {
			return account.UID(uint32(a.POSIX))
		}
		return account.GID(uint32(a.POSIX))
	}
	d := t.Domain()
	if d.IsZero() {
		d = ownDomain
	}
	// The highest part in use, of this domain, and one more.
	prefix := d.String() + "-"
	top := t.int("SELECT coalesce(max(CAST(substr(sid, ?) AS INTEGER)), 0) FROM accounts WHERE substr(sid, 1, ?) = ?",
		len(prefix)+1, len(prefix), prefix)
	return d.Child(uint32(max(top+1, 1100)))
}

// goodName refuses names that can't be written or read back.
func goodName(what, name string) error {
	if name == "" || strings.TrimSpace(name) != name {
		return refuse("", "%q is no name for a %s", name, what)
	}
	if strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f || strings.ContainsRune(`/\:"*?<>|,;`, r) }) {
		return refuse(`leave out / \ : " * ? < > | , ; and control characters`, "%q is no name for a %s", name, what)
	}
	if strings.HasSuffix(name, "@") {
		return refuse("", "%q is no name for a %s: names that end in @ are special accounts", name, what)
	}
	return nil
}

// SetPurpose says what a group is for.
func (t *Tx) SetPurpose(id account.ID, p account.Purpose) {
	t.exec("UPDATE accounts SET purpose=? WHERE sid=?", string(p), id.String())
	t.forget()
}

// SetPrimary says which group is a user's primary one.
func (t *Tx) SetPrimary(id, group account.ID) {
	t.exec("UPDATE accounts SET main=? WHERE sid=?", group.String(), id.String())
	t.forget()
}

// Join makes an account a member of a group. A loop or a duplicate is refused.
func (t *Tx) Join(group, member account.Account, until string) error {
	g, m := t.account(group.ID), t.account(member.ID)
	var old string
	if t.one("SELECT until FROM members WHERE holder=? AND member=?", []any{g.id, m.id}, &old) {
		if old != until {
			t.exec("UPDATE members SET until=? WHERE holder=? AND member=?", until, g.id, m.id)
			return t.Err()
		}
		return refuse("", "%s is a member of %s already", t.Name(member.ID), t.Name(group.ID))
	}
	if member.Kind == account.Group {
		if loop := t.Directory().Loop(group.ID, member.ID); loop != nil {
			names := make([]string, len(loop))
			for i, id := range loop {
				names[i] = t.Name(id)
			}
			return refuse("", "%s can't join %s, for then it would hold itself: %s",
				t.Name(member.ID), t.Name(group.ID), strings.Join(names, " in "))
		}
	}
	t.exec("INSERT INTO members(holder, member, until) VALUES(?,?,?)", g.id, m.id, until)
	return t.Err()
}

// Leave ends a membership.
func (t *Tx) Leave(group, member account.Account) error {
	g, m := t.account(group.ID), t.account(member.ID)
	if t.int("SELECT count(*) FROM members WHERE holder=? AND member=?", g.id, m.id) == 0 {
		if member.Primary == group.ID {
			return refuse("give the user another primary group first", "%s is the primary group of %s", t.Name(group.ID), t.Name(member.ID))
		}
		return refuse("", "%s is not a direct member of %s", t.Name(member.ID), t.Name(group.ID))
	}
	t.exec("DELETE FROM members WHERE holder=? AND member=?", g.id, m.id)
	return t.Err()
}

// Until tells when a direct membership ends; "" where it doesn't.
func (t *Tx) Until(group, member account.ID) (until string) {
	g, m := t.account(group), t.account(member)
	if g != nil && m != nil {
		t.one("SELECT until FROM members WHERE holder=? AND member=?", []any{g.id, m.id}, &until)
	}
	return until
}

// RemoveAccount takes an account out. It is refused where rules, ownership,
// or a server's list still name it.
func (t *Tx) RemoveAccount(a account.Account) error {
	r := t.account(a.ID)
	where, more := t.Naming(a)
	if len(where) > 0 {
		s := strings.Join(where, "\n  ")
		if more > 0 {
			s += fmt.Sprintf("\n  and %d more", more)
		}
		return refuse("", "%s %s is still named by\n  %s\nrevoke those first", a.Kind, t.Name(a.ID), s)
	}
	if a.Kind == account.Group {
		var users []string
		t.each("SELECT name FROM accounts WHERE main=? ORDER BY name", []any{a.ID.String()}, func(r *sql.Rows) error {
			var n string
			err := r.Scan(&n)
			users = append(users, n)
			return err
		})
		if len(users) > 0 {
			return refuse("give them another first", "%s is the primary group of %s", t.Name(a.ID), strings.Join(users[:min(5, len(users))], ", "))
		}
	}
	t.exec("DELETE FROM members WHERE holder=? OR member=?", r.id, r.id)
	t.exec("DELETE FROM accounts WHERE id=?", r.id)
	t.forget()
	return t.Err()
}

// Naming lists where an account is named: entries set on items and shares,
// ownership, servers' administrators; at most a few, and how many more.
func (t *Tx) Naming(a account.Account) (where []string, more int64) {
	const show = 8
	forms := []account.ID{a.ID}
	if a.POSIX != account.NoPOSIX {
		if a.Kind == account.User {
			forms = append(forms, account.UID(uint32(a.POSIX)))
		} else {
			forms = append(forms, account.GID(uint32(a.POSIX)))
		}
	}
	note := func(s string) {
		if len(where) < show {
			where = append(where, s)
		} else {
			more++
		}
	}
	for _, s := range t.strings("SELECT v.name FROM administrators d JOIN servers v ON v.id=d.server JOIN accounts a ON a.id=d.account WHERE a.sid=?", a.ID.String()) {
		note("the administrators of server " + s)
	}
	for _, did := range t.ints("SELECT id FROM descriptors") {
		d := t.Descriptor(did)
		if t.err != nil {
			return nil, 0
		}
		owns := slices.Contains(forms, d.Owner)
		named := false
		for _, e := range append(slices.Clone(d.Rules.Entries), d.Audit.Entries...) {
			named = named || e.Own() && slices.Contains(forms, e.Who)
		}
		if !owns && !named {
			continue
		}
		for _, name := range t.strings("SELECT '//' || v.name || '/' || s.name FROM shares s JOIN servers v ON v.id=s.server WHERE s.descriptor=?", did) {
			note("the rules of share " + name)
		}
		for _, strand := range t.ints("SELECT id FROM strands WHERE descriptor=?", did) {
			for _, item := range t.ints("SELECT id FROM items WHERE strand=? LIMIT ?", strand, show) {
				if owns {
					note(t.Place(item).String() + " (owner)")
				} else {
					note(t.Place(item).String())
				}
			}
			if n := t.int("SELECT items FROM weights WHERE strand=?", strand); n > show {
				more += n - show
			}
		}
	}
	slices.Sort(where)
	return where, more
}

// ByPOSIX finds the account of a uid or gid.
func (t *Tx) ByPOSIX(kind account.Kind, n uint32) (account.Account, bool) {
	var a *row
	t.each("SELECT "+accountColumns+" FROM accounts WHERE kind=? AND posix=?", []any{kind, n}, func(r *sql.Rows) (err error) {
		a, err = scanAccount(r)
		return err
	})
	if a == nil {
		return account.Account{}, false
	}
	return a.Account, true
}
