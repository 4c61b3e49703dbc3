package estate

import (
	"database/sql"
	"errors"
	"slices"
	"strings"

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

// Piece is what of a node is one strand, or one part of a strand: of an ordinary
// partition the node itself, of one for some people one of those that are alike.
type Piece struct {
	Node  int
	Items int64
	which int // 0: the node's first strand; else one of the further ones
	order int32
}

// Pieces gives the pieces of some nodes in the order in which they come, each folder
// before what is in it.
func (f *Partition) Pieces(nodes []int) []Piece {
	out := make([]Piece, 0, len(nodes))
	for _, n := range nodes {
		if !f.alike {
			out = append(out, Piece{Node: n, Items: f.Nodes[n].Items})
			continue
		}
		for i, order := range f.nodes[n].order {
			out = append(out, Piece{n, f.laid.strands[f.laid.place(f.strandOf(n, i))].items, i, order})
		}
	}
	if f.alike {
		slices.SortFunc(out, func(a, b Piece) int { return int(a.order) - int(b.order) })
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

// FirstOf gives the first items of many pieces, most[i] of the i-th, all at once, and
// finds out where they are.
func (f *Partition) FirstOf(t *Tx, pieces []Piece, most []int64) [][]int64 {
	out := make([][]int64, len(pieces))
	of := map[int64]int{} // by strand
	var first, all []int64
	for i, p := range pieces {
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

// Upto gives the first pieces that have a number of items between them, 0 for all of
// them, and how many of each that makes.
func Upto(pieces []Piece, limit int) (some []Piece, most []int64) {
	left := int64(limit)
	for _, p := range pieces {
		n := p.Items
		if limit > 0 {
			n = min(n, left)
			left -= n
		}
		if n == 0 {
			break
		}
		some, most = append(some, p), append(most, n)
	}
	return some, most
}

// EachIn calls fn with every item of a piece, in the order they came.
func (f *Partition) EachIn(t *Tx, p Piece, fn func(item int64) error) error {
	if !f.alike {
		return f.Each(t, p.Node, fn)
	}
	return t.eachItem(f.strandOf(p.Node, p.which), nil, fn)
}

// Beginnings gives the first items of the first few strands of some nodes, in the order
// in which they would come if each strand were a node of its own: of a partition for
// some people.
func (f *Partition) Beginnings(t *Tx, nodes []int, few int) (items []int64) {
	pieces := f.Pieces(nodes)
	for _, p := range pieces[:min(few, len(pieces))] {
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
	one, pieces := make([]int64, len(want)), make([]Piece, len(want))
	for i := range one {
		one[i], pieces[i] = 1, Piece{Node: want[i], Items: f.Nodes[want[i]].Items}
	}
	for i, some := range f.FirstOf(t, pieces, one) {
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
		t.EachOf("SELECT parent, count(*) FROM items WHERE id IN {set} GROUP BY parent", items, folders(fn))
	}
	t.EachOf("SELECT parent, count(*) FROM items WHERE strand IN {set} GROUP BY parent", whole, folders(fn))
	return t.Err()
}

func folders(fn func(folder, items int64)) func(*sql.Rows) error {
	return func(r *sql.Rows) error {
		var folder, items int64
		err := r.Scan(&folder, &items)
		fn(folder, items)
		return err
	}
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

// partitioner parts strands as far as groups need it.
type partitioner struct {
	t        *Tx
	f        *Partition
	groups   []Group
	targets  map[int64]map[int64]int // strand → item → group
	whole    map[int64]int           // strand → group, where all of it is meant
	within   map[int64]bool          // strands with a target at or below them
	strands  map[int64]strandRow
	children map[int64][]int64
	left     map[int64]int64 // items of a strand not in a part yet
	weight   map[int64]int64
}

// PartitionAll makes the partition of everything there is, parted for groups.
func (t *Tx) PartitionAll(groups []Group) (*Partition, error) {
	named := map[int64]bool{}
	for _, g := range groups {
		for _, s := range g.Strands {
			named[s] = true
		}
		for _, x := range g.Targets {
			named[x.Strand] = true
		}
	}
	var tops []int64
	for _, s := range t.topStrands() {
		if !named[s] {
			tops = append(tops, s)
		}
	}
	return t.partition(append(slices.Clone(groups), Group{Strands: tops}), true)
}

func (t *Tx) topStrands() []int64 {
	return t.Ints("SELECT DISTINCT i.strand FROM trees x JOIN items i ON i.id=x.item WHERE i.parent=0 ORDER BY x.id")
}

// Partition makes the partition of what groups name and everything below.
func (t *Tx) Partition(groups []Group) (*Partition, error) { return t.partition(groups, false) }

// PartitionAt makes the partition of a place and everything below it: where that is
// near the top of its tree, by reading what there is as it lies in the file.
func (t *Tx) PartitionAt(p Place) (*Partition, error) {
	return t.partition([]Group{{Targets: []Target{p.Target()}}}, len(p.Trail) <= 2)
}

func (t *Tx) partition(groups []Group, everything bool) (*Partition, error) {
	c := &partitioner{t: t, f: newPartition(), groups: groups, targets: map[int64]map[int64]int{}, whole: map[int64]int{}, within: map[int64]bool{},
		strands: map[int64]strandRow{}, children: map[int64][]int64{}, left: map[int64]int64{}, weight: map[int64]int64{}}
	var order []int64
	for g := range groups {
		for _, x := range groups[g].Targets {
			if c.targets[x.Strand] == nil {
				c.targets[x.Strand] = map[int64]int{}
				order = append(order, x.Strand)
			}
			c.targets[x.Strand][x.Item] = g
		}
		for _, s := range groups[g].Strands {
			if _, ok := c.whole[s]; !ok {
				c.whole[s] = g
				order = append(order, s)
			}
		}
	}
	meant := func(s int64) bool {
		_, ok := c.whole[s]
		return ok || c.targets[s] != nil
	}
	up := t.parents(order)
	var roots []int64
	for _, s := range order {
		for p := s; p != 0 && !c.within[p]; p = up[p] {
			c.within[p] = true
		}
	}
	for _, s := range order {
		top := true
		for p := up[s]; p != 0 && top; p = up[p] {
			top = !meant(p)
		}
		if top {
			roots = append(roots, s)
		}
	}
	if everything {
		c.readAll()
	}
	for _, r := range roots {
		c.read(r)
	}
	c.fetch()
	for _, r := range roots {
		if err := t.Err(); err != nil {
			return nil, err
		}
		c.walk(r, -1, nil)
	}
	c.f.finish(t)
	return c.f, t.Err()
}

func newPartition() *Partition {
	f := &Partition{at: map[int64]int{}, byTop: map[int64]int{}, apart: map[int64]int{}}
	f.Above, f.Edits = map[int][]rule.Any{}, map[int]change.Edit{}
	return f
}

// All makes the partition of everything there is.
func (t *Tx) All() (*Partition, error) {
	return t.PartitionAll(nil)
}

// read takes in a strand and all below it.
func (c *partitioner) read(top int64) {
	if _, ok := c.strands[top]; ok {
		return
	}
	c.t.Each(`WITH RECURSIVE b(id) AS (VALUES(?) UNION ALL SELECT s.id FROM strands s JOIN b ON s.parent=b.id)
		SELECT s.id, s.parent, s.descriptor, s.folder, coalesce(w.items, 0)
		FROM b CROSS JOIN strands s ON s.id=b.id LEFT JOIN weights w ON w.strand=s.id`, []any{top}, func(r *sql.Rows) error {
		var id, weight int64
		var s strandRow
		if err := r.Scan(&id, &s.parent, &s.descriptor, &s.folder, &weight); err != nil {
			return err
		}
		c.strands[id], c.left[id], c.weight[id] = s, weight, weight
		c.t.passed(id, s)
		if id != top {
			c.children[s.parent] = append(c.children[s.parent], id)
		}
		return nil
	})
}

// readAll takes in every strand, in the order they lie in the file.
func (c *partitioner) readAll() {
	c.t.Each("SELECT s.id, s.parent, s.descriptor, s.folder, coalesce(w.items, 0) FROM strands s LEFT JOIN weights w ON w.strand=s.id ORDER BY s.id", nil, func(r *sql.Rows) error {
		var id, weight int64
		var s strandRow
		if err := r.Scan(&id, &s.parent, &s.descriptor, &s.folder, &weight); err != nil {
			return err
		}
		c.strands[id], c.left[id], c.weight[id] = s, weight, weight
		c.t.passed(id, s)
		if s.parent != 0 {
			c.children[s.parent] = append(c.children[s.parent], id)
		}
		return nil
	})
}

// fetch reads the rules of all strands that were taken in.
func (c *partitioner) fetch() {
	ids := make([]int64, 0, len(c.strands))
	for _, s := range c.strands {
		ids = append(ids, s.descriptor)
	}
	c.t.Fetch(ids)
}

// node adds a node to the partition.
func (c *partitioner) node(strand int64, parent int, items []int64, count int64, group int) int {
	f := c.f
	i := len(f.Nodes)
	s := c.strands[strand]
	d := c.t.Descriptor(s.descriptor)
	f.Nodes = append(f.Nodes, change.Node{Parent: parent, Folder: s.folder, Items: count, Before: d, After: d})
	f.nodes = append(f.nodes, partitionNode{base: strand, items: items})
	if items == nil {
		f.byTop[strand] = i
	} else {
		f.apart[strand] += len(items)
	}
	if group >= 0 && c.groups[group].Edit != nil {
		f.Edits[i] = c.groups[group].Edit
	}
	return i
}

// walk makes nodes of a strand below a node: of some of its items, or of what
// is left of it.
func (c *partitioner) walk(strand int64, parent int, items []int64) {
	if g, ok := c.whole[strand]; ok {
		if items == nil {
			n := c.node(strand, parent, nil, c.left[strand], g)
			c.left[strand] = 0
			for _, child := range c.children[strand] {
				if c.left[child] > 0 {
					c.walk(child, n, nil)
				}
			}
			return
		}
		c.part(strand, parent, items, g)
		return
	}
	here := c.targets[strand]
	byGroup := map[int][]int64{}
	plain := items
	if len(here) > 0 {
		if items != nil {
			plain = nil
			for _, id := range items {
				if g, ok := here[id]; ok {
					byGroup[g] = append(byGroup[g], id)
					delete(here, id)
				} else {
					plain = append(plain, id)
				}
			}
		} else {
			for id, g := range here {
				byGroup[g] = append(byGroup[g], id)
			}
			c.targets[strand] = nil
		}
	}
	groups := make([]int, 0, len(byGroup))
	for g := range byGroup {
		groups = append(groups, g)
	}
	slices.Sort(groups)
	for _, g := range groups {
		ids := byGroup[g]
		slices.Sort(ids)
		c.part(strand, parent, ids, g)
	}
	switch {
	case items != nil && len(plain) > 0:
		c.part(strand, parent, plain, -1)
	case items == nil && c.left[strand] > 0 && (parent >= 0 || c.below(strand)):
		n := c.node(strand, parent, nil, c.left[strand], -1)
		c.left[strand] = 0
		for _, child := range c.children[strand] {
			if c.left[child] > 0 && (parent >= 0 || c.within[child]) {
				c.walk(child, n, nil)
			}
		}
	}
}

// below tells whether a strand has targets below it that no walk has met yet.
func (c *partitioner) below(strand int64) bool {
	return slices.ContainsFunc(c.children[strand], func(s int64) bool { return c.within[s] && c.left[s] > 0 })
}

// part makes a node of some items of a strand, and of what is below them.
func (c *partitioner) part(strand int64, parent int, ids []int64, group int) {
	whole := int64(len(ids)) == c.weight[strand]
	c.left[strand] -= int64(len(ids))
	var n int
	if whole {
		n = c.node(strand, parent, nil, int64(len(ids)), group)
	} else {
		n = c.node(strand, parent, ids, int64(len(ids)), group)
	}
	if group >= 0 {
		for _, id := range ids {
			c.f.at[id] = n
		}
	}
	if !c.strands[strand].folder {
		return
	}
	if whole {
		for _, child := range c.children[strand] {
			if c.left[child] > 0 {
				c.walk(child, n, nil)
			}
		}
		return
	}
	var order []int64
	groups := map[int64][]int64{}
	for chunk := range slices.Chunk(ids, 500) {
		c.t.Each("SELECT strand, id FROM items WHERE parent IN ("+marks(len(chunk))+") ORDER BY id", args(chunk), func(r *sql.Rows) error {
			var s, id int64
			err := r.Scan(&s, &id)
			if groups[s] == nil {
				order = append(order, s)
			}
			groups[s] = append(groups[s], id)
			return err
		})
	}
	for _, s := range order {
		if len(c.targets[s]) == 0 && int64(len(groups[s])) == c.weight[s] {
			c.walk(s, n, nil)
			continue
		}
		c.walk(s, n, groups[s])
	}
}

func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?,", n), ",") }

func args(ids []int64) []any {
	out := make([]any, len(ids))
	for i, id := range ids {
		out[i] = id
	}
	return out
}

// finish reads what is above the topmost nodes.
func (f *Partition) finish(t *Tx) {
	chains := map[int64][]rule.Any{}
	for i := range f.Nodes {
		if f.Nodes[i].Parent >= 0 {
			continue
		}
		parent := t.strand(f.nodes[i].base).parent
		if parent == 0 {
			continue
		}
		chain, ok := chains[parent]
		if !ok {
			for s := parent; s != 0; s = t.strand(s).parent {
				chain = append(chain, t.Of(s))
			}
			chains[parent] = chain
		}
		f.Above[i] = chain
	}
}

// parents gives the way up from some strands: of all where they are many.
func (t *Tx) parents(of []int64) map[int64]int64 {
	up := map[int64]int64{}
	if len(of) <= 64 {
		for _, s := range of {
			for s != 0 {
				if _, ok := up[s]; ok {
					break
				}
				up[s] = t.strand(s).parent
				s = up[s]
			}
		}
		return up
	}
	t.Each("SELECT id, parent FROM strands", nil, func(r *sql.Rows) error {
		var s, p int64
		err := r.Scan(&s, &p)
		up[s] = p
		return err
	})
	return up
}

// Keep stores what a worked-out partition changes, and parts the strands for it.
// Nodes that are new or gone are left to who makes or removes them.
func (t *Tx) Keep(f *Partition) {
	if f.alike {
		t.Fail(errors.New("a change that was worked out for some people alone can't be kept"))
		return
	}
	var rules []rule.Any
	for i := range f.Nodes {
		if n := &f.Nodes[i]; n.Before != nil && n.After != nil && f.nodes[i].base != 0 && n.Changed() {
			rules = append(rules, n.After)
		}
	}
	t.keepAll(rules)
	real := make([]int64, len(f.Nodes))
	made := make([]bool, len(f.Nodes))
	var strands, descriptors []int64 // strands that get other rules
	for i := range f.Nodes {
		n, x := &f.Nodes[i], &f.nodes[i]
		real[i] = x.base
		if n.Before == nil || n.After == nil || x.base == 0 {
			continue
		}
		under := n.Parent >= 0 && made[n.Parent]
		switch {
		case x.items != nil && (n.Changed() || under):
			parent := t.Int("SELECT parent FROM strands WHERE id=?", x.base)
			if n.Parent >= 0 {
				parent = real[n.Parent]
			}
			real[i] = t.Exec("INSERT INTO strands(parent, descriptor, folder, origin) SELECT ?, descriptor, folder, id FROM strands WHERE id=?", parent, x.base)
			made[i] = true
			for chunk := range slices.Chunk(x.items, 500) {
				t.Exec("UPDATE items SET strand=? WHERE id IN ("+marks(len(chunk))+")", append([]any{real[i]}, args(chunk)...)...)
			}
		case x.items == nil && under:
			t.Exec("UPDATE strands SET parent=? WHERE id=?", real[n.Parent], x.base)
		}
		if n.Changed() {
			strands, descriptors = append(strands, real[i]), append(descriptors, t.keep(n.After))
		}
		if t.Err() != nil {
			return
		}
	}
	t.SetMany("strands", "descriptor", strands, descriptors) // as they were until all that is parted is parted
	clear(t.strands)
	clear(t.located)
}

// apart is rules that are the same and another pointer.
type apart struct{ rule.Any }

// Alone gives an item a strand of its own, with all below it, so that moving
// it moves nothing else. What any item's rules are stays as it was.
func (t *Tx) Alone(item int64) int64 {
	strand := t.Int("SELECT strand FROM items WHERE id=?", item)
	if t.Err() != nil || t.Weight(strand) == 1 {
		return strand
	}
	f, err := t.Partition([]Group{{Targets: []Target{{Item: item, Strand: strand, Folder: t.isFolder(strand)}}}})
	if err != nil {
		t.Fail(err)
		return strand
	}
	i := f.Node(item)
	n := &f.Nodes[i]
	if f.nodes[i].items != nil { // part it although nothing changes
		n.Before = apart{n.After}
		t.Keep(f)
	}
	return t.Int("SELECT strand FROM items WHERE id=?", item)
}
