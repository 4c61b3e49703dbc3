// Package change works out what a command would alter before anything is
// kept: the descriptors of the items it names and, by inheritance, of
// everything below them.
//
// It works on nodes, not items: a node stands for any number of items that
// have the same descriptor and the same descriptors above them, so the cost is
// that of the distinct ones.
package change

import "tarnwold/core/rule"

// Node is a set of items alike.
type Node struct {
	Parent int // the node above; -1 at the top
	Folder bool
	Items  int64            // how many items it stands for
	Before *rule.Descriptor // one pointer for one descriptor, wherever it stands
	After  *rule.Descriptor // filled in by Work
}

// Changed tells whether the node's descriptor is another one after.
func (n *Node) Changed() bool { return n.After != nil && n.After != n.Before }

// Edit is what a command does to one node. parent is the descriptor of the
// folder above as it is afterwards, nil at the top of what is known.
type Edit func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error)

// Set is what one command alters.
type Set struct {
	Nodes []Node // parents before children
	// Above holds the descriptors above a node whose Parent is -1, nearest
	// first; they don't change.
	Above map[int][]*rule.Descriptor
	// Edits are the nodes the command names.
	Edits map[int]Edit
	// Renew makes every node below an edited one match what is handed down
	// to it, stale entries too.
	Renew bool
}

type step struct {
	child, from, to *rule.Descriptor
	folder, renew   bool
}

// Work fills in After of every node: what is handed down first, then the
// node's own edit.
func (s *Set) Work() error {
	known := map[step]*rule.Descriptor{}
	same := map[*rule.Descriptor][]*rule.Descriptor{} // results that are equal become one
	renewing := make([]bool, len(s.Nodes))
	for i := range s.Nodes {
		n := &s.Nodes[i]
		d := n.Before
		parent := s.Over(i)
		if n.Parent >= 0 {
			p := &s.Nodes[n.Parent]
			parent = p.After
			renewing[i] = renewing[n.Parent]
			if p.Changed() || renewing[i] {
				k := step{n.Before, p.Before, p.After, n.Folder, renewing[i]}
				got, ok := known[k]
				if !ok {
					if renewing[i] {
						got = d.Renewed(p.After, n.Folder)
					} else {
						got = d.Follow(p.Before, p.After, n.Folder)
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

// one gives a single pointer for equal results that came of one descriptor.
func one(same map[*rule.Descriptor][]*rule.Descriptor, before, got *rule.Descriptor) *rule.Descriptor {
	if got == before || got.Equal(before) {
		return before
	}
	for _, d := range same[before] {
		if d.Equal(got) {
			return d
		}
	}
	same[before] = append(same[before], got)
	return got
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

// Over gives the descriptor of the folder above a node whose Parent is -1;
// nil where nothing above is known.
func (s *Set) Over(i int) *rule.Descriptor {
	if ds := s.Above[i]; len(ds) > 0 {
		return ds[0]
	}
	return nil
}
