// Package item makes plans of items that come and move, as the server would make
// them: put, move, copy.
package item

import (
	"fmt"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/store"
)

// Cannot is an act that who acts isn't allowed.
type Cannot struct {
	*explain.Tried
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

func can(t *explain.Tried) error {
	if t.Allowed {
		return nil
	}
	return &Cannot{t}
}

// Put makes a new item in a folder, as a user would.
func Put(d *plan.Planner, where, name string, folder bool, owner string) (*plan.Plan, *show.Shown, error) {
	user, err := d.T.Named(owner, acc.User)
	if err != nil {
		return nil, nil, err
	}
	if err := estate.GoodItemName(name); err != nil {
		return nil, nil, err
	}
	in, err := d.T.FindText(where)
	if err != nil {
		return nil, nil, err
	}
	if !in.Folder {
		return nil, nil, &estate.Refused{Why: in.String() + " is a file"}
	}
	if _, ok := d.T.Child(in.Item, name); ok {
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("%s holds %q already", in, name)}
	}
	if err := can(explain.CanMake(d.K, user, in, name, folder)); err != nil {
		return nil, nil, err
	}
	x := plan.Made(d.T.Of(in.Strand), folder, explain.MakerOf(d.K, user, in.Server, in.Share), &in.Server.Traits)
	path := place.Join(in.Path, name)
	p := d.NewPlan("put %s as %s", place.Address{Server: in.Server.Name, Path: path}, user.Name)
	p.Work.Made = append(p.Work.Made, edit.MadeItem{In: in, InMade: -1, Name: name, Folder: folder, D: x})
	Comes(d, p, in, path, folder, 1, x)
	p.Edits = append(p.Edits, edit.Description{Kind: "item", Where: place.Address{Server: in.Server.Name, Path: path}.String(), Items: 1, Lines: append([]edit.Line{{Sign: edit.Comes, What: ask.Kind(folder)}}, d.Diff(nil, x, folder, nil, nil)...)})
	p, err = d.Evaluate(p)
	return p, nil, err
}

// Comes adds a node for something new in a folder.
func Comes(d *plan.Planner, p *plan.Plan, in estate.Place, path string, folder bool, items int64, x rule.Any) int {
	if p.Work.Partition == nil {
		p.Work.Partition = estate.NewPartition()
	}
	f := p.Work.Partition
	n := f.Add(-1, folder, items, nil, x)
	chain := []rule.Any{d.T.Of(in.Strand)}
	chain = append(chain, d.T.Above(in)...)
	f.Above[n] = chain
	p.Work.Roots = append(p.Work.Roots, plan.Root{Node: n, Server: in.Server, Path: [2]string{"", path}})
	p.Work.AddedAt[plan.AddedKey(in.Server, path)] = n
	return n
}

// landing splits where something is to go into the folder and the name: a
// folder that is there takes it under its old name, else the last part is the
// new name.
func landing(d *plan.Planner, where, name string) (estate.Place, string, error) {
	a, err := place.Parse(where)
	if err != nil {
		return estate.Place{}, "", err
	}
	at, err := d.T.Find(a)
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
		up, uerr := d.T.Find(a)
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
func Move(d *plan.Planner, from, to string) (*plan.Plan, error) {
	at, err := d.T.FindText(from)
	if err != nil {
		return nil, err
	}
	in, name, err := landing(d, to, at.Name())
	if err != nil {
		return nil, err
	}
	return MoveTo(d, at, in, name, "")
}

func MoveTo(d *plan.Planner, at, in estate.Place, name, said string) (*plan.Plan, error) {
	switch {
	case len(at.Trail) == 1:
		return nil, &estate.Refused{Why: at.String() + " is the top of its tree"}
	case at.Server.ID != in.Server.ID:
		return nil, &estate.Refused{Why: fmt.Sprintf("%s and %s are on two servers", at, in), Do: "copy it, then remove it there"}
	case place.Under(in.Path, at.Path):
		return nil, &estate.Refused{Why: at.String() + " can't be moved into itself"}
	}
	if c, ok := d.T.Child(in.Item, name); ok && c.Item != at.Item {
		return nil, &estate.Refused{Why: fmt.Sprintf("%s holds %q already", in, name)}
	}
	path := place.Join(in.Path, name)
	landed := place.Address{Server: in.Server.Name, Path: path}.String()
	p := d.NewPlan("move %s to %s", at, landed)
	if said != "" {
		p.Change = said
	}
	p.Nothing = "it is there already"
	if path == at.Path {
		return d.Evaluate(p)
	}
	if user, ok := d.ActingUser(); ok && said == "" {
		if err := can(explain.CanMove(d.K, user, at, in, name)); err != nil {
			return nil, err
		}
	}
	keeps := at.Server.Traits.MovedKeeps
	groups := []estate.Group{{Targets: []estate.Target{at.Target()}}}
	for _, sh := range d.T.Shares(at.Server) { // what shares stand over, there and here, is told apart
		for _, top := range []string{at.Path, path} {
			rest, ok := place.Cut(store.Key(sh.Folder), store.Key(top))
			if !ok || rest == "" {
				continue
			}
			if x, err := d.T.At(at.Server, place.Join(at.Path, rest)); err == nil {
				groups = append(groups, estate.Group{Targets: []estate.Target{x.Target()}})
			}
		}
	}
	f, err := d.T.Partition(groups)
	if err != nil {
		return nil, err
	}
	p.Work.Partition = f
	n := f.Node(at.Item)
	chain := []rule.Any{d.T.Of(in.Strand)}
	chain = append(chain, d.T.Above(in)...)
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
	if err := f.Work(d.Ctx); err != nil {
		return nil, err
	}
	p.Work.Named, p.Work.IsNamed[n] = []int{n}, true
	p.Work.Roots = append(p.Work.Roots, plan.Root{Node: n, Server: at.Server, Path: [2]string{at.Path, path}})
	p.Work.Moved = append(p.Work.Moved, edit.MovedItem{Item: at.Item, Folder: in.Item, Name: name})
	line := edit.Line{Sign: edit.Moves, What: "kept", Text: landed}
	if _, ok := f.Nodes[n].Before.(*posix.Rules); ok {
		line.What = "kept-list"
	}
	if !keeps {
		line.What = "renewed"
	}
	p.Edits = append(p.Edits, edit.Description{Kind: "item", Where: at.String(), Items: count(f), Lines: []edit.Line{line}})
	return d.Evaluate(p)
}

func count(f *estate.Partition) (n int64) {
	for i := range f.Nodes {
		n += f.Nodes[i].Items
	}
	return n
}

// Copy makes an item and all below it anew in another folder.
func Copy(d *plan.Planner, from, to string) (*plan.Plan, error) {
	at, err := d.T.FindText(from)
	if err != nil {
		return nil, err
	}
	in, name, err := landing(d, to, at.Name())
	if err != nil {
		return nil, err
	}
	if at.Server.ID == in.Server.ID && place.Under(in.Path, at.Path) {
		return nil, &estate.Refused{Why: at.String() + " can't be copied into itself"}
	}
	if _, ok := d.T.Child(in.Item, name); ok {
		return nil, &estate.Refused{Why: fmt.Sprintf("%s holds %q already", in, name)}
	}
	owner, asked := d.ActingUser()
	if !asked {
		id := d.T.AccountOf(d.T.Of(at.Strand).Owned())
		if owner, _ = d.T.Account(id); owner.ID.IsZero() {
			owner = acc.Account{ID: id}
		}
	} else if err := can(explain.CanMake(d.K, owner, in, name, at.Folder)); err != nil {
		return nil, err
	}
	maker := explain.MakerOf(d.K, owner, in.Server, in.Share)
	traits := in.Server.Traits
	path := place.Join(in.Path, name)
	p := d.NewPlan("copy %s to %s", at, place.Address{Server: in.Server.Name, Path: path})
	p.Work.Partition = estate.NewPartition()
	f := p.Work.Partition
	type key struct {
		parent rule.Any
		folder bool
	}
	known := map[key]rule.Any{}
	child := func(up rule.Any, folder bool) rule.Any {
		k := key{up, folder}
		if known[k] == nil {
			known[k] = plan.Made(up, folder, maker, &traits)
		}
		return known[k]
	}
	// Who acts has to read all that is copied, and to add to what they make.
	read := map[int64]bool{}
	added := map[key]bool{}
	allowed := func(from string, strand int64, folder bool, path string, made int, up rule.Any) error {
		if !asked {
			return nil
		}
		if !read[strand] {
			x, err := d.T.At(at.Server, from)
			if err != nil {
				return err
			}
			x.Share = at.Share
			if err := can(explain.CanRead(d.K, owner, x)); err != nil {
				return err
			}
			read[strand] = true
		}
		if k := (key{up, folder}); made >= 0 && !added[k] {
			if err := can(explain.CanMakeUnder(d.K, owner, in, place.Address{Server: in.Server.Name, Path: path}.String(), up, folder)); err != nil {
				return err
			}
			added[k] = true
		}
		return nil
	}
	var n int64
	var walk func(item, strand int64, folder bool, name, from, path string, made, node int, up rule.Any) error
	walk = func(item, strand int64, folder bool, name, from, path string, made, node int, up rule.Any) error {
		if n&255 == 0 && d.Ctx.Err() != nil {
			return d.Ctx.Err()
		}
		n++
		if err := allowed(from, strand, folder, path, made, up); err != nil {
			return err
		}
		x := child(up, folder)
		me := len(p.Work.Made)
		m := edit.MadeItem{InMade: made, Name: name, Folder: folder, D: x}
		if made < 0 {
			m.In = in
			node = Comes(d, p, in, path, folder, 1, x)
		} else {
			node = f.Add(node, folder, 1, nil, x)
			if folder {
				p.Work.AddedAt[plan.AddedKey(in.Server, path)] = node
			}
		}
		p.Work.Made = append(p.Work.Made, m)
		if !folder {
			return nil
		}
		for _, c := range d.T.Within(item) {
			if err := walk(c.Item, c.Strand, c.Folder, c.Name, place.Join(from, c.Name), place.Join(path, c.Name), me, node, x); err != nil {
				return err
			}
		}
		return d.T.Err()
	}
	if err := walk(at.Item, at.Strand, at.Folder, name, at.Path, path, -1, -1, d.T.Of(in.Strand)); err != nil {
		return nil, err
	}
	p.Edits = append(p.Edits, edit.Description{Kind: "item", Where: place.Address{Server: in.Server.Name, Path: path}.String(), Items: n,
		Lines: []edit.Line{{Sign: edit.Comes, What: "copy", Text: fmt.Sprintf("%s made, owned by %s", format.Count(n, "item"), d.T.Name(owner.ID))}}})
	return d.Evaluate(p)
}
