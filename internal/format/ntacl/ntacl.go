// Package ntacl reads the descriptor that an SMB server over a POSIX tree keeps
// in the attribute security.NTACL beside an item's mode and lists. The server
// decides by it as long as these are as they were when it was written, which a
// sum in it tells; else it makes one of the list, as if none were kept.
//
// The layout is NDR ([MS-RPCE] §2.2.5.3), little-endian, without its outer
// headers, as a live server writes it: version 4, a sum over the owner, mode and
// lists, and a descriptor in self-relative form ([MS-DTYP] §2.4.6).
package ntacl

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
)

// Attribute is the extended attribute that is read.
const Attribute = "security.NTACL"

// Where things stand in it: 2 bytes version, 2 the same again, 4 and 4 that say
// what follows is there, 2 kind of sum, 64 a sum of the descriptor, a text that
// ends with 0, 8 when, 64 a sum of the lists, the descriptor.
const (
	version   = 4
	sumsSHA   = 1
	kindAt    = 12
	textAt    = kindAt + 2 + sumRoom
	sumRoom   = 64
	timeBytes = 8
	longest   = 1 << 16
)

// ErrOther is an attribute written while the item's lists were others: the
// server passes over the descriptor.
var ErrOther = errors.New("the descriptor kept beside it was written for other lists; the server passes over it")

// Read gives the descriptor that counts for an item with these rules.
func Read(attr []byte, r *posix.Rules) (*rule.Descriptor, error) {
	le := binary.LittleEndian
	if len(attr) < textAt || len(attr) > longest {
		return nil, fmt.Errorf("%s of %d bytes", Attribute, len(attr))
	}
	if v := le.Uint16(attr); v != version || le.Uint16(attr[2:]) != v || le.Uint32(attr[4:]) == 0 || le.Uint32(attr[8:]) == 0 {
		return nil, fmt.Errorf("%s of version %d, where %d is known", Attribute, v, version)
	}
	if kind := le.Uint16(attr[kindAt:]); kind != sumsSHA {
		return nil, fmt.Errorf("%s with sums of kind %d, where %d is known", Attribute, kind, sumsSHA)
	}
	n := bytes.IndexByte(attr[textAt:], 0)
	if n < 0 {
		return nil, fmt.Errorf("%s whose text has no end", Attribute)
	}
	at := (textAt + n + 1 + 3) &^ 3
	if at += timeBytes; at+sumRoom > len(attr) {
		return nil, fmt.Errorf("%s that ends after %d bytes", Attribute, len(attr))
	}
	sum := Sum(r)
	if !bytes.Equal(sum[:], attr[at:at+len(sum)]) {
		return nil, ErrOther
	}
	at += sumRoom
	body := bytes.Clone(attr[at:])
	for i := 4; i < 20 && i+4 <= len(body); i += 4 { // where its parts stand, from the attribute's beginning
		if from := le.Uint32(body[i:]); from > uint32(at) {
			le.PutUint32(body[i:], from-uint32(at))
		} else if from != 0 {
			return nil, fmt.Errorf("%s whose descriptor begins before itself", Attribute)
		}
	}
	return secdesc.Decode(body)
}

// tags are how entries are numbered in what is summed.
var tags = map[posix.Tag]uint16{posix.User: 1, posix.UserObj: 2, posix.Group: 3, posix.GroupObj: 4, posix.Other: 5, posix.Mask: 6}

// Sum gives the sum over an item's owner, mode and lists that stands in the
// attribute.
func Sum(r *posix.Rules) [sha256.Size]byte {
	var b []byte
	le := binary.LittleEndian
	align := func(n int) {
		for len(b)%n != 0 {
			b = append(b, 0)
		}
	}
	owner, _, _ := r.Owner.POSIX()
	group, _, _ := r.Group.POSIX()
	mode := uint32(r.Mode()) | 0o100000
	b = le.AppendUint32(b, 0x20000)
	if r.Folder {
		mode = uint32(r.Mode()) | 0o040000
		b = le.AppendUint32(b, 0x20004)
	} else {
		b = le.AppendUint32(b, 0)
	}
	b = le.AppendUint64(b, uint64(owner))
	b = le.AppendUint64(b, uint64(group))
	b = le.AppendUint32(b, mode)
	list := func(l posix.List) {
		n := uint32(len(l))
		b = le.AppendUint32(b, n)
		align(8)
		b = le.AppendUint32(b, n)
		b = le.AppendUint32(b, 0)
		for _, e := range l {
			align(8)
			b = le.AppendUint16(b, tags[e.Tag])
			b = le.AppendUint16(b, tags[e.Tag])
			if e.Tag == posix.User || e.Tag == posix.Group {
				id, _, _ := e.Who.POSIX()
				align(8)
				b = le.AppendUint64(b, uint64(id))
			}
			b = le.AppendUint32(b, uint32(e.Perm))
		}
		align(8)
	}
	list(r.Access)
	if r.Folder {
		list(r.Default)
	}
	return sha256.Sum256(b)
}
