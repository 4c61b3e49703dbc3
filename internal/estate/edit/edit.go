// Package edit is the one form a change has: typed edits, one file a kind. A plan
// is edits with what follows from them, a saved change set is edits with what they
// rest on, the journal's rows are read as edits, and what takes a change back is
// their inverses.
//
// Rules of items are edited strand by strand beside this, in an estate.Partition:
// what a command sets there and what follows below is worked out together.
package edit

import (
	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// Edit is how one thing is altered: what it was, and what it is to be.
type Edit interface {
	// Describe says it in words; without lines where there is nothing to say.
	Describe(w Words) Description
	// Touches tells what it reaches, for those who ask on whose behalf.
	Touches() Touch
}

// Touch is what an edit reaches, for those who ask on somebody's behalf: keepers,
// guards, and who looks whose access may change.
type Touch struct {
	// Groups are those whose members it alters; without a name where only the
	// identifier is known.
	Groups []acc.Account
	// Accounts are the identifiers at and below which tokens may alter.
	Accounts []acc.ID
	// Server is the one it is of, where it is of one; Decides says by what it decides
	// over everything there, where it does.
	Server  *estate.Server
	Decides string
	// Paths are the server's own paths of what it decides over.
	Paths []string
}

// Description says what happens to one thing.
type Description struct {
	// Kind: item, share, membership, account, administrator, server, level, tree.
	Kind  string `json:"kind"`
	Where string `json:"where"`
	Items int64  `json:"items,omitempty"` // how many items alike
	Lines []Line `json:"lines"`
	Below bool   `json:"below,omitempty"` // it isn't named itself, but mended below one that is
}

// Sign says what becomes of a thing.
type Sign string

const (
	Comes   Sign = "comes"
	Goes    Sign = "goes"
	Changes Sign = "changes"
	Moves   Sign = "moves"
)

// Line is one thing that comes, goes, changes or moves.
type Line struct {
	Sign      Sign   `json:"sign"`
	What      string `json:"what"`           // entry, audit, owner, seal, order, last-day, membership, account, purpose, primary-group, share, …
	Text      string `json:"text,omitempty"` // the entry as written, the name, the day
	FromAbove bool   `json:"from-above,omitempty"`
}

// Words are what describing takes beside the edit: the names that accounts have
// now, the entry language, and what is called how where several say it.
type Words interface {
	// Name names an identifier; AccountName an account, one that only comes too.
	Name(id acc.ID) string
	AccountName(a acc.Account) string
	// Diff lists what differs between two rules; nil: not there.
	Diff(from, to rule.Any, folder bool, was, is estate.Dated) []Line
	// Dates lists what becomes of last days, but of those that go with their entries.
	Dates(was, is estate.Dated, folder bool, before, after *rule.Descriptor) []Line
	// Traits lists what differs between two servers' traits.
	Traits(was, is *estate.Server) []Line
	// Admitted says what a configuration says of a share.
	Admitted(a *estate.Admission) []string
}

// signOf tells what becomes of what was there before, or is there after.
func signOf(before, after bool) Sign {
	switch {
	case !before:
		return Comes
	case !after:
		return Goes
	}
	return Changes
}
