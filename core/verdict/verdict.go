// Package verdict decides what a user is granted on an item by one route, and
// says of each right because of what.
//
// The decision is that of [MS-DTYP] §2.5.3.2 for every right of the mask at
// once: rules come compiled to first-match steps (package rule), the first
// that names the user decides each right; then the folder above, the share's
// connection and rules, and the traits of the server. docs/decisions.md walks
// through it.
//
// Nothing here reads or prints; a Question carries all that is asked about.
package verdict

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Share is what a share adds to the rules of the files below it.
type Share struct {
	Rules    *rule.List // read with Traits.ShareReading; nil: it has none and limits nobody
	ReadOnly bool       // its own switch
	Lists    *Lists     // what the server's own configuration adds; nil: nothing
}

// Lists is what a server's own configuration says of a share beside its rules.
// They are held to whoever connects, whatever account their files are opened as.
type Lists struct {
	Limited          bool         // only Only may connect
	Only, Never      []account.ID // who may connect, and who never
	Reading, Writing []account.ID // whose connection is read-only, or isn't, whatever the switch
	Administrators   []account.ID // who passes the files' rules by this share
	Replaces         bool         // Administrators stands in the place of the server's list
	As, Group        account.ID   // the account, or the group beside, as which files are opened; zero: oneself
	MembersGroup     account.ID   // a group that becomes its members' first one
	RootAs, RootsGid account.ID   // as whom files are opened for uid 0, and with which group; zero: as itself
	// NoMachine: nobody connects, from whichever machine.
	NoMachine bool
	// Runs: whoever gets to an item has execute on it.
	Runs bool
	// FromHere: folders above the share's own are not asked for execute.
	FromHere bool
}

// Same tells whether two configurations say the same.
func (l *Lists) Same(o *Lists) bool {
	if l == nil || o == nil {
		return l == o
	}
	return l.Limited == o.Limited && l.Replaces == o.Replaces && l.As == o.As && l.Group == o.Group && l.MembersGroup == o.MembersGroup &&
		l.RootAs == o.RootAs && l.RootsGid == o.RootsGid && l.FromHere == o.FromHere && l.NoMachine == o.NoMachine && l.Runs == o.Runs && slices.Equal(l.Only, o.Only) && slices.Equal(l.Never, o.Never) &&
		slices.Equal(l.Reading, o.Reading) && slices.Equal(l.Writing, o.Writing) && slices.Equal(l.Administrators, o.Administrators)
}

// Own tells whether everyone opens files as themselves, with what they have.
func (l *Lists) Own() bool {
	return l == nil || l.As.IsZero() && l.Group.IsZero() && l.MembersGroup.IsZero() && l.RootAs.IsZero()
}

// Any gives the first of some identifiers that a token has; zero: none.
func Any(t *account.Token, ids []account.ID) account.ID {
	for _, id := range ids {
		if t.Has(id) {
			return id
		}
	}
	return account.ID{}
}

// Same tells whether two shares limit the same.
func (s *Share) Same(o *Share) bool {
	return s == o || s != nil && o != nil && s.ReadOnly == o.ReadOnly && s.Lists.Same(o.Lists) && s.Rules.Decides(o.Rules)
}

// Question is one user, one item and one route.
type Question struct {
	Token  *account.Token
	Self   *account.Token // of who connects, where files are opened as another; nil: Token
	Item   *rule.List
	Parent *rule.List // the folder above by the same route; nil at the route's top
	// Above holds the folders above, nearest first, where the server asks
	// them for execute (Traits.AsksFoldersAbove); it is not read otherwise.
	Above  []*rule.List
	Share  *Share // nil: locally, at the server itself
	Traits *Traits
	// Administrator: the user is on the server's list of administrators.
	Administrator bool
}

// Source says what a finding rests on.
type Source uint8

const (
	Nothing      Source = iota // no entry speaks of the right
	ByEntry                    // an entry of the list
	ByOwner                    // owning brings read-acl and write-acl
	ByAbsence                  // absent rules open everything
	ByParent                   // delete, from delete-child on the folder above
	ByNaming                   // the server shows attributes to who can name an item
	ByAdmin                    // the server's list of administrators
	ByReadOnly                 // the connection is read-only
	ByTraverse                 // a folder above refuses execute
	ByRoute                    // no share on this route: nothing limits
	ByConnection               // the share refuses the connection
	ByBeneath                  // the layer beneath refuses what the rules above it grant
	ByReach                    // whoever gets to the item sees what it is
	ByPrivilege                // a privilege gives it, whatever rules say
	ByMark                     // the item's read-only mark
	ByRunning                  // the share asks nobody for execute
	ByLabel                    // the item's mandatory label
	ByTaking                   // the share's rules don't give everything, and so nothing to BUILTIN\Administrators
)

// Because is what decided about one right in one place.
type Because struct {
	Source Source
	Entry  int        // for ByEntry and ByParent: the place in the list; -1 where the list has none
	Who    account.ID // for ByEntry, ByParent and ByOwner: the identifier of the user that matched
	Folder int        // for ByTraverse: the place in Question.Above
	// Privilege is which one, for ByPrivilege.
	Privilege Privilege
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

// ConnectionWhy says why a connection is not wholly open.
type ConnectionWhy uint8

const (
	Open       ConnectionWhy = iota
	NoData                   // the rules give neither read-data nor write-data
	NoReading                // switched to read-only, and the rules give no read-data
	RulesGone                // the rules are absent, which this server takes as closed
	Switched                 // read-only by the share's switch
	NotWriting               // read-only, for the rules give no write-data
	NotListed                // the server's configuration lets others connect, by name
	Barred                   // the configuration bars them by name
	Nowhere                  // the configuration lets no machine connect
	ReadListed               // the configuration has them on its list of readers
	NoAccount                // they have no account on the server: they are another machine's own
)

// Connection is what a share's connection lets through, before any file is asked for.
type Connection struct {
	Refused  bool
	ReadOnly bool
	Why      ConnectionWhy
}

// Verdict is the answer to a Question.
type Verdict struct {
	Door     Connection
	Granted  right.Set
	Findings [right.Count]Finding // in order of the rights' bits
}

// Connect decides about the connection, and gives what the share's rules let
// through it.
func (q *Question) Connect() (Connection, right.Set) {
	s, t, tr := q.Share, q.self(), q.Traits
	if q.Nobody() {
		return Connection{Refused: true, Why: NoAccount}, 0
	}
	if s == nil {
		return Connection{}, right.All
	}
	switched, why := s.ReadOnly, Switched
	if l := s.Lists; l != nil {
		switch {
		case l.NoMachine:
			return Connection{Refused: true, Why: Nowhere}, 0
		case !Any(t, l.Never).IsZero():
			return Connection{Refused: true, Why: Barred}, 0
		case l.Limited && Any(t, l.Only).IsZero():
			return Connection{Refused: true, Why: NotListed}, 0
		}
		if !Any(t, l.Reading).IsZero() && !switched {
			switched, why = true, ReadListed
		}
		if !Any(t, l.Writing).IsZero() {
			switched = false
		}
	}
	_, power := tr.given(t)
	got := right.All
	switch {
	case s.Rules != nil && !s.Rules.Absent():
		got = tr.byShare(t, Walk(s.Rules.Steps, t, right.All))
	case !tr.AbsentShareRefuses:
	case power&(right.ReadData|right.WriteData) == 0:
		return Connection{Refused: true, Why: RulesGone}, 0
	default:
		got = 0
	}
	d := ConnectionOf(switched, got|power, tr)
	if d.Why == Switched {
		d.Why = why
	}
	if d.Refused {
		return d, 0
	}
	if d.ReadOnly {
		got &^= tr.ReadOnlyTakes
	}
	return d, got | power&^d.keeps()
}

// SwitchKeeps are the rights that a share switched to read-only takes from everybody: no
// privilege lets them through, as it does what the share's rules don't give (measured).
const SwitchKeeps = right.WriteData | right.AppendData

// keeps are the rights that no privilege lets through a connection.
func (c Connection) keeps() right.Set {
	if c.ReadOnly { // where the rules make it so no privilege would let write-data through anyway
		return SwitchKeeps
	}
	return 0
}

// Nobody tells whether who connects has no account on the server.
func (q *Question) Nobody() bool { return q.self().Nobody() }

func (q *Question) self() *account.Token {
	if q.Self != nil {
		return q.Self
	}
	return q.Token
}

// Passes tells whether the user passes the files' rules as an administrator,
// of the server or of the share.
func (q *Question) Passes() bool {
	if !q.Traits.AdministratorsPass {
		return false
	}
	if q.Share == nil || q.Share.Lists == nil || !q.Share.Lists.Replaces {
		return q.Administrator
	}
	return !Any(q.self(), q.Share.Lists.Administrators).IsZero()
}

// ConnectionOf decides about a connection from what a share's rules give.
func ConnectionOf(switched bool, gives right.Set, tr *Traits) Connection {
	if tr.ShareOpensConnection {
		switch {
		case gives&(right.ReadData|right.WriteData) == 0:
			return Connection{Refused: true, Why: NoData}
		case switched && gives&right.ReadData == 0:
			return Connection{Refused: true, Why: NoReading}
		case !switched && gives&right.WriteData == 0:
			return Connection{ReadOnly: true, Why: NotWriting}
		}
	}
	if switched {
		return Connection{ReadOnly: true, Why: Switched}
	}
	return Connection{}
}

// Of decides what an item's own rules grant at the server itself: no share, no
// folder above, nobody on the list of administrators. Where those count, fill in a
// Question. nil rules, of which nothing is known, grant nothing.
func Of(t *account.Token, item rule.Any, tr Traits) right.Set {
	if item == nil || t == nil {
		return 0
	}
	return Granted(&Question{Token: t, Item: rule.Compile(item, tr.Reading()), Traits: &tr})
}

// Granted decides without reasons. It allocates nothing.
func Granted(q *Question) right.Set {
	_, share := q.Connect()
	if share == 0 {
		return 0
	}
	if q.Passes() {
		return share &^ q.Item.Never
	}
	if q.Traits.AsksFoldersAbove {
		for _, d := range q.Above {
			if Given(d, q.Token, right.Execute) == 0 {
				return 0
			}
		}
	}
	got := Given(q.Item, q.Token, right.All)
	if q.Traits.NamingShowsAttributes {
		got |= right.ReadAttributes
	}
	if q.runs() {
		got |= right.Execute
	}
	if got&right.Delete == 0 && q.Parent != nil && share&right.DeleteChild != 0 &&
		Given(q.Parent, q.Token, q.takesOut()) != 0 {
		got |= right.Delete
	}
	file, _ := q.Traits.given(q.Token)
	return (got | file) & share &^ q.Item.Never
}

// runs tells whether a share's configuration asks nobody for execute.
func (q *Question) runs() bool { return q.Share != nil && q.Share.Lists != nil && q.Share.Lists.Runs }

// takesOut are the rights on the folder above, of which one lets the user take the
// item out of it: delete-child, and adding where that is enough for what one owns;
// none where only owners may, and they are neither's.
func (q *Question) takesOut() right.Set {
	up := q.Parent
	switch {
	case !up.OwnersOnly:
	case up.Beneath != nil: // an SMB server looks who owns what, and asks its descriptor
		if !q.Token.Has(q.Item.Owner) && !q.Token.Has(up.Owner) {
			return 0
		}
	case q.Token.Has(q.Item.Owner):
		return right.WriteData | right.DeleteChild
	}
	return right.DeleteChild
}

// Given decides the wanted rights by rules alone: by their steps, and where a
// layer beneath is asked besides by that too.
func Given(l *rule.List, t *account.Token, want right.Set) right.Set {
	got := Walk(l.Steps, t, want)
	if l.Beneath != nil && got != 0 {
		got = Walk(l.Beneath, t, got)
	}
	return got
}

// Walk decides the wanted rights by steps in order: the first that names
// somebody the token is decides ([MS-DTYP] §2.5.3.2).
func Walk(steps []rule.Step, t *account.Token, want right.Set) (got right.Set) {
	for i := range steps {
		s := &steps[i]
		m := s.Rights & want
		if m == 0 || !s.Fits(t) {
			continue
		}
		if !s.Refuses {
			got |= m
		}
		if want &^= m; want == 0 {
			break
		}
	}
	return got
}

// Decide answers with a reason for every right.
func Decide(q *Question) Verdict {
	var v Verdict
	door, share, byShare := explainShare(q)
	file, byFile := explainFile(q, share)
	v.Door, v.Granted = door, file&share
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

// marked says of what an item's mark takes from everybody that it does.
func (b *reasons) marked(l *rule.List) {
	for i := range b {
		if l.Kept && l.Never&right.At(i) != 0 {
			b[i] = Because{Source: ByMark, Entry: -1}
		}
	}
}

func explainFile(q *Question, share right.Set) (right.Set, reasons) {
	if q.Passes() {
		b := all(ByAdmin)
		b.marked(q.Item)
		return right.All &^ q.Item.Never, b
	}
	if q.Traits.AsksFoldersAbove {
		for i, d := range q.Above {
			if Given(d, q.Token, right.Execute) == 0 {
				b := all(ByTraverse)
				for j := range b {
					b[j].Folder = i
				}
				return 0, b
			}
		}
	}
	got, b := explainGiven(q.Item, q.Token)
	if i := right.Index(right.ReadAttributes); q.Traits.NamingShowsAttributes && got&right.ReadAttributes == 0 {
		got |= right.ReadAttributes
		b[i] = Because{Source: ByNaming, Entry: -1}
	}
	if q.runs() && got&right.Execute == 0 {
		got |= right.Execute
		b[right.Index(right.Execute)] = Because{Source: ByRunning, Entry: -1}
	}
	if got&right.Delete == 0 && q.Parent != nil && share&right.DeleteChild != 0 {
		above, why := explainGiven(q.Parent, q.Token)
		if one := above & q.takesOut(); one != 0 {
			if one&right.DeleteChild != 0 {
				one = right.DeleteChild
			}
			got |= right.Delete
			reason := why[right.Index(one)]
			reason.Source = ByParent
			b[right.Index(right.Delete)] = reason
		}
	}
	got = q.Traits.byPrivilege(q.Token, got, right.All, false, &b)
	b.marked(q.Item)
	return got &^ q.Item.Never, b
}

func explainShare(q *Question) (Connection, right.Set, reasons) {
	door, got := q.Connect()
	switch {
	case door.Refused:
		return door, 0, all(ByConnection)
	case q.Share == nil:
		return Connection{}, right.All, all(ByRoute)
	}
	b, base := all(ByAbsence), right.All
	if q.Share.Rules != nil {
		base, b = explain(q.Share.Rules.Steps, q.self())
		if q.Traits.byShare(q.self(), base) != base {
			base, b = 0, all(ByTaking)
		}
	}
	if door.ReadOnly {
		base &^= q.Traits.ReadOnlyTakes
		for i := range b {
			if right.At(i)&q.Traits.ReadOnlyTakes != 0 {
				b[i] = Because{Source: ByReadOnly, Entry: -1}
			}
		}
	}
	q.Traits.byPrivilege(q.self(), base, right.All&^door.keeps(), true, &b)
	return door, got, b
}

var sources = [...]Source{rule.OfEntry: ByEntry, rule.OfOwner: ByOwner, rule.OfAbsence: ByAbsence, rule.OfReach: ByReach, rule.OfLabel: ByLabel}

// explainGiven is Given with a reason for every right.
func explainGiven(l *rule.List, t *account.Token) (right.Set, reasons) {
	got, b := explain(l.Steps, t)
	if l.Beneath == nil {
		return got, b
	}
	below, why := explain(l.Beneath, t)
	for i := range b {
		if got&^below&right.At(i) != 0 {
			if b[i] = why[i]; b[i].Source != ByLabel {
				b[i].Source = ByBeneath
			}
		}
	}
	return got & below, b
}

// explain is Walk with a reason for every right.
func explain(steps []rule.Step, t *account.Token) (got right.Set, b reasons) {
	b = all(Nothing)
	want := right.All
	for i := range steps {
		s := &steps[i]
		m := s.Rights & want
		if m == 0 || !s.Fits(t) {
			continue
		}
		for j := range b {
			if m&right.At(j) != 0 {
				b[j] = Because{Source: sources[s.Source], Entry: s.Entry, Who: s.Who}
			}
		}
		if !s.Refuses {
			got |= m
		}
		if want &^= m; want == 0 {
			break
		}
	}
	return got, b
}

// Special gives the special accounts that fit a route.
func Special(local bool) []account.ID {
	if local {
		return []account.ID{account.Everyone, account.Authenticated, account.Interactive}
	}
	return []account.ID{account.Everyone, account.Authenticated, account.Network}
}
