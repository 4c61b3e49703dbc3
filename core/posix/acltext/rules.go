package acltext

import (
	"encoding/binary"
	"errors"
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/rule/secdesc"
)

// The form in which the rules of an item are kept as bytes, little-endian: a
// version (1), flags (1: a folder, 2: it has a default list, 4: a descriptor is
// kept beside, 8: it has marks), the special mode bits (2 bytes), uid and gid (4 bytes each), the
// length of the access list (4 bytes), where a descriptor is kept its length (4
// bytes), where it has marks these (1 byte), and the lists, each as Encode has it, and the descriptor in
// self-relative form ([MS-DTYP] §2.4.6).
const (
	rulesVersion = 1
	isFolder     = 1
	hasDefault   = 2
	hasKept      = 4
	hasMarks     = 8
	rulesHead    = 16
)

// EncodeRules gives the rules of an item as bytes, always the same for the same.
func EncodeRules(r *posix.Rules) ([]byte, error) {
	owner, user, ok := r.Owner.POSIX()
	group, also, too := r.Group.POSIX()
	if !ok || !user || !too || also {
		return nil, errors.New("on a POSIX tree owners are uids and groups are gids")
	}
	access, err := Encode(r.Access, NumberOf)
	if err != nil {
		return nil, err
	}
	b := []byte{rulesVersion, 0}
	if r.Folder {
		b[1] |= isFolder
	}
	b = binary.LittleEndian.AppendUint16(b, r.Special)
	b = binary.LittleEndian.AppendUint32(b, owner)
	b = binary.LittleEndian.AppendUint32(b, group)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(access)))
	var kept []byte
	if r.Kept != nil {
		if kept, err = secdesc.Encode(r.Kept); err != nil {
			return nil, err
		}
		b[1] |= hasKept
		b = binary.LittleEndian.AppendUint32(b, uint32(len(kept)))
	}
	if r.Marks != 0 {
		b[1] |= hasMarks
		b = append(b, byte(r.Marks))
	}
	b = append(b, access...)
	if r.Default != nil {
		dflt, err := Encode(r.Default, NumberOf)
		if err != nil {
			return nil, err
		}
		b[1] |= hasDefault
		b = append(b, dflt...)
	}
	return append(b, kept...), nil
}

// DecodeRules reads what EncodeRules gave.
func DecodeRules(b []byte) (*posix.Rules, error) {
	if len(b) < rulesHead || b[0] != rulesVersion || b[1]&^(isFolder|hasDefault|hasKept|hasMarks) != 0 {
		return nil, errors.New("these are not rules of a POSIX item")
	}
	r := &posix.Rules{Folder: b[1]&isFolder != 0, Special: binary.LittleEndian.Uint16(b[2:]),
		Owner: account.UID(binary.LittleEndian.Uint32(b[4:])), Group: account.GID(binary.LittleEndian.Uint32(b[8:]))}
	n, head, end := binary.LittleEndian.Uint32(b[12:]), rulesHead, len(b)
	if b[1]&hasKept != 0 {
		if head += 4; len(b) < head {
			return nil, errors.New("it ends before the length of the descriptor kept beside")
		}
		size := binary.LittleEndian.Uint32(b[rulesHead:])
		if uint64(size) > uint64(len(b)-head) {
			return nil, fmt.Errorf("the descriptor kept beside has %d bytes, %d are left", size, len(b)-head)
		}
		end -= int(size)
		var err error
		if r.Kept, err = secdesc.Decode(b[end:]); err != nil {
			return nil, err
		}
	}
	if b[1]&hasMarks != 0 {
		if head++; end < head {
			return nil, errors.New("it ends before its marks")
		}
		if r.Marks = posix.Marks(b[head-1]); r.Marks == 0 || !r.Marks.Known() {
			return nil, fmt.Errorf("marks %x", b[head-1])
		}
	}
	if uint64(n) > uint64(end-head) {
		return nil, fmt.Errorf("the access list has %d bytes, %d are left", n, end-head)
	}
	if r.Special&^(posix.SetUID|posix.SetGID|posix.Sticky) != 0 {
		return nil, fmt.Errorf("special bits %o", r.Special)
	}
	var err error
	if r.Access, err = Decode(b[head : head+int(n)]); err != nil {
		return nil, err
	}
	rest := b[head+int(n) : end]
	switch {
	case b[1]&hasDefault == 0 && len(rest) > 0:
		return nil, fmt.Errorf("%d bytes too many", len(rest))
	case b[1]&hasDefault != 0:
		if !r.Folder {
			return nil, errors.New("a file has a default list")
		}
		if r.Default, err = Decode(rest); err != nil {
			return nil, err
		}
	}
	return r, nil
}
