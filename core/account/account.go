// Package account knows who can be named in an entry: identifiers, users,
// groups in groups, and the token a user presents to a server, with the chain
// of memberships that leads to each identifier in it.
//
// What an entry grants never lives here; see rule and verdict. Sources:
// [MS-DTYP] §2.4.2 (identifiers), §2.5.2 (tokens), RFC 8881 §6.2.1.5 (special
// accounts).
package account

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Kind is user or group.
type Kind uint8

const (
	User Kind = iota + 1
	Group
)

func (k Kind) String() string {
	switch k {
	case User:
		return "user"
	case Group:
		return "group"
	}
	return fmt.Sprintf("Kind(%d)", uint8(k))
}

// ParseKind reads "user" or "group".
func ParseKind(s string) (Kind, error) {
	switch s {
	case "user":
		return User, nil
	case "group":
		return Group, nil
	}
	return 0, fmt.Errorf("%q is neither user nor group", s)
}

// Purpose says what a group is for. The zero value is a group of which
// nothing was said.
type Purpose string

const (
	Unsaid Purpose = ""
	Role   Purpose = "role"   // holds the people of a job
	Access Purpose = "access" // carries entries
	Mail   Purpose = "mail"   // can't carry entries
)

// ParsePurpose reads role, access, mail or nothing.
func ParsePurpose(s string) (Purpose, error) {
	switch p := Purpose(s); p {
	case Unsaid, Role, Access, Mail:
		return p, nil
	}
	return "", fmt.Errorf("%q is not a purpose: role, access or mail", s)
}

// Account is a user or a group.
type Account struct {
	ID      ID // its SID; where it has none, that of its POSIX id
	Kind    Kind
	Name    string
	POSIX   int64   // uid or gid; NoPOSIX where it has none
	Primary ID      // of a user: the primary group; zero where unsaid
	Purpose Purpose // of a group
	Former  Former  // the identifiers it had elsewhere
	Claims  Claims  // what else is known of a user, that conditions ask for
}

// Former is the identifiers an account had in domains it came from, in text, a
// space between: what a domain keeps of them ([MS-ADA3], sIDHistory).
type Former string

// NewFormer writes identifiers down, each once, in order.
func NewFormer(ids []ID) Former {
	var words []string
	for _, id := range ids {
		words = append(words, id.String())
	}
	slices.Sort(words)
	return Former(strings.Join(slices.Compact(words), " "))
}

// IDs gives the identifiers.
func (f Former) IDs() (out []ID) {
	if f == "" {
		return nil
	}
	for _, w := range strings.Fields(string(f)) {
		if id, err := ParseID(w); err == nil {
			out = append(out, id)
		}
	}
	return out
}

// NoPOSIX is the POSIX id of an account that has none.
const NoPOSIX = -1

// MostPOSIX is the highest uid or gid: the one above it, (uid_t)-1, means none
// in every call that takes one (chown(2), setreuid(2)).
const MostPOSIX = 1<<32 - 2

// ParsePOSIX reads a uid or gid, in decimal.
func ParsePOSIX(s string) (int64, error) {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil || n > MostPOSIX {
		return NoPOSIX, fmt.Errorf("%q is not a uid or gid: one is 0 to %d", s, int64(MostPOSIX))
	}
	return int64(n), nil
}

// Book is what a token is made from: who an identifier is, and which groups
// list it as a member. All may be asked for identifiers nobody knows.
type Book interface {
	Account(ID) (Account, bool)
	GroupsOf(ID) []ID
	// Local tells whether a user's direct membership is known to be one of the
	// server's local groups, not of its POSIX groups: it counts as a layer then.
	Local(group, member ID) bool
}
