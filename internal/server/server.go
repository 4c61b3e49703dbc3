// Package server says what is read of a live file server, and written to it,
// whatever protocol it is asked by; each protocol is a package below.
package server

import (
	"context"
	"errors"
	"time"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// ErrNotThere is an item that a server doesn't have.
var ErrNotThere = errors.New("it is not there")

// ErrChanged is an item that isn't as a write was told it is: it is left as it is.
var ErrChanged = errors.New("somebody changed it on the server since it was looked at, and it is left as it is")

// ErrMounted is an item that something is mounted on, or on the way to: it is
// no part of the tree that was opened.
var ErrMounted = errors.New("something is mounted there, which is not part of the tree")

// audited are the control flags that go with audit entries.
const audited = rule.AuditPresent | rule.AuditSealed

// Same tells whether rules that a server has are those that are meant; audit
// entries count only where they were asked for.
func Same(have, now rule.Any, audit bool) bool {
	if h, ok := have.(*posix.Rules); ok { // marks are no part of what is written
		n, also := now.(*posix.Rules)
		return also && h.Same(n.Marked(h.Marks))
	}
	h, ok := have.(*rule.Descriptor)
	n, also := now.(*rule.Descriptor)
	if !ok || !also || h == nil || n == nil {
		return have.Same(now)
	}
	then := *n
	then.Mark = h.Mark // is not part of what is written
	if audit {
		return then.Equal(h)
	}
	then.Audit = h.Audit
	then.Control = n.Control&^audited | h.Control&audited
	return then.Equal(h)
}

// Share is a share as the server has it.
type Share struct {
	Name   string
	Folder string // the server's own path, beginning with /
	Rules  *rule.Descriptor
	// ReadOnly: it is switched to read-only. Told: that was to be seen.
	ReadOnly, Told bool
	// Root: it is a tree of the machine's own that is read, and no share; Rules
	// is nil then.
	Root bool
}

// Item is one folder or file met by a scan.
type Item struct {
	Path     string // below the share's folder, parts joined by /; empty: that folder
	Folder   bool
	Rules    rule.Any  // one pointer for the same bytes, nearly always
	Size     int64     // bytes; of a file
	Modified time.Time // its contents
	Changed  time.Time // it itself, its rules too; zero: not told
	Enter    bool      // a folder whose inside is read too: no link, and not too deep
	Err      error     // why its rules, or what is in it, couldn't be read
	// Whole: all that is directly in the folder Path has been told; nothing
	// else is said then.
	Whole bool
	Left  int // with Whole: folders known of whose inside is still to be read
	// Notes are what is worth knowing beside the rules: kinds of Note.
	Notes []Note
	// Stamp tells one file, and what is in it, from another; zero: not told.
	Stamp Stamp
	Names int // under how many names the file stands (hard links); 0: not told
}

// Stamp is what tells one file from another, and its contents from others:
// neither its rules nor its owner have a part in it. Of a folder it is the
// device and inode alone.
type Stamp struct {
	Device, Inode uint64
	Size          int64
	Modified      int64 // in nanoseconds
}

// ErrReplaced is a file that would run as its owner or group again, and isn't,
// or may not be, what it was when it last did.
var ErrReplaced = errors.New("it would run as its owner or group again, and it has been changed or replaced since it last did")

// Note is something about an item that its rules don't say.
type Note string

const (
	Capable   Note = "capabilities" // a program with capabilities of its own
	Immutable Note = "immutable"    // marked so that nobody changes it
	Appending Note = "append-only"  // marked so that it is only added to
	Described Note = "descriptor"   // an SMB server keeps a descriptor of its own beside its rules
	Linked    Note = "names"        // the file stands under several names
	Mounted   Note = "mount"        // another file system, or a part of one that stands elsewhere too: not gone into
)

// Doors leaves out the trees of a machine's own.
func Doors(list []Share) (out []Share) {
	for _, s := range list {
		if !s.Root {
			out = append(out, s)
		}
	}
	return out
}

// Account is a user or group the server knows.
type Account struct {
	Kind   account.Kind
	Name   string
	Domain string     // where it is kept: the server's own name, a domain's, BUILTIN
	ID     account.ID // zero where it has a number alone
	// Numbered: Number is its uid or gid; First is a user's first group's gid.
	Numbered      bool
	Number, First uint32
	In            []string // the groups a numbered user is in, by name
}

// ErrNoMembers is a server whose groups aren't changed from here.
var ErrNoMembers = errors.New("who is in its groups isn't changed from here")

// Member is a membership the server tells of.
type Member struct{ Group, Member account.ID }

// Listed is a membership of a group that a directory keeps: what the entries of both are
// named there, and what the member is called.
type Listed struct{ Group, Member, Name string }

// Reading says how far a scan goes.
type Reading struct {
	FoldersOnly bool // files are left out
	Depth       int  // layers below the share's folder; 0: all
	// From are the folders whose insides are still to be read; nil: the
	// share's folder, which is told first then.
	From []string
}

// Writing is a descriptor that is to be set on an item or a share.
type Writing struct {
	Share, Path string
	OfShare     bool // the share's own rules
	Before, To  rule.Any
	// Was is the file that was looked at; nil: whatever stands there.
	Was *Stamp
	// Since: a bit that makes a program run as somebody else isn't put back on
	// a file that was changed after this (ErrReplaced); zero: it is.
	Since time.Time
}

// Runs tells whether a writing gives a file a bit that makes it run as its
// owner or group.
func (w *Writing) Runs() bool {
	before, ok := w.Before.(*posix.Rules)
	to, also := w.To.(*posix.Rules)
	return ok && also && before != nil && to != nil && !to.Folder && to.Special&^before.Special&(posix.SetUID|posix.SetGID) != 0
}

// Reader is what a server is asked.
type Reader interface {
	// Shares lists the shares with their rules, those of the system's own left out.
	Shares(ctx context.Context) ([]Share, error)
	// Scan calls fn with a share's folder and everything below it, a folder
	// before what is in it, one call at a time.
	Scan(ctx context.Context, share string, how Reading, fn func(Item) error) error
	// Look reads one item now; audit asks for audit entries too, which takes
	// a privilege.
	Look(ctx context.Context, share, path string, audit bool) (Item, error)
	// Accounts lists the server's own users and groups, and who is in which.
	Accounts(ctx context.Context) ([]Account, []Member, error)
	// Names looks up what identifiers are called.
	Names(ctx context.Context, ids []account.ID) ([]Account, error)
	Close()
}

// Audits tells whether a writing changes audit entries.
func (w *Writing) Audits() bool {
	before, ok := w.Before.(*rule.Descriptor)
	to, also := w.To.(*rule.Descriptor)
	return ok && also && before != nil && to != nil && (before.Control&audited != to.Control&audited || !before.Audit.Equal(&to.Audit))
}

// Writer is what is written to a server.
type Writer interface {
	// Write sets a descriptor: those parts of it that To has otherwise than
	// Before. The item is looked at directly before; where it isn't as Before
	// says, nothing is written to it (ErrChanged).
	Write(ctx context.Context, w Writing) error
	// Settles is how long after a write another writer, who looked before it,
	// may still overwrite it unseen: as long as it takes from looking to writing,
	// and a good deal more.
	Settles() time.Duration
	// ShareRules reads one share's rules now.
	ShareRules(ctx context.Context, share string) (*rule.Descriptor, error)
	// HasMember tells whether a group that the server keeps itself has a member now.
	HasMember(ctx context.Context, m Member) (bool, error)
	// SetMember makes a membership come or go; where somebody else has made it so
	// already nothing is done (ErrChanged).
	SetMember(ctx context.Context, m Member, in bool) error
}

// Server is one that is signed on to.
type Server interface {
	Reader
	Writer
}

// Opener opens things as one user, with exactly the rights asked for, and
// leaves no trace. Refused tells what the server said to it; "" where it is done.
type Opener interface {
	Open(ctx context.Context, share, path string, rights right.Set) (refused string, err error)
	Close()
}
