package intake

import (
	"fmt"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
)

// MarkedPath is a line of a list of items that carry a mark.
type MarkedPath struct {
	Line int
	Path string // below the place the list is of; empty: that place
}

// Marks makes items carry the read-only mark, or carry it no more. It is so on the server:
// nothing is written there.
func Marks(d *plan.Planner, file string, top place.Address, list []MarkedPath, off bool) (*plan.Plan, error) {
	p := foundPlan(d)
	p.Nothing = "they are marked so already"
	p.Change = fmt.Sprintf("%s marked read-only", format.Count(int64(len(list)), "item"))
	if off {
		p.Change = fmt.Sprintf("read-only mark off %s", format.Count(int64(len(list)), "item"))
	}
	g := estate.Group{Edit: func(a, _ rule.Any, folder bool) (rule.Any, error) {
		x, ok := a.(*rule.Descriptor)
		if !ok {
			return nil, &estate.Refused{Why: "items of a POSIX tree carry no read-only mark", Do: "take their modes with: tarnwold load tree --posix"}
		}
		switch {
		case off:
			return x.Marked(0), nil
		case folder:
			return x.Marked(rule.ReadOnlyFolder), nil
		}
		return x.Marked(rule.ReadOnly), nil
	}}
	seen := map[int64]bool{}
	for _, x := range list {
		at := top
		if x.Path != "" {
			at.Path = place.Join(top.Path, x.Path)
		}
		item, err := d.T.Find(at)
		if err != nil {
			return nil, &format.Error{File: file, Line: x.Line, What: err.Error()}
		}
		if !seen[item.Item] {
			seen[item.Item] = true
			g.Targets = append(g.Targets, item.Target())
		}
	}
	if len(g.Targets) == 0 {
		return d.Evaluate(p)
	}
	if err := just(d, p, []estate.Group{g}); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}
