package estate

import (
	"bytes"
	"crypto/sha256"
	"fmt"

	"tarnwold/core/posix"
	"tarnwold/core/posix/acltext"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/store"
)

// Kinds of rules at rest.
const (
	KindSecurity = 1 // a descriptor in the form of [MS-DTYP] §2.4.6
	KindPOSIX    = 2 // rules in the form of acltext.EncodeRules
)

func sum(kind byte, body []byte) [32]byte { return sha256.Sum256(append([]byte{kind}, body...)) }

// Encode gives rules of any kind as bytes, and which kind it is.
func Encode(a rule.Any) (kind byte, body []byte, err error) {
	switch d := a.(type) {
	case *rule.Descriptor:
		body, err = secdesc.Encode(d)
		return KindSecurity, body, err
	case *posix.Rules:
		body, err = acltext.EncodeRules(d)
		return KindPOSIX, body, err
	}
	return 0, nil, fmt.Errorf("rules of a kind (%T) that can't be kept", a)
}

// Decode reads what Encode gave.
func Decode(kind byte, body []byte) (rule.Any, error) {
	switch kind {
	case KindSecurity:
		d, err := secdesc.Decode(body)
		if err != nil {
			return nil, err
		}
		return d, nil
	case KindPOSIX:
		r, err := acltext.DecodeRules(body)
		if err != nil {
			return nil, err
		}
		return r, nil
	}
	return nil, fmt.Errorf("rules of a kind (%d) this program can't read", kind)
}

// Descriptor reads a stored descriptor and holds it against its hash. Within a
// transaction one number always gives the same pointer; it must not be changed.
func (t *Tx) Descriptor(id int64) rule.Any {
	if d, ok := t.descriptors[id]; ok {
		return d
	}
	d := &rule.Descriptor{Audit: rule.Rules{Absent: true}}
	var kind byte
	var body, hash []byte
	if !t.One("SELECT kind, body, hash FROM descriptors WHERE id=?", []any{id}, &kind, &body, &hash) {
		t.Fail(fmt.Errorf("%w: descriptor %d is missing", store.ErrDamaged, id))
		return d
	}
	if h := sum(kind, body); !bytes.Equal(h[:], hash) {
		t.Fail(fmt.Errorf("%w: descriptor %d is not what was stored", store.ErrDamaged, id))
		return d
	}
	read, err := Decode(kind, body)
	if err != nil {
		t.Fail(fmt.Errorf("%w: descriptor %d: %w", store.ErrDamaged, id, err))
		return d
	}
	t.descriptors[id] = read
	t.numbers[read] = id
	return read
}

// keep stores a descriptor, once however often it is kept, and gives its number.
func (t *Tx) keep(d rule.Any) int64 {
	if id, ok := t.numbers[d]; ok {
		return id
	}
	kind, body, err := Encode(d)
	if err != nil {
		t.Fail(refuse("set entries for groups instead", "%v", err))
		return 0
	}
	hash := sum(kind, body)
	id, ok := t.stored[hash]
	if !ok {
		if id = t.Int("SELECT id FROM descriptors WHERE hash=?", hash[:]); id == 0 {
			id = t.Exec("INSERT INTO descriptors(kind, hash, body) VALUES(?,?,?)", kind, hash[:], body)
		}
		t.stored[hash] = id
	}
	t.numbers[d] = id
	return id
}

// AllDescriptors calls fn with every stored descriptor.
func (t *Tx) AllDescriptors(fn func(id int64, d rule.Any)) {
	for _, id := range t.Ints("SELECT id FROM descriptors ORDER BY id") {
		d := t.Descriptor(id)
		if t.Err() != nil {
			return
		}
		fn(id, d)
	}
}
