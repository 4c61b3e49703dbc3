// Package acltext reads and writes POSIX access control lists: the short and
// the long text form (POSIX.1e draft 17, §23.3), the binary form of Linux
// extended attributes (system.posix_acl_access, system.posix_acl_default), and
// modes in octal and letters.
package acltext

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/posix"
)

// Names finds accounts by the names and numbers a list names them by, and back.
type Names struct {
	User, Group         func(string) (account.ID, error)
	UserName, GroupName func(account.ID) string
}

// Numbers takes names for numbers and nothing else.
var Numbers = Names{
	User:      func(s string) (account.ID, error) { return number(s, account.UID) },
	Group:     func(s string) (account.ID, error) { return number(s, account.GID) },
	UserName:  spelt,
	GroupName: spelt,
}

func number(s string, id func(uint32) account.ID) (account.ID, error) {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil || n == undefined {
		return account.ID{}, fmt.Errorf("%q is not a number of an account", clip(s))
	}
	return id(uint32(n)), nil
}

func spelt(id account.ID) string {
	if n, _, ok := id.POSIX(); ok {
		return strconv.FormatUint(uint64(n), 10)
	}
	return id.String()
}

func clip(s string) string {
	if len(s) > 100 {
		return strings.ToValidUTF8(s[:100], "") + "…"
	}
	return s
}

// Error is text that is no list.
type Error struct {
	Entry int // from 1; 0: the list as a whole
	What  string
}

func (e *Error) Error() string {
	if e.Entry == 0 {
		return e.What
	}
	return fmt.Sprintf("entry %d: %s", e.Entry, e.What)
}

// mostEntries is how many entries a list has at most; Linux keeps fewer.
const mostEntries = 8192

// tags by their words, long and short (§23.3.1).
var tags = map[string]posix.Tag{"user": posix.User, "u": posix.User, "group": posix.Group, "g": posix.Group, "mask": posix.Mask, "m": posix.Mask, "other": posix.Other, "o": posix.Other}

// Parse reads a list in either text form: entries parted by commas or line
// ends, comments behind #. Entries that begin with default: are of the default
// list; Parse gives both, each nil where the text has none of it. A list that
// names somebody and has no mask gets the one that takes nothing (§23.4.2).
func Parse(text string, names Names) (access, dflt posix.List, err error) {
	n := 0
	for _, line := range strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == ',' }) {
		if i := strings.IndexByte(line, '#'); i >= 0 {
			line = line[:i]
		}
		line = strings.TrimSpace(line)
		if line == "" {
			continue
		}
		if n++; n > mostEntries {
			return nil, nil, &Error{0, fmt.Sprintf("more than %d entries", mostEntries)}
		}
		list := &access
		for _, d := range []string{"default:", "d:"} {
			if rest, ok := strings.CutPrefix(line, d); ok {
				line, list = rest, &dflt
				break
			}
		}
		e, err := entry(line, names)
		if err != nil {
			return nil, nil, &Error{n, err.Error()}
		}
		*list = append(*list, e)
	}
	for _, l := range []*posix.List{&access, &dflt} {
		if *l == nil {
			continue
		}
		if *l, err = whole(*l); err != nil {
			return nil, nil, err
		}
	}
	return access, dflt, nil
}

// whole puts a list's entries in order, and completes it.
func whole(l posix.List) (posix.List, error) {
	named, mask, most := false, false, posix.Perm(0)
	for _, e := range l {
		switch e.Tag {
		case posix.User, posix.Group:
			named = true
			most |= e.Perm
		case posix.GroupObj:
			most |= e.Perm
		case posix.Mask:
			mask = true
		}
	}
	if named && !mask {
		l = append(l, posix.Entry{Tag: posix.Mask, Perm: most})
	}
	slices.SortStableFunc(l, func(a, b posix.Entry) int { return int(a.Tag) - int(b.Tag) })
	if !l.Valid() {
		return nil, &Error{0, "a list has an entry for the owner, the owning group and others, each once, and names nobody twice"}
	}
	return l, nil
}

func entry(s string, names Names) (e posix.Entry, err error) {
	parts := strings.Split(s, ":")
	if len(parts) == 2 && (parts[0] == "mask" || parts[0] == "m" || parts[0] == "other" || parts[0] == "o") { // the qualifier may be left out
		parts = []string{parts[0], "", parts[1]}
	}
	if len(parts) < 3 {
		return e, fmt.Errorf("%q; wanted as user:NAME:rwx", clip(s))
	}
	word, perm := parts[0], parts[len(parts)-1]
	who := strings.Join(parts[1:len(parts)-1], ":") // names with a colon are odd, and are taken
	tag, ok := tags[strings.TrimSpace(word)]
	if !ok {
		return e, fmt.Errorf("%q is none of user, group, mask, other", clip(word))
	}
	e.Tag = tag
	if e.Perm, err = parsePerm(strings.TrimSpace(perm)); err != nil {
		return e, err
	}
	who = strings.TrimSpace(who)
	switch {
	case who == "" && tag == posix.User:
		e.Tag = posix.UserObj
	case who == "" && tag == posix.Group:
		e.Tag = posix.GroupObj
	case who == "":
	case tag == posix.User:
		e.Who, err = names.User(who)
	case tag == posix.Group:
		e.Who, err = names.Group(who)
	default:
		return e, fmt.Errorf("%q: a %s names nobody", clip(s), word)
	}
	return e, err
}

func parsePerm(s string) (p posix.Perm, err error) {
	if len(s) == 1 && s[0] >= '0' && s[0] <= '7' {
		return posix.Perm(s[0] - '0'), nil
	}
	if len(s) == 0 || len(s) > 3 {
		return 0, fmt.Errorf("%q is not a permission; wanted rwx, - where one is missing", clip(s))
	}
	for _, c := range s {
		bit := map[rune]posix.Perm{'r': posix.R, 'w': posix.W, 'x': posix.X, '-': 0}
		b, ok := bit[c]
		if !ok || b != 0 && p&b != 0 {
			return 0, fmt.Errorf("%q is not a permission; wanted rwx, - where one is missing", clip(s))
		}
		p |= b
	}
	return p, nil
}

// Short writes a list in the short form, its entries parted by commas, dflt
// for those of a default list.
func Short(l posix.List, dflt bool, names Names) string {
	return strings.Join(written(l, dflt, names), ",")
}

// Long writes a list in the long form, a line an entry; what the mask cuts is
// told behind it.
func Long(l posix.List, dflt bool, names Names) string {
	if len(l) == 0 {
		return ""
	}
	return strings.Join(Lines(l, dflt, names), "\n") + "\n"
}

// Lines gives the lines of the long form.
func Lines(l posix.List, dflt bool, names Names) []string {
	lines := written(l, dflt, names)
	mask := posix.R | posix.W | posix.X
	for _, e := range l {
		if e.Tag == posix.Mask {
			mask = e.Perm
		}
	}
	for i, e := range l {
		if (e.Tag == posix.User || e.Tag == posix.Group || e.Tag == posix.GroupObj) && e.Perm&^mask != 0 {
			lines[i] += "\t#effective:" + (e.Perm & mask).String()
		}
	}
	return lines
}

func written(l posix.List, dflt bool, names Names) []string {
	words := map[posix.Tag]string{posix.UserObj: "user", posix.User: "user", posix.GroupObj: "group", posix.Group: "group", posix.Mask: "mask", posix.Other: "other"}
	out := make([]string, len(l))
	for i, e := range l {
		who := ""
		switch e.Tag {
		case posix.User:
			who = names.UserName(e.Who)
		case posix.Group:
			who = names.GroupName(e.Who)
		}
		out[i] = words[e.Tag] + ":" + who + ":" + e.Perm.String()
		if dflt {
			out[i] = "default:" + out[i]
		}
	}
	return out
}

// The binary form (linux/posix_acl_xattr.h): a version, then an entry in eight
// bytes, all little-endian.
const (
	version   = 2
	undefined = 0xffffffff
)

// ErrVersion is an attribute of a form this program doesn't know.
var ErrVersion = errors.New("the list is of a version that can't be read")

// Decode reads a list as Linux keeps it in an extended attribute. Whom it names
// are the numbers' accounts.
func Decode(b []byte) (posix.List, error) {
	if len(b) < 4 || (len(b)-4)%8 != 0 {
		return nil, &Error{0, fmt.Sprintf("%d bytes are not a list", len(b))}
	}
	if v := binary.LittleEndian.Uint32(b); v != version {
		return nil, fmt.Errorf("%w: %d", ErrVersion, v)
	}
	n := (len(b) - 4) / 8
	if n > mostEntries {
		return nil, &Error{0, fmt.Sprintf("more than %d entries", mostEntries)}
	}
	var l posix.List
	for i := range n {
		at := b[4+8*i:]
		e := posix.Entry{Tag: posix.Tag(binary.LittleEndian.Uint16(at)), Perm: posix.Perm(binary.LittleEndian.Uint16(at[2:]))}
		if binary.LittleEndian.Uint16(at[2:]) > 7 {
			return nil, &Error{i + 1, "it permits what is neither read, write nor execute"}
		}
		id := binary.LittleEndian.Uint32(at[4:])
		switch e.Tag {
		case posix.User:
			e.Who = account.UID(id)
		case posix.Group:
			e.Who = account.GID(id)
		case posix.UserObj, posix.GroupObj, posix.Mask, posix.Other:
		default:
			return nil, &Error{i + 1, fmt.Sprintf("it is of a kind (%#x) that no list has", uint16(e.Tag))}
		}
		if (e.Tag == posix.User || e.Tag == posix.Group) && id == undefined {
			return nil, &Error{i + 1, "it names nobody"}
		}
		l = append(l, e)
	}
	if len(l) == 0 {
		return nil, nil
	}
	if !l.Valid() {
		return nil, &Error{0, "a list has an entry for the owner, the owning group and others, each once, and names nobody twice"}
	}
	return l, nil
}

// Encode writes a list as Linux keeps it. number gives the uid or gid of an
// account that is named.
func Encode(l posix.List, number func(account.ID) (uint32, bool)) ([]byte, error) {
	b := binary.LittleEndian.AppendUint32(nil, version)
	for i, e := range l {
		id := uint32(undefined)
		if e.Tag == posix.User || e.Tag == posix.Group {
			n, ok := number(e.Who)
			if !ok || n == undefined {
				return nil, &Error{i + 1, fmt.Sprintf("%s has no number there", e.Who)}
			}
			id = n
		}
		b = binary.LittleEndian.AppendUint16(b, uint16(e.Tag))
		b = binary.LittleEndian.AppendUint16(b, uint16(e.Perm))
		b = binary.LittleEndian.AppendUint32(b, id)
	}
	return b, nil
}

// NumberOf is Encode's number for identifiers that are numbers themselves.
func NumberOf(id account.ID) (uint32, bool) {
	n, _, ok := id.POSIX()
	return n, ok
}

// ParseMode reads a mode in octal (0644, 2775) or in letters (rwxr-s--t).
func ParseMode(s string) (uint16, error) {
	if n, err := strconv.ParseUint(s, 8, 16); err == nil && n <= 0o7777 && len(s) <= 5 {
		return uint16(n), nil
	}
	bad := fmt.Errorf("%q is not a mode; wanted octal as 0644, or letters as rw-r--r--", clip(s))
	if len(s) != 9 {
		return 0, bad
	}
	var m uint16
	for i := range 9 {
		c, bit := s[i], uint16(1)<<(8-i)
		extra := posix.SetUID >> (i / 3)
		sign := map[int]byte{2: 's', 5: 's', 8: 't'}[i]
		switch {
		case c == '-':
		case c == "rwxrwxrwx"[i]:
			m |= bit
		case sign != 0 && c == sign:
			m |= bit | extra
		case sign != 0 && c == sign-'a'+'A':
			m |= extra
		default:
			return 0, bad
		}
	}
	return m, nil
}

// Octal writes a mode in four digits.
func Octal(m uint16) string { return fmt.Sprintf("%04o", m) }

// Letters writes a mode in letters.
func Letters(m uint16) string {
	b := []byte("---------")
	for i := range 9 {
		if m&(1<<(8-i)) != 0 {
			b[i] = "rwxrwxrwx"[i]
		}
	}
	for i, sign := range map[int]byte{2: 's', 5: 's', 8: 't'} {
		if m&(posix.SetUID>>(i/3)) != 0 {
			if b[i] == 'x' {
				b[i] = sign
			} else {
				b[i] = sign - 'a' + 'A'
			}
		}
	}
	return string(b)
}
