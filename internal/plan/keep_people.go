package plan

import (
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
)

// Enough is from how many new ones on accounts, memberships and records are put in
// many at a time.
var Enough = 64

// Masses is from how many on those that go are looked for among all.
var Masses = 2000

// removePeople takes out the accounts that go.
func (w *work) removePeople(t *estate.Tx) {
	var gone []ID
	for _, e := range w.Accounts {
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

// parkNames gives accounts that get another name, or go, their identifier for one
// meanwhile, where others take their names in the same change.
func (w *work) parkNames(t *estate.Tx) {
	comes := slices.ContainsFunc(w.Puts, func(b PutBack) bool { return b.Table == "accounts" })
	var renamed []acc.Account
	others := false // somebody takes another name
	for _, e := range w.Accounts {
		switch {
		case e.Before == nil:
		case e.After == nil, e.After.Name != e.Before.Name:
			a := *e.Before
			a.Name = a.ID.String()
			renamed = append(renamed, a)
			others = others || e.After != nil
		}
	}
	if comes || len(renamed) > 1 && others {
		for _, a := range renamed {
			t.SetAccount(a)
		}
	}
}

// keepPeople stores the accounts that come and change, and memberships.
func (w *work) keepPeople(t *estate.Tx) {
	var fresh []acc.Account
	for _, e := range w.Accounts {
		if e.Before == nil && e.Row == 0 {
			fresh = append(fresh, *e.After)
		} else if e.Before != nil && e.After != nil {
			t.SetAccount(*e.After)
		}
	}
	if len(fresh) >= Enough {
		t.AddAccounts(fresh)
	} else {
		for _, a := range fresh {
			t.AddAccount(a)
			t.Gave(a.ID)
		}
	}
	var join []int32 // which of the memberships
	for i := range w.Members {
		if e := &w.Members[i]; e.Was == nil && e.Is != nil {
			join = append(join, int32(i))
		}
	}
	bulk := len(join) >= Enough
	members := w.Members
	if len(members) >= Masses && !slices.ContainsFunc(members, func(e MemberEdit) bool { return e.Is != nil }) {
		t.DropMembers(len(members), func(i int) (group, member ID) { return members[i].Group.ID, members[i].Member.ID })
		members = nil
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
		t.AddMembers(len(join), func(i int) (group, member ID, is estate.Membership) {
			e := &w.Members[join[i]]
			return e.Group.ID, e.Member.ID, *e.Is
		})
	}
}

// keepRecords stores what is written down.
func (w *work) keepRecords(t *estate.Tx) {
	var fresh []estate.Record
	for i := range w.Records {
		if e := &w.Records[i]; e.Before == "" && e.Row == 0 && e.Number == 0 && e.After != "" {
			fresh = append(fresh, estate.Record{Kind: e.Kind, Name: e.Name, Body: e.After})
		}
	}
	bulk := len(fresh) >= Enough
	for i := range w.Records {
		if e := &w.Records[i]; !bulk || e.Before != "" || e.Row != 0 || e.Number != 0 || e.After == "" {
			e.keep(t)
		}
	}
	if bulk {
		t.AddRecords(fresh)
	}
}
