package estate

import (
	"bytes"
	"cmp"
	"database/sql"
	"encoding/binary"
	"errors"
	"maps"
	"slices"

	"tarnwold/core/account"
	"tarnwold/internal/store"
)

// A layout is written down after changes that touch many strands, so that who asks of
// all of them needn't read all the rows; the journal says which few were touched since,
// and those are read. It is derived, and not journaled: where it can't be used the rows
// are.
const layoutForm = 1

var (
	// LayoutFrom is how many strands there are before it is written down.
	LayoutFrom = int64(2000)
	// LayoutBehind is how many rows of the journal it may lie behind.
	LayoutBehind = 4000
)

// behind counts the rows of strands and items that came after a change, up to most.
func (t *Tx) behind(head int64, most int) int {
	return int(t.Int("SELECT count(*) FROM (SELECT 1 FROM journal_rows WHERE change>? AND +tbl IN ('strands','items') LIMIT ?)", head, most))
}

// errLayout is bytes of a layout that can't be read.
var errLayout = errors.New("it isn't as it is written")

// writtenLayout reads what was written down, and what changed since; nil where nothing
// is, or too much changed. What can't be read is errLayout.
func (t *Tx) writtenLayout() (*layout, error) {
	if !t.Knows("layouts") {
		return nil, t.Err()
	}
	var head int64
	var body []byte
	if !t.One("SELECT head, body FROM layouts WHERE id=1", nil, &head, &body) || head > t.Head() || t.behind(head, LayoutBehind) >= LayoutBehind {
		return nil, t.Err()
	}
	l, err := decodeLayout(body)
	if err != nil {
		return nil, err
	}
	fits, err := t.catchUp(l, head)
	if err != nil || !fits {
		return nil, err
	}
	return l, t.Err()
}

// catchUp takes in what changed since a layout was written down; false where that
// can't be told from the journal.
func (t *Tx) catchUp(l *layout, head int64) (bool, error) {
	touched := map[int64]bool{}
	fits := true
	for _, r := range t.RowsSince(head, "strands", "items") {
		switch {
		case r.Last != 0:
			fits = false
		case r.Table == "strands":
			touched[r.ID] = true
		default:
			for _, v := range [][]any{r.Before, r.After} {
				if v != nil {
					touched[store.Number(v, itemStrand)] = true
				}
			}
		}
	}
	if !fits || len(touched) == 0 {
		return fits, t.Err()
	}
	rows := make([]Strand, 0, len(l.strands)+len(touched))
	for i := range l.strands {
		if !touched[l.strands[i].id] {
			rows = append(rows, l.row(i))
		}
	}
	// Those that were touched are as their rows say now, one that had no items then too.
	missing := map[int64]bool{} // descriptors that weren't there then
	t.EachOf("SELECT s.id, s.parent, s.descriptor, s.folder, w.items FROM strands s JOIN weights w ON w.strand=s.id WHERE w.items>0 AND s.id IN {set}", slices.Sorted(maps.Keys(touched)), func(r *sql.Rows) error {
		var s Strand
		err := r.Scan(&s.ID, &s.Parent, &s.Descriptor, &s.Folder, &s.Items)
		rows = append(rows, s)
		if _, known := slices.BinarySearchFunc(l.forms, s.Descriptor, func(f form, id int64) int { return cmp.Compare(f.descriptor, id) }); !known {
			missing[s.Descriptor] = true
		}
		return err
	})
	slices.SortFunc(rows, func(a, b Strand) int { return cmp.Compare(a.ID, b.ID) })
	t.EachOf("SELECT id, kind, body FROM descriptors WHERE id IN {set} ORDER BY id", slices.Sorted(maps.Keys(missing)), l.addForm)
	slices.SortFunc(l.forms, func(a, b form) int { return cmp.Compare(a.descriptor, b.descriptor) })
	if err := t.Err(); err != nil {
		return false, err
	}
	return true, l.put(rows)
}

var itemStrand = slices.Index(store.Columns("items"), "strand")

// writeLayout writes it down at the end of a change that touched many strands.
func (t *Tx) writeLayout(bulk bool) error {
	if !t.Knows("layouts") {
		return t.Err()
	}
	head := t.Int("SELECT coalesce(max(head),0) FROM layouts")
	enough := LayoutBehind
	if bulk || head == 0 {
		enough = 1
	}
	if t.behind(head, enough) < enough {
		return t.Err()
	}
	t.Exec("DELETE FROM layouts WHERE 1=?", 1)
	if t.Int("SELECT count(*) FROM (SELECT 1 FROM strands LIMIT ?)", LayoutFrom) < LayoutFrom {
		return t.Err()
	}
	l, err := t.readLayout()
	if err != nil {
		return err
	}
	t.Exec("INSERT INTO layouts(id, head, body) VALUES(1,?,?)", t.Change(), l.encode())
	return t.Err()
}

// same tells whether two layouts say the same, in whatever order they name things.
func (l *layout) same(o *layout) bool {
	says := func(l *layout, i int) (Strand, string, [][]byte) {
		s := &l.strands[i]
		var names [][]byte
		for _, n := range l.named(s) {
			names = append(names, l.names[n])
		}
		return l.row(i), l.shapes[l.forms[s.form].shape], names
	}
	if len(l.strands) != len(o.strands) {
		return false
	}
	for i := range l.strands {
		a, shape, names := says(l, i)
		b, also, too := says(o, i)
		if a != b || shape != also || !slices.EqualFunc(names, too, bytes.Equal) {
			return false
		}
	}
	return true
}

// encode writes a layout as bytes.
func (l *layout) encode() []byte {
	b := make([]byte, 0, 64+16*len(l.strands)+8*len(l.forms)+4*len(l.who)+32*len(l.names))
	num := func(n int64) { b = binary.AppendUvarint(b, uint64(n)) }
	b = append(b, layoutForm)
	num(int64(len(l.names)))
	for _, id := range l.names {
		b = append(b, id...)
	}
	num(int64(len(l.shapes)))
	for _, s := range l.shapes {
		num(int64(len(s)))
		b = append(b, s...)
	}
	num(int64(len(l.forms)))
	last := int64(0)
	for _, f := range l.forms {
		num(f.descriptor - last)
		last = f.descriptor
		num(int64(f.shape))
		num(int64(f.count))
		for _, n := range l.who[f.from : f.from+int32(f.count)] {
			num(int64(n))
		}
	}
	num(int64(len(l.strands)))
	last = 0
	for i, s := range l.strands {
		num(s.id - last)
		last = s.id
		folder := int64(0)
		if s.folder {
			folder = 1
		}
		num(s.items<<1 | folder)
		num(int64(s.form))
		b = binary.AppendVarint(b, int64(int32(i)-s.parent)) // mostly not far
	}
	return b
}

// decodeLayout reads what encode wrote.
func decodeLayout(b []byte) (*layout, error) {
	if len(b) == 0 || b[0] != layoutForm {
		return nil, errLayout
	}
	r := &layoutReader{b: b[1:]}
	l := &layout{}
	l.names = make([][]byte, r.count())
	for i := range l.names {
		if len(r.b) < 8 || r.b[0] != 1 || r.b[1] > account.MaxSubs || len(r.b) < 8+4*int(r.b[1]) {
			return nil, errLayout
		}
		n := 8 + 4*int(r.b[1])
		l.names[i] = r.b[:n:n]
		r.b = r.b[n:]
	}
	l.shapes = make([]string, r.count())
	for i := range l.shapes {
		n := r.count()
		if r.bad {
			return nil, errLayout
		}
		l.shapes[i] = string(r.b[:n])
		r.b = r.b[n:]
	}
	l.forms = make([]form, r.count())
	l.who = make([]int32, 0, 3*len(l.forms))
	last := int64(0)
	for i := range l.forms {
		last += r.num()
		f := form{descriptor: last, shape: r.place(len(l.shapes)), from: int32(len(l.who))}
		f.count = uint16(r.count())
		for range f.count {
			l.who = append(l.who, r.place(len(l.names)))
		}
		if r.bad {
			return nil, errLayout
		}
		l.forms[i] = f
	}
	l.strands = make([]strandAt, r.count())
	last = 0
	for i := range l.strands {
		last += r.num()
		n := r.num()
		s := strandAt{id: last, items: n >> 1, folder: n&1 != 0, form: r.place(len(l.forms))}
		up := int64(i) - r.signed()
		if s.parent = int32(up); r.bad || up < -1 || up >= int64(len(l.strands)) || up == int64(i) {
			return nil, errLayout
		}
		l.strands[i] = s
	}
	if r.bad || len(r.b) > 0 {
		return nil, errLayout
	}
	if l.hang() != nil {
		return nil, errLayout
	}
	return l, nil
}

// layoutReader reads numbers; bad once one isn't there, or can't be.
type layoutReader struct {
	b   []byte
	bad bool
}

func (r *layoutReader) num() int64 {
	n, k := binary.Uvarint(r.b)
	if k <= 0 || n > 1<<62 {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[k:]
	return int64(n)
}

func (r *layoutReader) signed() int64 {
	n, k := binary.Varint(r.b)
	if k <= 0 {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[k:]
	return n
}

// count reads how many come: no more than there are bytes left.
func (r *layoutReader) count() int {
	n := r.num()
	if n > int64(len(r.b)) {
		r.bad = true
		return 0
	}
	return int(n)
}

// place reads a place among n.
func (r *layoutReader) place(n int) int32 {
	p := r.num()
	if p >= int64(n) {
		r.bad = true
		return 0
	}
	return int32(p)
}
