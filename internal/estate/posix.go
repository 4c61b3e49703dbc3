package estate

import (
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/posix/acltext"
)

// AccountOf gives the account that has a uid or gid, where just one does, and
// else the identifier itself.
func (t *Tx) AccountOf(id account.ID) account.ID {
	if n, user, ok := id.POSIX(); ok {
		kind := account.Group
		if user {
			kind = account.User
		}
		if as := t.ByPOSIX(kind, n); len(as) == 1 {
			return as[0].ID
		}
	}
	return id
}

// PosixName names a uid or gid as lists do: by its account's name, where just
// one has it.
func (t *Tx) PosixName(id account.ID) string {
	id = id.Named()
	id = t.AccountOf(id)
	if a, ok := t.Account(id); ok {
		return a.Name
	}
	return t.Name(id)
}

func (t *Tx) posixNames() acltext.Names {
	n := acltext.Numbers
	number := n.UserName
	name := func(id account.ID) string {
		if a, ok := t.Account(t.AccountOf(id)); ok {
			return a.Name
		}
		if called, ok := t.numberName(id); ok {
			return called
		}
		return number(id) // as lists name whoever has no name
	}
	n.UserName, n.GroupName = name, name
	return n
}

// PosixText writes the mode of an item of a POSIX tree in letters, and its
// lists in the short text form where they say more.
func (t *Tx) PosixText(x *posix.Rules) string {
	s := acltext.Letters(x.Mode())
	if x.Access.Extended() {
		s += " " + acltext.Short(x.Access, false, t.posixNames())
	}
	if x.Default != nil {
		s += " " + acltext.Short(x.Default, true, t.posixNames())
	}
	return s
}

// PosixLines writes a list in the long text form, a line an entry.
func (t *Tx) PosixLines(l posix.List, dflt bool) []string {
	return acltext.Lines(l, dflt, t.posixNames())
}

// PosixEntry writes a line of PosixLines as a part of a sentence.
func PosixEntry(line string) string {
	line, left, cut := strings.Cut(line, "\t#effective:")
	if cut {
		line += ", of which the mask leaves " + left
	}
	return line
}

// Mode writes a mode in octal and in letters.
func Mode(m uint16) (octal, letters string) { return acltext.Octal(m), acltext.Letters(m) }
