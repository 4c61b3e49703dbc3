package edit

import (
	"iter"

	"tarnwold/internal/estate"
)

// Set is the edits of one change, by kind: within a kind in order, and the kinds in
// the order in which one rests on another.
type Set struct {
	Servers  []Server
	Links    []Link
	Accounts []Account
	Members  []Membership
	Admins   []Administrator
	Rows     []Raw // what only undoing and loads bring, as it lies in the file
	Made     []MadeItem
	Moved    []MovedItem
	Removed  []int64 // items
	Shares   []Share
	Goes     []estate.Server // that go once all that hangs from them is gone
	Dates    []LastDays
	Records  []Record
	Levels   []Level
}

// Sizes counts the edits of each kind, but last days, which nobody's access hangs on:
// sets of the same sizes, one after the other, are the same set.
func (s *Set) Sizes() [13]int {
	return [...]int{len(s.Servers), len(s.Links), len(s.Accounts), len(s.Members), len(s.Admins), len(s.Rows), len(s.Made),
		len(s.Moved), len(s.Removed), len(s.Shares), len(s.Goes), len(s.Records), len(s.Levels)}
}

// All lists the edits but those of items, which a partition tells of, in the order
// they are told. recordsLast: who comes and joins is told before what is written
// down of them.
func (s *Set) All(recordsLast bool) iter.Seq[Edit] {
	return func(yield func(Edit) bool) {
		_ = each(s.Servers, yield) && (recordsLast || each(s.Records, yield)) &&
			each(s.Accounts, yield) && each(s.Members, yield) && (!recordsLast || each(s.Records, yield)) &&
			each(s.Admins, yield) && each(s.Levels, yield) && each(s.Shares, yield)
	}
}

func each[T any, E interface {
	*T
	Edit
}](list []T, yield func(Edit) bool) bool {
	for i := range list {
		if !yield(E(&list[i])) {
			return false
		}
	}
	return true
}

// Apply makes the edits within a change, all of them; rules makes those of items in
// between, when what they stand on is there. Who rests on whom is the order here:
// servers before what hangs from them, accounts before their memberships, items
// before the shares over them, and last days after the rules that have them.
func (s *Set) Apply(t *estate.Tx, rules func()) error {
	applyServers(t, s.Servers)
	for i := range s.Links {
		s.Links[i].apply(t)
	}
	s.parkNames(t)
	for i := range s.Rows {
		if s.Rows[i].After != nil {
			s.Rows[i].put(t)
		}
	}
	comeAccounts(t, s.Accounts)
	applyMembers(t, s.Members)
	for i := range s.Admins {
		s.Admins[i].apply(t)
	}
	goAccounts(t, s.Accounts)
	rules()
	s.applyItems(t)
	s.applyShares(t)
	for _, gone := range s.Goes {
		t.ForgetScans(gone)
		t.Delete("servers", gone.ID)
	}
	for _, e := range s.Dates {
		t.SetDated(e.Of, e.After)
	}
	applyRecords(t, s.Records)
	for i := range s.Levels {
		if err := s.Levels[i].apply(t); err != nil {
			return err
		}
	}
	return t.Err()
}

// People tells whether memberships, administrators or accounts change.
func (s *Set) People() bool {
	return len(s.Members)+len(s.Admins)+len(s.Accounts)+len(s.Formers()) > 0
}

// PutsBack tells whether rows of a table come back under their old numbers.
func (s *Set) PutsBack(table string) bool {
	for i := range s.Rows {
		if r := &s.Rows[i]; r.After != nil && (table == "" || r.Table == table) {
			return true
		}
	}
	return false
}

// TakesOut tells whether rows go as they lie in the file.
func (s *Set) TakesOut() bool {
	for i := range s.Rows {
		if s.Rows[i].After == nil {
			return true
		}
	}
	return false
}
