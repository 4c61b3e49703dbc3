package plan

import (
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
)

// enough is from how many new ones on accounts, memberships and papers are put in
// many at a time.
var enough = 64

// masses is from how many on those that go are looked for among all.
var masses = 2000

// removePeople takes out the accounts that go.
func (w *work) removePeople(t *estate.Tx) {
	var gone []ID
	for _, e := range w.accounts {
		if e.after == nil {
			gone = append(gone, e.before.ID)
		}
	}
	if len(gone) >= masses {
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
	comes := slices.ContainsFunc(w.puts, func(b putBack) bool { return b.table == "accounts" })
	var renamed []acc.Account
	others := false // somebody takes another name
	for _, e := range w.accounts {
		switch {
		case e.before == nil:
		case e.after == nil, e.after.Name != e.before.Name:
			a := *e.before
			a.Name = a.ID.String()
			renamed = append(renamed, a)
			others = others || e.after != nil
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
	for _, e := range w.accounts {
		if e.before == nil && e.row == 0 {
			fresh = append(fresh, *e.after)
		} else if e.before != nil && e.after != nil {
			t.SetAccount(*e.after)
		}
	}
	if len(fresh) >= enough {
		t.AddAccounts(fresh)
	} else {
		for _, a := range fresh {
			t.AddAccount(a)
			t.Gave(a.ID)
		}
	}
	var join []int32 // which of the memberships
	for i := range w.members {
		if e := &w.members[i]; e.was == nil && e.is != nil {
			join = append(join, int32(i))
		}
	}
	bulk := len(join) >= enough
	members := w.members
	if len(members) >= masses && !slices.ContainsFunc(members, func(e memberEdit) bool { return e.is != nil }) {
		t.DropMembers(len(members), func(i int) (group, member ID) { return members[i].group.ID, members[i].member.ID })
		members = nil
	}
	for _, e := range members {
		switch {
		case e.is == nil:
			t.DropMember(e.group.ID, e.member.ID)
		case e.was != nil || !bulk:
			t.SetMember(e.group.ID, e.member.ID, *e.is)
		}
	}
	if bulk {
		t.AddMembers(len(join), func(i int) (group, member ID, is estate.Membership) {
			e := &w.members[join[i]]
			return e.group.ID, e.member.ID, *e.is
		})
	}
}

// keepPapers stores what is written down.
func (w *work) keepPapers(t *estate.Tx) {
	var fresh []estate.Paper
	for i := range w.papers {
		if e := &w.papers[i]; e.before == "" && e.row == 0 && e.number == 0 && e.after != "" {
			fresh = append(fresh, estate.Paper{Kind: e.kind, Name: e.name, Body: e.after})
		}
	}
	bulk := len(fresh) >= enough
	for i := range w.papers {
		if e := &w.papers[i]; !bulk || e.before != "" || e.row != 0 || e.number != 0 || e.after == "" {
			e.keep(t)
		}
	}
	if bulk {
		t.AddPapers(fresh)
	}
}
