package estate

import (
	"crypto/sha256"
	"fmt"

	"tarnwold/core/rule"
	"tarnwold/internal/format/secdesc"
)

// kindSecurity marks a descriptor in the form of [MS-DTYP] §2.4.6.
const kindSecurity = 1

// Descriptor reads a stored descriptor. Within a transaction one number
// always gives the same pointer; it must not be changed.
func (t *Tx) Descriptor(id int64) *rule.Descriptor {
	if d, ok := t.descriptors[id]; ok {
		return d
	}
	var kind int
	var body []byte
	if !t.one("SELECT kind, body FROM descriptors WHERE id=?", []any{id}, &kind, &body) {
		t.fail(fmt.Errorf("descriptor %d is missing from the estate", id))
		return &rule.Descriptor{Rules: rule.Rules{}, Audit: rule.Rules{Absent: true}}
	}
	if kind != kindSecurity {
		t.fail(fmt.Errorf("descriptor %d is of a kind (%d) this program can't read", id, kind))
	}
	d, err := secdesc.Decode(body)
	if err != nil {
		t.fail(fmt.Errorf("descriptor %d: %w", id, err))
		d = &rule.Descriptor{Audit: rule.Rules{Absent: true}}
	}
	if t.descriptors == nil {
		t.descriptors = map[int64]*rule.Descriptor{}
	}
	t.descriptors[id] = d
	return d
}

// keep stores a descriptor, once however often it is kept, and gives its number.
func (t *Tx) keep(d *rule.Descriptor) int64 {
	body, err := secdesc.Encode(d)
	if err != nil {
		t.fail(refuse("set entries for groups instead", "%v", err))
		return 0
	}
	return t.keepBytes(body)
}

func (t *Tx) keepBytes(body []byte) int64 {
	hash := sha256.Sum256(append([]byte{kindSecurity}, body...))
	if id, ok := t.stored[hash]; ok {
		return id
	}
	id := t.int("SELECT id FROM descriptors WHERE hash=?", hash[:])
	if id == 0 {
		id = t.exec("INSERT INTO descriptors(kind, hash, body) VALUES(?,?,?)", kindSecurity, hash[:], body)
	}
	if t.stored == nil {
		t.stored = map[[32]byte]int64{}
	}
	t.stored[hash] = id
	return id
}
