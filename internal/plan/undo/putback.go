package undo

import (
	"slices"
	"strings"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/store"
)

// puttingBack is removed items being put back in: the rows of the file, and the same
// as nodes, for their rules count again.
type puttingBack struct {
	*undoing
	items    []*edit.Row[edit.ItemRow]
	mine     map[int64]*edit.Row[edit.ItemRow] // by row
	trees    map[int64]*edit.TreeRow           // by the item at the top
	strands  map[int64]*edit.StrandRow         // as they were, or stand
	count    map[int64]int64                   // by strand: how many items come
	order    []int64                           // strands, as the items have them
	nodes    map[int64]int                     // by strand
	restored map[int64]bool                    // strands that come back
	f        *estate.Partition
}

// putBack puts removed items back in.
func (u *undoing) putBack(items []*edit.Row[edit.ItemRow]) error {
	b := &puttingBack{undoing: u, items: items, mine: map[int64]*edit.Row[edit.ItemRow]{}, trees: map[int64]*edit.TreeRow{},
		strands: map[int64]*edit.StrandRow{}, count: map[int64]int64{}, nodes: map[int64]int{}, restored: map[int64]bool{}, f: u.p.Work.Partition}
	if b.f == nil {
		b.f = estate.NewPartition()
	}
	for _, n := range items {
		b.mine[n.ID] = n
		if b.count[n.Before.Strand] == 0 {
			b.order = append(b.order, n.Before.Strand)
		}
		b.count[n.Before.Strand]++
	}
	for i := range u.did.Trees.List {
		if n := &u.did.Trees.List[i]; n.Gone() {
			b.trees[n.Before.Item] = n.Before
			u.back(n.Back())
		}
	}
	for _, step := range []func() error{b.putStrands, b.putItems, b.layOut, b.shares} {
		if err := step(); err != nil {
			return err
		}
	}
	b.describe()
	return u.d.T.Err()
}

// strand gives a strand as it was when the change took it out, or as it stands; nil:
// it is no longer there.
func (b *puttingBack) strand(id int64) (*edit.StrandRow, error) {
	if s, known := b.strands[id]; known {
		return s, nil
	}
	var row *edit.StrandRow
	if s := b.did.Strands.Of(id); s != nil && s.Gone() {
		row = s.Before
	} else {
		var err error
		if row, err = edit.StrandNow(b.d.T, id); err != nil {
			return nil, err
		}
	}
	b.strands[id] = row
	return row, nil
}

// putStrands brings back the strands that went with the items: those of the items
// first, for they hang from what stands.
func (b *puttingBack) putStrands() error {
	restore := func(id int64) error {
		now, err := edit.StrandNow(b.d.T, id)
		if n := b.did.Strands.Of(id); err == nil && now == nil && !b.restored[id] && n != nil && n.Gone() {
			b.restored[id] = true
			b.back(n.Back())
		}
		return err
	}
	for _, s := range b.order {
		row, err := b.strand(s)
		if err != nil {
			return err
		}
		if row == nil {
			return b.never("the rules of what it removed are no longer there")
		}
		if err := restore(s); err != nil {
			return err
		}
	}
	for i := range b.did.Strands.List {
		if err := restore(b.did.Strands.List[i].ID); err != nil {
			return err
		}
	}
	return nil
}

// putItems brings back the items, where nothing else has taken their places.
func (b *puttingBack) putItems() error {
	t := b.d.T
	for _, n := range b.items {
		parent := n.Before.Parent
		switch {
		case parent == 0:
			if err := b.lands(b.trees[n.ID]); err != nil {
				return err
			}
		case b.mine[parent] == nil:
			up, ok := t.ItemRow(parent)
			if !ok {
				return b.never("the folder it was in is no longer there")
			}
			if _, taken := t.Child(parent, n.Before.Name); taken {
				return b.never("%s holds %q again", t.Where(parent), n.Before.Name)
			}
			// It hangs from the strand its folder has now.
			for i := range b.p.Work.Rows {
				if r := &b.p.Work.Rows[i]; r.Table == "strands" && r.Row == n.Before.Strand && r.After != nil {
					*r = edit.Under(*b.did.Strands.Of(r.Row), up.Strand)
				}
			}
		}
		b.back(n.Back())
		if len(b.did.LastDays.List) > 0 {
			row := b.strands[n.Before.Strand]
			b.daysBack(estate.Bearer{Item: n.ID}, t.Descriptor(row.Descriptor), row.Folder)
		}
	}
	return nil
}

// lands refuses a tree that can't stand where it stood any more.
func (b *puttingBack) lands(tree *edit.TreeRow) error {
	if tree == nil {
		return b.never("the tree it was the top of is unknown")
	}
	s, there, err := b.server(tree.Server)
	if err != nil {
		return err
	}
	if !there {
		return b.never("its server is no longer there")
	}
	if err := b.d.T.Landing(&s, tree.Path); err != nil {
		return b.never("%v", err)
	}
	return nil
}

// node gives what comes of a strand as a node, below that of the strand above; -1
// where none of it comes.
func (b *puttingBack) node(strand int64) int {
	if i, ok := b.nodes[strand]; ok {
		return i
	}
	row, _ := b.strand(strand)
	if row == nil || b.count[strand] == 0 {
		return -1
	}
	i := b.f.Add(b.node(row.Parent), row.Folder, b.count[strand], nil, b.d.T.Descriptor(row.Descriptor))
	b.nodes[strand] = i
	return i
}

// layOut makes what comes into nodes, and their tops into roots of the plan.
func (b *puttingBack) layOut() error {
	t := b.d.T
	for _, s := range b.order {
		b.node(s)
	}
	for _, n := range b.items {
		parent := n.Before.Parent
		i := b.nodes[n.Before.Strand]
		if b.f.Nodes[i].Parent >= 0 || b.mine[parent] != nil || b.root(i) >= 0 {
			continue
		}
		if parent == 0 {
			s, _, err := b.server(b.trees[n.ID].Server)
			if err != nil {
				return err
			}
			b.p.Work.Roots = append(b.p.Work.Roots, plan.Root{Node: i, Server: s, Path: [2]string{"", b.trees[n.ID].Path}})
			continue
		}
		in := t.Place(parent)
		b.f.Above[i] = append([]rule.Any{t.Of(in.Strand)}, t.Above(in)...)
		b.p.Work.Roots = append(b.p.Work.Roots, plan.Root{Node: i, Server: in.Server, Path: [2]string{"", place.Join(in.Path, n.Before.Name)}})
	}
	b.p.Work.Partition = b.f
	return nil
}

// root finds the plan's root that a node is; -1: none.
func (b *puttingBack) root(node int) int {
	return slices.IndexFunc(b.p.Work.Roots, func(r plan.Root) bool { return r.Node == node })
}

// inFolder is a name in a folder, as names are compared.
type inFolder struct {
	folder int64
	key    string
}

// shares finds the folders that shares stand over among what comes back.
func (b *puttingBack) shares() error {
	child := map[inFolder]*edit.Row[edit.ItemRow]{}
	for _, n := range b.items {
		child[inFolder{n.Before.Parent, store.Key(n.Before.Name)}] = n
	}
	for _, n := range b.items {
		i := b.nodes[n.Before.Strand]
		k := b.root(i)
		if k < 0 || b.f.Strand(i) != 0 || b.mine[n.Before.Parent] != nil {
			continue
		}
		r := b.p.Work.Roots[k]
		over := b.d.T.Shares(r.Server)
		for _, e := range b.p.Work.Shares { // and those that come back with it
			if e.Before == nil && e.Server.ID == r.Server.ID {
				over = append(over, *e.After)
			}
		}
		for _, sh := range over {
			rest, ok := place.Cut(store.Key(sh.Folder), store.Key(r.Path[1]))
			at := n
			for _, name := range strings.Split(rest, "/") {
				if name != "" && at != nil {
					at = child[inFolder{at.ID, name}]
				}
			}
			if !ok || at == nil {
				continue
			}
			if b.count[at.Before.Strand] != 1 {
				return b.never("the share %s was made over what it would put back", sh.Address())
			}
			b.p.Work.AddedAt[plan.AddedKey(r.Server, sh.Folder)] = b.nodes[at.Before.Strand]
		}
	}
	return nil
}

// describe tells of what comes, by its tops.
func (b *puttingBack) describe() {
	for _, r := range b.p.Work.Roots {
		if b.f.Strand(r.Node) != 0 {
			continue
		}
		var items int64
		for i := range b.f.Nodes {
			if plan.Within(b.f, i, r.Node) {
				items += b.f.Nodes[i].Items
			}
		}
		b.p.Edits = append(b.p.Edits, edit.Description{Kind: "item", Where: estate.Place{Server: r.Server, Path: r.Path[1]}.String(), Items: items,
			Lines: []edit.Line{{Sign: edit.Comes, What: "item"}}})
	}
}
