package intake

import (
	"cmp"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/format/ldif"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
)

// ofRealm gives people with a directory's built-in groups as those of its domain: the
// one that most of its people are of, or where none is told now that whose groups are
// kept there.
func ofRealm(d *plan.Planner, found *shape.People, w PeopleFrom) *shape.People {
	var ids []plan.ID
	some := false
	for i := range found.People {
		id := found.People[i].ID
		_, builtin := id.Builtin()
		some = some || builtin
		ids = append(ids, id)
	}
	if !some {
		return found
	}
	realm := realmOfMost(ids)
	for _, g := range d.T.Builtins() {
		if is := d.T.MetadataOf(g.ID); realm.IsZero() && w.Directory != "" && is.Directory == w.Directory {
			realm, _, _ = g.ID.Realm()
		}
	}
	called := d.T.RealmName(realm)
	if called == realm.String() {
		called = w.Domain
		if w.Directory == "" {
			called = cmp.Or(domainIn(found.People[0].DN), w.Domain)
		}
	}
	out := *found
	out.People = slices.Clone(found.People)
	for i := range out.People {
		p := &out.People[i]
		if _, builtin := p.ID.Builtin(); !builtin || p.Kind != acc.Group {
			continue
		}
		if g, ok := d.T.BuiltinGroup(p.ID, realm, called); ok {
			if has, there := d.T.Account(g.ID); there { // and its name
				g = has
			}
			p.ID, p.Name = g.ID, g.Name
		}
	}
	return &out
}

// domainIn gives the first label of the domain that a distinguished name ends in
// (RFC 2247); "": it names none.
func domainIn(dn string) string {
	levels, err := ldif.Split(dn)
	if err != nil {
		return ""
	}
	for _, l := range levels {
		if kind, name, ok := strings.Cut(l, "="); ok && strings.EqualFold(kind, "dc") {
			return name
		}
	}
	return ""
}

// realmOfMost is the domain that most of some accounts are of; zero: none is of any.
func realmOfMost(ids []plan.ID) (most plan.ID) {
	count := map[plan.ID]int{}
	for _, id := range ids {
		domain, _, ok := id.Domain()
		if !ok {
			continue
		}
		if count[domain]++; most.IsZero() || count[domain] > count[most] || count[domain] == count[most] && acc.Compare(domain, most) < 0 {
			most = domain
		}
	}
	return most
}
