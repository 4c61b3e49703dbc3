package census

import (
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
		err = ask.Unfit("", "%s says nothing of files", canDo)
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
}

// FileCounts is Files, counted folder by folder.
func FileCounts(k *ask.Asker, who, canDo, under string) (ask.Account, []FolderFiles, error) {
	user, c, g, err := filed(k, who, canDo, under)
	if err != nil {
		return ask.Account{}, nil, err
	}
	out := []FolderFiles{}
	for _, w := range g.Ways {
		s, can := doing(g, user.ID, w, c)
		count := map[int64]int64{}
		if err := g.F.EachFolder(k.T, workables(g, s, can), func(folder, items int64) { count[folder] += items }); err != nil {
			return ask.Account{}, nil, err
		}
		k.T.Locate(slices.Collect(maps.Keys(count)))
		var list []FolderFiles
		for folder, n := range count {
			list = append(list, FolderFiles{g.Named(w, folder), w.Name, n})
		}
		slices.SortFunc(list, func(a, b FolderFiles) int { return slices.Compare(parts(a.Where), parts(b.Where)) })
		out = append(out, list...)
	}
	return k.Account(user.ID), out, k.T.Err()
}
