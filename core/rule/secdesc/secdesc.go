// Package secdesc reads and writes the binary self-relative form of a
// security descriptor, [MS-DTYP] §2.4.6, with its lists (§2.4.5) and entries
// (§2.4.4).
//
// Encode writes one layout for one descriptor: header, owner, group, audit
// list, rules; so equal descriptors have equal bytes.
package secdesc

import (
	"encoding/binary"
	"fmt"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Error is something wrong in the bytes.
type Error struct {
	Offset int // in bytes from the start of the descriptor
	What   string
}

func (e *Error) Error() string { return fmt.Sprintf("byte %d: %s", e.Offset, e.What) }

const (
	headerSize = 20
	listHeader = 8
	// MaxSize is the most bytes of a list, whose size field has 16 bits.
	maxList = 1<<16 - 1
)

// Encode writes a descriptor. The error says which list is too long for the form.
func Encode(d *rule.Descriptor) ([]byte, error) {
	control := d.Control | rule.SelfRelative
	b := make([]byte, headerSize, 256)
	b[0] = 1
	if control&rule.ManagerValid != 0 {
		b[1] = d.Manager
	}
	place := func(at int) { binary.LittleEndian.PutUint32(b[at:], uint32(len(b))) }
	if !d.Owner.IsZero() {
		place(4)
		b = d.Owner.AppendBinary(b)
	}
	if !d.Group.IsZero() {
		place(8)
		b = d.Group.AppendBinary(b)
	}
	for _, l := range []struct {
		rules   *rule.Rules
		present rule.Control
		at      int
		name    string
	}{{&d.Audit, rule.AuditPresent, 12, "audit list"}, {&d.Rules, rule.RulesPresent, 16, "rules"}} {
		if l.rules.Absent {
			continue
		}
		control |= l.present
		place(l.at)
		start := len(b)
		b = appendList(b, l.rules)
		if n := len(b) - start; n > maxList {
			return nil, fmt.Errorf("the %s of %d entries take %d bytes, and a list holds at most %d", l.name, len(l.rules.Entries), n, maxList)
		}
		binary.LittleEndian.PutUint16(b[start+2:], uint16(len(b)-start))
	}
	binary.LittleEndian.PutUint16(b[2:], uint16(control))
	return b, nil
}

func appendList(b []byte, rules *rule.Rules) []byte {
	entries := rules.Entries
	revision := byte(2)
	if rules.Four {
		revision = 4
	}
	start := len(b)
	b = append(b, make([]byte, listHeader)...)
	binary.LittleEndian.PutUint16(b[start+4:], uint16(len(entries)))
	for _, e := range entries {
		if e.Kind.HasObject() {
			revision = 4 // [MS-DTYP] §2.4.5
		}
		at := len(b)
		b = append(b, byte(e.Kind), byte(e.Flags), 0, 0)
		b = binary.LittleEndian.AppendUint32(b, uint32(e.Rights))
		b = append(b, e.Extra.Object...)
		b = e.Who.AppendBinary(b)
		b = append(b, e.Extra.Tail...)
		for len(b)%4 != 0 { // relative to the start: everything before is a multiple of 4
			b = append(b, 0)
		}
		binary.LittleEndian.PutUint16(b[at+2:], uint16(len(b)-at))
	}
	b[start] = revision
	return b
}

// Decode reads a descriptor. Bytes that no field points to are passed over.
func Decode(b []byte) (*rule.Descriptor, error) {
	if len(b) < headerSize {
		return nil, &Error{len(b), fmt.Sprintf("a descriptor needs %d bytes or more", headerSize)}
	}
	if b[0] != 1 {
		return nil, &Error{0, fmt.Sprintf("descriptor revision %d, wanted 1", b[0])}
	}
	d := &rule.Descriptor{Control: rule.Control(binary.LittleEndian.Uint16(b[2:]))}
	if d.Control&rule.SelfRelative == 0 {
		return nil, &Error{2, "the descriptor isn't in self-relative form"}
	}
	d.Control &^= rule.SelfRelative
	if d.Control&rule.ManagerValid != 0 {
		d.Manager = b[1]
	}
	var err error
	if d.Owner, err = decodeID(b, 4, "owner"); err != nil {
		return nil, err
	}
	if d.Group, err = decodeID(b, 8, "group"); err != nil {
		return nil, err
	}
	if d.Audit, err = decodeList(b, 12, d.Control&rule.AuditPresent != 0, "audit list"); err != nil {
		return nil, err
	}
	d.Rules, err = decodeList(b, 16, d.Control&rule.RulesPresent != 0, "rules")
	return d, err
}

func offset(b []byte, at int, what string) (int, error) {
	o := binary.LittleEndian.Uint32(b[at:])
	if o != 0 && (o < headerSize || o >= uint32(len(b))) {
		return 0, &Error{at, fmt.Sprintf("the %s is said to be at byte %d of %d", what, o, len(b))}
	}
	return int(o), nil
}

func decodeID(b []byte, at int, what string) (account.ID, error) {
	o, err := offset(b, at, what)
	if o == 0 || err != nil {
		return account.ID{}, err
	}
	id, _, err := account.FromBinary(b[o:])
	if err != nil {
		return account.ID{}, &Error{o, fmt.Sprintf("%s: %v", what, err)}
	}
	return id, nil
}

func decodeList(b []byte, at int, present bool, what string) (rule.Rules, error) {
	o, err := offset(b, at, what)
	if err != nil {
		return rule.Rules{}, err
	}
	if !present || o == 0 {
		return rule.Rules{Absent: true}, nil
	}
	if len(b)-o < listHeader {
		return rule.Rules{}, &Error{o, fmt.Sprintf("%s: a list needs %d bytes, %d are left", what, listHeader, len(b)-o)}
	}
	if r := b[o]; r != 2 && r != 4 {
		return rule.Rules{}, &Error{o, fmt.Sprintf("%s: list revision %d, wanted 2 or 4", what, r)}
	}
	size, count := int(binary.LittleEndian.Uint16(b[o+2:])), int(binary.LittleEndian.Uint16(b[o+4:]))
	if size < listHeader || size > len(b)-o {
		return rule.Rules{}, &Error{o + 2, fmt.Sprintf("%s: a list of %d bytes where %d are left", what, size, len(b)-o)}
	}
	var rules rule.Rules
	pos, end := o+listHeader, o+size
	for i := range count {
		e, n, err := decodeEntry(b[pos:end])
		if err != nil {
			return rule.Rules{}, &Error{pos, fmt.Sprintf("%s, entry %d: %v", what, i+1, err)}
		}
		rules.Entries = append(rules.Entries, e)
		pos += n
	}
	rules.Four = b[o] == 4 && !slices.ContainsFunc(rules.Entries, func(e rule.Entry) bool { return e.Kind.HasObject() })
	return rules, nil
}

func decodeEntry(b []byte) (rule.Entry, int, error) {
	if len(b) < 8 {
		return rule.Entry{}, 0, fmt.Errorf("an entry needs 8 bytes or more, %d are left", len(b))
	}
	size := int(binary.LittleEndian.Uint16(b[2:]))
	if size < 8 || size > len(b) || size%4 != 0 {
		return rule.Entry{}, 0, fmt.Errorf("an entry of %d bytes where %d are left (a multiple of 4 is wanted)", size, len(b))
	}
	e := rule.Entry{Kind: rule.Kind(b[0]), Flags: rule.Flags(b[1]), Rights: right.Set(binary.LittleEndian.Uint32(b[4:]))}
	if !e.Kind.Known() {
		return rule.Entry{}, 0, fmt.Errorf("entry kind 0x%02x isn't one of [MS-DTYP] §2.4.4.1", b[0])
	}
	rest := b[8:size]
	if e.Kind.HasObject() {
		n := 4
		if len(rest) >= 4 {
			n += 16 * int(rest[0]&1+rest[0]>>1&1)
		}
		if len(rest) < n {
			return rule.Entry{}, 0, fmt.Errorf("an object entry's types need %d bytes, %d are left", n, len(rest))
		}
		e.Extra.Object = string(rest[:n])
		rest = rest[n:]
	}
	id, n, err := account.FromBinary(rest)
	if err != nil {
		return rule.Entry{}, 0, err
	}
	e.Who = id
	e.Extra.Tail = string(rest[n:])
	return e, size, nil
}
