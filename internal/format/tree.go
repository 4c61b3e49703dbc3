package format

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"slices"
	"strings"

	"tarnwold/core/rule"
)

// TreeRow is one item of a tree.
type TreeRow struct {
	Path   string // below the tree's top, parts joined by /; empty: the top
	Folder bool
	Body   int32 // the place of its descriptor in the tree's bodies
	Line   int32 // in its file
	Facts  Facts
}

// Facts is what a server tells of an item beside its rules; zero: not told.
type Facts struct {
	Size              int64 // bytes; of a file
	Modified, Changed int64 // its contents; it itself, its rules too: seconds since 1970
}

// Tree is a file of items, by the ten million in little memory: a folder's path
// is held once, as a name in a folder, and each distinct descriptor once. One
// that is given a scratch file (NewTreeOn) has its rows there, and no more in
// memory than its folders and descriptors.
//
// Rows may come in any order; Arrange brings folders before what is in them.
type Tree struct {
	Bodies []rule.Any

	seed   maphash.Seed
	names  names // of files
	called names // of folders; always in memory
	rows   pile[treeRow]
	facts  pile[Facts] // beside rows, as far as any are told
	dirs   []dir
	byName map[uint64]int32 // a folder's name and what it is in → the last dir that fits, see dir.alike
	// The folder the last row was in, part by part, for the next is in it too
	// or near it.
	last  string
	trail []step
	order []int32 // rows, folders before what is in them; nil: as they came
	twice int     // the first row that names a folder again; -1: none
	// arranged tells that it was looked over as it is.
	arranged bool
}

type treeRow struct {
	in   int32 // the dir it is in; of a folder: its own
	name uint32
	body int32 // ^body of a folder
	line int32
}

// dir is a folder that a row is of, or is in.
type dir struct {
	in    int32 // -1: the top
	name  uint32
	row   int32 // -1: no row is of it
	alike int32 // the next with the same hash; -1: none
	place int32 // where its row stands in order
	below int32 // items below it
}

type step struct {
	dir int32
	end int // where the part ends in last
}

// NewTreeOn makes a tree whose rows lie in a scratch file, which stays the
// caller's. They should come folders before what is in them: else they are
// read from here and there.
func NewTreeOn(s Scratch) *Tree {
	t := &Tree{}
	t.names.scratch, t.rows.scratch, t.facts.scratch = s, s, s
	return t
}

// Err gives the first error of the scratch file; what the tree gave since is
// nothing.
func (t *Tree) Err() error { return errors.Join(t.names.err, t.rows.err, t.facts.err) }

// NewTree makes a tree of rows.
func NewTree(bodies []rule.Any, rows []TreeRow) (*Tree, error) {
	t := &Tree{Bodies: bodies}
	for _, r := range rows {
		if err := t.Add(r); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// Add puts a row behind the others. Its path is one of parts with a name each.
func (t *Tree) Add(r TreeRow) error {
	if t.dirs == nil {
		t.seed, t.byName, t.twice = maphash.MakeSeed(), map[uint64]int32{}, -1
		t.dirs = append(t.dirs, dir{in: -1, row: -1, alike: -1})
	}
	if t.rows.len() == 1<<31-1 || t.names.full() || t.called.full() {
		return &Error{Line: int(r.Line), What: "the tree is larger than can be loaded at once; load it in parts"}
	}
	t.arranged = false
	row := treeRow{body: r.Body, line: r.Line}
	switch {
	case r.Folder:
		row.in, row.body = t.dirAt(r.Path), ^r.Body
		d := &t.dirs[row.in]
		row.name = d.name
		if d.row >= 0 && t.twice < 0 {
			t.twice = t.rows.len()
		}
		d.row = int32(t.rows.len())
	case r.Path == "":
		row.in = -1
	default:
		cut := max(0, strings.LastIndexByte(r.Path, '/'))
		row.in = t.dirAt(r.Path[:cut])
		row.name = t.names.add(strings.TrimPrefix(r.Path[cut:], "/"))
	}
	if r.Facts != (Facts{}) || t.facts.len() > 0 {
		for t.facts.len() < t.rows.len() {
			t.facts.add(Facts{})
		}
		t.facts.add(r.Facts)
	}
	t.rows.add(row)
	return t.Err()
}

// Told tells whether facts of any item are told.
func (t *Tree) Told() bool { return t.facts.len() > 0 }

func (t *Tree) fact(row int) Facts {
	if row < t.facts.len() {
		return t.facts.at(row)
	}
	return Facts{}
}

// dirAt gives the dir of a path, with those above it made where they are not
// there yet; a dir above has a lower number, always.
func (t *Tree) dirAt(path string) int32 {
	if path == "" {
		return 0
	}
	// As far as it goes with the last path, its dirs are known.
	same := 0
	for same < len(path) && same < len(t.last) && path[same] == t.last[same] {
		same++
	}
	for n := len(t.trail); n > 0; n-- {
		if end := t.trail[n-1].end; end <= same && (end == len(path) || path[end] == '/') {
			break
		}
		t.trail = t.trail[:n-1]
	}
	at, from := int32(0), 0
	if n := len(t.trail); n > 0 {
		at, from = t.trail[n-1].dir, t.trail[n-1].end+1
	}
	for from < len(path) {
		end := len(path)
		if cut := strings.IndexByte(path[from:], '/'); cut >= 0 {
			end = from + cut
		}
		at = t.dirIn(at, path[from:end])
		t.trail = append(t.trail, step{at, end})
		from = end + 1
	}
	if t.last != path {
		t.last = strings.Clone(path)
	}
	return at
}

func (t *Tree) hash(in int32, name string) uint64 {
	var h maphash.Hash
	h.SetSeed(t.seed)
	var b [4]byte
	binary.LittleEndian.PutUint32(b[:], uint32(in))
	_, _ = h.Write(b[:])
	_, _ = h.WriteString(name)
	return h.Sum64()
}

func (t *Tree) dirIn(in int32, name string) int32 {
	h := t.hash(in, name)
	first, ok := t.byName[h]
	if !ok {
		first = -1
	}
	for i := first; i >= 0; i = t.dirs[i].alike {
		if d := &t.dirs[i]; d.in == in && string(t.called.at(d.name)) == name {
			return i
		}
	}
	i := int32(len(t.dirs))
	t.dirs = append(t.dirs, dir{in: in, name: t.called.add(name), row: -1, alike: first})
	t.byName[h] = i
	return i
}

// Len is how many rows there are.
func (t *Tree) Len() int { return t.rows.len() }

// Folders is how many of the rows are of folders.
func (t *Tree) Folders() (n int) {
	for i := range t.Len() {
		if t.rows.at(i).body < 0 {
			n++
		}
	}
	return n
}

// Row gives a row as it came.
func (t *Tree) Row(i int) TreeRow {
	r := t.rows.at(i)
	out := TreeRow{Folder: r.body < 0, Body: r.body, Line: r.line, Facts: t.fact(i)}
	if out.Folder {
		out.Body = ^r.body
		out.Path = t.Path(r.in)
	} else if r.in >= 0 {
		out.Path = strings.TrimPrefix(t.Path(r.in)+"/"+string(t.nameOf(r)), "/")
	}
	return out
}

// Path writes the path of a folder, by the number Each gives it.
func (t *Tree) Path(folder int32) string {
	var parts []string
	for ; folder > 0; folder = t.dirs[folder].in {
		parts = append(parts, string(t.called.at(t.dirs[folder].name)))
	}
	slices.Reverse(parts)
	return strings.Join(parts, "/")
}

// Dirs is how many numbers of folders there are.
func (t *Tree) Dirs() int { return len(t.dirs) }

// Arranged is a row in its place.
type Arranged struct {
	Name   string // empty: the top
	Folder bool
	Body   int32
	Self   int32 // the number of the folder, where it is one; -1
	In     int32 // the number of the folder it is in; -1: the top
	Above  int   // where that folder's row stands in the order
	Below  int   // how many items a folder has below it
	Facts  Facts
}

// nameOf gives a row's name, until the next is asked for.
func (t *Tree) nameOf(r treeRow) []byte {
	if r.body < 0 {
		return t.called.at(r.name)
	}
	return t.names.at(r.name)
}

// Arrange looks the tree over, and refuses one that doesn't hang together.
func (t *Tree) Arrange() error {
	if t.arranged {
		return nil
	}
	for i := range t.dirs {
		t.dirs[i].below = 0
	}
	t.order = nil
	n := t.Len()
	if n == 0 || t.dirs[0].row < 0 && !t.topIsFile() {
		return &Error{Line: 1, What: "there is no row for the top of the tree: one with an empty path"}
	}
	if t.twice >= 0 {
		return t.again(t.twice)
	}
	inOrder := true
	for i := range n {
		r := t.rows.at(i)
		up := r.in
		if r.body < 0 && up >= 0 {
			up = t.dirs[up].in
		}
		if up < 0 {
			if r.body >= 0 && n > 1 {
				return &Error{Line: int(r.line), What: "the top (the row with an empty path) is a file, and there are other rows"}
			}
			continue
		}
		d := &t.dirs[up]
		if d.row < 0 {
			return &Error{Line: int(r.line), What: fmt.Sprintf("%q is in %q, and there is no row for that folder", t.Row(i).Path, t.Path(up))}
		}
		d.below++
		inOrder = inOrder && int(d.row) < i
	}
	if err := t.distinct(); err != nil {
		return err
	}
	for i := len(t.dirs) - 1; i > 0; i-- {
		t.dirs[t.dirs[i].in].below += t.dirs[i].below
	}
	if !inOrder {
		t.sort()
	}
	for at := range n {
		if r := t.rows.at(t.which(at)); r.body < 0 {
			t.dirs[r.in].place = int32(at)
		}
	}
	t.arranged = t.Err() == nil
	return t.Err()
}

func (t *Tree) topIsFile() bool {
	for i := range t.Len() {
		if t.rows.at(i).in < 0 {
			return true
		}
	}
	return false
}

func (t *Tree) which(at int) int {
	if t.order == nil {
		return at
	}
	return int(t.order[at])
}

// sort orders rows by depth, else as they came: by counting.
func (t *Tree) sort() {
	depth := make([]int32, len(t.dirs))
	deepest := int32(0)
	for i := 1; i < len(t.dirs); i++ {
		depth[i] = depth[t.dirs[i].in] + 1
		deepest = max(deepest, depth[i])
	}
	of := func(i int) int32 {
		r := t.rows.at(i)
		switch {
		case r.in < 0:
			return 0
		case r.body < 0:
			return depth[r.in]
		}
		return depth[r.in] + 1
	}
	next := make([]int32, deepest+3)
	for i := range t.Len() {
		next[of(i)+1]++
	}
	for i := 1; i < len(next); i++ {
		next[i] += next[i-1]
	}
	t.order = make([]int32, t.Len())
	for i := range t.Len() {
		d := of(i)
		t.order[next[d]] = int32(i)
		next[d]++
	}
}

// mostHashes is how many names are held against each other at once.
const mostHashes = 1 << 20

// distinct refuses a file named twice in one folder, or as a folder beside.
// Names are held by their hash alone, a share of them at a time, which keeps
// ten million of them small; two that share one are compared in full.
func (t *Tree) distinct() error {
	shares := uint64(t.Len()/mostHashes + 1)
	shared := map[uint64]struct{}{}
	hashes := make([]uint64, 0, t.Len()/int(shares)+t.Len()/int(shares)/8)
	for share := range shares {
		hashes = hashes[:0]
		for i := range t.Len() {
			if h := t.nameHash(i); h%shares == share {
				hashes = append(hashes, h)
			}
		}
		slices.Sort(hashes)
		for i := 1; i < len(hashes); i++ {
			if hashes[i] == hashes[i-1] {
				shared[hashes[i]] = struct{}{}
			}
		}
	}
	if len(shared) == 0 {
		return nil
	}
	seen := map[string]bool{}
	for i := range t.Len() {
		if _, ok := shared[t.nameHash(i)]; !ok {
			continue
		}
		path := t.Row(i).Path
		if seen[path] {
			return t.again(i)
		}
		seen[path] = true
	}
	return nil
}

func (t *Tree) again(row int) error {
	r := t.Row(row)
	return &Error{Line: int(r.Line), What: fmt.Sprintf("%q appears twice", r.Path)}
}

func (t *Tree) nameHash(i int) uint64 {
	r := t.rows.at(i)
	in := r.in
	if r.body < 0 {
		in = t.dirs[in].in
	}
	return t.hash(in, string(t.nameOf(r)))
}

// Each calls fn with every row of an arranged tree, folders before what is in
// them, until fn says no; the error is the scratch file's.
func (t *Tree) Each(fn func(at int, r *Arranged) bool) error {
	var out Arranged
	for at := range t.Len() {
		r := t.rows.at(t.which(at))
		out = Arranged{Name: string(t.nameOf(r)), Body: r.body, Self: -1, In: r.in, Above: -1, Facts: t.fact(t.which(at))}
		if r.body < 0 {
			d := &t.dirs[r.in]
			out.Folder, out.Body, out.Self, out.In, out.Below = true, ^r.body, r.in, d.in, int(d.below)
		}
		if out.In >= 0 {
			out.Above = int(t.dirs[out.In].place)
		}
		if err := t.Err(); err != nil {
			return err
		}
		if !fn(at, &out) {
			return nil
		}
	}
	return nil
}
