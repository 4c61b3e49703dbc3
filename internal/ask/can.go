package ask

import (
	"slices"

	"tarnwold/core/crowd"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// can is what an answer is narrowed to: a level or rights, or an act that
// touches one item and its folder.
type can struct {
	word  string
	level right.Level
	act   *verdict.Act
}

// can reads a level, rights or an act; nil for an empty word.
func (k *Asker) can(word string) (*can, error) {
	if word == "" {
		return nil, nil
	}
	if _, ok := k.lang.Levels.Lookup(word); ok { // list and read are levels first
		l, err := k.Level(word)
		return &can{word: word, level: l}, err
	}
	if a, ok := verdict.ActNamed(word); ok {
		switch a.To {
		case verdict.NoTarget, verdict.NewName:
			return &can{word: word, act: a}, nil
		}
		return nil, unfit("see: tarnwold try --help", "%s needs a second place, which a list of places has no room for", word)
	}
	l, err := k.Level(word)
	if err != nil {
		if nf, ok := err.(*estate.NotFound); ok {
			nf.What = "level, right or act"
			if near := estate.Nearest(word, ActNames()); len(nf.Near) == 0 {
				nf.Near = near
			}
		}
		return nil, err
	}
	return &can{word: word, level: l}, nil
}

// of tells whether it speaks of folders, or of files.
func (c *can) of(folder bool) bool {
	if c.act == nil {
		return c.level.Folder != 0 && folder || c.level.File != 0 && !folder
	}
	switch c.act.Takes {
	case verdict.File:
		return !folder
	case verdict.Folder, verdict.NewFile, verdict.NewFolder:
		return folder
	}
	return true
}

// rights gives the rights a level asks for on an item; none for an act.
func (c *can) rights(rules rule.Any, folder bool) right.Set { return AskedOf(c.level, rules, folder) }

// inside tells whether it is an act that the top of a route is no place for.
func (c *can) inside() bool {
	return c.act != nil && (c.act.To == verdict.NewName || c.act.Name == "delete")
}

// ok tells whether a user can, on what a question is about. adding reads a
// folder's rules as the server does when something is added to it.
func (c *can) ok(k *Asker, q *verdict.Question, granted right.Set, folder bool, item, parent rule.Any) bool {
	if !c.of(folder) {
		return false
	}
	if c.act == nil {
		return granted.Has(c.rights(item, folder))
	}
	t := verdict.Trial{Item: q, IsFolder: folder, Kernel: k.kernel(q, item, parent)}
	adding := func(a rule.Any) *rule.List { return k.Read(a, q.Traits.AddReading()) }
	in := *q
	if c.act.Takes == verdict.NewFile || c.act.Takes == verdict.NewFolder {
		t.Item, t.IsFolder = nil, c.act.Takes == verdict.NewFolder
		in.Item = adding(item)
		if _, ok := item.(*posix.Rules); q.Traits.AsksFoldersAbove && !ok { // there adding takes execute by itself
			in.Above = append([]*rule.List{q.Item}, q.Above...)
		}
		t.Folder = &in
	} else if c.inside() && parent == nil { // the top of the way
		return false
	} else if c.act.To == verdict.NewName {
		in.Item = adding(parent)
		t.Folder = &in
		t.Names = k.shown(&in, parent)
	}
	return verdict.Try(c.act, &t).Allowed
}

// holding gives everybody who can, in a situation; top: nothing is renamed or
// deleted there. adding gives the situation of the folder that something is
// added to: the item itself, or the folder above it, whose rules are parent. It is
// what ok would say of each.
func (c *can) holding(k *Asker, d *crowd.Decider, s crowd.Situation, rules, parent rule.Any, folder, top bool, adding func(above bool) crowd.Situation) crowd.Bits {
	if !c.of(folder) || c.inside() && top {
		return d.People.Empty()
	}
	if c.act == nil {
		return d.Holding(s, c.rights(rules, folder))
	}
	makes := c.act.Takes == verdict.NewFile || c.act.Takes == verdict.NewFolder
	if makes {
		folder = c.act.Takes == verdict.NewFolder
	}
	out := slices.Clone(d.People.All())
	for _, n := range c.act.Needs {
		switch n.On {
		case verdict.OnItem:
			out = out.And(d.Holding(s, n.Rights))
		case verdict.OnFolder:
			asked := d.Holding
			if n.PastShare {
				asked = d.PastShare
			}
			out = out.And(asked(adding(!makes), verdict.AddRight(folder)))
		case verdict.OnKernel:
			if s.Item.Beneath != nil && parent != nil && !(n.NotKept && d.Traits.KeepsDescriptors()) {
				how := d.Traits.AboveReading()
				alone := crowd.Situation{Item: k.Read(rules, how), Gate: s.Gate}
				alone.Child = d.TakesOut(k.Read(parent, how), alone.Item.Owner)
				out = out.And(d.PastShare(alone, n.Rights))
			}
		case verdict.OnNames:
			if s.Item.Beneath != nil && parent != nil {
				names := crowd.Situation{Item: k.Read(parent, d.Traits.AboveReading()), Gate: s.Gate}
				out = out.And(d.PastShare(names, n.Rights))
			}
		case verdict.OnShare:
			out = out.And(d.Through(n.Rights))
		case verdict.OnConnection:
			for _, not := range []crowd.Bits{d.Refused(), d.ReadOnly()} {
				for i := range not {
					out[i] &^= not[i]
				}
			}
		}
	}
	return out
}
