package entry

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/posix"
	"tarnwold/core/posix/acltext"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
)

// Mode makes the bits or the entries of items of POSIX trees come, just as they
// are given: here, and with below everything below too.
func Mode(d *plan.Planner, set string, entries []string, below bool, x plan.Targets) (*plan.Plan, error) {
	var change *acltext.Change
	var err error
	if set != "" {
		if change, err = acltext.ParseChange(set); err != nil {
			return nil, &estate.Refused{Why: err.Error()}
		}
	}
	if below && change != nil && change.Plain() {
		return nil, &estate.Refused{Why: "one mode for folders and files alike would let every file be run, or no folder be gone through", Do: "say it as a change, with X for execute where it belongs: u=rwX,g=rwX,o="}
	}
	type one struct {
		e    posix.Entry
		dflt bool
	}
	var list []one
	for _, s := range entries {
		e, dflt, err := acltext.ParseEntry(s, plan.Posixers(d.T))
		if err != nil {
			return nil, &estate.Refused{Why: fmt.Sprintf("%s: %v", format.Clip(s), err), Do: "say it as user:NAME:rwx, group:NAME:r-x, group::r-x, mask::r-x or default:group:NAME:rwx"}
		}
		list = append(list, one{e, dflt})
	}
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	said := append(slices.Clone(entries), set)
	p := d.NewPlan("mode %s on %s", strings.TrimSuffix(strings.Join(said, " "), " "), x.Text())
	p.Nothing = "it is so already"
	edit := plan.ItemEdit{Make: func(*rule.Descriptor, *rule.Descriptor, bool, estate.Dated) (*rule.Descriptor, error) {
		return nil, &estate.Refused{Why: "it is not an item of a POSIX tree: it has entries, and no mode", Do: "see: tarnwold grant --help"}
	}, Posix: func(r, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		for _, o := range list {
			if o.dflt && !r.Folder {
				if below {
					continue
				}
				return nil, &estate.Refused{Why: "a file has no default list"}
			}
			after, ok := r.WithEntry(o.e, o.dflt)
			if !ok {
				return nil, &estate.Refused{Why: "the list names nobody, and so it has no mask", Do: "set the group's own entry: group::r-x"}
			}
			r = after
		}
		if change != nil {
			r = r.Chmod(change.Of(r.Mode(), r.Folder))
		}
		return r, nil
	}}
	p.Work.Renews = below // then everything there is told of, item by item
	if err := d.OnItems(p, targets, edit, false); err != nil {
		return nil, at(d, err, targets)
	}
	if below {
		if err := d.AllBelow(p, edit); err != nil {
			return nil, err
		}
	}
	return d.Evaluate(p)
}
