// Package crowd answers for every user at once what account and verdict
// answer for one: who holds an identifier, and who is granted what. Users are
// bits of words, so that one step of rules is decided for 64 of them with one
// instruction.
//
// What changes between a before and an after lives in impact.
package crowd

import (
	"slices"
	"sync"

	"tarnwold/core/account"
)

// People is where a population comes from: account.Directory, or what reads
// memberships as they are asked for.
type People interface {
	Account(account.ID) (account.Account, bool)
	All() []account.ID
	Users() []account.Account
	MembersOf(account.ID) []account.ID
	Local(group, member account.ID) bool
}

// Population is the users of an estate as one server sees them, and which of
// them have a given identifier in their token. It answers what
// account.NewToken would. It may be asked from several goroutines.
type Population struct {
	// Users are all there are on either side of a change, so that places in
	// two populations of one change mean the same user.
	Users   []account.Account
	dir     People
	traits  account.Traits
	place   map[account.ID]int
	primary map[account.ID][]account.ID // users by their primary group's identifier
	uid     map[uint32][]account.ID
	gid     map[uint32][]account.ID
	former  map[account.ID][]account.ID // accounts by the identifiers they had
	all     Bits

	// as and beside: whoever it is, files are opened as one account, or with
	// what a group has beside.
	as      *account.Token
	beside  []account.ID
	swapped Bits // who hasn't their domain's users group, for another is their first one
	// squashed are opened as another, whoever else isn't.
	squashed Bits
	to       *account.Token

	mu      sync.RWMutex
	holders map[holding]Bits
	some    map[holding]*Some // of holders, where they are asked for so
	forms   map[form]Bits     // what is granted by forms of rules
}

// mostHeld is how many words of bits are remembered of who holds identifiers.
const mostHeld = 1 << 23

// holding is an identifier on one kind of route.
type holding struct {
	id    account.ID
	local bool
}

// As gives the population whose files are opened as one account; nil: each as
// themselves. beside are identifiers that everyone has too; swapped are those who
// haven't their domain's users group.
func (p *Population) As(as *account.Token, beside []account.ID, swapped Bits) *Population {
	return &Population{Users: p.Users, dir: p.dir, traits: p.traits, place: p.place, primary: p.primary, uid: p.uid, gid: p.gid, former: p.former, all: p.all,
		as: as, beside: beside, swapped: swapped, holders: map[holding]Bits{}}
}

// Squashed gives the population with files opened as another for some.
func (p *Population) Squashed(who Bits, to *account.Token) *Population {
	c := p.As(p.as, p.beside, p.swapped)
	c.squashed, c.to = who, to
	return c
}

// NewPopulation makes the population of a directory under a server's traits.
// users is who has a place in it; nil: every user of the directory. Users the
// directory doesn't know, and those who are another machine's own, hold nothing, not even
// everyone@.
func NewPopulation(dir People, tr account.Traits, users []account.Account) *Population {
	if users == nil {
		users = dir.Users()
	}
	p := &Population{Users: users, dir: dir, traits: tr, place: make(map[account.ID]int, len(users)), primary: map[account.ID][]account.ID{},
		uid: map[uint32][]account.ID{}, gid: map[uint32][]account.ID{}, holders: map[holding]Bits{}}
	p.all = p.Empty()
	var last, domainUsers account.ID // most users are of one domain
	for i, u := range p.Users {
		u, ok := dir.Account(u.ID)
		if !ok || u.Kind != account.User || tr.Elsewhere(u.ID) {
			continue
		}
		p.all.Set(i)
		p.place[u.ID] = i
		if !u.Primary.IsZero() {
			p.primary[u.Primary] = append(p.primary[u.Primary], u.ID)
		} else if tr.POSIXIDs && u.POSIX != account.NoPOSIX {
			g := account.GID(uint32(u.POSIX))
			p.primary[g] = append(p.primary[g], u.ID)
		}
		if !tr.DomainUsers {
			continue
		}
		if !u.ID.SameDomain(last) {
			d, _, ok := u.ID.Domain()
			if !ok {
				continue
			}
			last, domainUsers = u.ID, d.Child(account.DomainUsersRID)
		}
		p.primary[domainUsers] = append(p.primary[domainUsers], u.ID)
	}
	if tr.POSIXIDs || tr.FormerIDs {
		for _, id := range dir.All() {
			a, _ := dir.Account(id)
			if a.Former != "" && tr.FormerIDs {
				if p.former == nil {
					p.former = map[account.ID][]account.ID{}
				}
				for _, f := range a.Former.IDs() {
					p.former[f] = append(p.former[f], id)
				}
			}
			switch {
			case !tr.POSIXIDs:
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

// Empty makes a set of nobody.
func (p *Population) Empty() Bits { return make(Bits, (len(p.Users)+63)/64) }

// All is everybody. It must not be changed.
func (p *Population) All() Bits { return p.all }

// Place gives a user's place; false for anyone else.
func (p *Population) Place(id account.ID) (int, bool) { i, ok := p.place[id]; return i, ok }

// Holders gives the users whose token on a route has an identifier; the zero
// identifier is everybody's. The set must not be changed.
func (p *Population) Holders(id account.ID, local bool) Bits {
	if !id.IsZero() { // who is nobody on the machine holds nothing, not even what is everybody's
		switch {
		case p.as != nil && p.as.Nobody():
			return p.Empty()
		case p.to != nil && p.to.Nobody():
			b := slices.Clone(p.held(id, local))
			if b == nil {
				return nil
			}
			return b.without(p.squashed)
		}
	}
	return p.held(id, local)
}

func (p *Population) held(id account.ID, local bool) Bits {
	switch id {
	case account.ID{}, account.Everyone, account.Authenticated:
		return p.all
	case account.Network, account.Interactive:
		if local == (id == account.Interactive) || slices.Contains(p.beside, id) || p.as != nil && p.as.Has(id) {
			return p.all
		}
		return nil
	}
	p.mu.RLock()
	b, ok := p.holders[holding{id, local}]
	p.mu.RUnlock()
	if ok {
		return b
	}
	b, byRoute := p.find(id, local)
	if _, user := p.place[id]; !user { // one's own identifier is hardly another's, and found at once
		p.mu.Lock()
		if len(p.holders)*len(b) > mostHeld {
			clear(p.holders)
		}
		p.holders[holding{id, local}] = b
		if !byRoute {
			p.holders[holding{id, !local}] = b
		}
		p.mu.Unlock()
	}
	return b
}

// find is held of an identifier that isn't remembered; byRoute tells that another kind of
// route may bring others.
func (p *Population) find(id account.ID, local bool) (b Bits, byRoute bool) {
	switch {
	case p.as != nil && p.as.Has(id), slices.Contains(p.beside, id):
		b = p.all
	case p.as != nil:
		b = p.Empty()
	default:
		b, byRoute = p.gather(id, local)
		if _, rid, ok := id.Domain(); ok && rid == account.DomainUsersRID && p.swapped != nil {
			b = b.without(p.swapped)
		}
	}
	if p.to != nil {
		b = slices.Clone(b).without(p.squashed)
		if p.to.Has(id) {
			b.Or(p.squashed)
		}
	}
	return b, byRoute
}

// gather goes down from an identifier, layer by layer, to every user who gets it;
// byRoute tells that another kind of route may bring others.
func (p *Population) gather(id account.ID, local bool) (b Bits, byRoute bool) {
	b = p.Empty()
	limit := p.traits.Layers
	seen := map[account.ID]bool{}
	layer := p.beginnings(id, b)
	begins := len(layer)
	for _, at := range layer {
		if p.traits.Last(at) { // it counts for whoever has what it lists, and that by all its layers
			layer = p.membersOf(at, b, layer, -1, local, &byRoute)
		}
	}
	for cost := 0; len(layer) > 0 && (limit == 0 || cost <= limit); cost++ {
		var next []account.ID
		for i, at := range layer {
			if seen[at] || p.leftOut(at) {
				continue
			}
			seen[at] = true
			if i, ok := p.place[at]; ok {
				b.Set(i)
			}
			if _, user := p.place[at]; !user {
				next = p.membersOf(at, b, next, cost, local, &byRoute)
			}
			for _, u := range p.primary[at] {
				if (cost > 0 || i >= begins) && p.traits.FirstAlone {
					break
				}
				if i, ok := p.place[u]; ok {
					b.Set(i)
				}
			}
		}
		layer = next
	}
	return b, byRoute
}

// membersOf puts the users a group lists into b, and gives the groups it lists behind next.
func (p *Population) membersOf(group account.ID, b Bits, next []account.ID, cost int, local bool, byRoute *bool) []account.ID {
	limit := p.traits.Layers
	for _, m := range p.dir.MembersOf(group) {
		i, user := p.place[m]
		switch {
		case user:
			if limit == 0 || cost < limit || !p.dir.Local(group, m) {
				b.Set(i)
			}
		case account.Open(m): // whoever fits the route, whatever groups they are in
			*byRoute = *byRoute || m == account.Network || m == account.Interactive
			if limit == 0 || cost < limit {
				b.Or(p.fitting(m, local))
			}
		case !p.traits.PassedOver(group, m) && !p.traits.Last(m):
			next = append(next, m)
		}
	}
	return next
}

// beginnings are the accounts that bring an identifier by themselves; users who do are
// put into b.
func (p *Population) beginnings(id account.ID, b Bits) []account.ID {
	layer := []account.ID{id}
	if n, user, ok := id.POSIX(); ok && p.traits.POSIXIDs {
		// Another identifier of an account: it stands beside that account's own.
		if user {
			for _, u := range p.uid[n] {
				if i, ok := p.place[u]; ok {
					b.Set(i)
				}
			}
		} else {
			layer = append(layer, p.gid[n]...)
		}
	}
	for _, a := range p.former[id] {
		if i, ok := p.place[a]; ok {
			b.Set(i)
		} else {
			layer = append(layer, a)
		}
	}
	if group, ok := id.In(p.traits.Realm); ok {
		layer = append(layer, group)
	}
	return layer
}

// leftOut tells whether a group is in no token.
func (p *Population) leftOut(group account.ID) bool {
	if p.traits.Elsewhere(group) {
		return true
	}
	if !p.traits.MailGroupsLeftOut {
		return false
	}
	a, ok := p.dir.Account(group)
	return ok && p.traits.LeftOut(a)
}

// fitting gives whom a special account stands for on a route: those whom Holders gives.
func (p *Population) fitting(id account.ID, local bool) Bits {
	switch id {
	case account.Everyone, account.Authenticated:
		return p.all
	case account.Network:
		if !local {
			return p.all
		}
	case account.Interactive:
		if local {
			return p.all
		}
	}
	return nil
}
