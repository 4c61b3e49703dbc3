package ask

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
)

// File is one file somebody can work with.
type File struct {
	Where string `json:"where"`
	Route string `json:"route"`
	Level string `json:"level"`
}

// Files calls fn with each file a user can work with: read, or do what was
// asked for; everywhere or at and below a place, by every route.
func (k *Asker) Files(who, canDo, under string, fn func(File) error) (Account, error) {
	user, c, g, err := k.filed(who, canDo, under)
	if err != nil {
		return Account{}, err
	}
	for _, w := range g.ways {
		s, can := g.doing(user.ID, w, c)
		for i := range g.f.Nodes {
			if !g.workable(s, can, i) {
				continue
			}
			level := g.level(g.f.Nodes[i].Before, s.granted[i], false)
			if err := g.eachItem(i, func(item int64) error { return fn(File{g.named(w, item), w.route, level}) }); err != nil {
				return Account{}, err
			}
		}
	}
	return k.Account(user.ID), k.t.Err()
}

func (k *Asker) filed(who, canDo, under string) (account.Account, *can, *ground, error) {
	user, err := k.t.User(who)
	if err != nil {
		return user, nil, nil, err
	}
	c, err := k.can(canDo)
	if err == nil && c != nil && !c.of(false) {
		err = unfit("", "%s says nothing of files", canDo)
	}
	if err != nil {
		return user, nil, nil, err
	}
	g, err := k.over(under)
	return user, c, g, err
}

// workable tells whether the items of a node are files the user can work with.
func (g *ground) workable(s *seen, can []bool, i int) bool {
	if g.f.Nodes[i].Folder || !s.on[i] {
		return false
	}
	if can != nil {
		return can[i]
	}
	return s.granted[i]&right.ReadData != 0
}

// eachItem calls fn with every item of a node.
func (g *ground) eachItem(i int, fn func(item int64) error) error {
	return g.f.Each(g.k.t, i, func(item int64) error {
		if err := g.k.t.Context().Err(); err != nil {
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
func (k *Asker) FileCounts(who, canDo, under string) (Account, []FolderFiles, error) {
	user, c, g, err := k.filed(who, canDo, under)
	if err != nil {
		return Account{}, nil, err
	}
	out := []FolderFiles{}
	for _, w := range g.ways {
		s, can := g.doing(user.ID, w, c)
		count := map[int64]int64{}
		for i := range g.f.Nodes {
			if g.workable(s, can, i) {
				if err := g.f.EachFolder(k.t, i, func(folder, items int64) { count[folder] += items }); err != nil {
					return Account{}, nil, err
				}
			}
		}
		var list []FolderFiles
		for folder, n := range count {
			list = append(list, FolderFiles{g.named(w, folder), w.route, n})
		}
		slices.SortFunc(list, func(a, b FolderFiles) int { return slices.Compare(parts(a.Where), parts(b.Where)) })
		out = append(out, list...)
	}
	return k.Account(user.ID), out, k.t.Err()
}
