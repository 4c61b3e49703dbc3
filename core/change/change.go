// Package change works out what a command would alter before anything is
// kept: the rules of the items it names and, by inheritance, of everything
// below them.
//
// It works on nodes, not items: a node stands for any number of items that
// have the same rules and the same rules above them, so the cost is that of
// the distinct ones. What kind of rules they are it doesn't know: it asks
// them (rule.Any).
package change

import (
	"context"

	"tarnwold/core/rule"
)

// Node is a set of items alike.
type Node struct {
	Parent int // the node above; -1 at the top
	Folder bool
	Items  int64    // how many items it stands for
	Before rule.Any // one pointer for the same rules, wherever they stand; nil: the items aren't there yet
	After  rule.Any // filled in by Work, but for nodes that are Fixed; nil: they are there no more
	Fixed  bool     // After is given
}

// Changed tells whether the node's rules are others after.
func (n *Node) Changed() bool { return n.After != n.Before }

// Edit is what a command does to one node. parent is the rules of the folder
// above as they are afterwards, nil at the top of what is known.
type Edit func(d, parent rule.Any, folder bool) (rule.Any, error)

// Set is what one command alters.
type Set struct {
	Nodes []Node // parents before children
	// Above holds the rules above a node whose Parent is -1, nearest first;
	// Then those above it afterwards, where it comes under other folders.
	Above, Then map[int][]rule.Any
	// Edits are the nodes the command names.
	Edits map[int]Edit
	// Renew makes every node below an edited one match what is handed down
	// to it, stale entries too.
	Renew bool
	// Still makes nothing follow what is above it: each node's edit says all.
	Still bool
}

type step struct {
	child, from, to rule.Any
	folder, renew   bool
}

// Work fills in After of every node: what is handed down first, then the
// node's own edit. It stops with the context's error when that is done.
func (s *Set) Work(ctx context.Context) error {
	known := map[step]rule.Any{}
	same := map[rule.Any][]rule.Any{} // results that are equal become one
	renewing := make([]bool, len(s.Nodes))
	for i := range s.Nodes {
		if i&1023 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		n := &s.Nodes[i]
		if n.Fixed {
			continue
		}
		d := n.Before
		parent := s.Over(i, true)
		if n.Parent >= 0 {
			p := &s.Nodes[n.Parent]
			renewing[i] = renewing[n.Parent]
			if !s.Still && p.Before != nil && p.After != nil && (p.Changed() || renewing[i]) {
				k := step{n.Before, p.Before, p.After, n.Folder, renewing[i]}
				got, ok := known[k]
				if !ok {
					if renewing[i] {
						got = d.Renewing(p.After, n.Folder)
					} else {
						got = d.Following(p.Before, p.After, n.Folder)
					}
					got = one(same, n.Before, got)
					known[k] = got
				}
				d = got
			}
		}
		if edit := s.Edits[i]; edit != nil {
			got, err := edit(d, parent, n.Folder)
			if err != nil {
				return err
			}
			d = one(same, n.Before, got)
			renewing[i] = s.Renew
		}
		n.After = d
	}
	return nil
}

// one gives a single pointer for equal results that came of the same rules.
func one(same map[rule.Any][]rule.Any, before, got rule.Any) rule.Any {
	if s, ok := got.(rule.Settling); ok && before != nil {
		got = s.Normalized(before)
	}
	if before == nil || got == before || got.Same(before) {
		if before != nil {
			return before
		}
		return got
	}
	for _, d := range same[before] {
		if d.Same(got) {
			return d
		}
	}
	same[before] = append(same[before], got)
	return got
}

// Trees gives the nodes of each tree, by its topmost node and in order, and the topmost
// node of each node.
func (s *Set) Trees() (trees map[int][]int, top []int) {
	trees, top = map[int][]int{}, make([]int, len(s.Nodes))
	for i := range s.Nodes {
		if top[i] = i; s.Nodes[i].Parent >= 0 {
			top[i] = top[s.Nodes[i].Parent]
		}
		trees[top[i]] = append(trees[top[i]], i)
	}
	return trees, top
}

// Changed counts the nodes and the items that are not as before.
func (s *Set) Changed() (nodes int, items int64) {
	for i := range s.Nodes {
		if s.Nodes[i].Changed() {
			nodes++
			items += s.Nodes[i].Items
		}
	}
	return nodes, items
}

// On gives a node's rules before or after.
func (n *Node) On(after bool) rule.Any {
	if after {
		return n.After
	}
	return n.Before
}

// Over gives the rules of the folder above a node, as they are before or
// after; nil where nothing above is known.
func (s *Set) Over(i int, after bool) rule.Any {
	if p := s.Nodes[i].Parent; p >= 0 {
		return s.Nodes[p].On(after)
	}
	if ds := s.Chain(i, after); len(ds) > 0 {
		return ds[0]
	}
	return nil
}

// Chain gives the rules above a node whose Parent is -1, as they are before
// or after.
func (s *Set) Chain(i int, after bool) []rule.Any {
	if then, ok := s.Then[i]; ok && after {
		return then
	}
	return s.Above[i]
}
