package estate

import (
	"database/sql"
	"errors"
	"slices"
	"strings"

	"tarnwold/core/change"
	"tarnwold/core/rule"
)

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
	stored   int64 // how many descriptors there are, where every strand was read
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
		err := r.Scan(&id, &s.parent, &s.descriptor, &s.folder, &weight)
		c.take(top, id, s, weight)
		return err
	})
}

// readAll takes in every strand, in the order they lie in the file.
func (c *partitioner) readAll() {
	c.t.EachNumbers("SELECT s.id, s.parent, s.descriptor, s.folder, coalesce(w.items, 0), (SELECT count(*) FROM descriptors) FROM strands s LEFT JOIN weights w ON w.strand=s.id ORDER BY s.id", nil, func(n []int64) error {
		c.stored = n[5]
		c.take(0, n[0], strandRow{n[1], n[2], n[3] != 0}, n[4])
		return nil
	})
}

// take takes in a strand, below its parent unless it is the top of what is read.
func (c *partitioner) take(top, id int64, s strandRow, weight int64) {
	c.strands[id], c.left[id], c.weight[id] = s, weight, weight
	c.t.rememberStrand(id, s)
	if id != top && s.parent != 0 {
		c.children[s.parent] = append(c.children[s.parent], id)
	}
}

// fetch reads the rules of all strands that were taken in.
func (c *partitioner) fetch() {
	ids := make([]int64, 0, len(c.strands))
	for _, s := range c.strands {
		ids = append(ids, s.descriptor)
	}
	c.t.fetchOf(ids, c.stored)
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
