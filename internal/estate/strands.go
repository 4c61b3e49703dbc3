package estate

import (
	"database/sql"

	"tarnwold/core/change"
)

// Isolate gives an item a strand of its own, with all below it, so that
// changing that strand changes nothing else. What any item's descriptor is
// stays as it was. Folders with much below them have their own strand from
// the start, which bounds the work here.
func (t *Tx) Isolate(item int64) int64 {
	strand := t.int("SELECT strand FROM items WHERE id=?", item)
	if t.err != nil || t.weight(strand) == 1 {
		return strand
	}
	parent := t.int("SELECT parent FROM strands WHERE id=?", strand)
	own := t.split(strand, parent, []int64{item})
	return own
}

func (t *Tx) weight(strand int64) int64 {
	return t.int("SELECT items FROM weights WHERE strand=?", strand)
}

// split moves some items of a strand, and what is below them, to a new one.
func (t *Tx) split(strand, parent int64, items []int64) int64 {
	own := t.exec("INSERT INTO strands(parent, descriptor, folder, origin) SELECT ?, descriptor, folder, id FROM strands WHERE id=?", parent, strand)
	below := map[int64][]int64{}
	var order []int64
	for _, item := range items {
		t.exec("UPDATE items SET strand=? WHERE id=?", own, item)
		t.each("SELECT strand, id FROM items WHERE parent=?", []any{item}, func(r *sql.Rows) error {
			var s, id int64
			err := r.Scan(&s, &id)
			if below[s] == nil {
				order = append(order, s)
			}
			below[s] = append(below[s], id)
			return err
		})
	}
	for _, s := range order {
		if t.err != nil {
			break
		}
		if int64(len(below[s])) == t.weight(s) {
			t.exec("UPDATE strands SET parent=? WHERE id=?", own, s)
		} else {
			t.split(s, own, below[s])
		}
	}
	return own
}

// Forest is a change set over strands.
type Forest struct {
	change.Set
	Strands []int64 // beside Nodes
	at      map[int64]int
	// Descriptors are the stored numbers of Nodes' Before.
	Descriptors []int64
}

// Node gives the place of a strand among the nodes; -1 where it isn't there.
func (f *Forest) Node(strand int64) int {
	if i, ok := f.at[strand]; ok {
		return i
	}
	return -1
}

// Below reads the strands given and every strand below them.
func (t *Tx) Below(tops ...int64) *Forest {
	f := &Forest{at: map[int64]int{}}
	f.Above, f.Edits = map[int][]*descriptor{}, map[int]change.Edit{}
	covered := map[int64]bool{}
	for _, top := range tops {
		covered[top] = true
	}
	up := t.parents(tops)
	parents := map[int]int64{}
	for _, top := range tops {
		if _, seen := f.at[top]; seen || hasAbove(top, up, covered) {
			continue
		}
		t.each(`WITH RECURSIVE b(id) AS (VALUES(?) UNION ALL SELECT s.id FROM strands s JOIN b ON s.parent=b.id)
			SELECT s.id, s.parent, s.descriptor, s.folder, coalesce(w.items, 0)
			FROM b CROSS JOIN strands s ON s.id=b.id LEFT JOIN weights w ON w.strand=s.id`, []any{top}, func(r *sql.Rows) error {
			var id, parent, did int64
			n := change.Node{Parent: -1}
			if err := r.Scan(&id, &parent, &did, &n.Folder, &n.Items); err != nil {
				return err
			}
			if i, ok := f.at[parent]; ok && id != top {
				n.Parent = i
			} else if parent != 0 {
				parents[len(f.Nodes)] = parent
			}
			f.at[id] = len(f.Nodes)
			f.Nodes, f.Strands, f.Descriptors = append(f.Nodes, n), append(f.Strands, id), append(f.Descriptors, did)
			return nil
		})
	}
	for i, did := range f.Descriptors {
		f.Nodes[i].Before = t.Descriptor(did)
		f.Nodes[i].After = f.Nodes[i].Before
	}
	for i, s := range parents {
		for ; s != 0; s = t.int("SELECT parent FROM strands WHERE id=?", s) {
			f.Above[i] = append(f.Above[i], t.Of(s))
		}
	}
	return f
}

// parents gives the way up from some strands: of all where they are many.
func (t *Tx) parents(of []int64) map[int64]int64 {
	up := map[int64]int64{}
	if len(of) <= 8 {
		for _, s := range of {
			for s != 0 {
				p := t.int("SELECT parent FROM strands WHERE id=?", s)
				up[s] = p
				s = p
			}
		}
		return up
	}
	t.each("SELECT id, parent FROM strands", nil, func(r *sql.Rows) error {
		var s, p int64
		err := r.Scan(&s, &p)
		up[s] = p
		return err
	})
	return up
}

// hasAbove tells whether a strand is below another of a set.
func hasAbove(strand int64, up map[int64]int64, set map[int64]bool) bool {
	for s := up[strand]; s != 0; s = up[s] {
		if set[s] {
			return true
		}
	}
	return false
}

// Keep stores what a worked-out forest changes.
func (t *Tx) Keep(f *Forest) {
	ids := map[*descriptor]int64{}
	for i := range f.Nodes {
		n := &f.Nodes[i]
		if !n.Changed() {
			continue
		}
		id, ok := ids[n.After]
		if !ok {
			id = t.keep(n.After)
			ids[n.After] = id
		}
		t.exec("UPDATE strands SET descriptor=? WHERE id=?", id, f.Strands[i])
		if t.err != nil {
			return
		}
	}
}

// Items lists up to limit items of a strand.
func (t *Tx) Items(strand int64, limit int) []int64 {
	return t.ints("SELECT id FROM items WHERE strand=? ORDER BY id LIMIT ?", strand, limit)
}
