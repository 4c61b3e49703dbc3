// Package verdict decides what a user is granted on an item by one route, and
// says of each right because of what.
//
// The decision is that of [MS-DTYP] §2.5.3.2 for every right of the mask at
// once: the owner's built-in rights, then entries in stored order, the first
// that matches deciding each right; then the folder above, the share, and the
// traits of the server. docs/decisions.md walks through it.
//
// Nothing here reads or prints; a Question carries all that is asked about.
package verdict

import (
	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Share is what a share adds to the rules of the files below it.
type Share struct {
	Rules    *rule.Descriptor // nil: the share has no rules and limits nobody
	ReadOnly bool
}

// Question is one user, one item and one route.
type Question struct {
	Token  *account.Token
	Item   *rule.Descriptor
	Parent *rule.Descriptor // the folder above by the same route; nil at the route's top
	// Above holds the folders above, nearest first, where the server asks
	// them for execute (Traits.AsksFoldersAbove); it is not read otherwise.
	Above  []*rule.Descriptor
	Share  *Share // nil: locally, at the server itself
	Traits *Traits
	// Administrator: the user is on the server's list of administrators.
	Administrator bool
}

// Source says what a finding rests on.
type Source uint8

const (
	Nothing    Source = iota // no entry speaks of the right
	ByEntry                  // an entry of the list
	ByOwner                  // owning brings read-acl and write-acl
	ByAbsence                // absent rules open everything
	ByParent                 // delete, from delete-child on the folder above
	ByNaming                 // the server shows attributes to who can name an item
	ByAdmin                  // the server's list of administrators
	ByReadOnly               // the share is switched to read-only
	ByTraverse               // a folder above refuses execute
	ByRoute                  // no share on this route: nothing limits
)

// Because is what decided about one right in one place.
type Because struct {
	Source Source
	Entry  int        // for ByEntry and ByParent: the place in the list; -1 where the list has none
	Who    account.ID // for ByEntry, ByParent and ByOwner: the identifier of the user that matched
	Folder int        // for ByTraverse: the place in Question.Above
}

// Finding is the answer for one right.
type Finding struct {
	Right   right.Set
	Granted bool // by the files' side and the share's both
	File    Because
	FileOK  bool
	Share   Because
	ShareOK bool
}

// Verdict is the answer to a Question.
type Verdict struct {
	Granted  right.Set
	Findings [right.Count]Finding // in order of the rights' bits
}

// Granted decides without reasons. It allocates nothing.
func Granted(q *Question) right.Set {
	share := shareGrants(q)
	if q.Administrator && q.Traits.AdministratorsPass {
		return share
	}
	if q.Traits.AsksFoldersAbove {
		for _, d := range q.Above {
			if scan(d, q.Token, right.Execute) == 0 {
				return 0
			}
		}
	}
	got := scan(q.Item, q.Token, right.All)
	if q.Traits.NamingShowsAttributes {
		got |= right.ReadAttributes
	}
	if got&right.Delete == 0 && q.Parent != nil && share&right.DeleteChild != 0 &&
		scan(q.Parent, q.Token, right.DeleteChild) != 0 {
		got |= right.Delete
	}
	return got & share
}

// shareGrants gives what the share's rules and its switch let through.
func shareGrants(q *Question) right.Set {
	if q.Share == nil {
		return right.All
	}
	got := right.All
	if q.Share.Rules != nil {
		got = walk(q.Share.Rules, q.Token, right.All)
	}
	if q.Share.ReadOnly {
		got &^= q.Traits.ReadOnlyTakes
	}
	return got
}

// scan decides the wanted rights by an item's descriptor alone: the owner's
// built-in rights, then the entries ([MS-DTYP] §2.5.3.2).
func scan(d *rule.Descriptor, t *account.Token, want right.Set) right.Set {
	owned := want & OwnerHas(d, t)
	return owned | walk(d, t, want&^owned)
}

// OwnerHas gives what owning brings before any entry is looked at: read-acl
// and write-acl, unless an entry for owner@ stands there that takes effect.
func OwnerHas(d *rule.Descriptor, t *account.Token) right.Set {
	if d.Owner.IsZero() || !t.Has(d.Owner) {
		return 0
	}
	return rule.OwnersOwn(d)
}

// walk decides the wanted rights by the entries in stored order.
func walk(d *rule.Descriptor, t *account.Token, want right.Set) right.Set {
	if d.Rules.Absent {
		return want
	}
	var got right.Set
	for i := range d.Rules.Entries {
		// What rules most entries out comes first: few name the user.
		e := &d.Rules.Entries[i]
		if e.Who == account.OwnerRights {
			if !matches(e.Who, d, t) {
				continue
			}
		} else if !t.Has(e.Who) {
			continue
		}
		m := e.Rights
		if m&right.Generic != 0 {
			m = m.Map()
		}
		if m &= want; m == 0 || !e.Counts() {
			continue
		}
		if !e.Kind.Refuses() {
			got |= m
		}
		if want &^= m; want == 0 {
			break
		}
	}
	return got
}

func matches(who account.ID, d *rule.Descriptor, t *account.Token) bool {
	if who == account.OwnerRights {
		return !d.Owner.IsZero() && t.Has(d.Owner)
	}
	return t.Has(who)
}

// Decide answers with a reason for every right.
func Decide(q *Question) Verdict {
	var v Verdict
	share, byShare := explainShare(q)
	file, byFile := explainFile(q, share)
	v.Granted = file & share
	for i := range v.Findings {
		r := right.At(i)
		v.Findings[i] = Finding{
			Right: r, Granted: v.Granted&r != 0,
			File: byFile[i], FileOK: file&r != 0,
			Share: byShare[i], ShareOK: share&r != 0,
		}
	}
	return v
}

type reasons [right.Count]Because

func all(s Source) (b reasons) {
	for i := range b {
		b[i] = Because{Source: s, Entry: -1}
	}
	return b
}

func explainFile(q *Question, share right.Set) (right.Set, reasons) {
	if q.Administrator && q.Traits.AdministratorsPass {
		return right.All, all(ByAdmin)
	}
	if q.Traits.AsksFoldersAbove {
		for i, d := range q.Above {
			if scan(d, q.Token, right.Execute) == 0 {
				b := all(ByTraverse)
				for j := range b {
					b[j].Folder = i
				}
				return 0, b
			}
		}
	}
	got, b := explain(q.Item, q.Token, OwnerHas(q.Item, q.Token))
	if i := right.Index(right.ReadAttributes); q.Traits.NamingShowsAttributes && got&right.ReadAttributes == 0 {
		got |= right.ReadAttributes
		b[i] = Because{Source: ByNaming, Entry: -1}
	}
	if got&right.Delete == 0 && q.Parent != nil && share&right.DeleteChild != 0 {
		above, why := explain(q.Parent, q.Token, 0)
		if above&right.DeleteChild != 0 {
			got |= right.Delete
			reason := why[right.Index(right.DeleteChild)]
			reason.Source = ByParent
			b[right.Index(right.Delete)] = reason
		}
	}
	return got, b
}

func explainShare(q *Question) (right.Set, reasons) {
	if q.Share == nil {
		return right.All, all(ByRoute)
	}
	got, b := right.All, all(ByAbsence)
	if q.Share.Rules != nil {
		got, b = explain(q.Share.Rules, q.Token, 0)
	}
	if q.Share.ReadOnly {
		for i := range b {
			if r := right.At(i) & q.Traits.ReadOnlyTakes & got; r != 0 {
				b[i] = Because{Source: ByReadOnly, Entry: -1}
				got &^= r
			}
		}
	}
	return got, b
}

// explain is scan with a reason for every right.
func explain(d *rule.Descriptor, t *account.Token, owned right.Set) (right.Set, reasons) {
	if d.Rules.Absent {
		return right.All, all(ByAbsence)
	}
	b := all(Nothing)
	got, want := owned, right.All&^owned
	for i := range b {
		if owned&right.At(i) != 0 {
			b[i] = Because{Source: ByOwner, Entry: -1, Who: d.Owner}
		}
	}
	for i := range d.Rules.Entries {
		e := &d.Rules.Entries[i]
		m := e.Rights.Map() & want
		if m == 0 || !e.Counts() || !matches(e.Who, d, t) {
			continue
		}
		who := e.Who
		if who == account.OwnerRights {
			who = d.Owner
		}
		for j := range b {
			if m&right.At(j) != 0 {
				b[j] = Because{Source: ByEntry, Entry: i, Who: who}
			}
		}
		if !e.Kind.Refuses() {
			got |= m
		}
		if want &^= m; want == 0 {
			break
		}
	}
	return got, b
}
