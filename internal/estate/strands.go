package estate

import (
	"database/sql"

	"tarnwold/core/rule"
)

type strandRow struct {
	parent, descriptor int64
	folder             bool
}

func (t *Tx) strand(id int64) strandRow {
	s, ok := t.strands[id]
	if !ok {
		if t.One("SELECT parent, descriptor, folder FROM strands WHERE id=?", []any{id}, &s.parent, &s.descriptor, &s.folder) && t.Change() == 0 {
			t.strands[id] = s
		}
	}
	return s
}

// rememberStrand remembers a strand that was read in passing, while nothing is changed.
func (t *Tx) rememberStrand(id int64, s strandRow) {
	if t.Change() == 0 && len(t.strands) < mostPaths {
		t.strands[id] = s
	}
}

func (t *Tx) isFolder(strand int64) bool { return t.strand(strand).folder }

// FirstOf gives the first item of each of some strands, all at once.
func (t *Tx) FirstOf(strands []int64) map[int64]int64 {
	out := make(map[int64]int64, len(strands))
	t.EachOf("SELECT x.value, coalesce((SELECT id FROM items WHERE strand=x.value ORDER BY id LIMIT 1), 0) FROM {set} AS x", strands, func(r *sql.Rows) error {
		var strand, id int64
		err := r.Scan(&strand, &id)
		if id != 0 {
			out[strand] = id
		}
		return err
	})
	return out
}

// Strand is a strand as it stands.
type Strand struct {
	ID, Parent, Descriptor int64
	Folder                 bool
	Items                  int64
}

// StrandsHaving lists the strands that have one of some descriptors and any items, by
// descriptor, all at once.
func (t *Tx) StrandsHaving(descriptors []int64) map[int64][]Strand {
	out := map[int64][]Strand{}
	t.EachOf("SELECT s.id, s.parent, s.descriptor, s.folder, w.items FROM strands s JOIN weights w ON w.strand=s.id WHERE w.items>0 AND s.descriptor IN {set} ORDER BY s.id", descriptors, func(r *sql.Rows) error {
		var s Strand
		err := r.Scan(&s.ID, &s.Parent, &s.Descriptor, &s.Folder, &s.Items)
		out[s.Descriptor] = append(out[s.Descriptor], s)
		t.rememberStrand(s.ID, strandRow{s.Parent, s.Descriptor, s.Folder})
		return err
	})
	return out
}

// Of gives the descriptor of a strand.
func (t *Tx) Of(strand int64) rule.Any { return t.Descriptor(t.strand(strand).descriptor) }

// ParentOf gives the descriptor of the strand above one; nil at the top.
func (t *Tx) ParentOf(strand int64) rule.Any {
	if up := t.strand(strand).parent; up != 0 {
		return t.Of(up)
	}
	return nil
}

// ReadChain reads the strands of a place and of the folders above it, all at once, for
// those who will ask for their rules.
func (t *Tx) ReadChain(p Place) {
	var want []int64
	for _, s := range p.Trail {
		if _, known := t.strands[s]; !known {
			want = append(want, s)
		}
	}
	t.StrandsNow(want)
}

// Rechain gives a place whose item is in the strand it was in with the strands that are
// above that now.
func (t *Tx) Rechain(p Place) Place {
	t.ReadChain(p)
	p.Trail = []int64{p.Strand}
	for up := t.strand(p.Strand).parent; up != 0 && t.Err() == nil; up = t.strand(up).parent {
		p.Trail = append(p.Trail, up)
	}
	return p
}

// ReadChains is ReadChain of many items that were located.
func (t *Tx) ReadChains(items []int64) {
	seen, want := map[int64]bool{}, []int64{}
	for _, id := range items {
		for at, ok := t.located[id]; ok && !seen[at.strand]; at, ok = t.located[at.parent] {
			seen[at.strand] = true
			if _, known := t.strands[at.strand]; !known {
				want = append(want, at.strand)
			}
		}
	}
	t.StrandsNow(want)
}

// Above gives the rules of the folders above a place, nearest first.
func (t *Tx) Above(p Place) []rule.Any {
	t.ReadChain(p)
	out := make([]rule.Any, 0, len(p.Trail))
	for _, s := range p.Trail[min(1, len(p.Trail)):] {
		out = append(out, t.Of(s))
	}
	return out
}
