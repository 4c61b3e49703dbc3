package estate

import (
	"fmt"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/format"
	"tarnwold/internal/store"
)

type descriptor = rule.Descriptor

// ownStrand is how many items below a folder give it a strand of its own.
const ownStrand = 512

// LoadTree puts a whole tree, which is arranged, at a server's own path, within
// a change that is Meta.Bulk. step is called now and then with the number of
// rows done; it may be nil.
func (t *Tx) LoadTree(s Server, at string, tree *format.Tree, step func(done int)) error {
	above, err := t.landing(s, at)
	if err != nil {
		return err
	}
	ids := make([]int64, len(tree.Bodies))
	for i, d := range tree.Bodies {
		ids[i] = t.keep(d)
	}
	loaded := t.LoadingItems()
	firstStrand, firstItem := t.Last("strands")+1, t.Last("items")+1

	type key struct {
		parent int64
		body   int64
		folder bool
	}
	routeEnds := t.sharesBelow(s, at)
	known := map[key]int64{}
	nextStrand := firstStrand
	strandOf := make([]int64, tree.Dirs())
	var weights []int64
	facts := t.Bulk("facts", "item", "size", "modified", "changed")
	items := t.Bulk("items", "id", "parent", "name", "strand", "fold")
	var strands []key // beside weights; put in last, so that they lie together in the file
	t.Fail(tree.Each(func(done int, r *format.Arranged) bool {
		parentItem, parentStrand, name := above.Item, above.Strand, above.name
		if r.In >= 0 {
			parentItem, parentStrand, name = firstItem+int64(r.Above), strandOf[r.In], r.Name
		}
		k := key{parentStrand, ids[r.Body], r.Folder}
		alone := r.Below >= ownStrand || r.In < 0 || r.Folder && routeEnds(tree, r)
		strand, ok := known[k]
		if !ok || alone {
			strand = nextStrand
			nextStrand++
			weights = append(weights, 0)
			strands = append(strands, k)
			if !alone {
				known[k] = strand
			}
		}
		if r.Folder {
			strandOf[r.Self] = strand
		}
		weights[strand-firstStrand]++
		items.Add(firstItem+int64(done), parentItem, name, strand, store.Fold(name))
		if r.Facts != (format.Facts{}) {
			facts.Add(firstItem+int64(done), r.Facts.Size, r.Facts.Modified, r.Facts.Changed)
		}
		if done&1023 == 0 && (t.Err() != nil || t.Context().Err() != nil) {
			t.Fail(t.Context().Err())
			return false
		}
		if step != nil && done%4096 == 0 {
			step(done)
		}
		return true
	}))
	items.Flush()
	facts.Flush()
	b := t.Bulk("strands", "id", "parent", "descriptor", "folder")
	for i, k := range strands {
		b.Add(firstStrand+int64(i), k.parent, k.body, k.folder)
	}
	b.Flush()
	w := t.Bulk("weights", "strand", "items")
	for i, n := range weights {
		w.Add(firstStrand+int64(i), n)
	}
	w.Flush()
	loaded()
	t.Made("strands", firstStrand, nextStrand-1)
	t.Made("items", firstItem, firstItem+int64(tree.Len())-1)
	if above.Item == 0 {
		id := t.Exec("INSERT INTO trees(server, path, item) VALUES(?,?,?)", s.ID, at, firstItem)
		t.Made("trees", id, id)
	}
	if step != nil {
		step(tree.Len())
	}
	return t.Err()
}

// sharesBelow tells whether a share's folder is that of a row: it has a strand
// of its own, for routes end there.
func (t *Tx) sharesBelow(s Server, at string) func(*format.Tree, *format.Arranged) bool {
	paths, names := map[string]bool{}, map[string]bool{}
	for _, sh := range t.Shares(s) {
		if key, top := store.Key(sh.Folder), store.Key(at); place.Under(key, top) {
			rest, _ := place.Cut(key, top)
			paths[rest], names[place.Name("/"+rest)] = true, true
		}
	}
	return func(tree *format.Tree, r *format.Arranged) bool {
		return len(names) > 0 && names[store.Key(r.Name)] && paths[store.Key(tree.Path(r.Self))]
	}
}

type landing struct {
	Item, Strand int64
	name         string
}

// Landing refuses a place for a tree that is taken; server is nil where it
// isn't in the estate yet.
func (t *Tx) Landing(s *Server, at string) error {
	if s == nil {
		return nil
	}
	_, err := t.landing(*s, at)
	return err
}

// landing finds what a tree is to hang from, and refuses a place that is taken.
func (t *Tx) landing(s Server, at string) (landing, error) {
	for _, top := range t.Tops(s) {
		if place.Under(top, at) {
			return landing{}, refuse("load it at another place", "%s:%s is in the estate already", s.Name, top)
		}
		if !place.Under(at, top) {
			continue
		}
		if _, err := t.At(s, at); err == nil {
			return landing{}, refuse("load it at another place", "%s:%s is in the estate already", s.Name, at)
		}
		p, err := t.At(s, place.Dir(at))
		if err != nil {
			return landing{}, err
		}
		if !p.Folder {
			return landing{}, refuse("", "%s is a file", p)
		}
		return landing{p.Item, p.Strand, place.Name(at)}, nil
	}
	return landing{name: fmt.Sprintf("%d:%s", s.ID, at)}, t.Err()
}
