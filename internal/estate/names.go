package estate

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"tarnwold/core/account"
	"tarnwold/internal/format"
	"tarnwold/internal/store"
)

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

// ReadNames reads accounts whose names will be asked for, all at once.
func (t *Tx) ReadNames(ids []account.ID) {
	t.look(ids)
	known := map[int64]*row{}
	for _, id := range ids {
		if a := t.accounts[id]; a != nil {
			known[a.id] = a
		}
	}
	t.know(known)
}

// Names gives the names of several.
func (t *Tx) Names(ids []account.ID) []string {
	t.ReadNames(ids)
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
		if t.soleName(a.Name) {
			return a.Name
		}
		if twin := t.exactly(a.Name, account.User+account.Group-a.Kind); twin != nil && (a.Kind == account.Group || !t.private(a, twin)) {
			return a.Kind.String() + ":" + a.Name
		}
		if len(t.apart(a.Name, 0)) > 0 {
			return a.Kind.String() + ":" + a.Name
		}
		return a.Name
	}
	if d, rid, ok := id.Domain(); ok && rid == account.DomainUsersRID && d == t.Domain() {
		return DomainUsers
	}
	if n, user, ok := id.POSIX(); ok {
		if name, ok := t.numberName(id); ok {
			return name
		}
		if user {
			return fmt.Sprintf("uid:%d", n)
		}
		return fmt.Sprintf("gid:%d", n)
	}
	return id.String()
}

// soleName tells that a name is one account's alone, and nobody is called it
// elsewhere.
func (t *Tx) soleName(name string) bool {
	key := store.Key(name)
	if _, known := t.sole[key]; !known {
		if t.asked++; t.everyone && t.asked > 16 {
			t.soleOfAll()
		} else {
			t.soleOf([]string{key})
		}
	}
	return t.sole[key]
}

// exactly finds the account of a kind and name; nil where there is none.
func (t *Tx) exactly(name string, kind account.Kind) *row {
	for _, a := range t.accountsWhere("key=? AND kind=?", store.Key(name), kind) {
		return a
	}
	return nil
}

// apart finds the accounts of a kind (0: either) that are called a name where they
// are kept, and otherwise here: name@DOMAIN, for another has it.
func (t *Tx) apart(name string, kind account.Kind) (out []*row) {
	key := store.Key(name)
	var domains map[account.ID]string
	for _, a := range t.accountsWhere("key>? AND key<? AND (?=0 OR kind=?) ORDER BY key, kind", key+"@", key+"A", kind, kind) { // A is behind @
		if domains == nil {
			domains = map[account.ID]string{}
			for _, d := range t.Domains() {
				domains[d.ID] = d.Name
			}
		}
		d, _, _ := a.ID.Domain()
		if store.Key(t.MetadataOf(a.ID).Called) == key || domains[d] != "" && store.Key(a.Name) == key+"@"+store.Key(domains[d]) {
			out = append(out, a)
		}
	}
	return out
}

// which refuses a bare name that several accounts have where they are kept.
func (t *Tx) which(name string, first *row, kind account.Kind) error {
	others := t.apart(name, kind)
	if len(others) == 0 {
		return nil
	}
	say := []string{first.Kind.String() + ":" + first.Name}
	for _, a := range others {
		say = append(say, t.Name(a.ID))
	}
	return refuse("say which: "+strings.Join(say, " or "), "%d accounts are called %q where they are kept", len(say), name)
}

// private tells whether a group is one user's own: their primary group, of theirs
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
			return a.Account, t.which(word, a, account.User)
		}
		if t.exactly(word, account.Group) == nil {
			if own := t.OwnNamed(word, account.User); len(own) > 0 {
				return t.Named(word, account.User)
			}
		}
	}
	return t.Named(word, 0)
}

// FindNamed is Named for who asks whether there is one at all: what it might have been
// is not looked for.
func (t *Tx) FindNamed(word string, kind account.Kind) (account.Account, bool) {
	a, err := t.named(word, kind, func() []string { return nil })
	return a, err == nil
}

// Named looks up a user or group by name; kind 0 takes either.
func (t *Tx) Named(word string, kind account.Kind) (account.Account, error) {
	return t.named(word, kind, func() []string { return t.Strings("SELECT name FROM accounts WHERE ?=0 OR kind=?", kind, kind) })
}

func (t *Tx) named(word string, kind account.Kind, all func() []string) (account.Account, error) {
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
	if len(found) == 0 && kind != account.User {
		if a, ok := t.Builtin(name); ok && t.account(a.ID) != nil {
			return a, nil
		}
		if several := t.builtinNamed(name); len(several) > 0 {
			if len(several) == 1 {
				return several[0], nil
			}
			var say []string
			for _, g := range several {
				say = append(say, g.Name)
			}
			return account.Account{}, refuse("say which: "+strings.Join(say, " or "), "every machine and domain has its own %s", t.Name(several[0].ID.Named()))
		}
	}
	if len(found) == 0 {
		own := t.OwnNamed(name, kind)
		switch {
		case len(own) == 1, len(own) == 2 && own[1].ID == own[0].Primary && len(t.MembersOf(own[1].ID)) == 0: // that one's private group
			return own[0], nil
		case len(own) > 1:
			return account.Account{}, t.severalOwn(name, own)
		}
	}
	var fit []*row
	for _, a := range found {
		if kind == 0 || a.Kind == kind {
			fit = append(fit, a)
		}
	}
	if len(fit) > 0 && name == word && store.Key(fit[0].Name) == store.Key(name) {
		if err := t.which(name, fit[0], kind); err != nil {
			return account.Account{}, err
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
	names := all()
	if kind == 0 {
		names = append(names, account.SpecialNames()...)
	}
	return account.Account{}, &NotFound{What: what, Name: name, Near: Nearest(name, names)}
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

// longest is the most bytes a name of an account, server, share or level has.
const longest = 256

// GoodName refuses names that can't be written, seen or read back.
func GoodName(what, name string) error {
	bad := func(why string) error {
		return refuse("", "%q is not a valid name for a %s: %s", format.Clip(name), what, why)
	}
	switch {
	case name == "":
		return bad("it is empty")
	case len(name) > longest:
		return refuse("", "a name of %d bytes is too long for a %s: at most %d are taken", len(name), what, longest)
	case !utf8.ValidString(name):
		return bad("it is not UTF-8 text")
	case strings.TrimSpace(name) != name:
		return bad("it begins or ends with a space")
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
