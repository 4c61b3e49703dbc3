package estate

import (
	"database/sql"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// Match finds the places an address with patterns means: * and ? stand for
// any letters or any one letter of a name, ** for any folders. An address
// without them, or one that is a name there as it stands, means one place.
func (t *Tx) Match(address string) ([]Place, error) {
	if !strings.ContainsAny(address, "*?") {
		p, err := t.Find(address)
		return []Place{p}, err
	}
	a, err := ParseAddress(address)
	if err != nil {
		return nil, &Refused{Why: err.Error()}
	}
	parts := strings.Split(strings.TrimPrefix(a.Path, "/"), "/")
	fixed := 0
	for fixed < len(parts) && !strings.ContainsAny(parts[fixed], "*?") {
		fixed++
	}
	base := a
	base.Path = strings.Join(parts[:fixed], "/")
	if a.Share == "" {
		base.Path = "/" + base.Path
	}
	p, err := t.Find(base.String())
	if err != nil {
		return nil, err
	}
	var out []Place
	t.match(p, parts[fixed:], &out)
	if len(out) == 0 && t.err == nil {
		return nil, refuse("", "nothing fits %q", address)
	}
	for i := range out {
		out[i].Share = p.Share
	}
	return out, t.Err()
}

func (t *Tx) match(p Place, parts []string, out *[]Place) {
	if len(parts) == 0 {
		if !slices.ContainsFunc(*out, func(o Place) bool { return o.Item == p.Item }) {
			*out = append(*out, p)
		}
		return
	}
	if !p.Folder || t.err != nil {
		return
	}
	if parts[0] == "**" {
		t.match(p, parts[1:], out)
	}
	for _, c := range t.within(p) {
		switch {
		case parts[0] == "**":
			if c.Folder {
				t.match(c, parts, out)
			} else {
				t.match(c, parts[1:], out)
			}
		case fits(parts[0], c.Name()):
			t.match(c, parts[1:], out)
		}
	}
}

// within lists the items directly in a folder.
func (t *Tx) within(p Place) (out []Place) {
	t.each("SELECT i.id, i.name, i.strand, s.folder FROM items i JOIN strands s ON s.id=i.strand WHERE i.parent=? ORDER BY i.name", []any{p.Item}, func(r *sql.Rows) error {
		c := Place{Server: p.Server}
		var name string
		err := r.Scan(&c.Item, &name, &c.Strand, &c.Folder)
		c.Path = join(p.Path, name)
		c.Trail = append([]int64{c.Strand}, p.Trail...)
		c.Folders = append([]string{c.Path}, p.Folders...)
		out = append(out, c)
		return err
	})
	return out
}

// fits tells whether a name fits a pattern of * and ?; case doesn't count.
func fits(pattern, name string) bool {
	p, n := []rune(strings.ToLower(pattern)), []rune(strings.ToLower(name))
	star, back := -1, 0
	i, j := 0, 0
	for j < len(n) {
		switch {
		case i < len(p) && p[i] == '*':
			star, back = i, j
			i++
		case i < len(p) && (p[i] == '?' || p[i] == n[j]):
			i++
			j++
		case star >= 0:
			back++
			i, j = star+1, back
		default:
			return false
		}
	}
	for i < len(p) && p[i] == '*' {
		i++
	}
	return i == len(p)
}

// Owned lists the items an identifier owns, at or below a path of a server;
// with no server, everywhere.
func (t *Tx) Owned(owner account.ID, s *Server, path string) (out []Place) {
	for _, did := range t.ints("SELECT id FROM descriptors") {
		if t.Descriptor(did).Owner != owner || t.err != nil {
			continue
		}
		for _, item := range t.ints("SELECT i.id FROM strands s JOIN items i ON i.strand=s.id WHERE s.descriptor=?", did) {
			p := t.Place(item)
			if s != nil && p.Server.Name != s.Name {
				continue
			}
			if _, ok := under(p.Path, path); s == nil || ok {
				out = append(out, p)
			}
		}
	}
	slices.SortFunc(out, func(a, b Place) int { return strings.Compare(a.String(), b.String()) })
	return out
}

// Put makes an item in a folder.
func (t *Tx) Put(in Place, name string, folder bool, d *rule.Descriptor) (Place, error) {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
		return Place{}, refuse("", "%q is no name for an item", name)
	}
	if !in.Folder {
		return Place{}, refuse("", "%s is a file", in)
	}
	if id, _, _ := t.child(in.Item, name); id != 0 {
		return Place{}, refuse("", "%s holds %q already", in, name)
	}
	return t.Place(t.add(in.Item, in.Strand, name, folder, d)), t.Err()
}

func (t *Tx) add(parent, parentStrand int64, name string, folder bool, d *rule.Descriptor) int64 {
	strand := t.exec("INSERT INTO strands(parent, descriptor, folder) VALUES(?,?,?)", parentStrand, t.keep(d), folder)
	return t.exec("INSERT INTO items(parent, name, strand) VALUES(?,?,?)", parent, name, strand)
}

// Move hangs an item into another folder of its server under a name. Its
// entries stay as they are.
func (t *Tx) Move(p, to Place, name string) (Place, error) {
	switch {
	case len(p.Folders) == 1:
		return p, refuse("", "%s is the top of its tree", p)
	case p.Server.Name != to.Server.Name:
		return p, refuse("copy it, then remove it there", "%s and %s are on two servers", p, to)
	case Under(to.Path, p.Path):
		return p, refuse("", "%s can't be moved into itself", p)
	case !to.Folder:
		return p, refuse("", "%s is a file", to)
	}
	if id, _, _ := t.child(to.Item, name); id != 0 && id != p.Item {
		return p, refuse("", "%s holds %q already", to, name)
	}
	t.Isolate(p.Item)
	t.exec("UPDATE items SET parent=?, name=? WHERE id=?", to.Item, name, p.Item)
	t.exec("UPDATE strands SET parent=? WHERE id=(SELECT strand FROM items WHERE id=?)", to.Strand, p.Item)
	return t.Place(p.Item), t.Err()
}

// Copy makes an item and all below it anew in a folder under a name: each
// takes what its new folder hands down and belongs to owner.
func (t *Tx) Copy(p, to Place, name string, owner, group account.ID) (Place, int64, error) {
	if Under(to.Path, p.Path) && to.Server.Name == p.Server.Name {
		return p, 0, refuse("", "%s can't be copied into itself", p)
	}
	var n int64
	var walk func(from Place, parent, strand int64, above *rule.Descriptor, name string) int64
	walk = func(from Place, parent, strand int64, above *rule.Descriptor, name string) int64 {
		d := rule.NewChild(above, from.Folder, owner, group, rule.PlainRules(owner))
		id := t.add(parent, strand, name, from.Folder, d)
		n++
		if from.Folder && t.err == nil {
			own := t.int("SELECT strand FROM items WHERE id=?", id)
			for _, c := range t.within(from) {
				walk(c, id, own, d, c.Name())
			}
		}
		return id
	}
	if id, _, _ := t.child(to.Item, name); id != 0 {
		return p, 0, refuse("", "%s holds %q already", to, name)
	}
	if !to.Folder {
		return p, 0, refuse("", "%s is a file", to)
	}
	id := walk(p, to.Item, to.Strand, t.Of(to.Strand), name)
	return t.Place(id), n, t.Err()
}

// Landing splits where something is to go into the folder and the name: a
// folder that is there takes it under its old name, else the last part is the
// new name.
func (t *Tx) Landing(address, name string) (Place, string, error) {
	p, err := t.Find(address)
	if err == nil {
		if !p.Folder {
			return p, "", refuse("", "%s is there already", p)
		}
		return p, name, nil
	}
	a, perr := ParseAddress(address)
	if perr != nil {
		return p, "", &Refused{Why: perr.Error()}
	}
	cut := strings.LastIndexByte(a.Path, '/')
	name = a.Path[cut+1:]
	a.Path = a.Path[:max(cut, 0)]
	if a.Share == "" && a.Path == "" {
		a.Path = "/"
	}
	if p, uperr := t.Find(a.String()); uperr == nil && name != "" {
		return p, name, nil
	}
	return p, "", err
}
