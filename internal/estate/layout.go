package estate

import (
	"database/sql"
	"encoding/binary"
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/store"
)

// layout is all strands, and all descriptors as what they have in common (their form)
// and who is named in them. Where every home names its owner no two descriptors are
// alike, and yet to anybody else they all are: what is asked for somebody is asked of
// forms (see alike.go). It holds about fifty bytes a strand, and no rules.
type layout struct {
	strands []strandAt      // by number
	at      map[int64]int32 // number → place in strands
	kids    []int32         // places of strands, those below the first one after the other
	first   []int32         // by place: where in kids those below it begin; one more at the end
	forms   []form          // by descriptor
	who     []int32         // of all forms, one behind the other: places in names
	names   []account.ID
}

// strandAt is a strand; places are in layout.strands and layout.forms.
type strandAt struct {
	id     int64
	items  int64
	parent int32 // -1: none
	form   int32
	folder bool
}

// form is what a descriptor has in common with others: those with equal shapes differ
// in nothing but who is named.
type form struct {
	descriptor int64
	shape      int32
	from       int32 // where in layout.who its names begin
	count      uint16
}

// layout reads what the estate has, once in a transaction.
func (t *Tx) layout() (*layout, error) {
	if t.laid != nil {
		return t.laid, nil
	}
	l := &layout{at: map[int64]int32{}}
	forms := l.readForms(t)
	l.readStrands(t, forms)
	if err := t.Err(); err != nil {
		return nil, err
	}
	if t.Change() == 0 {
		t.laid = l
	}
	return l, nil
}

// readForms reads the descriptors, and gives their places by number.
func (l *layout) readForms(t *Tx) map[int64]int32 {
	places := map[int64]int32{}
	shapes, names := map[string]int32{}, map[string]int32{}
	var key []byte
	t.Each("SELECT id, kind, body FROM descriptors", nil, func(r *sql.Rows) error {
		var id int64
		var kind byte
		var body sql.RawBytes
		if err := r.Scan(&id, &kind, &body); err != nil {
			return err
		}
		f := form{descriptor: id, from: int32(len(l.who))}
		key = append(key[:0], kind)
		if kind == KindSecurity {
			var err error
			if key, err = secdesc.Split(body, key, func(sid []byte) { l.who = append(l.who, l.name(names, sid)) }); err != nil {
				return fmt.Errorf("%w: descriptor %d: %w", store.ErrDamaged, id, err)
			}
		} else { // taken as it is
			key = binary.LittleEndian.AppendUint64(key, uint64(id))
		}
		f.count = uint16(len(l.who) - int(f.from))
		shape, ok := shapes[string(key)]
		if !ok {
			shape = int32(len(shapes))
			shapes[string(key)] = shape
		}
		f.shape = shape
		places[id] = int32(len(l.forms))
		l.forms = append(l.forms, f)
		return nil
	})
	return places
}

// name gives the place of a name, which is new or known.
func (l *layout) name(known map[string]int32, sid []byte) int32 {
	if n, ok := known[string(sid)]; ok {
		return n
	}
	id, _, _ := account.FromBinary(sid) // Split gave it whole
	n := int32(len(l.names))
	known[string(sid)] = n
	l.names = append(l.names, id)
	return n
}

// readStrands reads the strands that have items, and who is below whom.
func (l *layout) readStrands(t *Tx, forms map[int64]int32) {
	var parents []int64
	t.Each("SELECT s.id, s.parent, s.descriptor, s.folder, w.items FROM strands s CROSS JOIN weights w ON w.strand=s.id WHERE w.items>0 ORDER BY s.id", nil, func(r *sql.Rows) error {
		var s strandAt
		var parent, descriptor int64
		if err := r.Scan(&s.id, &parent, &descriptor, &s.folder, &s.items); err != nil {
			return err
		}
		f, ok := forms[descriptor]
		if !ok {
			return fmt.Errorf("%w: descriptor %d is missing", store.ErrDamaged, descriptor)
		}
		s.form = f
		l.at[s.id] = int32(len(l.strands))
		l.strands = append(l.strands, s)
		parents = append(parents, parent)
		return nil
	})
	l.first = make([]int32, len(l.strands)+1)
	for i, p := range parents {
		at, ok := l.at[p]
		if !ok {
			at = -1
		}
		if l.strands[i].parent = at; at >= 0 {
			l.first[at+1]++
		}
	}
	for i := range l.strands {
		l.first[i+1] += l.first[i]
	}
	l.kids = make([]int32, l.first[len(l.strands)])
	next := append([]int32{}, l.first...)
	for i := range l.strands {
		if p := l.strands[i].parent; p >= 0 {
			l.kids[next[p]] = int32(i)
			next[p]++
		}
	}
}

// below gives the places of the strands right below one, by number.
func (l *layout) below(at int32) []int32 { return l.kids[l.first[at]:l.first[at+1]] }

// named gives who is named in the rules of a strand, as places in names.
func (l *layout) named(s *strandAt) []int32 {
	f := &l.forms[s.form]
	return l.who[f.from : f.from+int32(f.count)]
}
