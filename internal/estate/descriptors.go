package estate

import (
	"bytes"
	"crypto/sha256"
	"fmt"

	"tarnwold/core/rule"
	"tarnwold/internal/format/secdesc"
	"tarnwold/internal/store"
)

// kindSecurity marks a descriptor in the form of [MS-DTYP] §2.4.6.
const kindSecurity = 1

func sum(body []byte) [32]byte { return sha256.Sum256(append([]byte{kindSecurity}, body...)) }

// Descriptor reads a stored descriptor and holds it against its hash. Within a
// transaction one number always gives the same pointer; it must not be changed.
func (t *Tx) Descriptor(id int64) *rule.Descriptor {
	if d, ok := t.descriptors[id]; ok {
		return d
	}
	d := &rule.Descriptor{Audit: rule.Rules{Absent: true}}
	var kind int
	var body, hash []byte
	if !t.One("SELECT kind, body, hash FROM descriptors WHERE id=?", []any{id}, &kind, &body, &hash) {
		t.Fail(fmt.Errorf("%w: descriptor %d is missing", store.ErrDamaged, id))
		return d
	}
	if kind != kindSecurity {
		t.Fail(fmt.Errorf("%w: descriptor %d is of a kind (%d) this program can't read", store.ErrDamaged, id, kind))
	}
	if h := sum(body); !bytes.Equal(h[:], hash) {
		t.Fail(fmt.Errorf("%w: descriptor %d is not what was stored", store.ErrDamaged, id))
		return d
	}
	read, err := secdesc.Decode(body)
	if err != nil {
		t.Fail(fmt.Errorf("%w: descriptor %d: %w", store.ErrDamaged, id, err))
		return d
	}
	t.descriptors[id] = read
	t.numbers[read] = id
	return read
}

// keep stores a descriptor, once however often it is kept, and gives its number.
func (t *Tx) keep(d *rule.Descriptor) int64 {
	if id, ok := t.numbers[d]; ok {
		return id
	}
	body, err := secdesc.Encode(d)
	if err != nil {
		t.Fail(refuse("set entries for groups instead", "%v", err))
		return 0
	}
	hash := sum(body)
	id, ok := t.stored[hash]
	if !ok {
		if id = t.Int("SELECT id FROM descriptors WHERE hash=?", hash[:]); id == 0 {
			id = t.Exec("INSERT INTO descriptors(kind, hash, body) VALUES(?,?,?)", kindSecurity, hash[:], body)
		}
		t.stored[hash] = id
	}
	t.numbers[d] = id
	return id
}

// AllDescriptors calls fn with every stored descriptor.
func (t *Tx) AllDescriptors(fn func(id int64, d *rule.Descriptor)) {
	for _, id := range t.Ints("SELECT id FROM descriptors ORDER BY id") {
		d := t.Descriptor(id)
		if t.Err() != nil {
			return
		}
		fn(id, d)
	}
}
