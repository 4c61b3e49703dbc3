package verdict

import (
	"tarnwold/core/account"
	"tarnwold/core/right"
)

// On is where an act needs something.
type On uint8

const (
	OnItem       On = iota // the item itself
	OnFolder               // the folder it is in, or is to be made in
	OnTarget               // the folder it goes to
	OnShare                // what the share lets through
	OnConnection           // the connection, which may not be read-only
	OnThere                // what is there already, and is replaced
	OnKernel               // the item as the kernel alone sees it, where a server asks that besides
	OnNames                // the folder it goes to, whose names such a server reads first
	OnMark                 // the item's read-only mark, which keeps it from being deleted
	OnOwner                // who is to own it: oneself, who does already, or anybody for an administrator
)

// Need is one thing an act needs.
type Need struct {
	On     On
	Rights right.Set
	// Adding: the right to add what the item is (add-file or
	// add-subdirectory), asked as the server asks it then.
	Adding bool
	// Posix: asked only where the rules are those of a POSIX tree; Folders: and
	// only of a folder.
	Posix, Folders bool
	// Specified: asked only by a server that does as the standards say (Traits.AsSpecified).
	Specified bool
	// NotKept: not asked where the server keeps descriptors, by which alone it
	// deletes (measured).
	NotKept bool
	// Staying: not asked by a kernel of an owner who stays it: chown(2) changes nothing then.
	Staying bool
	// PastShare: the share's rules aren't asked for it, the connection alone.
	PastShare bool
}

// Takes says what an act is done to and with.
type Takes uint8

const (
	Either  Takes = iota // a file or a folder that is there
	File                 // a file that is there
	Folder               // a folder that is there
	NewFile              // something that is not there yet
	NewFolder
)

// Where says what a second place means to an act.
type Where uint8

const (
	NoTarget   Where = iota
	NewName          // another name in the same folder
	NewPlace         // a place that is free, in any folder
	ThereIs          // a file that is there, and goes
	NewOwner         // an account
	mostChecks = 7
)

// Act is something a person does to an item.
type Act struct {
	Name, About string
	Takes       Takes
	To          Where
	Needs       []Need
}

// Masks that servers ask a share for when a program makes something or reads
// and writes generically: [MS-DTYP] §2.4.3 and [MS-SMB2] §2.2.13.1.
const (
	genericRead  right.Set = 0x120089
	genericWrite right.Set = 0x120116
	makesFile    right.Set = 0x12019f
	makesFolder  right.Set = 0x100081
)

// leaving is asked of what goes from a folder, naming of what gets a name there.
var (
	leaving = Need{On: OnKernel, Rights: right.Delete}
	naming  = Need{On: OnNames, Rights: right.ReadData}
	// owning: a server that keeps no descriptors has the kernel change modes and lists.
	owning = Need{On: OnKernel, Rights: right.WriteACL, NotKept: true}
)

// builtinAdministrators may own what any of them does ([MS-DTYP] §2.4.4.1, SE_GROUP_OWNER).
var builtinAdministrators = account.MustID("S-1-5-32-544")

// Acts is the acts there are and what each needs, as it was measured by doing
// them: docs/decisions.md.
var Acts = [...]Act{
	{"list", "see the names in a folder", Folder, NoTarget, []Need{{On: OnItem, Rights: right.ReadData}}},
	{"read", "read a file's contents", File, NoTarget, []Need{{On: OnItem, Rights: right.ReadData}}},
	{"write", "change a file's contents", File, NoTarget, []Need{{On: OnItem, Rights: right.WriteData}}},
	{"append", "add to the end of a file", File, NoTarget, []Need{{On: OnItem, Rights: right.AppendData}}},
	{"save", "open a file to write, as programs do", File, NoTarget, []Need{{On: OnItem, Rights: right.WriteData | right.AppendData}}},
	{"open-read", "open with everything generic read asks for", Either, NoTarget, []Need{{On: OnItem, Rights: genericRead}}},
	{"open-write", "open with everything generic write asks for", Either, NoTarget, []Need{{On: OnItem, Rights: genericWrite}}},
	{"open-sync", "open to read and wait on", Either, NoTarget, []Need{{On: OnItem, Rights: right.ReadData | right.Synchronize}}},
	{"overwrite", "open a file and empty it", File, NoTarget, []Need{{On: OnItem, Rights: right.WriteData}, {On: OnShare, Rights: right.ReadAttributes}}},
	{"supersede", "put a new file in the place of one", File, NoTarget, []Need{{On: OnItem, Rights: right.WriteData}, {On: OnShare, Rights: right.ReadAttributes}}},
	{"create", "make a file", NewFile, NoTarget, []Need{{On: OnFolder, Adding: true}, {On: OnConnection}, {On: OnShare, Rights: makesFile}}},
	{"make-folder", "make a folder", NewFolder, NoTarget, []Need{{On: OnFolder, Adding: true}, {On: OnConnection}, {On: OnShare, Rights: makesFolder}}},
	{"rename", "give it another name", Either, NewName, []Need{{On: OnItem, Rights: right.Delete}, {On: OnFolder, Adding: true, PastShare: true}, {On: OnConnection}, leaving, naming}},
	{"rename-by-attributes", "give it another name through a handle opened for its attributes", Either, NewName,
		[]Need{{On: OnItem, Rights: right.WriteAttributes}, {On: OnItem, Rights: right.Delete, Specified: true}, {On: OnFolder, Adding: true, PastShare: true}, {On: OnConnection}, leaving, naming}},
	{"move", "put it into another folder", Either, NewPlace, []Need{{On: OnItem, Rights: right.Delete}, {On: OnTarget, Adding: true, PastShare: true}, {On: OnConnection},
		{On: OnItem, Rights: right.WriteNamedAttrs, Posix: true, Folders: true}, leaving, naming}}, // its .. is written anew
	{"replace", "put a file in the place of another", File, ThereIs, []Need{{On: OnItem, Rights: right.Delete}, {On: OnTarget, Adding: true, PastShare: true}, {On: OnConnection},
		{On: OnThere, Rights: right.Delete, Posix: true}, {On: OnThere, Rights: right.Delete, Specified: true}, leaving, naming}}, // it goes, and its folder may be sticky
	{"delete", "delete it; a folder must be empty", Either, NoTarget, []Need{{On: OnItem, Rights: right.Delete}, {On: OnConnection}, {On: OnMark}, {On: OnKernel, Rights: right.Delete, NotKept: true}}},
	{"set-attributes", "change its times and flags", Either, NoTarget, []Need{{On: OnItem, Rights: right.WriteAttributes}}},
	{"read-rules", "read its rules", Either, NoTarget, []Need{{On: OnItem, Rights: right.ReadACL}}},
	{"change-rules", "change its rules", Either, NoTarget, []Need{{On: OnItem, Rights: right.WriteACL}, {On: OnConnection}, owning}},
	{"take-owner", "become its owner", Either, NoTarget, []Need{{On: OnItem, Rights: right.WriteOwner}, {On: OnConnection}, owning}},
	{"give-owner", "make somebody its owner", Either, NewOwner, []Need{{On: OnOwner}, {On: OnItem, Rights: right.WriteOwner, Staying: true}, {On: OnConnection}, owning}},
}

// ActNamed finds an act by its name.
func ActNamed(name string) (*Act, bool) {
	for i := range Acts {
		if Acts[i].Name == name {
			return &Acts[i], true
		}
	}
	return nil, false
}

// Trial is one act of one user by one route. Token, traits, share and
// administrator are the same in every question.
type Trial struct {
	Item *Question // nil where the act makes it
	// Folder and Target are asked as a server is when something is added to
	// them: Item read with Traits.AddReading, and the folder itself the first
	// of those above.
	Folder, Target *Question
	There          *Question // what is replaced
	// Kernel is Item as the kernel alone sees it, where an SMB server over a POSIX
	// tree decides before it; nil: it isn't asked besides. Names is the folder it
	// goes to, so.
	Kernel, Names *Question
	Posix         bool // it is a POSIX tree
	IsFolder      bool // what is acted on, or made, is a folder
	To            account.ID
}

// Check is one need of an act, looked at.
type Check struct {
	Need
	Missing right.Set // of Rights
	OK      bool
}

// Tried is what came of a trial: every need of the act in the table's order.
type Tried struct {
	Allowed bool
	Checks  [mostChecks]Check
	N       int // how many checks there are
}

// Try decides an act. It allocates nothing.
func Try(a *Act, t *Trial) (out Tried) {
	out.Allowed = true
	base := t.Item
	if base == nil {
		base = t.Folder
	}
	for _, n := range a.Needs {
		if n.Posix && !t.Posix || n.Specified && !base.Traits.AsSpecified || n.Folders && !t.IsFolder || (n.On == OnKernel || n.On == OnNames) && t.Kernel == nil || n.NotKept && t.Item.Traits.KeepsDescriptors() || n.On == OnMark && !t.Item.Item.Kept || n.Staying && t.Item.stays(t.To) {
			continue
		}
		c := Check{Need: n}
		switch n.On {
		case OnItem:
			c.Missing = n.Rights &^ Granted(t.Item)
		case OnKernel:
			c.Missing = n.Rights &^ Granted(t.Kernel)
		case OnNames:
			c.Missing = n.Rights &^ Granted(t.Names)
		case OnThere:
			c.Missing = n.Rights &^ Granted(t.There)
		case OnFolder, OnTarget:
			q := t.Folder
			if n.On == OnTarget {
				q = t.Target
			}
			c.Rights = AddRight(t.IsFolder)
			if n.PastShare {
				past := n.past(q)
				c.Missing = c.Rights &^ Granted(&past)
			} else {
				c.Missing = c.Rights &^ Granted(q)
			}
		case OnShare:
			_, share := base.Connect()
			c.Missing = n.Rights &^ share
		case OnConnection:
			d, _ := base.Connect()
			c.OK = !d.Refused && !d.ReadOnly
		case OnMark:
			c.OK = false // it is marked
		case OnOwner:
			c.OK = base.Passes() || base.Item.Owner == t.To || base.Token.User() == t.To || base.GivesTo(t.To)
		}
		if n.On != OnConnection && n.On != OnOwner && n.On != OnMark {
			c.OK = c.Missing == 0
		}
		out.Allowed = out.Allowed && c.OK
		out.Checks[out.N] = c
		out.N++
	}
	return out
}

// stays tells whether an item would be given to whom it belongs, by themselves, at a POSIX
// system itself.
func (q *Question) stays(to account.ID) bool {
	return q.Traits.RootPasses && q.Share == nil && q.Item.Owner == to && q.Token.Has(to)
}

// GivesTo tells whether the user may make somebody else an owner, on a server that does as
// the standards say: by the privilege to restore, or a group of theirs that may own.
func (q *Question) GivesTo(to account.ID) bool {
	return q.Traits.AsSpecified && (q.Traits.restores(q.Token) || to == builtinAdministrators && q.Token.Has(to))
}

// Past gives the question a need asks: without the share, where that isn't asked.
func (n *Need) Past(q *Question) *Question {
	if !n.PastShare {
		return q
	}
	past := n.past(q)
	return &past
}

func (n *Need) past(q *Question) Question {
	past := *q
	past.Administrator = q.Passes()
	past.Share = nil
	return past
}

// AddRight is the right that adding a file or a folder needs.
func AddRight(folder bool) right.Set {
	if folder {
		return right.AppendData
	}
	return right.WriteData
}
