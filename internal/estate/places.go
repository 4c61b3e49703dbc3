package estate

import (
	"database/sql"
	"slices"
	"strings"

	"tarnwold/core/place"
	"tarnwold/internal/store"
)

// Place is an item found in the estate.
type Place struct {
	Server Server
	Share  *Share // the share it was asked for through; nil: the server's own path
	Path   string // the server's own path
	Item   int64
	Folder bool
	Strand int64
	// Trail holds the strands from the item's own up to the top of its tree,
	// nearest first.
	Trail []int64
}

// AtMost tells whether there are no more than so many items.
func (t *Tx) AtMost(items int64) bool {
	return t.Int("SELECT count(*) FROM (SELECT 1 FROM items LIMIT ?)", items+1) <= items
}

// Address gives the server's own address of the place.
func (p Place) Address() place.Address {
	return place.Address{Server: p.Server.Name, Path: p.Path}
}

// String writes the server's own address of the place.
func (p Place) String() string { return p.Address().String() }

// By gives the address through a share.
func (p Place) By(s *Share) place.Address {
	if s == nil {
		return p.Address()
	}
	rest, _ := s.Cut(p.Path)
	return place.Address{Server: p.Server.Name, Share: s.Name, Path: rest}
}

// Via writes the address through the share it was asked for by.
func (p Place) Via() string { return p.By(p.Share).String() }

// Name is the last part of the path.
func (p Place) Name() string { return place.Name(p.Path) }

// Up gives the n-th folder above the place, which is there while n is less
// than the length of Trail.
func (p Place) Up(n int) string {
	path := p.Path
	for range n {
		path = place.Dir(path)
	}
	return place.Address{Server: p.Server.Name, Path: path}.String()
}

// Find finds the place an address means.
func (t *Tx) Find(a place.Address) (Place, error) {
	s, err := t.Server(a.Server)
	if err != nil {
		return Place{}, err
	}
	if a.Share == "" {
		return t.At(s, a.Path)
	}
	sh, err := t.Share(s, a.Share)
	if err != nil {
		return Place{}, err
	}
	p, err := t.At(s, place.Join(sh.Folder, a.Path))
	p.Share = &sh
	return p, err
}

// FindText is Find for an address in words.
func (t *Tx) FindText(address string) (Place, error) {
	a, err := place.Parse(address)
	if err != nil {
		return Place{}, err
	}
	return t.Find(a)
}

// At finds an item by the server's own path. A name that differs in case only
// is taken where just one does.
func (t *Tx) At(s Server, path string) (Place, error) {
	p := Place{Server: s}
	var top string
	key := store.Key(path)
	t.Each("SELECT t.path, t.item, i.strand FROM trees t JOIN items i ON i.id=t.item WHERE t.server=?", []any{s.ID}, func(r *sql.Rows) error {
		var at string
		var item, strand int64
		if err := r.Scan(&at, &item, &strand); err != nil {
			return err
		}
		if place.Under(key, store.Key(at)) && (p.Item == 0 || len(at) > len(top)) {
			top, p.Item, p.Strand = at, item, strand
		}
		return nil
	})
	if err := t.Err(); err != nil {
		return Place{}, err
	}
	if p.Item == 0 {
		tops := t.Strings("SELECT path FROM trees WHERE server=?", s.ID)
		if len(tops) == 0 {
			return p, refuse("load one with: tarnwold load tree FILE --at "+s.Name+":/FOLDER", "server %s has no folders in the estate", s.Name)
		}
		return Place{}, &NotFound{What: "place", Name: path, In: "server " + s.Name, Near: Nearest(path, tops)}
	}
	var rest string
	if top == "/" {
		rest = strings.TrimPrefix(path, "/")
	} else {
		parts := strings.Split(strings.TrimPrefix(path, "/"), "/")
		rest = strings.Join(parts[strings.Count(top, "/"):], "/")
	}
	p.Path = top
	p.Trail = []int64{p.Strand}
	for _, name := range strings.Split(rest, "/") {
		if name == "" {
			continue
		}
		c, ok := t.Child(p.Item, name)
		if err := t.Err(); err != nil {
			return p, err
		}
		if !ok {
			return Place{}, &NotFound{What: "place", Name: name, In: p.String(),
				Near: Nearest(name, t.Strings("SELECT name FROM items WHERE parent=? LIMIT 2000", p.Item))}
		}
		p.Item, p.Strand, p.Path = c.Item, c.Strand, place.Join(p.Path, c.Name)
		p.Trail = append(p.Trail, c.Strand)
	}
	for i, j := 0, len(p.Trail)-1; i < j; i, j = i+1, j-1 {
		p.Trail[i], p.Trail[j] = p.Trail[j], p.Trail[i]
	}
	t.ReadChain(p)
	p.Folder = t.isFolder(p.Strand)
	return p, t.Err()
}

// Child is an item directly in a folder.
type Child struct {
	Item, Strand int64
	Name         string
	Folder       bool
}

// Child finds an item in a folder by name: the very name, or the one that
// differs in case only where just one does.
func (t *Tx) Child(parent int64, name string) (Child, bool) {
	var alike []Child
	key := store.Key(name)
	t.Each("SELECT i.id, i.strand, i.name, s.folder FROM items i JOIN strands s ON s.id=i.strand WHERE i.parent=? AND i.fold=?", []any{parent, store.Fold(name)}, func(r *sql.Rows) error {
		var c Child
		err := r.Scan(&c.Item, &c.Strand, &c.Name, &c.Folder)
		if store.Key(c.Name) == key {
			alike = append(alike, c)
		}
		return err
	})
	for _, c := range alike {
		if c.Name == name {
			return c, true
		}
	}
	if len(alike) > 1 { // they differ in how letters are put together: that must fit
		alike = slices.DeleteFunc(alike, func(c Child) bool { return !store.SameCase(c.Name, name) })
	}
	if len(alike) == 1 {
		return alike[0], true
	}
	return Child{}, false
}

// In finds the place of a name directly in a folder, as At would.
func (t *Tx) In(folder Place, name string) (Place, bool) {
	c, ok := t.Child(folder.Item, name)
	if !ok {
		return Place{}, false
	}
	p := folder
	p.Item, p.Strand, p.Path = c.Item, c.Strand, place.Join(folder.Path, c.Name)
	p.Trail = append([]int64{c.Strand}, folder.Trail...)
	p.Folder = c.Folder
	return p, t.Err() == nil
}

// Holds tells whether a folder holds an item of the very name.
func (t *Tx) Holds(parent int64, name string) (int64, bool) {
	c, ok := t.Child(parent, name)
	return c.Item, ok && c.Name == name
}

// Place finds the place of an item, by its number.
func (t *Tx) Place(item int64) Place {
	var names []string
	p := Place{Item: item}
	for at := item; ; {
		in, ok := t.located[at]
		if !ok && !t.One("SELECT parent, name, strand FROM items WHERE id=?", []any{at}, &in.parent, &in.name, &in.strand) {
			break
		}
		p.Trail = append(p.Trail, in.strand)
		if in.parent != 0 {
			names = append(names, in.name)
			at = in.parent
			continue
		}
		if top, ok := t.standingIn(at, 0, ""); ok {
			p.Server, p.Path = *top.server, top.path
		}
		break
	}
	if len(names) > 0 {
		parts := make([]string, 0, len(names)+1)
		if p.Path != "/" {
			parts = append(parts, p.Path)
		} else {
			parts = append(parts, "")
		}
		for i := len(names) - 1; i >= 0; i-- {
			parts = append(parts, names[i])
		}
		p.Path = strings.Join(parts, "/")
	}
	if len(p.Trail) > 0 {
		p.Strand = p.Trail[0]
		p.Folder = t.isFolder(p.Strand)
	}
	return p
}

// mostPaths is how many folders' addresses are remembered.
const mostPaths = 1 << 18

// standing is where an item is, without all that a Place holds.
type standing struct {
	server *Server // shared by all that stand on it; nil: nowhere
	path   string
}

// Where writes the server's own address of an item; where folders are is
// remembered, so that many items cost few queries.
func (t *Tx) Where(item int64) string {
	s, ok := t.standing(item)
	if !ok {
		return "an item no longer there"
	}
	return place.Address{Server: s.server.Name, Path: s.path}.String()
}

// Stands gives the server and the server's own path of an item.
func (t *Tx) Stands(item int64) (Server, string, bool) {
	s, ok := t.standing(item)
	if !ok {
		return Server{}, "", false
	}
	return *s.server, s.path, true
}

func (t *Tx) standing(item int64) (standing, bool) {
	if at, ok := t.located[item]; ok {
		return t.standingIn(item, at.parent, at.name)
	}
	var parent int64
	var name string
	if !t.One("SELECT parent, name FROM items WHERE id=?", []any{item}, &parent, &name) {
		return standing{}, false
	}
	return t.standingIn(item, parent, name)
}

func (t *Tx) standingIn(item, parent int64, name string) (standing, bool) {
	if parent == 0 {
		if s, ok := t.paths[item]; ok {
			return s, true
		}
		var server int64
		var s standing
		ok := t.One("SELECT server, path FROM trees WHERE item=?", []any{item}, &server, &s.path)
		on := t.serverByRow(server)
		s.server = &on
		if ok {
			t.paths[item] = s
		}
		return s, ok
	}
	up, ok := t.paths[parent]
	if !ok {
		if up, ok = t.standing(parent); !ok {
			return up, false
		}
		if len(t.paths) >= mostPaths {
			clear(t.paths)
		}
		t.paths[parent] = up
	}
	return standing{up.server, place.Join(up.path, name)}, true
}

// inside is an item's name, the folder it is in, and its strand.
type inside struct {
	parent, strand int64
	name           string
}

// Locate reads where items are that will be asked for, all at once.
func (t *Tx) Locate(items []int64) {
	var want []int64
	for _, id := range items {
		if _, ok := t.located[id]; !ok {
			want = append(want, id)
		}
	}
	want = want[:min(len(want), mostPaths)] // the rest is asked one by one
	if len(t.located)+len(want) > mostPaths {
		clear(t.located)
	}
	if len(want) <= fewPaths {
		t.EachOf(`WITH RECURSIVE up(id, parent, name, strand) AS (SELECT id, parent, name, strand FROM items WHERE id IN {set}
			UNION SELECT i.id, i.parent, i.name, i.strand FROM up CROSS JOIN items i ON i.id=up.parent) SELECT id, parent, name, strand FROM up`, want, t.locate)
		return
	}
	for len(want) > 0 { // folder by folder upward: most are in few, and those are known soon
		t.EachOf("SELECT id, parent, name, strand FROM items WHERE id IN {set}", want, t.locate)
		above := map[int64]bool{}
		for _, id := range want {
			if up := t.located[id].parent; up != 0 {
				above[up] = true
			}
		}
		want = want[:0]
		for id := range above {
			if _, ok := t.located[id]; !ok {
				want = append(want, id)
			}
		}
		slices.Sort(want)
	}
}

// fewPaths is how many items are located by one question, and the folders above them.
const fewPaths = 256

// locate takes in where an item is.
func (t *Tx) locate(r *sql.Rows) error {
	var id int64
	var in inside
	err := r.Scan(&id, &in.parent, &in.name, &in.strand)
	t.located[id] = in
	return err
}

// Within lists the items directly in a folder, by name.
func (t *Tx) Within(folder int64) (out []Child) {
	t.Each("SELECT i.id, i.name, i.strand, s.folder FROM items i JOIN strands s ON s.id=i.strand WHERE i.parent=? ORDER BY i.name", []any{folder}, func(r *sql.Rows) error {
		var c Child
		err := r.Scan(&c.Item, &c.Name, &c.Strand, &c.Folder)
		out = append(out, c)
		return err
	})
	return out
}

// Tops lists where a server's trees begin.
func (t *Tx) Tops(s Server) []string {
	return t.Strings("SELECT path FROM trees WHERE server=? ORDER BY path", s.ID)
}

// EachTop calls fn with where every tree begins.
func (t *Tx) EachTop(fn func(server int64, path string, x Target)) {
	t.Each("SELECT t.server, t.path, t.item, i.strand, s.folder FROM trees t JOIN items i ON i.id=t.item JOIN strands s ON s.id=i.strand ORDER BY t.id", nil, func(r *sql.Rows) error {
		var server int64
		var path string
		var x Target
		err := r.Scan(&server, &path, &x.Item, &x.Strand, &x.Folder)
		fn(server, path, x)
		return err
	})
}

// TopItems lists the items that trees begin at, whatever server they are on.
func (t *Tx) TopItems() []int64 { return t.Ints("SELECT item FROM trees ORDER BY id") }

// Through lists the shares that a place can be reached by.
func (t *Tx) Through(p Place) []Share {
	var out []Share
	for _, s := range t.Shares(p.Server) {
		if s.Covers(p.Path) {
			out = append(out, s)
		}
	}
	return out
}

// Key gives what names and paths are compared by; see store.Key.
func Key(name string) string { return store.Key(name) }

// Items lists up to limit items of a strand.
func (t *Tx) Items(strand int64, limit int) []int64 {
	return t.Ints("SELECT id FROM items WHERE strand=? ORDER BY id LIMIT ?", strand, limit)
}

// Weight is how many items a strand has.
func (t *Tx) Weight(strand int64) int64 {
	return t.Int("SELECT items FROM weights WHERE strand=?", strand)
}

// Target is an item that a command means.
type Target struct {
	Item, Strand int64
	Folder       bool
}

// Target gives a place as one.
func (p Place) Target() Target { return Target{p.Item, p.Strand, p.Folder} }
