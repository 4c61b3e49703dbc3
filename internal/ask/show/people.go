package show

import (
	"cmp"
	"slices"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Person is an account with what groups it is in.
type Person struct {
	ask.Account
	POSIX   *int64   `json:"id,omitempty"` // uid or gid
	Purpose string   `json:"purpose,omitempty"`
	Primary string   `json:"primary-group,omitempty"`
	Members []string `json:"members,omitempty"` // of a group: who it lists
	In      []string `json:"member-of"`         // the groups that list it
	Former  []string `json:"former-identifiers,omitempty"`
	estate.Details
}

// People lists the accounts of a kind by name, at most so many (0: all), and tells how
// many more there are. Of those that aren't listed nothing is read.
func People(k *ask.Asker, kind account.Kind, most int) (out []Person, more int64, err error) {
	out = []Person{}
	known := k.Details()
	if most == 0 {
		d := k.T.Directory()
		for _, a := range k.T.Accounts(kind) {
			out = append(out, person(k, d, a, known[a.ID]))
		}
		return out, 0, k.T.Err()
	}
	list, more := k.T.FirstAccounts(kind, most)
	ids := make([]account.ID, len(list))
	for i, a := range list {
		ids[i] = a.ID
	}
	d := k.T.Around(ids)
	k.T.ReadNames(d.All())
	for _, a := range list {
		out = append(out, person(k, d, a, known[a.ID]))
	}
	return out, more, k.T.Err()
}

// members knows who lists whom.
type members interface {
	GroupsOf(account.ID) []account.ID
	MembersOf(account.ID) []account.ID
}

func person(k *ask.Asker, d members, a account.Account, known estate.Details) Person {
	on := k.SignOn(a.ID)
	p := Person{Account: ask.Account{Name: k.T.Name(a.ID), ID: a.ID.Named().String(), Kind: a.Kind.String(), Shut: on.Shut, Limits: on.Limits}, Purpose: string(a.Purpose), In: k.T.Names(d.GroupsOf(a.ID))}
	p.Details, p.Manager = known, k.Manager(known.Manager)
	if a.POSIX != account.NoPOSIX {
		p.POSIX = &a.POSIX
	}
	if !a.Primary.IsZero() {
		p.Primary = k.T.Name(a.Primary)
	}
	for _, id := range a.Former.IDs() {
		p.Former = append(p.Former, id.String())
	}
	if a.Kind == account.Group {
		p.Members = k.T.Names(d.MembersOf(a.ID))
	}
	return p
}

// Belonging is every group a user is in, with the way there.
type Belonging struct {
	Person
	Groups []Way `json:"groups"`
}

// chainEnds is how much of each end of a chain of groups is told: what is in the
// middle of the way to one group is told by the ways to those in it.
const chainEnds = 8

// Way is the way from an account to a group.
type Way struct {
	ask.Account
	Chain   []string `json:"chain"`              // from the member to the group
	Between int      `json:"left-out,omitempty"` // so many groups in the middle of a long chain
	Primary bool     `json:"primary"`            // it is the user's primary group, which no list shows
	Above   bool     `json:"by-primary-group"`   // it is reached by that
	Until   string   `json:"until,omitempty"`    // the last day of the membership nearest to the group
}

// User shows a user.
func User(k *ask.Asker, word string) (*Belonging, error) {
	u, err := k.T.Named(word, account.User)
	if err != nil {
		return nil, err
	}
	tok := account.NewToken(k.T, u.ID, account.Traits{})
	out := &Belonging{Person: person(k, k.T, u, k.T.MetadataOf(u.ID).Details), Groups: []Way{}}
	out.Limits = k.Signing(u.ID, tok).Limits
	ends := tok.Ends(chainEnds)
	var groups []account.Account
	for _, id := range tok.IDs() {
		if a, ok := k.T.Account(id); ok && a.Kind == account.Group {
			groups = append(groups, a)
		}
	}
	slices.SortFunc(groups, func(a, b account.Account) int { return cmp.Compare(estate.Key(a.Name), estate.Key(b.Name)) })
	for _, g := range groups {
		links, between := ends.Of(g.ID)
		if len(links) < 2 {
			continue
		}
		w := Way{Account: k.Account(g.ID), Between: between}
		for _, l := range links {
			w.Chain = append(w.Chain, k.T.Name(l.ID))
		}
		if links[1].Step == account.PrimaryOf {
			w.Primary, w.Above = len(links) == 2, len(links) > 2
		}
		if m, ok := k.T.Member(g.ID, links[len(links)-2].ID); ok {
			w.Until = string(m.Until)
		}
		out.Groups = append(out.Groups, w)
	}
	return out, k.T.Err()
}

// Gathering is a group and its members at any depth, with the way there.
type Gathering struct {
	Person
	Users int      `json:"users"` // at any depth
	All   []Way    `json:"all-members"`
	Loop  []string `json:"loop,omitempty"` // the circle, where the group is in itself
}

// Group shows a group.
func Group(k *ask.Asker, word string) (*Gathering, error) {
	g, err := k.T.Named(word, account.Group)
	if err != nil {
		return nil, err
	}
	d := k.T.Below(g.ID)
	out := &Gathering{Person: person(k, d, g, estate.Details{}), All: []Way{}}
	for _, m := range d.MembersBelow(g.ID) {
		chain, between := m.Ends(chainEnds)
		w := Way{Account: k.Account(m.ID), Chain: k.T.Names(chain), Between: between}
		if a, ok := d.Account(m.ID); ok && a.Kind == account.User {
			out.Users++
		}
		if m.Primary {
			w.Primary = true
		} else if is, ok := k.T.Member(m.Direct(), m.ID); ok {
			w.Until = string(is.Until)
		}
		out.All = append(out.All, w)
	}
	for _, m := range d.MembersOf(g.ID) {
		if loop := d.Loop(g.ID, m); loop != nil {
			out.Loop = k.T.Names(loop)
			break
		}
	}
	return out, k.T.Err()
}

// Owned is an item somebody owns.
type Owned struct {
	Kind  string `json:"kind"`
	Where string `json:"where"`
}

// EachOwned calls fn with each item somebody owns, at or below a place or, where
// none is named, everywhere.
func EachOwned(k *ask.Asker, who, under string, fn func(Owned) error) (ask.Account, error) {
	id, err := k.T.Who(who)
	if err != nil {
		return ask.Account{}, err
	}
	var top *estate.Place
	if under != "" {
		p, err := k.Place(under)
		if err != nil {
			return ask.Account{}, err
		}
		top = &p
	}
	return k.Account(id), k.T.Owned([]account.ID{id}, top, func(x estate.Target, where string) error {
		return fn(Owned{ask.Kind(x.Folder), where})
	})
}
