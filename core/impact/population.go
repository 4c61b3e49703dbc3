package impact

import (
	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Population is all users of an estate as one server sees them, and which of
// them have a given identifier in their token. It answers what
// account.NewToken would, for everyone at once.
type Population struct {
	Users   []account.Account
	dir     *account.Directory
	traits  account.Traits
	place   map[account.ID]int
	primary map[account.ID][]account.ID // users by their primary group's identifier
	uid     map[uint32][]account.ID
	gid     map[uint32][]account.ID
	holders map[account.ID]Bits
	all     Bits
}

// NewPopulation makes the population of a directory under a server's traits.
func NewPopulation(dir *account.Directory, tr account.Traits) *Population {
	p := &Population{Users: dir.Users(), dir: dir, traits: tr, place: map[account.ID]int{}, primary: map[account.ID][]account.ID{},
		uid: map[uint32][]account.ID{}, gid: map[uint32][]account.ID{}, holders: map[account.ID]Bits{}}
	p.all = p.empty()
	for i, u := range p.Users {
		p.all.set(i)
		p.place[u.ID] = i
		if !u.Primary.IsZero() {
			p.primary[u.Primary] = append(p.primary[u.Primary], u.ID)
		} else if tr.POSIXIDs && u.POSIX != account.NoPOSIX {
			g := account.GID(uint32(u.POSIX))
			p.primary[g] = append(p.primary[g], u.ID)
		}
		if d, _, ok := u.ID.Domain(); ok && tr.DomainUsers {
			g := d.Child(account.DomainUsersRID)
			p.primary[g] = append(p.primary[g], u.ID)
		}
	}
	if tr.POSIXIDs {
		for _, id := range dir.All() {
			a, _ := dir.Account(id)
			switch {
			case a.POSIX == account.NoPOSIX:
			case a.Kind == account.User:
				p.uid[uint32(a.POSIX)] = append(p.uid[uint32(a.POSIX)], id)
			default:
				p.gid[uint32(a.POSIX)] = append(p.gid[uint32(a.POSIX)], id)
			}
		}
	}
	return p
}

func (p *Population) empty() Bits { return make(Bits, (len(p.Users)+63)/64) }

// Place gives a user's place; false for anyone else.
func (p *Population) Place(id account.ID) (int, bool) { i, ok := p.place[id]; return i, ok }

// Holders gives the users whose token on a route has an identifier. The set
// must not be changed.
func (p *Population) Holders(id account.ID, local bool) Bits {
	switch id {
	case account.Everyone, account.Authenticated:
		return p.all
	case account.Network:
		if local {
			return nil
		}
		return p.all
	case account.Interactive:
		if local {
			return p.all
		}
		return nil
	}
	if b, ok := p.holders[id]; ok {
		return b
	}
	b := p.gather(id)
	p.holders[id] = b
	return b
}

// gather goes down from an identifier to every user who gets it.
func (p *Population) gather(id account.ID) Bits {
	b := p.empty()
	queue := []account.ID{id}
	if n, user, ok := id.POSIX(); ok && p.traits.POSIXIDs {
		// Another identifier of an account: it stands beside that account's own.
		if user {
			for _, u := range p.uid[n] {
				b.set(p.place[u])
			}
		} else {
			queue = append(queue, p.gid[n]...)
		}
	}
	seen := map[account.ID]bool{}
	for len(queue) > 0 {
		at := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		if seen[at] {
			continue
		}
		seen[at] = true
		if i, ok := p.place[at]; ok {
			b.set(i)
		}
		queue = append(queue, p.dir.MembersOf(at)...)
		queue = append(queue, p.primary[at]...)
	}
	return b
}

// Anyone tells whether some user is granted a right by a descriptor alone,
// the owner's built-in rights included.
func (p *Population) Anyone(d *rule.Descriptor, one right.Set, local bool) bool {
	w := &worker{r: &Route{Local: local, People: p}, people: [2]*Population{p, p}}
	w.lists[was] = map[*rule.Descriptor]Bits{}
	if rule.OwnersOwn(d)&one != 0 && w.owners(d, was).Len() > 0 {
		return true
	}
	return w.who(d, one, was).Len() > 0
}

// Differing gives the users whose token has an identifier in just one of two
// populations of the same users.
func (p *Population) Differing(then *Population, ids ...account.ID) Bits {
	out := p.empty()
	for _, id := range ids {
		out.orDifference(p.Holders(id, false), then.Holders(id, false))
	}
	return out
}
