package estate

import (
	"math"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/store"
)

// ownDomain is the domain of accounts made in an estate that knows no other.
var ownDomain = account.NewID(5, 21, 1952541294, 2002873188, 0)

// MadeUp tells whether an identifier is one that an estate gave an account by itself: no
// server knows it.
func MadeUp(id account.ID) bool {
	domain, _, ok := id.Domain()
	return ok && domain == ownDomain
}

// MadeUpIn finds an account with such an identifier that rules name, and those before them
// didn't.
func MadeUpIn(before, after *rule.Descriptor) (account.ID, bool) {
	named := func(d *rule.Descriptor) (out []account.ID) {
		out = []account.ID{d.Owner, d.Group}
		for _, list := range [][]rule.Entry{d.Rules.Entries, d.Audit.Entries} {
			for _, e := range list {
				out = append(out, e.Who)
			}
		}
		return out
	}
	var had []account.ID
	for _, id := range named(after) {
		if !MadeUp(id) {
			continue
		}
		if had == nil {
			had = named(before)
		}
		if !slices.Contains(had, id) {
			return id, true
		}
	}
	return account.ID{}, false
}

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
	// Where entries are written to real servers a number of the real domain would be of
	// whoever the domain itself gives it to next.
	if n.domain.IsZero() || t.writesIdentifiers() {
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
	for _, change := range t.Ints("SELECT DISTINCT change FROM journal_rows WHERE tbl='accounts' AND (last=0 OR after IS NOT NULL)") {
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

// writesIdentifiers tells whether the estate is linked to a server whose rules name
// accounts by identifiers that aren't numbers.
func (t *Tx) writesIdentifiers() bool {
	return slices.ContainsFunc(t.Servers(), func(s Server) bool {
		l, ok := t.Link(s)
		return ok && l.Kind != LocalLink
	})
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
