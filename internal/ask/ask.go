// Package ask answers questions on an estate with typed answers: facts, written
// entries and addresses, without a word of prose and without a transaction in
// what comes back. report makes words of them. One file a question.
package ask

import (
	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// Asker answers on one transaction and remembers what it looked up.
type Asker struct {
	t       *estate.Tx
	lang    rule.Language
	readers map[rule.Reading]*rule.Reader
	tokens  map[tokenKey]*account.Token
	admins  map[int64][]account.ID
	shares  map[int64][]estate.Share
	places  map[string]estate.Place
	pops    map[string]*crowd.Population
	dir     *account.Directory
	people  *estate.People
}

type tokenKey struct {
	user   account.ID
	server int64
	local  bool
}

// New makes an asker.
func New(t *estate.Tx) *Asker {
	return &Asker{t: t, lang: Language(t), readers: map[rule.Reading]*rule.Reader{}, tokens: map[tokenKey]*account.Token{},
		admins: map[int64][]account.ID{}, shares: map[int64][]estate.Share{}, places: map[string]estate.Place{}}
}

// Language is how entries are written in an estate.
func Language(t *estate.Tx) rule.Language {
	return rule.Language{Levels: t.Levels(), Name: t.Name, Who: t.Who}
}

// Read compiles rules for a reading.
func (k *Asker) Read(a rule.Any, how rule.Reading) *rule.List {
	r := k.readers[how]
	if r == nil {
		r = rule.NewReader(how)
		k.readers[how] = r
	}
	return r.Of(a)
}

// ShareOf makes what core asks of a share.
func (k *Asker) ShareOf(s *estate.Share, tr *verdict.Traits) *verdict.Share {
	if s == nil {
		return nil
	}
	return &verdict.Share{Rules: k.Read(s.Descriptor, tr.ShareReading()), ReadOnly: s.ReadOnly}
}

func (k *Asker) token(user account.ID, s *estate.Server, local bool) *account.Token {
	key := tokenKey{user, s.ID, local}
	tok := k.tokens[key]
	if tok == nil {
		tok = account.NewToken(k.t, user, s.Traits.Traits, verdict.Special(local)...)
		k.tokens[key] = tok
	}
	return tok
}

func (k *Asker) administrators(s *estate.Server) []account.ID {
	ids, ok := k.admins[s.ID]
	if !ok {
		ids = k.t.Administrators(*s)
		k.admins[s.ID] = ids
	}
	return ids
}

// Through lists the shares a place is reached by.
func (k *Asker) Through(p estate.Place) (out []estate.Share) {
	all, ok := k.shares[p.Server.ID]
	if !ok {
		all = k.t.Shares(p.Server)
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
	t, tr := k.t, p.Server.Traits
	how := tr.Reading()
	q := &verdict.Question{Item: k.Read(t.Of(p.Strand), how), Traits: &tr, Token: k.token(user, &p.Server, sh == nil), Share: k.ShareOf(sh, &tr)}
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
		for _, d := range t.Above(p) {
			q.Above = append(q.Above, k.Read(d, how))
		}
	}
	for _, id := range k.administrators(&p.Server) {
		q.Administrator = q.Administrator || q.Token.Has(id)
	}
	return q
}

// Place finds a place by what was typed, and remembers it.
func (k *Asker) Place(where string) (estate.Place, error) {
	if p, ok := k.places[where]; ok {
		return p, nil
	}
	p, err := k.t.FindText(where)
	if err == nil {
		k.places[where] = p
	}
	return p, err
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
}

// Account makes an answer's name of an identifier.
func (k *Asker) Account(id account.ID) Account {
	return Account{Name: k.t.Name(id), ID: id.String(), Kind: k.Known(id)}
}

// Known says what an identifier is: user, group, special, domain-users,
// uid-of:NAME, gid-of:NAME, or unknown.
func (k *Asker) Known(id account.ID) string {
	if a, ok := k.t.Account(id); ok {
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
		if as := k.t.ByPOSIX(kind, n); len(as) > 0 {
			return what + as[0].Name
		}
	}
	if _, rid, ok := id.Domain(); ok && rid == account.DomainUsersRID {
		return "domain-users"
	}
	return "unknown"
}

// Levels lists the levels there are.
func (k *Asker) Levels() (right.Levels, error) { return k.lang.Levels, k.t.Err() }

// Level finds a level by name, or makes one of levels and rights joined by commas.
func (k *Asker) Level(word string) (right.Level, error) {
	if l, ok := k.lang.Levels.Lookup(word); ok {
		return l, nil
	}
	what, err := k.lang.Levels.Parse(word)
	if err != nil {
		names := right.AllNames()
		for _, l := range k.lang.Levels {
			names = append(names, l.Name)
		}
		return right.Level{}, &estate.NotFound{What: "level or right", Name: word, Near: estate.Nearest(word, names)}
	}
	return right.Level{Name: word, Folder: what.Folder, File: what.File}, nil
}
