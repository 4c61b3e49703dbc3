package ask

import (
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// ShareOf makes what core asks of a share.
func (k *Asker) ShareOf(s *estate.Share, tr *verdict.Traits) *verdict.Share {
	if s == nil {
		return nil
	}
	return &verdict.Share{Rules: k.Read(s.Descriptor, tr.ShareReading()), ReadOnly: s.ReadOnly, Lists: k.lists(s)}
}

// Lets gives what a share lets through for a user who connects to it.
func (k *Asker) Lets(user account.ID, s *estate.Server, sh *estate.Share) right.Set {
	tr := By(&s.Traits, sh)
	q := &verdict.Question{Traits: tr, Share: k.ShareOf(sh, tr)}
	q.Token, q.Self = k.openedAs(user, s, sh)
	_, share := q.Connect()
	return share
}

// lists makes what core asks of what a configuration says of a share. Names
// that no account has fit nobody.
func (k *Asker) lists(s *estate.Share) *verdict.Lists {
	a := s.Admission
	if !a.Says() {
		return nil
	}
	if l, ok := k.admitted[s.ID]; ok && l.of == a {
		return l.lists
	}
	ids := func(names []string) (out []account.ID) {
		for _, n := range names {
			if id, ok := k.Listed(n); ok {
				out = append(out, id)
			}
		}
		return out
	}
	one := func(name string) account.ID {
		id, _ := k.Listed(name)
		return id
	}
	l := &verdict.Lists{Limited: a.Limited, Only: ids(a.Only), Never: ids(a.Never), Reading: ids(a.Reading), Writing: ids(a.Writing),
		Administrators: ids(a.Administrators), Replaces: a.Passes, As: one(a.As), NoMachine: a.NoMachine, Runs: a.Runs}
	if a.GroupOfMembers {
		l.MembersGroup = one(a.Group)
	} else {
		l.Group = one(a.Group)
	}
	if a.Exported {
		l.FromHere, l.Replaces = true, true
		uid, gid := account.UID(a.Anon[0]), account.GID(a.Anon[1])
		switch a.Squash {
		case "all":
			l.As, l.Group = uid, gid
		case "none":
			l.Administrators = []account.ID{account.UID(0)}
		default:
			l.RootAs, l.RootsGid = uid, gid
		}
	}
	if server, err := k.T.Server(s.Server); err == nil && server.Traits.RootPasses && l.Replaces && !a.Exported {
		l.Administrators = append(l.Administrators, account.UID(0)) // whom a configuration doesn't take it from
	}
	k.admitted[s.ID] = admitted{a, l}
	return l
}

func (k *Asker) ListsOf(s *estate.Share) *verdict.Lists {
	if s == nil {
		return nil
	}
	return k.lists(s)
}

type admitted struct {
	of    *estate.Admission
	lists *verdict.Lists
}

// Listed finds the account a configuration names; a group's name begins with @.
func (k *Asker) Listed(name string) (account.ID, bool) {
	kind := account.User
	if rest, ok := strings.CutPrefix(name, "@"); ok {
		name, kind = rest, account.Group
	}
	switch name {
	case "":
		return account.ID{}, false
	case "everyone@": // a variable that is whoever connects
		return account.Everyone, true
	}
	a, err := k.T.Named(name, kind)
	return a.ID, err == nil
}

// tokens gives the token files are opened with through a share, and that of
// who connects; nil for the same.
func (k *Asker) openedAs(user account.ID, s *estate.Server, sh *estate.Share) (token, self *account.Token) {
	own := k.Token(user, s, sh == nil)
	if sh == nil {
		return own, nil
	}
	l := k.lists(sh)
	root := !l.Own() && !l.RootAs.IsZero() && own.Has(account.UID(0))
	if l.Own() || l.As.IsZero() && l.Group.IsZero() && !own.Has(l.MembersGroup) && !root {
		return own, nil
	}
	key := openingKey{user, sh.ID, l}
	if tok := k.openings[key]; tok != nil {
		return tok, own
	}
	group := l.Group
	switch {
	case !l.As.IsZero():
		user = l.As
	case root:
		user, group = l.RootAs, l.RootsGid
	}
	tok := account.NewToken(k.T, user, swapped(s.Traits.Traits), append(verdict.Special(false), k.beside(l, group, s.Traits.Traits)...)...)
	k.openings[key] = tok
	return tok, own
}

type openingKey struct {
	user  account.ID
	share int64
	lists *verdict.Lists
}

// swapped are a server's ways for who opens files as another, or with another
// first group: the domain's users group isn't among their (measured).
func swapped(tr account.Traits) account.Traits {
	tr.DomainUsers = false
	return tr
}

// beside lists the identifiers of the group that files are opened with: of one in the
// place of a named user's own the gid isn't among them (measured).
func (k *Asker) beside(l *verdict.Lists, group account.ID, tr account.Traits) []account.ID {
	tr.POSIXIDs = tr.POSIXIDs && (l.As.IsZero() || group != l.Group)
	return k.forms(group, tr)
}

// forms lists the identifiers of a group itself, which is all that a share
// gives whoever connects.
func (k *Asker) forms(group account.ID, tr account.Traits) []account.ID {
	if group.IsZero() {
		return nil
	}
	out := []account.ID{group}
	if a, ok := k.T.Account(group); ok && tr.POSIXIDs && a.POSIX != account.NoPOSIX {
		out = append(out, account.GID(uint32(a.POSIX)))
	}
	return out
}

// Populations gives the population whose files are opened through a share, and
// that of who connects; nil for the same.
func (k *Asker) Populations(p *crowd.Population, tr *verdict.Traits, sh *estate.Share, book account.Book) (people, self *crowd.Population) {
	if sh == nil {
		return p, nil
	}
	l := k.lists(sh)
	if l.Own() {
		return p, nil
	}
	var as *account.Token
	without := p.All()
	switch {
	case !l.As.IsZero():
		as = account.NewToken(book, l.As, swapped(tr.Traits), verdict.Special(false)...)
	case l.Group.IsZero():
		without = p.Holders(l.MembersGroup, false)
	}
	if !l.RootAs.IsZero() {
		to := account.NewToken(book, l.RootAs, swapped(tr.Traits), append(verdict.Special(false), l.RootsGid)...)
		return p.Squashed(p.Holders(account.UID(0), false), to), p
	}
	return p.As(as, k.beside(l, l.Group, tr.Traits), without), p
}

func (k *Asker) Token(user account.ID, s *estate.Server, local bool) *account.Token {
	key := tokenKey{user, s.ID, local}
	tok := k.tokens[key]
	if tok == nil {
		var book account.Book = k.T
		if _, met := k.met(user); met {
			book = k.Met
		} else if len(k.tokens) >= manyTokens { // everybody's memberships are read at once
			book = k.Directory()
		}
		tok = account.NewToken(book, user, s.Traits.Traits, verdict.Special(local)...)
		k.tokens[key] = tok
	}
	return tok
}
