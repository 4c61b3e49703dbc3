package estate

import (
	"database/sql"
	"strings"

	"tarnwold/core/rule"
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
	// nearest first, Folders the items' own paths beside them.
	Trail   []int64
	Folders []string
}

// String writes the server's own address of the place.
func (p Place) String() string { return p.Server.Name + ":" + p.Path }

// Via writes the address through the share it was asked for by.
func (p Place) Via() string {
	if p.Share == nil {
		return p.String()
	}
	rest, _ := under(p.Path, p.Share.Folder)
	return Address{Server: p.Server.Name, Share: p.Share.Name, Path: rest}.String()
}

// Name is the last part of the path.
func (p Place) Name() string { return p.Path[strings.LastIndexByte(p.Path, '/')+1:] }

// Find finds the place an address means.
func (t *Tx) Find(address string) (Place, error) {
	a, err := ParseAddress(address)
	if err != nil {
		return Place{}, &Refused{Why: err.Error()}
	}
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
	p, err := t.At(s, join(sh.Folder, a.Path))
	p.Share = &sh
	return p, err
}

// At finds an item by the server's own path. A name that differs in case only
// is taken where just one does.
func (t *Tx) At(s Server, path string) (Place, error) {
	p := Place{Server: s}
	var top string
	t.each("SELECT t.path, t.item, i.strand FROM trees t JOIN items i ON i.id=t.item WHERE t.server=?", []any{s.id}, func(r *sql.Rows) error {
		var at string
		var item, strand int64
		if err := r.Scan(&at, &item, &strand); err != nil {
			return err
		}
		if _, ok := under(path, at); ok && (p.Item == 0 || len(at) > len(top)) {
			top, p.Item, p.Strand = at, item, strand
		}
		return nil
	})
	if p.Item == 0 {
		if t.err != nil {
			return p, t.Err()
		}
		tops := t.strings("SELECT path FROM trees WHERE server=?", s.id)
		if len(tops) == 0 {
			return p, refuse("load one with: tarnwold load tree FILE --at "+s.Name+":/FOLDER", "server %s has no folders in the estate", s.Name)
		}
		return p, &NotFound{What: "place", Name: path, In: "server " + s.Name, Near: nearest(path, tops)}
	}
	p.Path = top
	p.Folder = t.isFolder(p.Strand)
	p.Trail, p.Folders = []int64{p.Strand}, []string{top}
	rest, _ := under(path, top)
	for _, name := range strings.Split(rest, "/") {
		if name == "" {
			continue
		}
		id, strand, real := t.child(p.Item, name)
		if t.err != nil {
			return p, t.Err()
		}
		if id == 0 {
			return Place{}, &NotFound{What: "place", Name: name, In: p.String(),
				Near: nearest(name, t.strings("SELECT name FROM items WHERE parent=?", p.Item))}
		}
		p.Item, p.Strand, p.Path = id, strand, join(p.Path, real)
		p.Trail = append([]int64{strand}, p.Trail...)
		p.Folders = append([]string{p.Path}, p.Folders...)
	}
	p.Folder = t.isFolder(p.Strand)
	return p, t.Err()
}

func (t *Tx) child(parent int64, name string) (id, strand int64, real string) {
	if t.one("SELECT id, strand, name FROM items WHERE parent=? AND name=?", []any{parent, name}, &id, &strand, &real) {
		return id, strand, real
	}
	matches := 0
	t.each("SELECT id, strand, name FROM items WHERE parent=?", []any{parent}, func(r *sql.Rows) error {
		var i, s int64
		var n string
		if err := r.Scan(&i, &s, &n); err != nil {
			return err
		}
		if strings.EqualFold(n, name) {
			id, strand, real = i, s, n
			matches++
		}
		return nil
	})
	if matches != 1 {
		return 0, 0, ""
	}
	return id, strand, real
}

func (t *Tx) isFolder(strand int64) bool {
	return t.int("SELECT folder FROM strands WHERE id=?", strand) != 0
}

// Place finds the place of an item, by its number.
func (t *Tx) Place(item int64) Place {
	var names []string
	p := Place{Item: item}
	for at := item; ; {
		var parent, strand int64
		var name string
		if !t.one("SELECT parent, name, strand FROM items WHERE id=?", []any{at}, &parent, &name, &strand) {
			break
		}
		p.Trail = append(p.Trail, strand)
		if parent != 0 {
			names = append(names, name)
			at = parent
			continue
		}
		var server int64
		t.one("SELECT server, path FROM trees WHERE item=?", []any{at}, &server, &p.Path)
		p.Server = t.serverByRow(server)
		break
	}
	p.Folders = []string{p.Path}
	for i := len(names) - 1; i >= 0; i-- {
		p.Path = join(p.Path, names[i])
		p.Folders = append([]string{p.Path}, p.Folders...)
	}
	if len(p.Trail) > 0 {
		p.Strand = p.Trail[0]
		p.Folder = t.isFolder(p.Strand)
	}
	return p
}

// Of gives the descriptor of a strand.
func (t *Tx) Of(strand int64) *rule.Descriptor {
	return t.Descriptor(t.int("SELECT descriptor FROM strands WHERE id=?", strand))
}

// Above gives the descriptors of the folders above a place, nearest first.
func (t *Tx) Above(p Place) []*rule.Descriptor {
	out := make([]*rule.Descriptor, 0, len(p.Trail))
	for _, s := range p.Trail[min(1, len(p.Trail)):] {
		out = append(out, t.Of(s))
	}
	return out
}

// Children lists the names directly in a folder, folders with a / behind.
func (t *Tx) Children(p Place) []string {
	return t.strings(`SELECT i.name || CASE s.folder WHEN 1 THEN '/' ELSE '' END
		FROM items i JOIN strands s ON s.id=i.strand WHERE i.parent=? ORDER BY i.name`, p.Item)
}

// Tops lists where a server's trees begin.
func (t *Tx) Tops(s Server) []string {
	return t.strings("SELECT path FROM trees WHERE server=? ORDER BY path", s.id)
}

// Through lists the shares that a place can be reached by.
func (t *Tx) Through(p Place) []Share {
	var out []Share
	for _, s := range t.Shares(p.Server) {
		if _, ok := under(p.Path, s.Folder); ok {
			out = append(out, s)
		}
	}
	return out
}
