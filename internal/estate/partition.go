package estate

import (
	"database/sql"
	"fmt"
	"slices"

	"tarnwold/core/change"
	"tarnwold/core/rule"
)

// Partition is a change set over strands. Where a command means only some of a
// strand's items, those are a node of their own, beside what is left of the
// strand: the strand itself is parted when the change is kept, not before.
type Partition struct {
	change.Set
	nodes []partitionNode
	at    map[int64]int // an item a command means → its node
	byTop map[int64]int // a strand → its node, where it is whole or what is left of it
	apart map[int64]int // a strand → how many of its items are in nodes of their own

	laid  *layout
	alike bool // nodes are of strands alike (PartitionFor): what a change does is asked here, and never kept

	first map[int]int64 // a node → its first item, of those that were located
	asked int           // how often somebody wanted one
	ahead int           // how many were located at once the last time

	parted map[int64][]int // a strand → the nodes of parts of it, as of seen nodes
	seen   int
}

type partitionNode struct {
	base  int64   // the strand
	items []int64 // the node's items, where they are a part of the strand's; nil: all, or all that is left
	more  []int64 // further strands, which are alike
	order []int32 // of all of them: where each comes among all there are
}

// Group is items that one edit is made on.
type Group struct {
	Targets []Target
	Strands []int64 // all items of these, beside the targets
	Edit    change.Edit
}

// Node gives the node of an item that a group named; -1 for any other.
func (f *Partition) Node(item int64) int {
	if i, ok := f.at[item]; ok {
		return i
	}
	return -1
}

// NodeOf gives the node of a strand that isn't parted, or of what is left of
// it; -1 where it isn't there.
func (f *Partition) NodeOf(strand int64) int {
	if f.alike && len(f.byTop) == 0 {
		for i := range f.nodes {
			f.byTop[f.nodes[i].base] = i
			for _, s := range f.nodes[i].more {
				f.byTop[s] = i
			}
		}
	}
	if i, ok := f.byTop[strand]; ok {
		return i
	}
	return -1
}

// NodeFor gives the node an item is in: its own, that of a part of its strand that
// it belongs to, or that of its strand; -1 where none is there.
func (f *Partition) NodeFor(item, strand int64) int {
	if i := f.Node(item); i >= 0 {
		return i
	}
	if f.apart[strand] > 0 {
		for _, n := range f.partsOf(strand) {
			if slices.Contains(f.nodes[n].items, item) {
				return n
			}
		}
	}
	return f.NodeOf(strand)
}

// partsOf lists the nodes of parts of a strand. An item that nobody named can be in
// one: below a folder that was named while others, alike, were not.
func (f *Partition) partsOf(strand int64) []int {
	if f.parted == nil || f.seen != len(f.nodes) {
		f.parted, f.seen = map[int64][]int{}, len(f.nodes)
		for i := range f.nodes {
			if f.nodes[i].items != nil {
				f.parted[f.nodes[i].base] = append(f.parted[f.nodes[i].base], i)
			}
		}
	}
	return f.parted[strand]
}

// Add adds a node of items that are not there yet, or that the command knows
// of by itself; after is given, not worked out.
func (f *Partition) Add(parent int, folder bool, items int64, before, after rule.Any) int {
	f.Nodes = append(f.Nodes, change.Node{Parent: parent, Folder: folder, Items: items, Before: before, After: after, Fixed: true})
	f.nodes = append(f.nodes, partitionNode{})
	return len(f.Nodes) - 1
}

// Append puts the nodes of another partition, which were all added, behind this
// one's, and says by how much their numbers grew.
func (f *Partition) Append(added *Partition) (shift int) {
	shift = len(f.Nodes)
	for i := range added.Nodes {
		n := added.Nodes[i]
		if n.Parent >= 0 {
			n.Parent += shift
		}
		f.Nodes = append(f.Nodes, n)
		f.nodes = append(f.nodes, added.nodes[i])
		if chain, ok := added.Above[i]; ok {
			f.Above[shift+i] = chain
		}
	}
	return shift
}

// NewPartition makes a partition of nothing.
func NewPartition() *Partition { return newPartition() }

// Alike tells whether nodes may be of many strands, which are alike to those it was
// laid out for (PartitionFor).
func (f *Partition) Alike() bool { return f.alike }

// Strand gives the strand a node is of, or a part of; 0 for one that was added.
func (f *Partition) Strand(node int) int64 { return f.nodes[node].base }

// Some lists up to limit items of a node.
func (f *Partition) Some(t *Tx, node, limit int) []int64 {
	n := &f.nodes[node]
	if n.items != nil {
		return n.items[:min(limit, len(n.items))]
	}
	if limit == 1 || f.Nodes[node].Items == 1 {
		item, ok := f.first[node]
		if f.asked++; !ok && f.asked > 1 { // so will others be: read ahead
			var next []int
			f.ahead = min(max(16, 2*f.ahead), mostAhead)
			for i := node; i < len(f.nodes) && len(next) < f.ahead; i++ {
				if _, known := f.first[i]; !known && f.nodes[i].items == nil && f.nodes[i].base != 0 && f.taken(f.nodes[i].base) == 0 {
					next = append(next, i)
				}
			}
			f.Locate(t, next)
			item, ok = f.first[node]
		}
		if ok {
			return []int64{item}
		}
	}
	if f.taken(n.base) == 0 {
		out := t.Items(n.base, limit)
		for _, s := range n.more {
			if len(out) >= limit {
				break
			}
			out = append(out, t.Items(s, limit-len(out))...)
		}
		return out
	}
	// What is left of a parted strand: pass over what was taken.
	var out []int64
	gone := f.parts(n.base)
	t.Each("SELECT id FROM items WHERE strand=? ORDER BY id", []any{n.base}, func(r *sql.Rows) error {
		var id int64
		err := r.Scan(&id)
		if len(out) < limit && !gone[id] {
			out = append(out, id)
		}
		return err
	})
	return out
}

// Part is what of a node is one strand, or one part of a strand: of an ordinary
// partition the node itself, of one for some people one of those that are alike.
type Part struct {
	Node  int
	Items int64
	which int // 0: the node's first strand; else one of the further ones
	order int32
}

// Parts gives the parts of some nodes in the order in which they come, each folder
// before what is in it.
func (f *Partition) Parts(nodes []int) []Part {
	out := make([]Part, 0, len(nodes))
	for _, n := range nodes {
		if !f.alike {
			out = append(out, Part{Node: n, Items: f.Nodes[n].Items})
			continue
		}
		for i, order := range f.nodes[n].order {
			out = append(out, Part{n, f.laid.strands[f.laid.place(f.strandOf(n, i))].items, i, order})
		}
	}
	if f.alike {
		slices.SortFunc(out, func(a, b Part) int { return int(a.order) - int(b.order) })
	}
	return out
}

// strandOf gives the i-th strand of a node.
func (f *Partition) strandOf(node, i int) int64 {
	if i == 0 {
		return f.nodes[node].base
	}
	return f.nodes[node].more[i-1]
}

// FirstOf gives the first items of many parts, most[i] of the i-th, all at once, and
// finds out where they are.
func (f *Partition) FirstOf(t *Tx, parts []Part, most []int64) [][]int64 {
	out := make([][]int64, len(parts))
	of := map[int64]int{} // by strand
	var first, all []int64
	for i, p := range parts {
		n := &f.nodes[p.Node]
		if n.items != nil || f.taken(n.base) > 0 || n.base == 0 {
			out[i] = f.Some(t, p.Node, int(most[i]))
			continue
		}
		strand := f.strandOf(p.Node, p.which)
		switch {
		case most[i] == 1:
			first = append(first, strand)
		case p.Items <= max(most[i], few):
			all = append(all, strand)
		default:
			out[i] = t.Items(strand, int(most[i]))
			continue
		}
		of[strand] = i
	}
	for strand, item := range t.FirstOf(first) {
		out[of[strand]] = []int64{item}
	}
	t.EachOf("SELECT strand, id FROM items WHERE strand IN {set} ORDER BY strand, id", all, func(r *sql.Rows) error {
		var strand, id int64
		err := r.Scan(&strand, &id)
		if i := of[strand]; int64(len(out[i])) < most[i] {
			out[i] = append(out[i], id)
		}
		return err
	})
	var items []int64
	for _, x := range out {
		items = append(items, x...)
	}
	t.Locate(items)
	return out
}

// UpTo gives the first parts that have limit items between them, less those that were
// told already, how many of each that makes, and how many items are left over; limit 0
// for all of them.
func UpTo(parts []Part, limit, told int) (some []Part, most []int64, left int64) {
	room := int64(max(0, limit-told))
	for _, p := range parts {
		n := p.Items
		if limit > 0 {
			n = min(n, room)
			room -= n
		}
		if left += p.Items - n; n > 0 {
			some, most = append(some, p), append(most, n)
		}
	}
	return some, most, left
}

// EachIn calls fn with every item of a part, in the order they came.
func (f *Partition) EachIn(t *Tx, p Part, fn func(item int64) error) error {
	if !f.alike {
		return f.Each(t, p.Node, fn)
	}
	return t.eachItem(f.strandOf(p.Node, p.which), nil, fn)
}

// atOnce is how many items EachOf reads and locates together.
const atOnce = 4096

// EachOf calls fn with every item of many nodes, which are read and located some thousand
// at a time: those of small nodes together.
func (f *Partition) EachOf(t *Tx, nodes []int, fn func(node int, item int64) error) error {
	told := func(node int, items []int64) error {
		for _, item := range items {
			if err := fn(node, item); err != nil {
				return err
			}
		}
		return t.Context().Err()
	}
	var ahead []Part
	var most []int64
	room := int64(atOnce)
	together := func() error {
		for i, items := range f.FirstOf(t, ahead, most) {
			if err := told(ahead[i].Node, items); err != nil {
				return err
			}
		}
		ahead, most, room = ahead[:0], most[:0], atOnce
		return nil
	}
	for _, part := range f.Parts(nodes) {
		if part.Items > few {
			var items []int64
			located := func() error {
				t.Locate(items)
				err := told(part.Node, items)
				items = items[:0]
				return err
			}
			if err := f.EachIn(t, part, func(item int64) error {
				if items = append(items, item); len(items) < atOnce {
					return nil
				}
				return located()
			}); err != nil {
				return err
			}
			if err := located(); err != nil {
				return err
			}
			continue
		}
		if room < part.Items {
			if err := together(); err != nil {
				return err
			}
		}
		ahead, most, room = append(ahead, part), append(most, part.Items), room-part.Items
	}
	if err := together(); err != nil {
		return err
	}
	return t.Err()
}

// Beginnings gives the first items of the first few strands of some nodes, in the order
// in which they would come if each strand were a node of its own: of a partition for
// some people.
func (f *Partition) Beginnings(t *Tx, nodes []int, few int) (items []int64) {
	parts := f.Parts(nodes)
	for _, p := range parts[:min(few, len(parts))] {
		items = append(items, t.Items(f.strandOf(p.Node, p.which), 1)...)
	}
	return items
}

// Locate finds out where the first items of many nodes are, all at once, for those
// who will name them.
func (f *Partition) Locate(t *Tx, nodes []int) {
	if f.first == nil {
		f.first = map[int]int64{}
	}
	var want []int
	for _, n := range nodes {
		if _, ok := f.first[n]; !ok {
			want = append(want, n)
		}
	}
	one, parts := make([]int64, len(want)), make([]Part, len(want))
	for i := range one {
		one[i], parts[i] = 1, Part{Node: want[i], Items: f.Nodes[want[i]].Items}
	}
	for i, some := range f.FirstOf(t, parts, one) {
		for _, id := range some {
			f.first[want[i]] = id
		}
	}
}

// mostAhead is how many nodes are located at once where one after the other is asked for.
const mostAhead = 2048

// few is how many items of a node are read to have some of them.
const few = 64

// Each calls fn with every item of a node, in the order they came.
func (f *Partition) Each(t *Tx, node int, fn func(item int64) error) error {
	n := &f.nodes[node]
	if n.items != nil {
		for _, id := range n.items {
			if err := fn(id); err != nil {
				return err
			}
		}
		return nil
	}
	var gone map[int64]bool
	if f.taken(n.base) > 0 {
		gone = f.parts(n.base)
	}
	for _, s := range append([]int64{n.base}, n.more...) {
		if err := t.eachItem(s, gone, fn); err != nil {
			return err
		}
	}
	return t.Err()
}

// eachItem calls fn with every item of a strand that isn't gone.
func (t *Tx) eachItem(strand int64, gone map[int64]bool, fn func(item int64) error) error {
	for last := int64(0); t.Err() == nil; {
		const batch = 4096
		ids := t.Ints("SELECT id FROM items WHERE strand=? AND id>? ORDER BY id LIMIT ?", strand, last, batch)
		for _, id := range ids {
			last = id
			if gone[id] {
				continue
			}
			if err := fn(id); err != nil {
				return err
			}
		}
		if len(ids) < batch {
			break
		}
	}
	return t.Err()
}

// EachFolder calls fn with every folder that items of some nodes are directly in, and
// how many of them are, node by node.
func (f *Partition) EachFolder(t *Tx, nodes []int, fn func(folder, items int64)) error {
	return f.inFolders(t, nodes, "SELECT parent, count(*) FROM items WHERE %s IN {set} GROUP BY parent", func(r *sql.Rows) error {
		var folder, items int64
		err := r.Scan(&folder, &items)
		fn(folder, items)
		return err
	})
}

// inFolders asks a question about the items of some nodes, by the column of strands or of
// items, node by node.
func (f *Partition) inFolders(t *Tx, nodes []int, q string, scan func(*sql.Rows) error) error {
	var whole []int64
	for _, node := range nodes {
		n := &f.nodes[node]
		if n.items == nil && f.taken(n.base) == 0 {
			whole = append(append(whole, n.base), n.more...)
			continue
		}
		var items []int64
		if err := f.Each(t, node, func(item int64) error { items = append(items, item); return nil }); err != nil {
			return err
		}
		t.EachOf(fmt.Sprintf(q, "id"), items, scan)
	}
	t.EachOf(fmt.Sprintf(q, "strand"), whole, scan)
	return t.Err()
}

func (f *Partition) taken(base int64) int { return f.apart[base] }

func (f *Partition) parts(base int64) map[int64]bool {
	out := map[int64]bool{}
	for i := range f.nodes {
		if f.nodes[i].base == base {
			for _, id := range f.nodes[i].items {
				out[id] = true
			}
		}
	}
	return out
}
