package census

import (
	"cmp"
	"maps"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// File is one file somebody can work with.
type File struct {
	Where string `json:"where"`
	Route string `json:"route"`
	Level string `json:"level"`
}

// Files calls fn with each file a user can work with: read, or do what was
// asked for; everywhere or at and below a place, by every route.
func Files(k *ask.Asker, who, canDo, under string, fn func(File) error) (ask.Account, error) {
	user, c, g, err := filed(k, who, canDo, under)
	if err != nil {
		return ask.Account{}, err
	}
	for _, w := range g.Ways {
		s, can := doing(g, user.ID, w, c)
		for _, p := range g.F.Parts(workables(g, s, can)) {
			level := g.Level(g.F.Nodes[p.Node].Before, s.Granted[p.Node], false)
			if err := eachItem(g, p, func(item int64) error { return fn(File{g.Named(w, item), w.Name, level}) }); err != nil {
				return ask.Account{}, err
			}
		}
	}
	return k.Account(user.ID), k.T.Err()
}

func filed(k *ask.Asker, who, canDo, under string) (account.Account, *ask.Can, *ask.Scope, error) {
	user, err := k.T.User(who)
	if err != nil {
		return user, nil, nil, err
	}
	c, err := k.Can(canDo)
	if err == nil && c != nil && !c.Of(false) {
		err = ask.Unfit("", "%s doesn't apply to files", canDo)
	}
	if err != nil {
		return user, nil, nil, err
	}
	g, err := k.OverFor(under, user.ID)
	return user, c, g, err
}

// workable tells whether the items of a node are files the user can work with.
func workable(g *ask.Scope, s *ask.Seen, can []bool, i int) bool {
	if g.F.Nodes[i].Folder || !s.On[i] {
		return false
	}
	if can != nil {
		return can[i]
	}
	return s.Granted[i]&right.ReadData != 0
}

// workables lists the nodes whose items are files the user can work with.
func workables(g *ask.Scope, s *ask.Seen, can []bool) (nodes []int) {
	for i := range g.F.Nodes {
		if workable(g, s, can, i) {
			nodes = append(nodes, i)
		}
	}
	return nodes
}

// eachItem calls fn with every item of a piece of what there is.
func eachItem(g *ask.Scope, p estate.Part, fn func(item int64) error) error {
	return g.F.EachIn(g.K.T, p, func(item int64) error {
		if err := g.K.T.Context().Err(); err != nil {
			return err
		}
		return fn(item)
	})
}

// FolderFiles is how many files in one folder somebody can work with.
type FolderFiles struct {
	Where string `json:"where"`
	Route string `json:"route"`
	Files int64  `json:"files"`
	// Bytes is how large those are of which that is known; nil: nobody asked.
	Bytes   *int64 `json:"bytes,omitempty"`
	Unknown int64  `json:"files-of-unknown-size,omitempty"`
}

// FileCounts is Files, counted folder by folder.
func FileCounts(k *ask.Asker, who, canDo, under string, sizes bool) (ask.Account, []FolderFiles, error) {
	user, c, g, err := filed(k, who, canDo, under)
	if err != nil {
		return ask.Account{}, nil, err
	}
	out := []FolderFiles{}
	for _, w := range g.Ways {
		s, can := doing(g, user.ID, w, c)
		count := map[int64]estate.Volume{}
		nodes := workables(g, s, can)
		add := func(folder int64, v estate.Volume) {
			sum := count[folder]
			sum.Add(v)
			count[folder] = sum
		}
		if sizes {
			err = g.F.FolderSizes(k.T, nodes, add)
		} else {
			err = g.F.EachFolder(k.T, nodes, func(folder, items int64) { add(folder, estate.Volume{Files: items}) })
		}
		if err != nil {
			return ask.Account{}, nil, err
		}
		k.T.Locate(slices.Collect(maps.Keys(count)))
		var list []FolderFiles
		for folder, n := range count {
			f := FolderFiles{Where: g.Named(w, folder), Route: w.Name, Files: n.Files}
			if sizes {
				f.Bytes, f.Unknown = &n.Bytes, n.Files-n.Known
			}
			list = append(list, f)
		}
		slices.SortFunc(list, func(a, b FolderFiles) int { return slices.Compare(parts(a.Where), parts(b.Where)) })
		out = append(out, list...)
	}
	return k.Account(user.ID), out, k.T.Err()
}

// OwnerFiles is how many files an account owns, and how large they are.
type OwnerFiles struct {
	ask.Account
	Files   int64 `json:"files"`
	Bytes   int64 `json:"bytes"` // of those of which it is known
	Unknown int64 `json:"files-of-unknown-size"`
}

// OwnerSizes gives what each account owns, or one alone, everywhere or at and below a place;
// who owns most comes first.
func OwnerSizes(k *ask.Asker, who, under string) ([]OwnerFiles, error) {
	below, only := int64(0), account.ID{}
	if under != "" {
		p, err := k.Place(under)
		if err != nil {
			return nil, err
		}
		below = p.Item
	}
	if who != "" {
		id, err := k.T.Who(who)
		if err != nil {
			return nil, err
		}
		only = id
	}
	of := map[account.ID]*OwnerFiles{}
	out := []OwnerFiles{}
	for id, v := range k.T.OwnedSizes(below) {
		id = k.T.AccountOf(id)
		if who != "" && id != only {
			continue
		}
		o := of[id]
		if o == nil {
			o = &OwnerFiles{Account: k.Account(id)}
			of[id] = o
		}
		o.Files, o.Bytes, o.Unknown = o.Files+v.Files, o.Bytes+v.Bytes, o.Unknown+v.Files-v.Known
	}
	for _, o := range of {
		out = append(out, *o)
	}
	slices.SortFunc(out, func(a, b OwnerFiles) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(b.Files, a.Files), ask.CmpText(a.Name, b.Name))
	})
	return out, k.T.Err()
}
