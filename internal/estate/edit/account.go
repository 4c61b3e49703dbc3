package edit

import (
	"fmt"
	"slices"
	"strconv"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
)

// Account is a user or group that comes, goes or changes.
type Account struct {
	Row           int64 // of one that is put back; 0: a new one
	Before, After *acc.Account
}

// Either gives the account as it will be, or as it was where it goes.
func (e *Account) Either() *acc.Account {
	if e.After != nil {
		return e.After
	}
	return e.Before
}

// Primaries gives the primary group before and after.
func (e *Account) Primaries() (was, is acc.ID) {
	if e.Before != nil {
		was = e.Before.Primary
	}
	if e.After != nil {
		is = e.After.Primary
	}
	return was, is
}

// attributes are what can change of an account that stays: a row for each, and
// nothing else knows them by name but who gives them.
var attributes = []struct {
	what string
	say  func(w Words, a *acc.Account) string
	put  func(to, from *acc.Account)
}{
	{"name", func(_ Words, a *acc.Account) string { return a.Name }, func(to, from *acc.Account) { to.Name = from.Name }},
	{"purpose", func(_ Words, a *acc.Account) string { return string(a.Purpose) }, func(to, from *acc.Account) { to.Purpose = from.Purpose }},
	{"primary-group", func(w Words, a *acc.Account) string {
		if a.Primary.IsZero() {
			return ""
		}
		return w.Name(a.Primary)
	}, func(to, from *acc.Account) { to.Primary = from.Primary }},
	{"id", func(_ Words, a *acc.Account) string {
		if a.POSIX == acc.NoPOSIX {
			return ""
		}
		return strconv.FormatInt(a.POSIX, 10)
	}, func(to, from *acc.Account) { to.POSIX = from.POSIX }},
}

// Describe implements Edit.
func (e *Account) Describe(w Words) Description {
	a := e.Either()
	out := Description{Kind: "account", Where: fmt.Sprintf("%s %s", a.Kind, a.Name)}
	if acc.Open(a.ID) { // it stands for whoever fits a route
		out.Where = a.Name
	}
	if e.Before == nil || e.After == nil {
		out.Lines = []Line{{Sign: signOf(e.Before != nil, e.After != nil), What: "account", Text: a.ID.Named().String()}}
		return out
	}
	for _, x := range attributes {
		was, is := x.say(w, e.Before), x.say(w, e.After)
		if was == is {
			continue
		}
		out.Lines = append(out.Lines, Line{Sign: Changes, What: x.what, Text: orNone(is) + ", was " + orNone(was)})
	}
	return out
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// TakeBack takes what led from was to is out of an account as it is now; clean
// tells whether all that is taken back is as the change left it.
func TakeBack(now, was, is acc.Account) (then acc.Account, clean bool) {
	then, clean = now, true
	for _, x := range attributes {
		only := is
		x.put(&only, &was)
		if only == is { // not altered
			continue
		}
		stands := now
		x.put(&stands, &is)
		clean = clean && stands == now
		x.put(&then, &was)
	}
	return then, clean
}

// Touches implements Edit: whoever has the identifiers, and who is in its primary
// group by it.
func (e *Account) Touches() (t Touch) {
	for _, a := range []*acc.Account{e.Before, e.After} {
		if a != nil {
			t.Accounts = append(t.Accounts, estate.Forms(*a)...)
		}
	}
	if was, is := e.Primaries(); was != is { // a first group counts as any other
		t.Groups = []acc.Account{{ID: was}, {ID: is}}
	}
	return t
}

// Enough is from how many new ones on accounts, memberships and records are put in
// many at a time.
var Enough = 64

// Masses is from how many on those that go are looked for among all.
var Masses = 2000

// parkNames gives accounts that get another name, or go, their identifier for one
// meanwhile, where others take their names in the same change.
func (s *Set) parkNames(t *estate.Tx) {
	var renamed []acc.Account
	others := false // somebody takes another name
	for _, e := range s.Accounts {
		switch {
		case e.Before == nil:
		case e.After == nil, e.After.Name != e.Before.Name:
			a := *e.Before
			a.Name = a.ID.String()
			renamed = append(renamed, a)
			others = others || e.After != nil
		}
	}
	if s.PutsBack("accounts") || len(renamed) > 1 && others {
		for _, a := range renamed {
			t.SetAccount(a)
		}
	}
}

// comeAccounts stores the accounts that come and change.
func comeAccounts(t *estate.Tx, list []Account) {
	var fresh []acc.Account
	for _, e := range list {
		if e.Before == nil && e.Row == 0 {
			fresh = append(fresh, *e.After)
		} else if e.Before != nil && e.After != nil {
			t.SetAccount(*e.After)
		}
	}
	if len(fresh) >= Enough {
		t.AddAccounts(fresh)
		return
	}
	for _, a := range fresh {
		t.AddAccount(a)
		t.Gave(a.ID)
	}
}

// goAccounts takes out the accounts that go, once nobody is in them any more.
func goAccounts(t *estate.Tx, list []Account) {
	var gone []acc.ID
	for _, e := range list {
		if e.After == nil {
			gone = append(gone, e.Before.ID)
		}
	}
	if len(gone) >= Masses {
		t.RemoveAccounts(gone)
		return
	}
	for _, id := range gone {
		t.RemoveAccount(id)
	}
}

// Membership is a member of a group that comes, goes, or ends otherwise.
type Membership struct {
	Group, Member *acc.Account
	Was, Is       *estate.Membership // nil: no member
}

// Describe implements Edit.
func (e *Membership) Describe(w Words) Description {
	line := Line{Sign: signOf(e.Was != nil, e.Is != nil), What: "membership", Text: w.AccountName(*e.Member)}
	until := func(m *estate.Membership) string {
		s := "for good"
		if m.Until != "" {
			s = "until " + string(m.Until)
		}
		if m.Local {
			s += ", of a local group"
		}
		return s
	}
	switch {
	case e.Is == nil:
	case e.Was != nil:
		line.Text += " " + until(e.Is) + ", was " + until(e.Was)
	case e.Is.Until != "":
		line.Text += " " + until(e.Is)
	}
	return Description{Kind: "membership", Where: "group " + w.AccountName(*e.Group), Lines: []Line{line}}
}

// Touches implements Edit: the group's members, and the tokens at and below who
// comes or goes.
func (e *Membership) Touches() Touch {
	return Touch{Groups: []acc.Account{*e.Group}, Accounts: []acc.ID{e.Member.ID}}
}

func applyMembers(t *estate.Tx, members []Membership) {
	var join []int32 // which of the memberships
	for i := range members {
		if e := &members[i]; e.Was == nil && e.Is != nil {
			join = append(join, int32(i))
		}
	}
	bulk := len(join) >= Enough
	if len(members) >= Masses && !slices.ContainsFunc(members, func(e Membership) bool { return e.Is != nil }) {
		t.DropMembers(len(members), func(i int) (group, member acc.ID) { return members[i].Group.ID, members[i].Member.ID })
		return
	}
	for _, e := range members {
		switch {
		case e.Is == nil:
			t.DropMember(e.Group.ID, e.Member.ID)
		case e.Was != nil || !bulk:
			t.SetMember(e.Group.ID, e.Member.ID, *e.Is)
		}
	}
	if bulk {
		t.AddMembers(len(join), func(i int) (group, member acc.ID, is estate.Membership) {
			e := &members[join[i]]
			return e.Group.ID, e.Member.ID, *e.Is
		})
	}
}
