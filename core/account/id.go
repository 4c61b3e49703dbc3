package account

import (
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
	"unique"
)

// ID is an identifier: a SID ([MS-DTYP] §2.4.2). A uid or gid is held as the
// SID that SMB servers on POSIX systems give it: S-1-22-1-uid, S-1-22-2-gid.
//
// IDs compare with == and serve as map keys. The zero value is not an identifier.
type ID struct {
	// sid is kept behind a handle: a decision compares IDs dozens of times,
	// and a handle compares as one word.
	h unique.Handle[sid]
	// mark is drawn from the sid, so that a token can tell most identifiers
	// it doesn't have without looking them up.
	mark uint32
}

type sid struct {
	auth uint64 // 48 bits
	n    uint8
	sub  [15]uint32
}

func makeID(s sid) ID {
	m := uint32(s.auth) + uint32(s.n)
	for _, v := range s.sub[:s.n] {
		m = (m ^ v) * 0x9e3779b1
		m ^= m >> 15
	}
	return ID{unique.Make(s), m}
}

// MaxSubs is the most sub-authorities a SID may have, [MS-DTYP] §2.4.2.2.
const MaxSubs = 15

// NewID makes an identifier from its authority and sub-authorities.
// It panics on more than MaxSubs of them.
func NewID(auth uint64, subs ...uint32) ID {
	s := sid{auth: auth & (1<<48 - 1), n: uint8(len(subs))}
	if len(subs) > MaxSubs {
		panic("account: too many sub-authorities")
	}
	copy(s.sub[:], subs)
	return makeID(s)
}

// UID gives the identifier of a POSIX user id, GID that of a POSIX group id.
func UID(n uint32) ID { return NewID(22, 1, n) }

// GID gives the identifier of a POSIX group id.
func GID(n uint32) ID { return NewID(22, 2, n) }

// IsZero tells whether id is not an identifier.
func (id ID) IsZero() bool { return id == ID{} }

// POSIX tells whether id stands for a POSIX id; user is true for a uid.
func (id ID) POSIX() (n uint32, user, ok bool) {
	if id.IsZero() {
		return 0, false, false
	}
	s := id.h.Value()
	if s.auth != 22 || s.n != 2 || s.sub[0] != 1 && s.sub[0] != 2 {
		return 0, false, false
	}
	return s.sub[1], s.sub[0] == 1, true
}

// Domain gives the identifier without its last part and that part, for an
// identifier that a domain or machine handed out (S-1-5-21-…).
func (id ID) Domain() (domain ID, rid uint32, ok bool) {
	if id.IsZero() {
		return ID{}, 0, false
	}
	s := id.h.Value()
	if s.auth != 5 || s.n != 5 || s.sub[0] != 21 {
		return ID{}, 0, false
	}
	rid = s.sub[4]
	s.n, s.sub[4] = 4, 0
	return makeID(s), rid, true
}

// Last gives the one part of an identifier that an authority gave with nothing between,
// S-1-16-8192; ok is false for others.
func (id ID) Last(authority uint64) (part uint32, ok bool) {
	if id.IsZero() {
		return 0, false
	}
	s := id.h.Value()
	return s.sub[0], s.auth == authority && s.n == 1
}

// SameDomain tells whether two identifiers are of one domain.
func (id ID) SameDomain(o ID) bool {
	if id.IsZero() || o.IsZero() {
		return false
	}
	a, b := id.h.Value(), o.h.Value()
	return a.auth == 5 && a.n == 5 && a.sub[0] == 21 && b.auth == 5 && b.n == 5 && [4]uint32(a.sub[:4]) == [4]uint32(b.sub[:4])
}

// Child gives the identifier with one more part; that of no identifier is none.
func (id ID) Child(rid uint32) ID {
	if id.IsZero() {
		return ID{}
	}
	s := id.h.Value()
	if s.n == MaxSubs {
		panic("account: too many sub-authorities")
	}
	s.sub[s.n] = rid
	s.n++
	return makeID(s)
}

// String gives the form S-1-…, [MS-DTYP] §2.4.2.1; "" for the zero ID.
func (id ID) String() string {
	if id.IsZero() {
		return ""
	}
	return string(id.AppendText(nil))
}

// AppendText appends the form S-1-….
func (id ID) AppendText(b []byte) []byte {
	if id.IsZero() {
		return b
	}
	s := id.h.Value()
	b = append(b, "S-1-"...)
	if s.auth >= 1<<32 {
		b = fmt.Appendf(b, "0x%x", s.auth)
	} else {
		b = strconv.AppendUint(b, s.auth, 10)
	}
	for _, v := range s.sub[:s.n] {
		b = append(b, '-')
		b = strconv.AppendUint(b, uint64(v), 10)
	}
	return b
}

// ParseID reads S-1-…, uid:N or gid:N.
func ParseID(text string) (ID, error) {
	if n, ok := strings.CutPrefix(text, "uid:"); ok {
		if v, err := strconv.ParseUint(n, 10, 32); err == nil {
			return UID(uint32(v)), nil
		}
		return ID{}, fmt.Errorf("%q is not uid:NUMBER", text)
	}
	if n, ok := strings.CutPrefix(text, "gid:"); ok {
		if v, err := strconv.ParseUint(n, 10, 32); err == nil {
			return GID(uint32(v)), nil
		}
		return ID{}, fmt.Errorf("%q is not gid:NUMBER", text)
	}
	parts := strings.Split(text, "-")
	if len(parts) < 3 || parts[0] != "S" && parts[0] != "s" || parts[1] != "1" {
		return ID{}, fmt.Errorf("%q is not an identifier of the form S-1-…", text)
	}
	if len(parts)-3 > MaxSubs {
		return ID{}, fmt.Errorf("%q has more than %d parts", text, MaxSubs)
	}
	auth, base := parts[2], 10
	if hex, ok := strings.CutPrefix(strings.ToLower(auth), "0x"); ok {
		auth, base = hex, 16
	}
	a, err := strconv.ParseUint(auth, base, 48)
	if err != nil {
		return ID{}, fmt.Errorf("%q: %q is not an authority of 48 bits", text, parts[2])
	}
	s := sid{auth: a, n: uint8(len(parts) - 3)}
	for i, p := range parts[3:] {
		v, err := strconv.ParseUint(p, 10, 32)
		if err != nil {
			return ID{}, fmt.Errorf("%q: %q is not a part of 32 bits", text, p)
		}
		s.sub[i] = uint32(v)
	}
	return makeID(s), nil
}

// MustID is ParseID for text known to be right; it panics on an error.
func MustID(text string) ID {
	id, err := ParseID(text)
	if err != nil {
		panic(err)
	}
	return id
}

// Size is the length in bytes of the binary form, [MS-DTYP] §2.4.2.2; 0 for the
// zero ID, which has none.
func (id ID) Size() int {
	if id.IsZero() {
		return 0
	}
	return 8 + 4*int(id.h.Value().n)
}

// AppendBinary appends the binary form, [MS-DTYP] §2.4.2.2; nothing for the zero ID.
func (id ID) AppendBinary(b []byte) []byte {
	if id.IsZero() {
		return b
	}
	s := id.h.Value()
	b = append(b, 1, s.n, byte(s.auth>>40), byte(s.auth>>32), byte(s.auth>>24), byte(s.auth>>16), byte(s.auth>>8), byte(s.auth))
	for _, v := range s.sub[:s.n] {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return b
}

// FromBinary reads the binary form from the front of b and gives the number
// of bytes it took.
func FromBinary(b []byte) (ID, int, error) {
	if len(b) < 8 {
		return ID{}, 0, fmt.Errorf("an identifier needs 8 bytes or more, %d are left", len(b))
	}
	if b[0] != 1 {
		return ID{}, 0, fmt.Errorf("identifier revision %d, wanted 1", b[0])
	}
	n := int(b[1])
	if n > MaxSubs {
		return ID{}, 0, fmt.Errorf("identifier with %d parts, at most %d are allowed", n, MaxSubs)
	}
	if len(b) < 8+4*n {
		return ID{}, 0, fmt.Errorf("identifier with %d parts needs %d bytes, %d are left", n, 8+4*n, len(b))
	}
	s := sid{n: uint8(n)}
	for _, c := range b[2:8] {
		s.auth = s.auth<<8 | uint64(c)
	}
	for i := range n {
		s.sub[i] = binary.LittleEndian.Uint32(b[8+4*i:])
	}
	return makeID(s), 8 + 4*n, nil
}

// Compare orders identifiers by authority, then part by part.
func Compare(a, b ID) int {
	if a == b {
		return 0
	}
	if a.IsZero() {
		return -1
	}
	if b.IsZero() {
		return 1
	}
	x, y := a.h.Value(), b.h.Value()
	if x.auth != y.auth {
		if x.auth < y.auth {
			return -1
		}
		return 1
	}
	for i := range min(x.n, y.n) {
		if x.sub[i] != y.sub[i] {
			if x.sub[i] < y.sub[i] {
				return -1
			}
			return 1
		}
	}
	return int(x.n) - int(y.n)
}
