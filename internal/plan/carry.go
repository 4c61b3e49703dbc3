package plan

import (
	"fmt"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/store"
)

// Cannot is an act that who acts isn't allowed.
type Cannot struct {
	*ask.Tried
}

func (e *Cannot) Error() string {
	s := fmt.Sprintf("%s can't %s %s", e.User.Name, e.Act, e.Where)
	see := fmt.Sprintf("tarnwold try %s %s %q", e.User.Name, e.Act, e.Where)
	if e.To != "" {
		s += " to " + e.To
		see += fmt.Sprintf(" --to %q", e.To)
	}
	for _, n := range e.Needs {
		if n.Held {
			continue
		}
		switch {
		case n.On == "connection" || n.Share:
			return s + ": share " + e.Route + " doesn't let it through; see: " + see
		case n.Right != "":
			return s + fmt.Sprintf(": no %s on %s; see: %s", n.Right, n.Where, see)
		}
	}
	return s + "; see: " + see
}

func can(t *ask.Tried) error {
	if t.Allowed {
		return nil
	}
	return &Cannot{t}
}

// Put makes a new item in a folder, as a user would.
func (d *Desk) Put(where, name string, folder bool, owner string) (*Plan, *ask.Shown, error) {
	user, err := d.t.Named(owner, acc.User)
	if err != nil {
		return nil, nil, err
	}
	if err := estate.GoodItemName(name); err != nil {
		return nil, nil, err
	}
	in, err := d.t.FindText(where)
	if err != nil {
		return nil, nil, err
	}
	if !in.Folder {
		return nil, nil, &estate.Refused{Why: in.String() + " is a file"}
	}
	if _, ok := d.t.Child(in.Item, name); ok {
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("%s holds %q already", in, name)}
	}
	if err := can(d.k.CanMake(user, in, name, folder)); err != nil {
		return nil, nil, err
	}
	x := made(d.t.Of(in.Strand), folder, d.k.MakerOf(user, in.Server, in.Share), &in.Server.Traits)
	path := place.Join(in.Path, name)
	p := d.begin("put %s as %s", place.Address{Server: in.Server.Name, Path: path}, user.Name)
	p.work.made = append(p.work.made, madeItem{in: in, inMade: -1, name: name, folder: folder, d: x})
	d.comes(p, in, path, folder, 1, x)
	p.Edits = append(p.Edits, Edit{Kind: "item", Where: place.Address{Server: in.Server.Name, Path: path}.String(), Items: 1, Lines: append([]Line{{Sign: "comes", What: ask.Kind(folder)}}, d.Turned(nil, x, folder, nil, nil)...)})
	p, err = d.finish(p)
	return p, nil, err
}

// comes adds a node for something new in a folder.
func (d *Desk) comes(p *Plan, in estate.Place, path string, folder bool, items int64, x rule.Any) int {
	if p.work.forest == nil {
		p.work.forest = estate.NewForest()
	}
	f := p.work.forest
	n := f.Add(-1, folder, items, nil, x)
	chain := []rule.Any{d.t.Of(in.Strand)}
	chain = append(chain, d.t.Above(in)...)
	f.Above[n] = chain
	p.work.roots = append(p.work.roots, root{node: n, server: in.Server, path: [2]string{"", path}})
	p.work.addedAt[addedKey(in.Server, path)] = n
	return n
}

// landing splits where something is to go into the folder and the name: a
// folder that is there takes it under its old name, else the last part is the
// new name.
func (d *Desk) landing(where, name string) (estate.Place, string, error) {
	a, err := place.Parse(where)
	if err != nil {
		return estate.Place{}, "", err
	}
	at, err := d.t.Find(a)
	if err == nil {
		if !at.Folder {
			return at, "", &estate.Refused{Why: at.String() + " is there already"}
		}
	} else {
		last := place.Name(a.Path)
		if a.Share == "" {
			a.Path = place.Dir(a.Path)
		} else if i := len(a.Path) - len(last) - 1; i > 0 {
			a.Path = a.Path[:i]
		} else {
			a.Path = ""
		}
		up, uerr := d.t.Find(a)
		if uerr != nil || last == "" {
			return at, "", err
		}
		at, name = up, last
	}
	if err := estate.GoodItemName(name); err != nil {
		return at, "", err
	}
	if !at.Folder {
		return at, "", &estate.Refused{Why: at.String() + " is a file"}
	}
	return at, name, nil
}

// Move puts an item with all below it elsewhere on its server.
func (d *Desk) Move(from, to string) (*Plan, error) {
	at, err := d.t.FindText(from)
	if err != nil {
		return nil, err
	}
	in, name, err := d.landing(to, at.Name())
	if err != nil {
		return nil, err
	}
	return d.move(at, in, name, "")
}

func (d *Desk) move(at, in estate.Place, name, said string) (*Plan, error) {
	switch {
	case len(at.Trail) == 1:
		return nil, &estate.Refused{Why: at.String() + " is the top of its tree"}
	case at.Server.ID != in.Server.ID:
		return nil, &estate.Refused{Why: fmt.Sprintf("%s and %s are on two servers", at, in), Do: "copy it, then remove it there"}
	case place.Under(in.Path, at.Path):
		return nil, &estate.Refused{Why: at.String() + " can't be moved into itself"}
	}
	if c, ok := d.t.Child(in.Item, name); ok && c.Item != at.Item {
		return nil, &estate.Refused{Why: fmt.Sprintf("%s holds %q already", in, name)}
	}
	path := place.Join(in.Path, name)
	landed := place.Address{Server: in.Server.Name, Path: path}.String()
	p := d.begin("move %s to %s", at, landed)
	if said != "" {
		p.Change = said
	}
	p.Nothing = "it is there already"
	if path == at.Path {
		return d.finish(p)
	}
	if user, ok := d.actor(); ok && said == "" {
		if err := can(d.k.CanMove(user, at, in, name)); err != nil {
			return nil, err
		}
	}
	keeps := at.Server.Traits.MovedKeeps
	groups := []estate.Group{{Targets: []estate.Target{at.Target()}}}
	for _, sh := range d.t.Shares(at.Server) { // what shares stand over, there and here, is told apart
		for _, top := range []string{at.Path, path} {
			rest, ok := place.Cut(store.Key(sh.Folder), store.Key(top))
			if !ok || rest == "" {
				continue
			}
			if x, err := d.t.At(at.Server, place.Join(at.Path, rest)); err == nil {
				groups = append(groups, estate.Group{Targets: []estate.Target{x.Target()}})
			}
		}
	}
	f, err := d.t.Carve(groups)
	if err != nil {
		return nil, err
	}
	p.work.forest = f
	n := f.Node(at.Item)
	chain := []rule.Any{d.t.Of(in.Strand)}
	chain = append(chain, d.t.Above(in)...)
	f.Then = map[int][]rule.Any{n: chain}
	if !keeps {
		f.Renew = true
		f.Edits[n] = func(b, up rule.Any, folder bool) (rule.Any, error) {
			if up == nil {
				return b, nil
			}
			return b.Renewing(up, folder), nil
		}
	}
	if err := f.Work(d.ctx); err != nil {
		return nil, err
	}
	p.work.named, p.work.isNamed[n] = []int{n}, true
	p.work.roots = append(p.work.roots, root{node: n, server: at.Server, path: [2]string{at.Path, path}})
	p.work.moved = append(p.work.moved, movedItem{item: at.Item, folder: in.Item, name: name})
	line := Line{Sign: "moves", What: "kept", Text: landed}
	if _, ok := f.Nodes[n].Before.(*posix.Rules); ok {
		line.What = "kept-list"
	}
	if !keeps {
		line.What = "renewed"
	}
	p.Edits = append(p.Edits, Edit{Kind: "item", Where: at.String(), Items: count(f), Lines: []Line{line}})
	return d.finish(p)
}

func count(f *estate.Forest) (n int64) {
	for i := range f.Nodes {
		n += f.Nodes[i].Items
	}
	return n
}

// Copy makes an item and all below it anew in another folder.
func (d *Desk) Copy(from, to string) (*Plan, error) {
	at, err := d.t.FindText(from)
	if err != nil {
		return nil, err
	}
	in, name, err := d.landing(to, at.Name())
	if err != nil {
		return nil, err
	}
	if at.Server.ID == in.Server.ID && place.Under(in.Path, at.Path) {
		return nil, &estate.Refused{Why: at.String() + " can't be copied into itself"}
	}
	if _, ok := d.t.Child(in.Item, name); ok {
		return nil, &estate.Refused{Why: fmt.Sprintf("%s holds %q already", in, name)}
	}
	owner, asked := d.actor()
	if !asked {
		id := d.t.AccountOf(d.t.Of(at.Strand).Owned())
		if owner, _ = d.t.Account(id); owner.ID.IsZero() {
			owner = account{ID: id}
		}
	} else if err := can(d.k.CanMake(owner, in, name, at.Folder)); err != nil {
		return nil, err
	}
	maker := d.k.MakerOf(owner, in.Server, in.Share)
	traits := in.Server.Traits
	path := place.Join(in.Path, name)
	p := d.begin("copy %s to %s", at, place.Address{Server: in.Server.Name, Path: path})
	p.work.forest = estate.NewForest()
	f := p.work.forest
	type key struct {
		parent rule.Any
		folder bool
	}
	known := map[key]rule.Any{}
	child := func(up rule.Any, folder bool) rule.Any {
		k := key{up, folder}
		if known[k] == nil {
			known[k] = made(up, folder, maker, &traits)
		}
		return known[k]
	}
	// Who acts has to read all that is copied, and to add to what he makes.
	read := map[int64]bool{}
	added := map[key]bool{}
	allowed := func(from string, strand int64, folder bool, path string, made int, up rule.Any) error {
		if !asked {
			return nil
		}
		if !read[strand] {
			x, err := d.t.At(at.Server, from)
			if err != nil {
				return err
			}
			x.Share = at.Share
			if err := can(d.k.CanRead(owner, x)); err != nil {
				return err
			}
			read[strand] = true
		}
		if k := (key{up, folder}); made >= 0 && !added[k] {
			if err := can(d.k.CanMakeUnder(owner, in, place.Address{Server: in.Server.Name, Path: path}.String(), up, folder)); err != nil {
				return err
			}
			added[k] = true
		}
		return nil
	}
	var n int64
	var walk func(item, strand int64, folder bool, name, from, path string, made, node int, up rule.Any) error
	walk = func(item, strand int64, folder bool, name, from, path string, made, node int, up rule.Any) error {
		if n&255 == 0 && d.ctx.Err() != nil {
			return d.ctx.Err()
		}
		n++
		if err := allowed(from, strand, folder, path, made, up); err != nil {
			return err
		}
		x := child(up, folder)
		me := len(p.work.made)
		m := madeItem{inMade: made, name: name, folder: folder, d: x}
		if made < 0 {
			m.in = in
			node = d.comes(p, in, path, folder, 1, x)
		} else {
			node = f.Add(node, folder, 1, nil, x)
			if folder {
				p.work.addedAt[addedKey(in.Server, path)] = node
			}
		}
		p.work.made = append(p.work.made, m)
		if !folder {
			return nil
		}
		for _, c := range d.t.Within(item) {
			if err := walk(c.Item, c.Strand, c.Folder, c.Name, place.Join(from, c.Name), place.Join(path, c.Name), me, node, x); err != nil {
				return err
			}
		}
		return d.t.Err()
	}
	if err := walk(at.Item, at.Strand, at.Folder, name, at.Path, path, -1, -1, d.t.Of(in.Strand)); err != nil {
		return nil, err
	}
	p.Edits = append(p.Edits, Edit{Kind: "item", Where: place.Address{Server: in.Server.Name, Path: path}.String(), Items: n,
		Lines: []Line{{Sign: "comes", What: "copy", Text: fmt.Sprintf("%s made, owned by %s", format.Count(n, "item"), d.t.Name(owner.ID))}}})
	return d.finish(p)
}
