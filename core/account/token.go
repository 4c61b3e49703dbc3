package account

import "slices"

// Traits are how a kind of server makes a token of an account.
type Traits struct {
	// POSIXIDs: uid and gids stand in the token beside the SIDs, the primary
	// group's gid too, which is the uid's number where nothing else is said.
	POSIXIDs bool `json:"posix-ids"`
	// DomainUsers: each account of a domain is in that domain's users group (…-513).
	DomainUsers bool `json:"domain-users"`
	// Layers is how many layers of groups are followed beyond those that
	// list the user themselves or are their primary one; 0: any number. A
	// membership that Book.Local knows of is a layer by itself. The machine's built-in
	// groups come after all layers (Last).
	Layers int `json:"group-layers"`
	// MailGroupsLeftOut: groups of purpose mail are in no token, and pass no
	// membership on ([MS-ADTS] §3.1.1.4.5.19, of groups that aren't for security).
	MailGroupsLeftOut bool `json:"mail-groups-left-out"`
	// FirstAlone: a user's primary group counts by itself; the groups it is in
	// don't, unless it lists them too.
	FirstAlone bool `json:"first-group-alone"`
	// OwnGroupsOnce: of the machine's own groups those count that list the user or a group of
	// elsewhere that the user is in, and built-in ones that list one of these; its own groups
	// in one another don't. It is by Own that a machine's groups are known.
	OwnGroupsOnce bool `json:"own-groups-once"`
	// FormerIDs: the identifiers that a user and their groups had elsewhere stand in
	// the token beside those they have, as a domain may add them ([MS-PAC] §2.5,
	// ExtraSids).
	FormerIDs bool `json:"former-ids"`
	// Realm is whose built-in groups count: the machine's, of a domain controller the
	// domain's. It is of one server, and none of what its kind does. Zero: nobody
	// presents the token to a machine, and each realm's groups are in it as they are.
	Realm ID `json:"-"`
	// Machine is whose own accounts are known: those of the machine itself. Zero: as of
	// Realm; a machine without accounts of its own has Nowhere where others have some.
	Machine ID `json:"-"`
	// Own is the domain of the machine's own accounts, as far as it is known.
	Own ID `json:"-"`
}

// firstMade is the last part of an identifier from which on a machine numbers what is made
// on it; those before come with it.
const firstMade = 1000

// own tells whether a group was made on the machine or is one of its built-in ones.
func (tr *Traits) own(id ID) (own, builtin bool) {
	if realm, _, ok := id.Realm(); ok {
		return realm == tr.Realm, true
	}
	domain, rid, ok := id.Domain()
	return ok && rid >= firstMade && !tr.Own.IsZero() && domain == tr.Own, false
}

// Last tells whether a group is one of the machine's built-in ones where layers are
// counted: these are asked when all else is in the token, count for whatever is by then,
// and pass nothing on (measured).
func (tr *Traits) Last(group ID) bool {
	if tr.Layers == 0 {
		return false
	}
	realm, _, ok := group.Realm()
	return ok && realm == tr.Realm
}

// PassedOver tells whether a group doesn't count for listing another one, though both count.
func (tr *Traits) PassedOver(group, listed ID) bool {
	if !tr.OwnGroupsOnce {
		return false
	}
	outer, builtin := tr.own(group)
	if !outer {
		return false
	}
	inner, also := tr.own(listed)
	return inner && (also || !builtin)
}

// Elsewhere tells whether an account is a built-in group of another realm, or another
// machine's own: nobody presents it here.
func (tr *Traits) Elsewhere(id ID) bool {
	if !tr.Realm.IsZero() {
		if realm, _, ok := id.Realm(); ok {
			return realm != tr.Realm
		}
	}
	if !tr.Machine.IsZero() {
		if realm, _, ok := id.Machine(); ok {
			return realm != tr.Machine
		}
	}
	return false
}

// LeftOut tells whether a group counts in no token.
func (tr *Traits) LeftOut(g Account) bool { return tr.MailGroupsLeftOut && g.Purpose == Mail }

// DomainUsersRID is the last part of the identifier of a domain's users group.
const DomainUsersRID = 513

// Step says how an identifier came into a token.
type Step uint8

const (
	Self        Step = iota + 1 // the user's own
	Member                      // a group that lists From as a member
	PrimaryOf                   // the user's primary group
	SameAccount                 // another identifier of From
	Always                      // a special account that fits the route
)

type via struct {
	step Step
	from ID
}

// Token is what a user presents to a server: every identifier that counts as
// their. It is made by NewToken and not changed after.
type Token struct {
	user   ID
	claims Claims
	ids    map[ID]via
	// marks has the bit of every identifier's mark: what isn't there isn't in ids.
	marks [16]uint64
}

// NewToken makes the token of a user: the user's identifiers, those of every
// group at any depth or as far as the server follows, the primary group, and
// the special accounts given ([MS-DTYP] §2.5.2). A group inside itself is
// followed once. Who is another machine's own signs on nowhere here, and has a token
// without anything in it, not even everyone@.
func NewToken(book Book, user ID, tr Traits, special ...ID) *Token {
	t := &Token{user: user, ids: make(map[ID]via, 32)}
	type found struct {
		id  ID
		far int // how many memberships lie between
		// alone: the groups it is in don't count by this way to it
		alone bool
	}
	var queue []found
	far := 0
	var unlisted []ID // primary groups that count alone, and so far nothing lists them in
	put := func(id ID, s Step, from ID) {
		was, ok := t.ids[id]
		switch {
		case id.IsZero():
			return
		case ok && was.step == SameAccount && (s == Member || s == PrimaryOf): // an account of its own too
			t.ids[id] = via{s, from}
		case ok && (s != Member || !slices.Contains(unlisted, id)):
			return
		case ok: // it lists them too
			unlisted = slices.DeleteFunc(unlisted, func(o ID) bool { return o == id })
		default:
			t.ids[id] = via{s, from}
			t.marks[id.mark>>6&15] |= 1 << (id.mark & 63)
		}
		alone := s == PrimaryOf && tr.FirstAlone
		if alone {
			unlisted = append(unlisted, id)
		}
		if s != SameAccount {
			queue = append(queue, found{id, far, alone})
		}
	}
	if tr.Elsewhere(user) {
		return t
	}
	put(user, Self, ID{})
	me, known := book.Account(user)
	t.claims = me.Claims
	if first, ok := book.Account(me.Primary); known && !(ok && tr.LeftOut(first)) {
		put(me.Primary, PrimaryOf, user)
	}
	if tr.DomainUsers {
		if d, _, ok := user.Domain(); ok {
			put(d.Child(DomainUsersRID), PrimaryOf, user)
		}
	}
	for _, id := range special {
		if Open(id) { // a machine's groups may list them
			put(id, Always, user)
		}
	}
	for len(queue) > 0 {
		id := queue[0].id
		far = queue[0].far
		alone := queue[0].alone
		queue = queue[1:]
		// Each layer costs one; the user's own groups nothing, those go first.
		for pass := range 2 {
			if alone || tr.Last(id) {
				break
			}
			far += pass
			beyond := tr.Layers != 0 && far > tr.Layers
			for _, g := range book.GroupsOf(id) {
				if tr.Elsewhere(g) || id != user && tr.PassedOver(g, id) || beyond && !tr.Last(g) {
					continue
				}
				if tr.MailGroupsLeftOut {
					if a, ok := book.Account(g); ok && tr.LeftOut(a) {
						continue
					}
				}
				own := id == user && (tr.Layers == 0 || !book.Local(g, id))
				if own == (pass == 0) {
					put(g, Member, id)
				}
			}
		}
		far = 0 // what follows is the account itself under another name
		if _, named, ok := id.Realm(); ok && !tr.Realm.IsZero() {
			put(named, SameAccount, id)
			continue
		}
		if !tr.POSIXIDs && !tr.FormerIDs {
			continue
		}
		a, ok := book.Account(id)
		if tr.FormerIDs {
			for _, former := range a.Former.IDs() {
				put(former, SameAccount, id)
			}
		}
		switch {
		case !tr.POSIXIDs:
		case !ok || a.POSIX == NoPOSIX:
		case a.Kind == User:
			put(UID(uint32(a.POSIX)), SameAccount, id)
			if a.Primary.IsZero() {
				put(GID(uint32(a.POSIX)), PrimaryOf, id)
			}
		default:
			put(GID(uint32(a.POSIX)), SameAccount, id)
		}
	}
	for _, id := range special { // of whatever else is given, itself alone counts
		put(id, Always, user)
	}
	return t
}

// User is whose token it is.
func (t *Token) User() ID { return t.user }

// Has tells whether an identifier is in the token.
func (t *Token) Has(id ID) bool {
	if t.marks[id.mark>>6&15]&(1<<(id.mark&63)) == 0 {
		return false
	}
	_, ok := t.ids[id]
	return ok
}

// Nobody tells whether the user has no account where the token would be presented.
func (t *Token) Nobody() bool { return len(t.ids) == 0 }

// Claim gives a claim of the user; ok is false where they have none of the name.
func (t *Token) Claim(name string) (Claim, bool) { return t.claims.Get(name) }

// Len counts the identifiers.
func (t *Token) Len() int { return len(t.ids) }

// IDs lists the identifiers, in no order.
func (t *Token) IDs() []ID {
	ids := make([]ID, 0, len(t.ids))
	for id := range t.ids {
		ids = append(ids, id)
	}
	return ids
}

// Link is one step of a chain.
type Link struct {
	ID   ID
	Step Step // how it follows from the link before it
}

// Ends tells ways from the user to identifiers by their beginning and end: what
// is in the middle of a long one is counted. Ways to many that lead through each
// other are walked once.
type Ends struct {
	t     *Token
	each  int
	heads map[ID]head
}

// head is how a way begins, and how long it is.
type head struct {
	first []Link // at most each
	links int
}

// Ends makes ways that are told by so many links at either end.
func (t *Token) Ends(each int) *Ends { return &Ends{t, each, map[ID]head{}} }

// Of gives the beginning and the end of the shortest way to an identifier, and how
// many links are left out between the two. Of a way that isn't longer than both it
// is Chain; nil where the token doesn't have it.
func (e *Ends) Of(id ID) (links []Link, between int) {
	if _, ok := e.t.ids[id]; !ok {
		return nil, 0
	}
	h := e.head(id)
	if h.links <= e.each {
		return h.first, 0
	}
	last := make([]Link, min(e.each, h.links-e.each))
	for i := len(last) - 1; i >= 0; i-- {
		v := e.t.ids[id]
		last[i], id = Link{id, v.step}, v.from
	}
	links = append(slices.Clip(h.first), last...)
	return links, h.links - len(links)
}

func (e *Ends) head(id ID) head {
	var left []ID // whose heads aren't known, the nearest to id first
	var h head
	for at := id; ; {
		known, ok := e.heads[at]
		if ok {
			h = known
			break
		}
		left = append(left, at)
		v := e.t.ids[at]
		if v.step == Self {
			break
		}
		at = v.from
	}
	for _, at := range slices.Backward(left) {
		if h.links++; len(h.first) < e.each {
			h.first = append(slices.Clip(h.first), Link{at, e.t.ids[at].step})
		}
		e.heads[at] = h
	}
	return h
}

// Chain gives the shortest way from the user to an identifier: the user
// first, the identifier last. It is nil where the token doesn't have it.
func (t *Token) Chain(id ID) []Link {
	v, ok := t.ids[id]
	if !ok {
		return nil
	}
	var back []Link
	for {
		back = append(back, Link{id, v.step})
		if v.step == Self {
			break
		}
		id = v.from
		v = t.ids[id]
	}
	for i, j := 0, len(back)-1; i < j; i, j = i+1, j-1 {
		back[i], back[j] = back[j], back[i]
	}
	return back
}
