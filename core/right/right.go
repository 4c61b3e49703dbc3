// Package right holds the rights an entry can allow or deny, sets of them, and
// levels: sets with a name an administrator uses.
//
// The names are those of RFC 8881 §6.2.1.3.1 in lower case, the bit values that
// section's, which are also those of [MS-DTYP] §2.4.3. Generic bits and any
// other bit of the 32-bit access mask are kept as they came and shown in
// hexadecimal or under their [MS-DTYP] name.
//
// Who holds a right never lives here; see the packages rule and verdict.
package right

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
)

// Set is a set of rights: the access mask of [MS-DTYP] §2.4.3. The zero value
// is the empty set.
type Set uint32

// The single rights, RFC 8881 §6.2.1.3.1.
const (
	ReadData        Set = 1 << 0 // list-directory on a folder
	WriteData       Set = 1 << 1 // add-file on a folder
	AppendData      Set = 1 << 2 // add-subdirectory on a folder
	ReadNamedAttrs  Set = 1 << 3
	WriteNamedAttrs Set = 1 << 4
	Execute         Set = 1 << 5
	DeleteChild     Set = 1 << 6
	ReadAttributes  Set = 1 << 7
	WriteAttributes Set = 1 << 8
	Delete          Set = 1 << 16
	ReadACL         Set = 1 << 17
	WriteACL        Set = 1 << 18
	WriteOwner      Set = 1 << 19
	Synchronize     Set = 1 << 20
)

// The bits of the mask that are no rights of their own, [MS-DTYP] §2.4.3.
const (
	SystemSecurity Set = 1 << 24
	MaximumAllowed Set = 1 << 25
	GenericAll     Set = 1 << 28
	GenericExecute Set = 1 << 29
	GenericWrite   Set = 1 << 30
	GenericRead    Set = 1 << 31
)

const (
	// All is every right a file or folder has.
	All = ReadData | WriteData | AppendData | ReadNamedAttrs | WriteNamedAttrs | Execute | DeleteChild |
		ReadAttributes | WriteAttributes | Delete | ReadACL | WriteACL | WriteOwner | Synchronize
	// Access is what is counted when access is compared or named: every right
	// but synchronize, which opens nothing by itself.
	Access = All &^ Synchronize
	// Generic is every generic bit.
	Generic = GenericAll | GenericExecute | GenericWrite | GenericRead
)

// Count is how many rights All holds.
const Count = 14

type named struct {
	bit          Set
	name, folder string // folder: the name on a folder, where RFC 8881 has another
	sentence     string
}

// table is in order of the bits; Each and Index depend on that.
var table = [...]named{
	{ReadData, "read-data", "list-directory", "read a file's contents; see the names in a folder"},
	{WriteData, "write-data", "add-file", "change a file's contents; put a new file into a folder"},
	{AppendData, "append-data", "add-subdirectory", "add to the end of a file; make a folder in a folder"},
	{ReadNamedAttrs, "read-named-attrs", "", "read the named attributes kept beside the contents"},
	{WriteNamedAttrs, "write-named-attrs", "", "change the named attributes kept beside the contents"},
	{Execute, "execute", "", "run a file as a program; go through a folder to what is below"},
	{DeleteChild, "delete-child", "", "delete anything directly in a folder, whatever its own rules say"},
	{ReadAttributes, "read-attributes", "", "see size, times and flags"},
	{WriteAttributes, "write-attributes", "", "change times and flags"},
	{Delete, "delete", "", "delete, rename or move the item itself"},
	{ReadACL, "read-acl", "", "see the rules and the owner"},
	{WriteACL, "write-acl", "", "change the rules"},
	{WriteOwner, "write-owner", "", "take ownership"},
	{Synchronize, "synchronize", "", "wait on an open file; opens nothing by itself"},
}

var others = [...]named{
	{bit: SystemSecurity, name: "system-security"},
	{bit: MaximumAllowed, name: "maximum-allowed"},
	{bit: GenericAll, name: "generic-all"},
	{bit: GenericExecute, name: "generic-execute"},
	{bit: GenericWrite, name: "generic-write"},
	{bit: GenericRead, name: "generic-read"},
}

// Index gives the place of a single right among the Count of All, in order of
// their bits; -1 for anything else.
func Index(one Set) int {
	for i := range table {
		if table[i].bit == one {
			return i
		}
	}
	return -1
}

// At gives the single right at a place, 0 to Count-1.
func At(i int) Set { return table[i].bit }

// Sentence says in a few words what a single right allows.
func Sentence(one Set) string {
	if i := Index(one); i >= 0 {
		return table[i].sentence
	}
	return ""
}

// Has tells whether every right of want is in s.
func (s Set) Has(want Set) bool { return s&want == want }

// Len counts the rights of All in s.
func (s Set) Len() int { return bits.OnesCount32(uint32(s & All)) }

// Map replaces the generic bits by the rights they stand for on files and
// folders ([MS-DTYP] §2.4.3, generic mapping of file objects).
func (s Set) Map() Set {
	if s&Generic == 0 {
		return s
	}
	m := s &^ Generic
	if s&GenericRead != 0 {
		m |= ReadData | ReadNamedAttrs | ReadAttributes | ReadACL | Synchronize
	}
	if s&GenericWrite != 0 {
		m |= WriteData | AppendData | WriteNamedAttrs | WriteAttributes | ReadACL | Synchronize
	}
	if s&GenericExecute != 0 {
		m |= Execute | ReadAttributes | ReadACL | Synchronize
	}
	if s&GenericAll != 0 {
		m |= All
	}
	return m
}

// Names lists the rights in s in order of their bits, by the names they have
// on a folder or on a file; bits without a name come last, as one number.
func (s Set) Names(folder bool) []string {
	var names []string
	for _, t := range table {
		if s&t.bit != 0 {
			if folder && t.folder != "" {
				names = append(names, t.folder)
			} else {
				names = append(names, t.name)
			}
		}
	}
	rest := s &^ All
	for _, t := range others {
		if rest&t.bit != 0 {
			names = append(names, t.name)
			rest &^= t.bit
		}
	}
	if rest != 0 {
		names = append(names, fmt.Sprintf("0x%x", uint32(rest)))
	}
	return names
}

// String lists the rights joined by commas, with the names they have on a
// file; "nothing" for the empty set.
func (s Set) String() string {
	if s == 0 {
		return "nothing"
	}
	return strings.Join(s.Names(false), ",")
}

// Parse reads one right's name (either of its two names), or a mask as a
// hexadecimal number.
func Parse(name string) (Set, error) {
	name = strings.ToLower(name)
	for _, t := range table {
		if name == t.name || t.folder != "" && name == t.folder {
			return t.bit, nil
		}
	}
	for _, t := range others {
		if name == t.name {
			return t.bit, nil
		}
	}
	if hex, ok := strings.CutPrefix(name, "0x"); ok {
		if n, err := strconv.ParseUint(hex, 16, 32); err == nil {
			return Set(n), nil
		}
	}
	return 0, &NameError{Name: name}
}

// AllNames lists every name Parse takes but numbers.
func AllNames() []string {
	var names []string
	for _, t := range table {
		names = append(names, t.name)
		if t.folder != "" {
			names = append(names, t.folder)
		}
	}
	for _, t := range others {
		names = append(names, t.name)
	}
	return names
}

// NameError is a word that names neither a right nor a level.
type NameError struct{ Name string }

func (e *NameError) Error() string {
	return fmt.Sprintf("%q is neither a level nor a right", e.Name)
}
