// Package ask answers questions on an estate with typed answers: facts, written
// entries and addresses, without a word of prose and without a transaction in
// what comes back. report makes words of them. One file a question.
package ask

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// Asker answers on one transaction and remembers what it looked up.
type Asker struct {
	// Met are people who are asked for already, with all they are in; may be nil.
	Met     *account.Directory
	T       *estate.Tx
	Lang    rule.Language
	reading sync.Mutex // of readers and asLists, which are asked beside what asks the estate, too
	readers map[rule.Reading]*rule.Reader
	tokens  map[tokenKey]*account.Token
	admins  map[int64][]account.ID
	shares  map[int64][]estate.Share
	places  map[string]estate.Place
	pops    map[string]*crowd.Population
	dir     *account.Directory
	people  *estate.People
	// what configurations say of shares, by their rows
	admitted map[int64]admitted
	openings map[openingKey]*account.Token
	asLists  map[rule.Any]*rule.Descriptor // what rules of other kinds list
	signOns  map[account.ID]estate.SignOn  // see SignOn
	shut     map[account.ID]string         // see ShutOut
}

type tokenKey struct {
	user   account.ID
	server int64
	local  bool
}

// New makes an asker.
func New(t *estate.Tx) *Asker {
	return &Asker{T: t, Lang: Language(t), readers: map[rule.Reading]*rule.Reader{}, tokens: map[tokenKey]*account.Token{},
		admins: map[int64][]account.ID{}, shares: map[int64][]estate.Share{}, places: map[string]estate.Place{}, admitted: map[int64]admitted{}, openings: map[openingKey]*account.Token{}, asLists: map[rule.Any]*rule.Descriptor{}}
}

// Language is how entries are written in an estate.
func Language(t *estate.Tx) rule.Language {
	name := func(id account.ID) string {
		if id.Inner() { // no entry means a realm's own by that
			return id.String()
		}
		return t.Name(id)
	}
	return rule.Language{Levels: t.Levels(), Name: name, Who: t.Who}
}

// Tx is what the asker reads.
func (k *Asker) Tx() *estate.Tx { return k.T }

// Read compiles rules for a reading.
func (k *Asker) Read(a rule.Any, how rule.Reading) *rule.List {
	k.reading.Lock()
	defer k.reading.Unlock()
	r := k.readers[how]
	if r == nil {
		r = rule.NewReader(how)
		k.readers[how] = r
	}
	return r.Of(a)
}

// AsNamed is AsEntries without the classes that every POSIX list has.
func (k *Asker) AsNamed(a rule.Any) *rule.Descriptor {
	x, ok := a.(*posix.Rules)
	if !ok {
		return k.AsEntries(a)
	}
	d := *k.AsEntries(a)
	d.Rules.Entries = nil
	for _, e := range x.Named() {
		e.Who = k.T.AccountOf(e.Who)
		d.Rules.Entries = append(d.Rules.Entries, e)
	}
	return &d
}

// AsEntries gives what rules list, as entries: one pointer for the same rules.
func (k *Asker) AsEntries(a rule.Any) *rule.Descriptor {
	if d, ok := a.(*rule.Descriptor); ok || a == nil {
		return d
	}
	k.reading.Lock()
	defer k.reading.Unlock()
	d := k.asLists[a]
	if d == nil {
		d = a.Listed()
		d.Owner, d.Group = k.T.AccountOf(d.Owner), k.T.AccountOf(d.Group)
		for i := range d.Rules.Entries {
			d.Rules.Entries[i].Who = k.T.AccountOf(d.Rules.Entries[i].Who)
		}
		k.asLists[a] = d
	}
	return d
}

// Dated gives last days by the entries as listed has them.
func (k *Asker) Dated(b estate.Bearer, a rule.Any) estate.Dated {
	days := k.T.Dated(b, a)
	if _, ok := a.(*posix.Rules); !ok {
		return days
	}
	out := estate.Dated{}
	for e, u := range days {
		e.Who = k.T.AccountOf(e.Who)
		out[e] = u
	}
	return out
}

// ListedAbove is listed for the folders above an item.
func (k *Asker) ListedAbove(p estate.Place) []*rule.Descriptor {
	above := k.T.Above(p)
	out := make([]*rule.Descriptor, len(above))
	for i, a := range above {
		out[i] = k.AsEntries(a)
	}
	return out
}

// AsThemselves tells whether everybody who comes by a share opens files as themselves.
func (k *Asker) AsThemselves(sh *estate.Share) bool { return k.lists(sh).Own() }

// AllAsThemselves is AsThemselves of every share there is.
func (k *Asker) AllAsThemselves() bool {
	for _, s := range k.T.Servers() {
		for _, sh := range k.T.Shares(s) {
			if !k.AsThemselves(&sh) {
				return false
			}
		}
	}
	return true
}

// ShareFolders lists the items that shares stand over.
func (k *Asker) ShareFolders() (out []estate.Target) {
	type top struct {
		server int64
		key    string
	}
	tops := map[top]estate.Target{}
	k.T.EachTop(func(server int64, path string, x estate.Target) { tops[top{server, estate.Key(path)}] = x })
	for _, s := range k.T.Servers() {
		for _, sh := range k.T.Shares(s) {
			if x, ok := tops[top{s.ID, estate.Key(sh.Folder)}]; ok {
				out = append(out, x)
			} else if at, err := k.T.At(s, sh.Folder); err == nil { // or it isn't in the estate
				out = append(out, at.Target())
			}
		}
	}
	return out
}

// met finds somebody among those who were met.
func (k *Asker) met(user account.ID) (account.Account, bool) {
	if k.Met == nil {
		return account.Account{}, false
	}
	return k.Met.Account(user)
}

// manyTokens is how many users' memberships are read one by one.
const manyTokens = 200

func (k *Asker) Administrators(s *estate.Server) []account.ID {
	ids, ok := k.admins[s.ID]
	if !ok {
		ids = k.T.Passing(*s)
		k.admins[s.ID] = ids
	}
	return ids
}

// Through lists the shares a place is reached by.
func (k *Asker) Through(p estate.Place) (out []estate.Share) {
	all, ok := k.shares[p.Server.ID]
	if !ok {
		all = k.T.Shares(p.Server)
		k.shares[p.Server.ID] = all
	}
	for _, s := range all {
		if s.Covers(p.Path) {
			out = append(out, s)
		}
	}
	return out
}

// Question puts together what core is asked about one user, place and route;
// with a nil share at the server itself.
func (k *Asker) Question(user account.ID, p estate.Place, sh *estate.Share) *verdict.Question {
	t, tr := k.T, By(&p.Server.Traits, sh)
	t.ReadChain(p)
	how := tr.Reading()
	q := &verdict.Question{Item: k.Read(t.Of(p.Strand), how), Traits: tr, Share: k.ShareOf(sh, tr)}
	q.Token, q.Self = k.openedAs(user, &p.Server, sh)
	connects := q.Token
	if q.Self != nil {
		connects = q.Self
	}
	above := len(p.Trail) > 1
	if sh != nil && sh.Begins(p.Path) {
		above = false
		if tr.ShareFolderAboveItself {
			q.Parent = q.Item
		}
	}
	if above {
		q.Parent = k.Read(t.Of(p.Trail[1]), how)
	}
	if tr.AsksFoldersAbove {
		for _, d := range k.Asked(p, sh) {
			q.Above = append(q.Above, k.Read(d, tr.AboveReading()))
		}
	}
	for _, id := range k.Administrators(&p.Server) {
		q.Administrator = q.Administrator || connects.Has(id)
	}
	return q
}

// By gives a server's traits by one route.
func By(tr *verdict.Traits, sh *estate.Share) *verdict.Traits {
	if sh == nil || tr.SharesDescribe == "" {
		return tr
	}
	by := tr.Through(sh.Admission == nil || !sh.Admission.Exported)
	return &by
}

// Asked gives the folders above a place that are asked for execute by a route:
// through an export those from its own folder down. A share's own folder comes
// last, where it is asked itself.
func (k *Asker) Asked(p estate.Place, sh *estate.Share) []rule.Any {
	above := k.T.Above(p)
	if sh != nil && sh.Begins(p.Path) && By(&p.Server.Traits, sh).AsksOwnFolder() {
		return append(slices.Clone(above), k.T.Of(p.Strand))
	}
	if n, ok := Near(p.Path, sh); ok {
		above = above[:min(n, len(above))]
	}
	return above
}

// Near tells how many of the folders above a path are asked by a share that asks
// from its own folder down; ok is false where all are.
func Near(path string, sh *estate.Share) (n int, ok bool) {
	if sh == nil || sh.Admission == nil || !sh.Admission.Exported {
		return 0, false
	}
	rest, _ := sh.Cut(path)
	if rest == "" {
		return 0, true
	}
	return strings.Count(rest, "/") + 1, true
}

// Place finds a place by what was typed, and remembers it, and the folders
// above it.
func (k *Asker) Place(where string) (estate.Place, error) {
	if p, ok := k.places[where]; ok {
		return p, nil
	}
	p, ok := k.below1(where)
	var err error
	if !ok {
		p, err = k.T.FindText(where)
	}
	if err == nil {
		k.places[where] = p
	}
	return p, err
}

// below1 finds a place in the folder above it, where its address is a plain
// one; what it doesn't find may be there all the same.
func (k *Asker) below1(where string) (estate.Place, bool) {
	i := strings.LastIndexByte(where, '/')
	if i < 3 || strings.ContainsRune(where, '\\') {
		return estate.Place{}, false
	}
	name, above := where[i+1:], where[:i]
	if name == "" || name == "." || name == ".." || strings.HasSuffix(above, "/") || strings.HasSuffix(above, ":") || strings.HasPrefix(where, "//") && strings.Count(above, "/") < 3 {
		return estate.Place{}, false
	}
	up, err := k.Place(above)
	if err != nil || !up.Folder {
		return estate.Place{}, false
	}
	return k.T.In(up, name)
}

// Kind names what an item is.
func Kind(folder bool) string {
	if folder {
		return "folder"
	}
	return "file"
}

// Account names an account in an answer.
type Account struct {
	Name string `json:"name"`
	ID   string `json:"identifier,omitempty"`
	Kind string `json:"kind,omitempty"` // user, group, special, or what else an identifier is; see Known
	Shut string `json:"shut,omitempty"` // why nobody can sign on as the user: disabled, expired, shut; empty: somebody can
	// Limits is how their signing on is limited: at certain hours, by Kerberos.
	Limits string `json:"limits,omitempty"`
}

// Account makes an answer's name of an identifier.
func (k *Asker) Account(id account.ID) Account {
	on := k.SignOn(id)
	return Account{Name: k.T.Name(id), ID: id.Named().String(), Kind: k.Known(id), Shut: on.Shut, Limits: on.Limits}
}

// protectedUsers is the last part of the identifier of a domain's group whose members sign
// on by Kerberos alone ([MS-ADTS] §6.1.1.6.18).
const protectedUsers = 525

// Signing is Account of a user, with what their token says of how they sign on.
func (k *Asker) Signing(user account.ID, tok *account.Token) Account {
	a := k.Account(user)
	if domain, _, ok := user.Domain(); ok && tok.Has(domain.Child(protectedUsers)) {
		by := "by Kerberos"
		if a.Limits != "" {
			by = a.Limits + ", and " + by
		}
		a.Limits = by
	}
	return a
}

// SignOn is what stands against a user's signing on, or limits it.
func (k *Asker) SignOn(id account.ID) estate.SignOn {
	if k.signOns == nil {
		k.signOns = k.T.SignOns()
	}
	return k.signOns[id]
}

// Matching finds the users of whom something is known, as in department=Foyer, in any case;
// is tells whether the words ask for that. The manager is said by name.
func (k *Asker) Matching(words string) (users []account.Account, is bool, err error) {
	name, value, _ := strings.Cut(words, "=")
	if name == words || name == "" {
		return nil, false, nil
	}
	known := (&estate.Details{}).Of(name) != nil
	if name == "manager" {
		boss, err := k.T.User(value)
		if err != nil {
			return nil, true, err
		}
		value = boss.ID.String()
	}
	k.T.EachParticular(func(p *estate.Particular) {
		is := ""
		if p.Err == nil {
			is = p.Details.Get(name)
		}
		if is == "" {
			return
		}
		known = true
		if a, ok := k.T.Account(p.ID); ok && estate.Key(is) == estate.Key(value) {
			users = append(users, a)
		}
	})
	if !known {
		return nil, false, k.T.Err()
	}
	slices.SortFunc(users, func(a, b account.Account) int { return CmpText(estate.Key(a.Name), estate.Key(b.Name)) })
	if len(users) == 0 && k.T.Err() == nil {
		return nil, true, Unfit("tarnwold user list shows what is known of users", "nobody has %s", words)
	}
	return users, true, k.T.Err()
}

// Details gives what is known of users beside.
func (k *Asker) Details() map[account.ID]estate.Details {
	known := map[account.ID]estate.Details{}
	k.T.EachParticular(func(p *estate.Particular) {
		if p.Details != (estate.Details{}) {
			known[p.ID] = p.Details
		}
	})
	return known
}

// Described is Details by the users' names, their managers by name too.
func (k *Asker) Described() map[string]estate.Details {
	known := k.Details()
	k.T.ReadNames(slices.Collect(maps.Keys(known)))
	out := map[string]estate.Details{}
	for id, d := range known {
		d.Manager = k.Manager(d.Manager)
		out[k.T.Name(id)] = d
	}
	return out
}

// Manager writes whom somebody works for, as it is written down.
func (k *Asker) Manager(text string) string {
	if id, err := account.ParseID(text); err == nil {
		return k.T.Name(id)
	}
	return text
}

// ShutOut lists the users nobody can sign on as, and why.
func (k *Asker) ShutOut() map[account.ID]string {
	if k.shut == nil {
		k.shut = map[account.ID]string{}
		k.SignOn(account.ID{}) // they are read
		for id, on := range k.signOns {
			if on.Shut != "" {
				k.shut[id] = on.Shut
			}
		}
	}
	return k.shut
}

// Known says what an identifier is: user, group, special, domain-users,
// uid-of:NAME, gid-of:NAME, or unknown.
func (k *Asker) Known(id account.ID) string {
	if a, ok := k.T.Account(id); ok {
		return a.Kind.String()
	}
	if _, ok := account.SpecialName(id); ok {
		return "special"
	}
	if n, user, ok := id.POSIX(); ok {
		kind, what := account.Group, "gid-of:"
		if user {
			kind, what = account.User, "uid-of:"
		}
		if as := k.T.ByPOSIX(kind, n); len(as) > 0 {
			return what + as[0].Name
		}
	}
	if _, rid, ok := id.Domain(); ok && rid == account.DomainUsersRID {
		return "domain-users"
	}
	return "unknown"
}

// Levels lists the levels there are.
func (k *Asker) Levels() (right.Levels, error) { return k.Lang.Levels, k.T.Err() }

// Level finds a level by name, or makes one of levels and rights joined by commas.
func (k *Asker) Level(word string) (right.Level, error) {
	if l, ok := k.Lang.Levels.Lookup(word); ok {
		return l, nil
	}
	what, err := k.Lang.Levels.Parse(word)
	if err != nil {
		return right.Level{}, estate.NoLevel(word, k.Lang.Levels)
	}
	return right.Level{Name: word, Folder: what.Folder, File: what.File}, nil
}
