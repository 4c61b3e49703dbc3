package ask

import (
	"tarnwold/core/account"
	"tarnwold/internal/estate"
)

// Person is an account with what groups it is in.
type Person struct {
	Account
	POSIX   *int64   `json:"id,omitempty"` // uid or gid
	Purpose string   `json:"purpose,omitempty"`
	Primary string   `json:"primary-group,omitempty"`
	Members []string `json:"members,omitempty"` // of a group: who it lists
	In      []string `json:"member-of"`         // the groups that list it
	Former  []string `json:"former-identifiers,omitempty"`
}

// People lists the accounts of a kind.
func (k *Asker) People(kind account.Kind) ([]Person, error) {
	d := k.t.Directory()
	out := []Person{}
	for _, a := range k.t.Accounts(kind) {
		out = append(out, k.person(d, a))
	}
	return out, k.t.Err()
}

func (k *Asker) person(d *account.Directory, a account.Account) Person {
	p := Person{Account: Account{k.t.Name(a.ID), a.ID.String(), a.Kind.String(), k.shutOut()[a.ID]}, Purpose: string(a.Purpose), In: k.t.Names(d.GroupsOf(a.ID))}
	if a.POSIX != account.NoPOSIX {
		p.POSIX = &a.POSIX
	}
	if !a.Primary.IsZero() {
		p.Primary = k.t.Name(a.Primary)
	}
	for _, id := range a.Former.IDs() {
		p.Former = append(p.Former, id.String())
	}
	if a.Kind == account.Group {
		p.Members = k.t.Names(d.MembersOf(a.ID))
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
	Account
	Chain   []string `json:"chain"`              // from the member to the group
	Between int      `json:"left-out,omitempty"` // so many groups in the middle of a long chain
	Primary string   `json:"primary,omitempty"`  // yes: the user's primary group, which no list shows; above: reached by that
	Until   string   `json:"until,omitempty"`    // the last day of the membership nearest to the group
}

// User shows a user.
func (k *Asker) User(word string) (*Belonging, error) {
	u, err := k.t.Named(word, account.User)
	if err != nil {
		return nil, err
	}
	d := k.t.Directory()
	tok := account.NewToken(d, u.ID, account.Traits{})
	out := &Belonging{Person: k.person(d, u), Groups: []Way{}}
	ends := tok.Ends(chainEnds)
	for _, g := range k.t.Accounts(account.Group) {
		links, between := ends.Of(g.ID)
		if links == nil {
			continue
		}
		w := Way{Account: k.Account(g.ID), Between: between}
		for _, l := range links {
			w.Chain = append(w.Chain, k.t.Name(l.ID))
		}
		if links[1].Step == account.PrimaryOf {
			w.Primary = "yes"
			if len(links) > 2 {
				w.Primary = "above"
			}
		}
		if m, ok := k.t.Member(g.ID, links[len(links)-2].ID); ok {
			w.Until = string(m.Until)
		}
		out.Groups = append(out.Groups, w)
	}
	return out, k.t.Err()
}

// Gathering is a group and its members at any depth, with the way there.
type Gathering struct {
	Person
	Users int      `json:"users"` // at any depth
	All   []Way    `json:"all-members"`
	Loop  []string `json:"loop,omitempty"` // the circle, where the group is in itself
}

// Group shows a group.
func (k *Asker) Group(word string) (*Gathering, error) {
	g, err := k.t.Named(word, account.Group)
	if err != nil {
		return nil, err
	}
	d := k.t.Directory()
	out := &Gathering{Person: k.person(d, g), All: []Way{}}
	for _, m := range d.MembersBelow(g.ID) {
		chain, between := m.Ends(chainEnds)
		w := Way{Account: k.Account(m.ID), Chain: k.t.Names(chain), Between: between}
		if a, ok := d.Account(m.ID); ok && a.Kind == account.User {
			out.Users++
		}
		if m.Primary {
			w.Primary = "yes"
		} else if is, ok := k.t.Member(m.Direct(), m.ID); ok {
			w.Until = string(is.Until)
		}
		out.All = append(out.All, w)
	}
	for _, m := range d.MembersOf(g.ID) {
		if loop := d.Loop(g.ID, m); loop != nil {
			out.Loop = k.t.Names(loop)
			break
		}
	}
	return out, k.t.Err()
}

// Owned is an item somebody owns.
type Owned struct {
	Kind  string `json:"kind"`
	Where string `json:"where"`
}

// Owned calls fn with each item somebody owns, at or below a place or, where
// none is named, everywhere.
func (k *Asker) Owned(who, under string, fn func(Owned) error) (Account, error) {
	id, err := k.t.Who(who)
	if err != nil {
		return Account{}, err
	}
	var top *estate.Place
	if under != "" {
		p, err := k.Place(under)
		if err != nil {
			return Account{}, err
		}
		top = &p
	}
	return k.Account(id), k.t.Owned([]account.ID{id}, top, func(x estate.Target, where string) error {
		return fn(Owned{Kind(x.Folder), where})
	})
}
