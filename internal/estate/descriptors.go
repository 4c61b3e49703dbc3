package estate

import (
	"bytes"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"

	"tarnwold/core/account"
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
	KindMarked   = 3 // a byte of marks, and a descriptor as KindSecurity
)

func sum(kind byte, body []byte) [32]byte {
	var room [512]byte // which most are shorter than
	return sha256.Sum256(append(append(room[:0], kind), body...))
}

// Encode gives rules of any kind as bytes, and which kind it is.
func Encode(a rule.Any) (kind byte, body []byte, err error) {
	switch d := a.(type) {
	case *rule.Descriptor:
		body, err = secdesc.Encode(d)
		if d.Mark != 0 {
			return KindMarked, append([]byte{byte(d.Mark)}, body...), err
		}
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
	case KindMarked:
		if len(body) == 0 || body[0] == 0 || !rule.Mark(body[0]).Known() {
			return nil, errors.New("a mark that this program doesn't know")
		}
		d, err := secdesc.Decode(body[1:])
		if err != nil {
			return nil, err
		}
		d.Mark = rule.Mark(body[0])
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
	t.Fetch([]int64{id})
	d, ok := t.descriptors[id]
	if !ok {
		t.Fail(fmt.Errorf("%w: descriptor %d is missing", store.ErrDamaged, id))
		return &rule.Descriptor{Audit: rule.Rules{Absent: true}}
	}
	return d
}

// Fetch reads descriptors that will be asked for, all at once.
func (t *Tx) Fetch(ids []int64) {
	want := t.unread(ids)
	t.EachOf("SELECT id, kind, body, hash FROM descriptors WHERE id IN {set}", want, func(r *sql.Rows) error {
		_, err := t.read(r)
		return err
	})
}

// fetchOf is Fetch for one who may know how many there are (0: doesn't): most of them are
// read as they lie in the file, all there are.
func (t *Tx) fetchOf(ids []int64, all int64) {
	if all == 0 || 2*int64(len(t.unread(ids))) < all {
		t.Fetch(ids)
		return
	}
	t.EachBare("SELECT id, kind, body, hash FROM descriptors ORDER BY id", nil, t.readBare)
}

// unread gives those of some descriptors that weren't read yet, each once.
func (t *Tx) unread(ids []int64) []int64 {
	want := make([]int64, 0, len(ids))
	for _, id := range ids {
		if _, ok := t.descriptors[id]; !ok {
			want = append(want, id)
		}
	}
	slices.Sort(want)
	return slices.Compact(want)
}

// read takes in a descriptor's row, and holds it against its hash.
func (t *Tx) read(r *sql.Rows) (id int64, err error) {
	var kind byte
	var body, hash sql.RawBytes
	if err := r.Scan(&id, &kind, &body, &hash); err != nil {
		return id, err
	}
	return id, t.readRow(id, kind, body, hash)
}

func (t *Tx) readBare(row []driver.Value) error {
	id, _ := row[0].(int64)
	kind, _ := row[1].(int64)
	body, _ := row[2].([]byte)
	hash, _ := row[3].([]byte)
	return t.readRow(id, byte(kind), body, hash)
}

func (t *Tx) readRow(id int64, kind byte, body, hash []byte) error {
	if _, ok := t.descriptors[id]; ok {
		return nil
	}
	if h := sum(kind, body); !bytes.Equal(h[:], hash) {
		return fmt.Errorf("%w: descriptor %d is not what was stored", store.ErrDamaged, id)
	}
	read, err := Decode(kind, body)
	if err != nil {
		return fmt.Errorf("%w: descriptor %d: %w", store.ErrDamaged, id, err)
	}
	t.descriptors[id] = read
	t.numbers[read] = id
	return nil
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

// keepAll stores descriptors as keep does, all at once.
func (t *Tx) keepAll(list []rule.Any) {
	type fresh struct {
		rule.Any
		kind byte
		body []byte
		hash [32]byte
	}
	var all []fresh
	var hashes []string
	for _, d := range list {
		if _, ok := t.numbers[d]; ok {
			continue
		}
		kind, body, err := Encode(d)
		if err != nil {
			return // keep says why
		}
		x := fresh{d, kind, body, sum(kind, body)}
		if id, ok := t.stored[x.hash]; ok {
			t.numbers[d] = id
			continue
		}
		all = append(all, x)
		hashes = append(hashes, hex.EncodeToString(x.hash[:]))
	}
	if len(all) < 2 {
		return // keep does it as well
	}
	t.EachOfText("SELECT id, hash FROM descriptors WHERE hash IN (SELECT unhex(value) FROM {set})", hashes, func(r *sql.Rows) error {
		var id int64
		var hash sql.RawBytes
		err := r.Scan(&id, &hash)
		if err == nil && len(hash) == 32 {
			t.stored[[32]byte(hash)] = id
		}
		return err
	})
	next := 1 + t.Int("SELECT coalesce(max(id),0) FROM descriptors")
	rows := t.Bulk("descriptors", "id", "kind", "hash", "body").Wide()
	for i := range all {
		x := &all[i]
		id, ok := t.stored[x.hash]
		if !ok {
			id = next
			next++
			rows.Add(id, x.kind, x.hash[:], x.body)
			t.stored[x.hash] = id
		}
		t.numbers[x.Any] = id
	}
	rows.Flush()
}

// Naming calls fn with every stored descriptor that names one of some identifiers, as
// owner, as group or in an entry: the one answer to who names an account, by the
// index of strands where that was written down.
func (t *Tx) Naming(ids []account.ID, fn func(id int64, d rule.Any)) {
	meant := map[account.ID]bool{}
	for _, id := range ids {
		if !id.Inner() { // rules name nobody so
			meant[id] = true
		}
	}
	names := func(d rule.Any) bool {
		x := d.Listed()
		in := func(e rule.Entry) bool { return meant[e.Who] }
		return meant[x.Owner] || meant[x.Group] || slices.ContainsFunc(x.Rules.Entries, in) || slices.ContainsFunc(x.Audit.Entries, in)
	}
	if l := t.naming(); l != nil {
		found := l.naming(meant)
		t.Fetch(found)
		for _, id := range found {
			if d := t.Descriptor(id); t.Err() == nil && names(d) {
				fn(id, d)
			}
		}
		return
	}
	t.AllDescriptors(func(id int64, d rule.Any) {
		if names(d) {
			fn(id, d)
		}
	})
}

// naming gives the layout where it needn't be read row by row; else nil.
func (t *Tx) naming() *layout {
	if t.laid != nil {
		return t.laid
	}
	if t.Change() != 0 {
		return nil
	}
	l, err := t.writtenLayout()
	if err != nil && !errors.Is(err, errLayout) {
		t.Fail(err)
	}
	t.laid = l
	return l
}

// AllDescriptors calls fn with every stored descriptor.
func (t *Tx) AllDescriptors(fn func(id int64, d rule.Any)) {
	const batch = 4096
	for last := int64(-1); t.Err() == nil; {
		var ids []int64
		t.Each("SELECT id, kind, body, hash FROM descriptors WHERE id>? ORDER BY id LIMIT ?", []any{last, batch}, func(r *sql.Rows) error {
			id, err := t.read(r)
			ids = append(ids, id)
			return err
		})
		for _, id := range ids {
			if last = id; t.Err() != nil {
				return
			}
			fn(id, t.Descriptor(id))
		}
		if len(ids) < batch {
			return
		}
	}
}
