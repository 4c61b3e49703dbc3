package estate

import (
	"encoding/binary"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/rule"
)

// PartitionFor is Partition, or PartitionAll, for those who ask on behalf of some
// people alone: counts are the identifiers that any of them may have. Strands
// that differ in nothing but others' names, above them too, are one node: whoever is
// asked for gets the same there, and whatever is handed down is handed down alike. In
// the rules of such a node somebody else's name stands for all of those others.
//
// Items apart are nodes of their own where they are within, each.
//
// Items are named by whole strands only; else, or where not enough differs for it to
// be worth the while, the partition is the ordinary one.
func (t *Tx) PartitionFor(groups []Group, apart []Target, everything bool, counts map[account.ID]bool) (*Partition, error) {
	exact := func() (*Partition, error) {
		if everything {
			return t.PartitionAll(groups)
		}
		return t.Partition(groups)
	}
	if t.Change() != 0 || t.Int("SELECT count(*) FROM (SELECT 1 FROM strands LIMIT ?)", AlikeFrom) < AlikeFrom {
		return exact()
	}
	l, err := t.layout()
	if err != nil {
		return nil, err
	}
	a := &collapser{t: t, l: l, f: newPartition(), groups: groups, group: map[int32]int{}, known: map[string]int32{}}
	if !a.mark(counts, everything) || !a.setApart(apart) {
		return exact()
	}
	a.f.alike, a.f.laid = true, l
	for _, top := range a.tops {
		a.walk(top)
	}
	a.fill()
	a.f.finish(t)
	return a.f, t.Err()
}

// AlikeFrom is how many strands there are before it is worth the while to look which
// are alike.
var AlikeFrom = int64(2000)

// collapser puts strands that are alike together.
type collapser struct {
	t      *Tx
	l      *layout
	f      *Partition
	groups []Group
	counts []bool        // by place of a name
	group  map[int32]int // by place of a strand: the group that names it
	tops   []int32
	apart  map[int32][]int64 // by place of a strand: items that are nodes of their own
	local  map[int32][]int32 // by place of a strand: names that count from there down
	known  map[string]int32  // what tells a node from others → the node
	firsts []first           // by node
	key    []byte
	walked int32 // strands, so far
}

// mark finds out what groups name, and where to begin; false where parts of strands
// are named.
func (a *collapser) mark(counts map[account.ID]bool, everything bool) bool {
	a.counts = make([]bool, len(a.l.names))
	have := make(map[string]bool, len(counts))
	for id := range counts {
		have[string(id.AppendBinary(nil))] = true
	}
	for i, sid := range a.l.names {
		a.counts[i] = !somebodys(sid) || have[string(sid)] // what isn't somebody's is everybody's
	}
	named := map[int32]map[int64]int{}
	var order []int32
	for g := range a.groups {
		for _, x := range a.groups[g].Targets {
			at := a.l.place(x.Strand)
			if at < 0 {
				return false
			}
			if named[at] == nil {
				named[at] = map[int64]int{}
				order = append(order, at)
			}
			named[at][x.Item] = g
		}
		for _, s := range a.groups[g].Strands {
			at := a.l.place(s)
			if at < 0 {
				continue
			}
			if _, twice := a.group[at]; !twice {
				a.group[at] = g
				order = append(order, at)
			}
		}
	}
	for at, items := range named {
		if _, whole := a.group[at]; whole {
			continue
		}
		if int64(len(items)) != a.l.strands[at].items {
			return false
		}
		g := -1
		for _, x := range items {
			if g >= 0 && g != x {
				return false
			}
			g = x
		}
		a.group[at] = g
	}
	if everything {
		for _, s := range a.t.topStrands() {
			if at := a.l.place(s); at >= 0 {
				order = append(order, at)
			}
		}
	}
	seen := map[int32]bool{}
	for _, at := range order {
		inside := seen[at]
		seen[at] = true
		for up := a.l.strands[at].parent; up >= 0 && !inside; up = a.l.strands[up].parent {
			_, inside = a.group[up]
		}
		if !inside {
			a.tops = append(a.tops, at)
		}
	}
	for at := range a.group {
		a.countNames(at)
	}
	return true
}

// countNames makes everybody count who is named in the rules of a strand, so that they
// are told by name.
func (a *collapser) countNames(at int32) {
	for _, n := range a.l.named(&a.l.strands[at]) {
		a.counts[n] = true
	}
}

// setApart makes nodes of their own of items that are within; false where they are
// parts of strands.
func (a *collapser) setApart(items []Target) bool {
	begins := map[int32]bool{}
	for _, at := range a.tops {
		begins[at] = true
	}
	a.apart = map[int32][]int64{}
	for _, x := range items {
		at := a.l.place(x.Strand)
		if _, named := a.group[at]; at < 0 || named {
			continue
		}
		for up := at; up >= 0; up = a.l.strands[up].parent {
			if begins[up] {
				a.apart[at] = append(a.apart[at], x.Item)
				break
			}
		}
	}
	for at, items := range a.apart {
		if int64(len(items)) != a.l.strands[at].items {
			return false
		}
	}
	a.countApart(begins)
	return true
}

// countApart makes those count who are named in the rules of what is a node of its own, in
// it and below it, so that they are told by name there: not everywhere, for where shares
// come down by the hundred they are most groups there are. What a folder hands down to it
// is told alike in both.
func (a *collapser) countApart(begins map[int32]bool) {
	a.local = map[int32][]int32{}
	add := func(at, n int32) {
		if !a.counts[n] && !slices.Contains(a.local[at], n) {
			a.local[at] = append(a.local[at], n)
		}
	}
	for at := range a.apart {
		names := a.l.named(&a.l.strands[at])
		for _, n := range names {
			add(at, n)
		}
		for up := at; !begins[up]; {
			up = a.l.strands[up].parent
			for _, n := range a.l.named(&a.l.strands[up]) {
				if slices.Contains(names, n) {
					add(up, n)
				}
			}
		}
	}
}

// chained is a strand on the way down: the node it is in, who else is named from
// the top down to it, in order, and who counts from somewhere above.
type chained struct {
	at      int32
	node    int32
	others  []int32
	counted []int32
}

// walk puts a strand and all below it into nodes, folders before what is in them.
func (a *collapser) walk(top int32) {
	stack := []chained{{at: top, node: -1}}
	for len(stack) > 0 {
		up := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		here := a.put(up)
		if !a.l.strands[here.at].folder {
			continue
		}
		below := a.l.below(here.at)
		for i := len(below) - 1; i >= 0; i-- {
			stack = append(stack, chained{below[i], here.node, here.others, here.counted})
		}
	}
}

// put puts one strand into its node.
func (a *collapser) put(c chained) chained {
	s := &a.l.strands[c.at]
	f := &a.l.forms[s.form]
	group, named := a.group[c.at]
	apart := a.apart[c.at]
	key := binary.LittleEndian.AppendUint32(a.key[:0], uint32(c.node))
	if named || apart != nil || c.node < 0 { // a node of its own: routes begin at tops, each on its server
		key = binary.LittleEndian.AppendUint32(append(key, 1), uint32(c.at))
	}
	from := len(key)
	folder := byte(0)
	if s.folder {
		folder = 1
	}
	key = binary.LittleEndian.AppendUint32(append(key, folder), uint32(f.shape))
	others, counted := c.others, c.counted
	if more := a.local[c.at]; len(more) > 0 {
		counted = append(slices.Clip(counted), more...)
	}
	for _, n := range a.l.named(s) {
		if a.counts[n] || slices.Contains(counted, n) {
			key = binary.LittleEndian.AppendUint32(append(key, 0), uint32(n))
			continue
		}
		k := slices.Index(others, n)
		if k < 0 {
			k = len(others)
			others = append(others[:k:k], n)
		}
		key = binary.LittleEndian.AppendUint32(append(key, 1), uint32(k))
	}
	a.key = key
	node, ok := a.known[string(key)]
	if !ok {
		node = int32(len(a.f.Nodes))
		a.known[string(key)] = node
		a.f.Nodes = append(a.f.Nodes, change.Node{Parent: int(c.node), Folder: s.folder})
		a.firsts = append(a.firsts, first{string(key[from:]), c.at, others, counted})
		a.f.nodes = append(a.f.nodes, partitionNode{base: s.id})
		for _, item := range apart {
			a.f.at[item] = int(node)
		}
		if named {
			if a.groups[group].Edit != nil {
				a.f.Edits[int(node)] = a.groups[group].Edit
			}
			for _, x := range a.groups[group].Targets {
				if x.Strand == s.id {
					a.f.at[x.Item] = int(node)
				}
			}
		}
	} else {
		n := &a.f.nodes[node]
		n.more = append(n.more, s.id)
	}
	a.f.Nodes[node].Items += s.items
	a.f.nodes[node].order = append(a.f.nodes[node].order, a.walked)
	a.walked++
	return chained{c.at, node, others, counted}
}

// first is the first strand of a node: what its rules are told by, and who else is named
// down to it.
type first struct {
	key     string
	at      int32
	others  []int32
	counted []int32
}

// fill gives the nodes the rules of their first strands, with others' names in them put
// together; one pointer for the same.
func (a *collapser) fill() {
	var ids []int64 // one for each that differs
	told := map[string]int{}
	for i := range a.firsts {
		x := &a.firsts[i]
		if _, ok := told[x.key]; !ok {
			told[x.key] = i
			ids = append(ids, a.l.forms[a.l.strands[x.at].form].descriptor)
		}
	}
	a.t.Fetch(ids)
	rules := make(map[string]rule.Any, len(told))
	for i := range a.firsts {
		x := &a.firsts[i]
		d, ok := rules[x.key]
		if !ok {
			d = a.renamed(a.t.Descriptor(a.l.forms[a.l.strands[x.at].form].descriptor), x)
			rules[x.key] = d
		}
		a.f.Nodes[i].Before, a.f.Nodes[i].After = d, d
	}
}

// renamed gives rules with others' names put together.
func (a *collapser) renamed(d rule.Any, x *first) rule.Any {
	own, ok := d.(*rule.Descriptor)
	if !ok {
		return d
	}
	as := map[account.ID]account.ID{}
	for _, n := range a.l.named(&a.l.strands[x.at]) {
		if !a.counts[n] && !slices.Contains(x.counted, n) {
			as[a.l.id(n)] = somebody(slices.Index(x.others, n))
		}
	}
	if len(as) == 0 {
		return d
	}
	return own.Renamed(as)
}

// somebody is the name that stands for others: no account's, and no rule's.
func somebody(n int) account.ID { return account.NewID(0xffff_ffff_fffe, uint32(n)) }
