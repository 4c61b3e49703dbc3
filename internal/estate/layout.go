package estate

import (
	"cmp"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/store"
)

// layout is an index of all strands, with all descriptors as what they have in common
// (their shape) and who is named in them. Where every home names its owner no two descriptors are
// alike, and yet to anybody else they all are: what is asked for somebody is asked of
// shapes (see alike.go). It holds about fifty bytes a strand, and no rules.
type layout struct {
	strands []strandAt // by number
	kids    []int32    // places of strands, those below the first one after the other
	first   []int32    // by place: where in kids those below it begin; one more at the end
	forms   []form     // by descriptor
	who     []int32    // of all forms, one behind the other: places in names
	names   [][]byte   // identifiers in binary
	shapes  []string   // what forms have in common

	// where names and shapes are, while some are added
	nameAt, shapeAt map[string]int32
}

// strandAt is a strand; places are in layout.strands and layout.forms.
type strandAt struct {
	id     int64
	items  int64
	parent int32 // -1: none
	form   int32
	folder bool
}

// form is what a descriptor says: those of one shape differ in nothing but who is named.
type form struct {
	descriptor int64
	shape      int32
	from       int32 // where in layout.who its names begin
	count      uint16
}

// layout gives what the estate has: as it was written down after a change, with what
// changed since, or read row by row. Once in a transaction.
func (t *Tx) layout() (*layout, error) {
	if t.laid != nil {
		return t.laid, nil
	}
	l, err := t.writtenLayout()
	if err == nil && l == nil || errors.Is(err, errLayout) {
		l, err = t.readLayout()
	}
	if err != nil {
		return nil, err
	}
	if t.Change() == 0 {
		t.laid = l
	}
	return l, nil
}

// readLayout reads it row by row.
func (t *Tx) readLayout() (*layout, error) {
	l := &layout{}
	t.Each("SELECT id, kind, body FROM descriptors ORDER BY id", nil, l.addForm)
	var rows []Strand
	t.Each("SELECT s.id, s.parent, s.descriptor, s.folder, w.items FROM strands s CROSS JOIN weights w ON w.strand=s.id WHERE w.items>0 ORDER BY s.id", nil, func(r *sql.Rows) error {
		var s Strand
		err := r.Scan(&s.ID, &s.Parent, &s.Descriptor, &s.Folder, &s.Items)
		rows = append(rows, s)
		return err
	})
	if err := t.Err(); err != nil {
		return nil, err
	}
	if err := l.put(rows); err != nil {
		return nil, err
	}
	return l, t.Err()
}

// addForm takes in a row of a descriptor: its number, kind and body.
func (l *layout) addForm(r *sql.Rows) error {
	if l.nameAt == nil {
		l.nameAt, l.shapeAt = make(map[string]int32, len(l.names)), make(map[string]int32, len(l.shapes))
		for i, id := range l.names {
			l.nameAt[string(id)] = int32(i)
		}
		for i, s := range l.shapes {
			l.shapeAt[s] = int32(i)
		}
	}
	var id int64
	var kind byte
	var body sql.RawBytes
	if err := r.Scan(&id, &kind, &body); err != nil {
		return err
	}
	f := form{descriptor: id, from: int32(len(l.who))}
	key := []byte{kind}
	if kind == KindMarked && len(body) > 0 {
		key = append(key, body[0])
		body = body[1:]
	}
	if kind == KindSecurity || kind == KindMarked {
		var err error
		if key, err = secdesc.Split(body, key, func(sid []byte) { l.who = append(l.who, l.name(sid)) }); err != nil {
			return fmt.Errorf("%w: descriptor %d: %w", store.ErrDamaged, id, err)
		}
	} else { // taken as it is
		key = binary.LittleEndian.AppendUint64(key, uint64(id))
	}
	f.count = uint16(len(l.who) - int(f.from))
	shape, ok := l.shapeAt[string(key)]
	if !ok {
		shape = int32(len(l.shapes))
		l.shapeAt[string(key)] = shape
		l.shapes = append(l.shapes, string(key))
	}
	f.shape = shape
	l.forms = append(l.forms, f)
	return nil
}

// name gives the place of a name, which is new or known.
func (l *layout) name(sid []byte) int32 {
	if n, ok := l.nameAt[string(sid)]; ok {
		return n
	}
	n := int32(len(l.names))
	l.names = append(l.names, slices.Clone(sid))
	l.nameAt[string(sid)] = n
	return n
}

// put takes in all strands that have items, by number, whose descriptors are there.
func (l *layout) put(rows []Strand) error {
	l.strands = make([]strandAt, len(rows))
	for i, r := range rows {
		f, ok := slices.BinarySearchFunc(l.forms, r.Descriptor, func(f form, id int64) int { return cmp.Compare(f.descriptor, id) })
		if !ok {
			return fmt.Errorf("%w: descriptor %d is missing", store.ErrDamaged, r.Descriptor)
		}
		l.strands[i] = strandAt{id: r.ID, items: r.Items, form: int32(f), folder: r.Folder}
	}
	for i, r := range rows {
		l.strands[i].parent = l.place(r.Parent)
	}
	return l.hang()
}

// place finds a strand by its number; -1: it isn't there, or has no items.
func (l *layout) place(id int64) int32 {
	i, ok := slices.BinarySearchFunc(l.strands, id, func(s strandAt, id int64) int { return cmp.Compare(s.id, id) })
	if !ok {
		return -1
	}
	return int32(i)
}

// hang works out who is below whom, and refuses strands that are below themselves.
func (l *layout) hang() error {
	l.first = make([]int32, len(l.strands)+1)
	for i := range l.strands {
		if p := l.strands[i].parent; p >= 0 {
			l.first[p+1]++
		}
	}
	for i := range l.strands {
		l.first[i+1] += l.first[i]
	}
	l.kids = make([]int32, l.first[len(l.strands)])
	next := slices.Clone(l.first)
	for i := range l.strands {
		if p := l.strands[i].parent; p >= 0 {
			l.kids[next[p]] = int32(i)
			next[p]++
		}
	}
	met, stack := 0, []int32{}
	for i := range l.strands {
		if l.strands[i].parent >= 0 {
			continue
		}
		for stack = append(stack[:0], int32(i)); len(stack) > 0; met++ {
			at := stack[len(stack)-1]
			stack = append(stack[:len(stack)-1], l.below(at)...)
		}
	}
	if met < len(l.strands) {
		return fmt.Errorf("%w: strands are below themselves", store.ErrDamaged)
	}
	return nil
}

// row gives a strand as its row has it.
func (l *layout) row(at int) Strand {
	x := &l.strands[at]
	s := Strand{ID: x.id, Descriptor: l.forms[x.form].descriptor, Folder: x.folder, Items: x.items}
	if x.parent >= 0 {
		s.Parent = l.strands[x.parent].id
	}
	return s
}

// below gives the places of the strands right below one, by number.
func (l *layout) below(at int32) []int32 { return l.kids[l.first[at]:l.first[at+1]] }

// id gives the identifier at a place in names.
func (l *layout) id(n int32) account.ID {
	id, _, _ := account.FromBinary(l.names[n]) // it was whole when it was put in
	return id
}

// naming lists the descriptors that name one of some identifiers, and those of which
// that isn't told here.
func (l *layout) naming(meant map[account.ID]bool) (out []int64) {
	have := make(map[string]bool, len(meant))
	for id := range meant {
		have[string(id.AppendBinary(nil))] = true
	}
	is := make([]bool, len(l.names))
	for i, sid := range l.names {
		is[i] = have[string(sid)]
	}
	for i := range l.forms {
		f := &l.forms[i]
		if l.shapes[f.shape][0] != KindSecurity || slices.ContainsFunc(l.who[f.from:f.from+int32(f.count)], func(n int32) bool { return is[n] }) {
			out = append(out, f.descriptor)
		}
	}
	return out
}

// somebodys tells whether an identifier in binary may be somebody's: one of a domain,
// or of a uid or gid (account.ID.Domain, account.ID.POSIX). All others mean what the
// standard says.
func somebodys(sid []byte) bool {
	if len(sid) < 12 {
		return false
	}
	auth, first := sid[7], binary.LittleEndian.Uint32(sid[8:])
	return binary.BigEndian.Uint32(sid[2:]) == 0 && sid[6] == 0 && (auth == 5 && first == 21 || auth == 22)
}

// named gives who is named in the rules of a strand, as places in names.
func (l *layout) named(s *strandAt) []int32 {
	f := &l.forms[s.form]
	return l.who[f.from : f.from+int32(f.count)]
}
