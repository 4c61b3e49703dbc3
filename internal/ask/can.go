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

// Can is what an answer is narrowed to: a level or rights, or an act that
// touches one item and its folder.
type Can struct {
	Word  string
	level right.Level
	Act   *verdict.Act
}

// Can reads a level, rights or an act; nil for an empty word.
func (k *Asker) Can(word string) (*Can, error) {
	if word == "" {
		return nil, nil
	}
	if _, ok := k.Lang.Levels.Lookup(word); ok { // list and read are levels first
		l, err := k.Level(word)
		return &Can{Word: word, level: l}, err
	}
	if a, ok := verdict.ActNamed(word); ok {
		switch a.To {
		case verdict.NoTarget, verdict.NewName:
			return &Can{Word: word, Act: a}, nil
		}
		return nil, Unfit("see: tarnwold try --help", "%s needs a second place, so it can't be asked of a list of places", word)
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
	return &Can{Word: word, level: l}, nil
}

// Of tells whether it speaks of folders, or of files.
func (c *Can) Of(folder bool) bool {
	if c.Act == nil {
		return c.level.Folder != 0 && folder || c.level.File != 0 && !folder
	}
	switch c.Act.Takes {
	case verdict.File:
		return !folder
	case verdict.Folder, verdict.NewFile, verdict.NewFolder:
		return folder
	}
	return true
}

// Rights gives the rights a level asks for on an item; none for an act.
func (c *Can) Rights(rules rule.Any, folder bool) right.Set { return AskedOf(c.level, rules, folder) }

// Inside tells whether it is an act that the top of a route is no place for.
func (c *Can) Inside() bool {
	return c.Act != nil && (c.Act.To == verdict.NewName || c.Act.Name == "delete")
}

// OK tells whether a user can, on what a question is about. adding reads a
// folder's rules as the server does when something is added to it.
func (c *Can) OK(k *Asker, q *verdict.Question, granted right.Set, folder bool, item, parent rule.Any) bool {
	if !c.Of(folder) {
		return false
	}
	if c.Act == nil {
		return granted.Has(c.Rights(item, folder))
	}
	t := verdict.Trial{Item: q, IsFolder: folder, Kernel: k.Kernel(q, item, parent)}
	adding := func(a rule.Any) *rule.List { return k.Read(a, q.Traits.AddReading()) }
	in := *q
	if c.Act.Takes == verdict.NewFile || c.Act.Takes == verdict.NewFolder {
		t.Item, t.IsFolder = nil, c.Act.Takes == verdict.NewFolder
		in.Item = adding(item)
		if _, ok := item.(*posix.Rules); q.Traits.AsksFoldersAbove && !ok { // there adding takes execute by itself
			in.Above = append([]*rule.List{q.Item}, q.Above...)
		}
		t.Folder = &in
	} else if c.Inside() && parent == nil { // the top of the way
		return false
	} else if c.Act.To == verdict.NewName {
		in.Item = adding(parent)
		t.Folder = &in
		t.Names = k.Shown(&in, parent)
	}
	return verdict.Try(c.Act, &t).Allowed
}

// Holding gives everybody who can, in a situation; top: nothing is renamed or
// deleted there. adding gives the situation of the folder that something is
// added to: the item itself, or the folder above it, whose rules are parent. It is
// what ok would say of each.
func (c *Can) Holding(k *Asker, d *crowd.Decider, s crowd.Situation, rules, parent rule.Any, folder, top bool, adding func(above bool) crowd.Situation) crowd.Bits {
	if !c.Of(folder) || c.Inside() && top {
		return d.People.Empty()
	}
	if c.Act == nil {
		return d.Holding(s, c.Rights(rules, folder))
	}
	makes := c.Act.Takes == verdict.NewFile || c.Act.Takes == verdict.NewFolder
	if makes {
		folder = c.Act.Takes == verdict.NewFolder
	}
	out := slices.Clone(d.People.All())
	for _, n := range c.Act.Needs {
		if n.Specified && !d.Traits.AsSpecified {
			continue
		}
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
			if _, posixTree := rules.(*posix.Rules); posixTree && s.Item.Beneath != nil && parent != nil && !(n.NotKept && d.Traits.KeepsDescriptors()) {
				how := d.Traits.AboveReading()
				alone := crowd.Situation{Item: k.Read(rules, how), Gate: s.Gate}
				alone.Child = d.TakesOut(k.Read(parent, how), alone.Item.Owner)
				out = out.And(d.PastShare(alone, n.Rights))
			}
		case verdict.OnNames:
			if _, posixTree := rules.(*posix.Rules); posixTree && s.Item.Beneath != nil && parent != nil {
				names := crowd.Situation{Item: k.Read(parent, d.Traits.AboveReading()), Gate: s.Gate}
				out = out.And(d.PastShare(names, n.Rights))
			}
		case verdict.OnShare:
			out = out.And(d.Through(n.Rights))
		case verdict.OnMark:
			if s.Item.Kept {
				return d.People.Empty()
			}
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
