package intake

import (
	"fmt"

	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// LoadTree takes a tree in at a place where the estate has nothing yet, its
// server with it where that is new. It changes nobody's access to anything the
// estate knew, and is by the million, so that it is kept at once, within a
// change that is Meta.Bulk.
func LoadTree(t *estate.Tx, to place.Address, tree *format.Tree, step func(done int)) error {
	s, ok := t.FindServer(to.Server)
	if !ok {
		if err := estate.GoodName("server", to.Server); err != nil {
			return err
		}
		set := "smb"
		if posixTree(tree) {
			set = "posix"
		}
		traits, err := verdict.NamedTraits(set)
		if err != nil {
			return err
		}
		s = t.AddServer(to.Server, traits)
	}
	if err := t.Err(); err != nil {
		return err
	}
	if err := fits(&s, posixTree(tree)); err != nil {
		return err
	}
	return t.LoadTree(s, to.Path, tree, step)
}

// posixTree tells whether a tree is one of a POSIX system.
func posixTree(tree *format.Tree) bool {
	_, ok := tree.Bodies[0].(*posix.Rules)
	return ok
}

// fits refuses a tree that a server doesn't decide about by its traits.
func fits(s *estate.Server, posixTree bool) error {
	if posixTree && !s.Traits.AsksFoldersAbove {
		return &estate.Refused{Why: fmt.Sprintf("server %s decides by the traits %s, and on a POSIX tree every folder above is asked", s.Name, s.Traits.Name),
			Do: "give the tree a server of its own, or say how this one decides: tarnwold server traits " + s.Name + " posix"}
	}
	return nil
}

// MayLoad refuses a place for a tree that is taken.
func MayLoad(t *estate.Tx, to place.Address) error {
	if s, ok := t.FindServer(to.Server); ok {
		return t.Landing(&s, to.Path)
	}
	return estate.GoodName("server", to.Server)
}

// TreeLoaded says what a load of a tree brings.
func TreeLoaded(tree *format.Tree, to place.Address) string {
	folders := int64(tree.Folders())
	return format.Count(folders, "folder") + " and " + format.Count(int64(tree.Len())-folders, "file") + " with " +
		format.Count(int64(len(tree.Bodies)), "distinct descriptor") + " loaded at " + to.String()
}
