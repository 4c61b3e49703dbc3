package estate

import (
	"database/sql"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/format"
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
	t.Each("SELECT "+accountColumns+" FROM accounts WHERE "+where, args, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		out = append(out, a)
		return err
	})
	if t.Err() != nil {
		return nil
	}
	return out
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

// Foresee makes the transaction know an account that a plan makes come, so that
// what is told of the plan names it. Nothing is kept of it.
func (t *Tx) Foresee(a account.Account) {
	t.account(a.ID)
	t.accounts[a.ID] = &row{Account: a}
	delete(t.names, a.ID)
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
func (t *Tx) GroupsOf(id account.ID) (out []account.ID) {
	for _, sid := range t.Strings(`SELECT g.sid FROM members m JOIN accounts a ON a.id=m.member JOIN accounts g ON g.id=m.holder
		WHERE a.sid=? ORDER BY m.id`, id.String()) {
		g, err := account.ParseID(sid)
		t.Fail(err)
		out = append(out, g)
	}
	return out
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

// everybody reads every account, without memberships.
func (t *Tx) everybody() (*account.Directory, map[int64]account.ID) {
	all := t.accountsWhere("1=1 ORDER BY id")
	d := account.NewDirectoryOf(len(all))
	byRow := make(map[int64]account.ID, len(all))
	for _, a := range all {
		d.Add(a.Account)
		byRow[a.id] = a.ID
	}
	return d, byRow
}

func (t *Tx) memberships(d *account.Directory, byRow map[int64]account.ID) {
	t.Each("SELECT holder, member, local FROM members ORDER BY id", nil, func(r *sql.Rows) error {
		var g, m int64
		var local bool
		err := r.Scan(&g, &m, &local)
		group, member := byRow[g], byRow[m]
		if group.IsZero() || member.IsZero() {
			return fmt.Errorf("%w: a membership names nobody", store.ErrDamaged)
		}
		d.Join(group, member)
		if local {
			d.SetLocal(group, member, true)
		}
		return err
	})
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
		t.One("SELECT sid FROM accounts WHERE sid LIKE 'S-1-5-21-%' ORDER BY id LIMIT 1", nil, &sid)
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

// Names gives the names of several.
func (t *Tx) Names(ids []account.ID) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = t.Name(id)
	}
	return out
}

func (t *Tx) name(id account.ID) string {
	if n, ok := account.SpecialName(id); ok {
		return n
	}
	if a := t.account(id); a != nil {
		if twin := t.exactly(a.Name, account.User+account.Group-a.Kind); twin != nil && (a.Kind == account.Group || !t.private(a, twin)) {
			return a.Kind.String() + ":" + a.Name
		}
		return a.Name
	}
	if d, rid, ok := id.Domain(); ok && rid == account.DomainUsersRID && d == t.Domain() {
		return DomainUsers
	}
	if n, user, ok := id.POSIX(); ok {
		if user {
			return fmt.Sprintf("uid:%d", n)
		}
		return fmt.Sprintf("gid:%d", n)
	}
	return id.String()
}

// exactly finds the account of a kind and name; nil where there is none.
func (t *Tx) exactly(name string, kind account.Kind) *row {
	for _, a := range t.accountsWhere("key=? AND kind=?", store.Key(name), kind) {
		return a
	}
	return nil
}

// private tells whether a group is one user's own: his primary group, of his
// name, with no other members. The bare name then means the user.
func (t *Tx) private(user, group *row) bool {
	return user.Kind == account.User && user.Primary == group.ID &&
		t.Int("SELECT count(*) FROM members WHERE holder=?", group.id) == 0
}

// Who finds the identifier that a word on the command line means: a special
// account, an account's name (user: or group: may stand before it), S-1-…,
// uid:N or gid:N.
func (t *Tx) Who(word string) (account.ID, error) {
	if id, ok := account.ParseSpecial(word); ok {
		return id, nil
	}
	if strings.EqualFold(word, DomainUsers) && !t.Domain().IsZero() {
		return t.Domain().Child(account.DomainUsersRID), nil
	}
	if strings.HasSuffix(word, "@") {
		return account.ID{}, &NotFound{What: "special account", Name: word, Near: Nearest(word, append(account.SpecialNames(), DomainUsers))}
	}
	if strings.HasPrefix(word, "uid:") || strings.HasPrefix(word, "gid:") || strings.HasPrefix(strings.ToUpper(word), "S-1-") {
		id, err := account.ParseID(word)
		if err != nil {
			return id, refuse("write S-1-…, uid:NUMBER or gid:NUMBER", "%s", format.Clip(err.Error()))
		}
		return id, nil
	}
	a, err := t.Named(word, 0)
	return a.ID, err
}

// User looks up who is asked about: a user, or where no user has the name a group.
func (t *Tx) User(word string) (account.Account, error) {
	if !strings.Contains(word, ":") {
		if a := t.exactly(word, account.User); a != nil {
			return a.Account, nil
		}
	}
	return t.Named(word, 0)
}

// Named looks up a user or group by name; kind 0 takes either.
func (t *Tx) Named(word string, kind account.Kind) (account.Account, error) {
	name := word
	for _, k := range []account.Kind{account.User, account.Group} {
		if rest, ok := strings.CutPrefix(word, k.String()+":"); ok {
			if kind != 0 && kind != k {
				return account.Account{}, refuse("", "%q is a %s, wanted a %s", format.Clip(word), k, kind)
			}
			name, kind = rest, k
		}
	}
	found := t.accountsWhere("key=? ORDER BY kind", store.Key(name))
	if err := t.Err(); err != nil {
		return account.Account{}, err
	}
	if len(found) == 0 {
		found = t.inDomain(name)
	}
	var fit []*row
	for _, a := range found {
		if kind == 0 || a.Kind == kind {
			fit = append(fit, a)
		}
	}
	switch {
	case len(fit) == 2 && t.private(fit[0], fit[1]):
		return fit[0].Account, nil
	case len(fit) == 2:
		return account.Account{}, refuse(fmt.Sprintf("say user:%s or group:%s", name, name), "%q is a user and a group", name)
	case len(fit) == 1:
		return fit[0].Account, nil
	}
	what := "account"
	if kind != 0 {
		what = kind.String()
	}
	if len(found) > 0 {
		return account.Account{}, &NotFound{What: what, Name: name, In: fmt.Sprintf("the estate (there is a %s of that name)", found[0].Kind)}
	}
	names := t.Strings("SELECT name FROM accounts WHERE ?=0 OR kind=?", kind, kind)
	if kind == 0 {
		names = append(names, account.SpecialNames()...)
	}
	return account.Account{}, &NotFound{What: what, Name: name, Near: Nearest(name, names)}
}

// Accounts lists all accounts of a kind (0: all) by name.
func (t *Tx) Accounts(kind account.Kind) (out []account.Account) {
	for _, a := range t.accountsWhere("?=0 OR kind=? ORDER BY key, kind", kind, kind) {
		out = append(out, a.Account)
	}
	return out
}

// Beginning lists up to limit names of accounts of a kind (0: all) that begin
// with a text.
func (t *Tx) Beginning(text string, kind account.Kind, limit int) (out []string) {
	key := store.Key(text)
	above := key + "\U0010ffff"
	for _, a := range t.accountsWhere("key>=? AND key<? AND (?=0 OR kind=?) ORDER BY key LIMIT ?", key, above, kind, kind, limit) {
		out = append(out, t.Name(a.ID))
	}
	return out
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

// ownDomain is the domain of accounts made in an estate that knows no other.
var ownDomain = account.NewID(5, 21, 1952541294, 2002873188, 0)

// numbering gives new identifiers, none ever twice.
type numbering struct {
	domain account.ID
	last   int64
}

// FreeIDs makes ready for giving identifiers to new accounts: above every
// number the estate's domain has had, those of accounts long gone and those
// that only rules name included.
func (t *Tx) FreeIDs() *numbering {
	n := &numbering{domain: t.Domain(), last: 1099}
	if n.domain.IsZero() {
		n.domain = ownDomain
	}
	prefix := n.domain.String() + "-"
	note := func(id account.ID) {
		if d, rid, ok := id.Domain(); ok && d == n.domain {
			n.last = max(n.last, int64(rid))
		}
	}
	n.last = max(n.last, t.Int("SELECT coalesce(max(last),0) FROM numbers WHERE domain=?", n.domain.String()))
	for _, sid := range t.Strings("SELECT sid FROM accounts WHERE sid LIKE ?", prefix+"%") {
		if id, err := account.ParseID(sid); err == nil {
			note(id)
		}
	}
	at := slices.Index(store.Columns("accounts"), "sid")
	for _, change := range t.Ints("SELECT DISTINCT change FROM journal_rows WHERE tbl='accounts' AND last=0") {
		for _, r := range t.RowsOf(change, "accounts") {
			for _, v := range [][]any{r.Before, r.After} {
				if v == nil {
					continue
				}
				if id, err := account.ParseID(store.Text(v, at)); err == nil {
					note(id)
				}
			}
		}
	}
	t.AllDescriptors(func(_ int64, a rule.Any) {
		d := a.Listed()
		note(d.Owner)
		note(d.Group)
		for _, e := range d.Rules.Entries {
			note(e.Who)
		}
		for _, e := range d.Audit.Entries {
			note(e.Who)
		}
	})
	return n
}

// For gives a new account its identifier: that of its POSIX id where it has
// one, else the next number.
func (n *numbering) For(a account.Account) (account.ID, error) {
	if a.POSIX != account.NoPOSIX {
		if a.Kind == account.User {
			return account.UID(uint32(a.POSIX)), nil
		}
		return account.GID(uint32(a.POSIX)), nil
	}
	if n.last >= math.MaxUint32 {
		return account.ID{}, refuse("say one with --sid", "the domain %s has no number left for %s", n.domain, a.Name)
	}
	n.last++
	return n.domain.Child(uint32(n.last)), nil
}

// Gave remembers for ever which number was the last one given.
func (t *Tx) Gave(id account.ID) {
	if d, rid, ok := id.Domain(); ok {
		if t.Int("SELECT count(*) FROM numbers WHERE domain=?", d.String()) == 0 {
			t.Exec("INSERT INTO numbers(domain, last) VALUES(?,?)", d.String(), rid)
		} else {
			t.Exec("UPDATE numbers SET last=max(last,?) WHERE domain=?", rid, d.String())
		}
	}
}

// longest is the most bytes a name of an account, server, share or level has.
const longest = 256

// GoodName refuses names that can't be written, seen or read back.
func GoodName(what, name string) error {
	bad := func(why string) error {
		return refuse("", "%q is no name for a %s: %s", format.Clip(name), what, why)
	}
	switch {
	case name == "":
		return bad("it is empty")
	case len(name) > longest:
		return refuse("", "a name of %d bytes is no name for a %s: at most %d are taken", len(name), what, longest)
	case !utf8.ValidString(name):
		return bad("it is not UTF-8 text")
	case strings.TrimSpace(name) != name:
		return bad("it begins or ends with a blank")
	case strings.HasSuffix(name, "@"):
		return bad("names that end in @ are special accounts")
	}
	for _, r := range name {
		switch {
		case strings.ContainsRune(`/\:"*?<>|,;`, r):
			return bad(`leave out / \ : " * ? < > | , ;`)
		case unicode.IsControl(r):
			return bad("it holds a control character")
		case unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co, unicode.Cs):
			return bad(fmt.Sprintf("it holds a mark that can't be seen (%U)", r))
		}
	}
	if id, err := account.ParseID(name); err == nil || strings.HasPrefix(strings.ToUpper(name), "S-1-") {
		return bad(fmt.Sprintf("it reads as the identifier %s", id))
	}
	return nil
}

// GoodID refuses identifiers that mean something of their own, so that no
// account of the estate stands for everyone or for the system.
func GoodID(id account.ID) error {
	if id.IsZero() {
		return refuse("", "the identifier is empty")
	}
	if n, ok := account.SpecialName(id); ok {
		return refuse("an account has an identifier of a domain, S-1-5-21-…, or a uid or gid", "%s is the standard's own: %s", id, n)
	}
	if _, _, ok := id.Domain(); ok {
		return nil
	}
	if _, _, ok := id.POSIX(); ok {
		return nil
	}
	if strings.HasPrefix(id.String(), "S-1-5-32-") {
		return nil
	}
	return refuse("an account has an identifier of a domain, S-1-5-21-…, or a uid or gid", "%s is kept for the standard's own accounts", id)
}

// Membership is a direct membership.
type Membership struct {
	Until Day  // its last day; "": for good
	Local bool // known not to be one of the server's POSIX groups
}

// SetMember makes an account a member of a group, or its membership another.
func (t *Tx) SetMember(group, member account.ID, is Membership) {
	g, m := t.account(group), t.account(member)
	if g == nil || m == nil {
		t.Fail(refuse("", "%s or %s is no account of the estate", group, member))
		return
	}
	t.Exec("INSERT INTO members(holder, member, until, local) VALUES(?,?,?,?) ON CONFLICT(holder, member) DO UPDATE SET until=excluded.until, local=excluded.local",
		g.id, m.id, is.Until, is.Local)
}

// NewMember is a membership that comes.
type NewMember struct {
	Group, Member account.ID
	Is            Membership
}

// AddMembers makes memberships come that aren't there, many at a time.
func (t *Tx) AddMembers(list []NewMember) {
	for _, m := range list {
		if t.account(m.Group) == nil || t.account(m.Member) == nil {
			t.Fail(refuse("", "%s or %s is no account of the estate", m.Group, m.Member))
			return
		}
	}
	t.InsertMany("members", len(list), func(i int) []any {
		m := &list[i]
		return []any{t.account(m.Group).id, t.account(m.Member).id, string(m.Is.Until), m.Is.Local}
	})
}

// AddAccounts puts new accounts in, which have identifiers, many at a time, and
// remembers for ever which numbers were given.
func (t *Tx) AddAccounts(list []account.Account) {
	defer t.forget()
	t.InsertMany("accounts", len(list), func(i int) []any {
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
}

// DropMember ends a membership.
func (t *Tx) DropMember(group, member account.ID) {
	g, m := t.account(group), t.account(member)
	if g != nil && m != nil {
		t.Exec("DELETE FROM members WHERE holder=? AND member=?", g.id, m.id)
	}
}

// Member tells whether an account is a direct member of a group, and how.
func (t *Tx) Member(group, member account.ID) (is Membership, ok bool) {
	g, m := t.account(group), t.account(member)
	if g == nil || m == nil {
		return is, false
	}
	ok = t.One("SELECT until, local FROM members WHERE holder=? AND member=?", []any{g.id, m.id}, &is.Until, &is.Local)
	return is, ok
}

// PrimaryUsers lists the users whose primary group one is.
func (t *Tx) PrimaryUsers(group account.ID) (out []account.Account) {
	for _, a := range t.accountsWhere("primary_group=? ORDER BY key", group.String()) {
		out = append(out, a.Account)
	}
	return out
}

// AdministratorOf lists the servers on whose lists of administrators an account is.
func (t *Tx) AdministratorOf(id account.ID) []string {
	return t.Strings("SELECT v.name FROM administrators d JOIN servers v ON v.id=d.server JOIN accounts a ON a.id=d.account WHERE a.sid=? ORDER BY v.key", id.String())
}

// ByPOSIX finds the accounts of a uid or gid; a server may have several.
func (t *Tx) ByPOSIX(kind account.Kind, n uint32) (out []account.Account) {
	for _, a := range t.accountsWhere("kind=? AND posix=? ORDER BY id", kind, n) {
		out = append(out, a.Account)
	}
	return out
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

// MembersOf lists who a group lists.
func (t *Tx) MembersOf(group account.ID) (out []account.ID) {
	g := t.account(group)
	if g == nil {
		return nil
	}
	for _, row := range t.Ints("SELECT member FROM members WHERE holder=? ORDER BY id", g.id) {
		if m := t.accountByRow(row); m != nil {
			out = append(out, m.ID)
		}
	}
	return out
}
