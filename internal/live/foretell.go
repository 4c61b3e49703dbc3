package live

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/server"
)

// LeftOut is an item that a push leaves as it is, while the rest is written.
type LeftOut struct {
	Where string `json:"where"`
	Why   string `json:"why"`

	server, path string
	folder       bool
	rules        rule.Any // what it has
}

// Unwritable refuses a push where some items can't be written at all.
type Unwritable struct {
	Items []LeftOut `json:"items"`
}

func (e *Unwritable) Error() string {
	said := fmt.Sprintf("%s: %s", e.Items[0].Where, e.Items[0].Why)
	if n := len(e.Items) - 1; n > 0 {
		said += fmt.Sprintf(" (and %s more)", format.Count(int64(n), "item"))
	}
	return said + "; nothing was written; --partly leaves out what can't be written, and keeps the rest"
}

// Foretold is what is known of a push before it is shown.
type Foretold struct {
	Out      []plan.Outbound // without what is left out
	Left     []LeftOut
	Warnings []plan.Warning
}

// Foretell looks at what a push would write to trees of this machine: files
// that stand under names which aren't written too are left out, unless force
// says otherwise, and so is what is mounted there; files that would run as
// their owner again and have been changed since are a guard's.
func (u *Push) Foretell(ctx context.Context, out []plan.Outbound, force bool) (f *Foretold, err error) {
	f = &Foretold{}
	for _, o := range out {
		if !slices.ContainsFunc(o.Writes, func(w plan.Write) bool { _, ok := w.To.(*posix.Rules); return ok }) {
			f.Out = append(f.Out, o)
			continue
		}
		if err := u.foretell(ctx, f, o, force); err != nil {
			return nil, err
		}
	}
	return f, nil
}

func (u *Push) foretell(ctx context.Context, f *Foretold, o plan.Outbound, force bool) error {
	c, err := u.Dial(ctx, o.Server)
	if err != nil {
		return err
	}
	defer c.Close()
	found := make([]*server.Item, len(o.Writes))
	left := map[int]string{}
	by := map[server.Stamp][]int{} // files that stand under several names
	for i := range o.Writes {
		if i&1023 == 0 && ctx.Err() != nil {
			return context.Cause(ctx)
		}
		w := &o.Writes[i]
		x, err := c.Look(ctx, w.Share, w.Writing.Path, false)
		switch {
		case errors.Is(err, server.ErrMounted):
			left[i] = "something is mounted there, and what is mounted isn't written to unless it was scanned with --mounts"
			continue
		case err != nil:
			continue // said when it is written
		}
		found[i] = &x
		if x.Names > 1 {
			by[x.Stamp] = append(by[x.Stamp], i)
		}
	}
	for _, names := range by {
		first := names[0]
		x := found[first]
		for _, i := range names[1:] {
			if !o.Writes[i].To.Same(o.Writes[first].To) {
				return &estate.Refused{Why: fmt.Sprintf("%s and %s are one file under two names, and would get different rules", o.Writes[first].Where, o.Writes[i].Where), Do: "change one of the two by itself"}
			}
		}
		if len(names) >= x.Names || force {
			continue
		}
		for _, i := range names {
			left[i] = fmt.Sprintf("the file stands under %d names, of which this changes %d: whoever comes by another would have it too; --force changes it all the same", x.Names, len(names))
		}
	}
	kept := o
	kept.Writes = nil
	var again []string
	for i, w := range o.Writes {
		if why, ok := left[i]; ok {
			x := LeftOut{Where: w.Where, Why: why, server: o.Server, path: w.Path, rules: w.Before}
			x.folder = w.Before.(*posix.Rules).Folder
			f.Left = append(f.Left, x)
			continue
		}
		if !w.Since.IsZero() && found[i] != nil && found[i].Changed.After(w.Since) {
			if again = append(again, w.Where); force {
				w.Since = time.Time{}
			}
		}
		kept.Writes = append(kept.Writes, w)
	}
	if len(again) > 0 {
		where := again[0]
		if n := len(again) - 1; n > 0 {
			where += " and " + format.Count(int64(n), "item") + " more"
		}
		f.Warnings = append(f.Warnings, plan.Warning{Guard: "runs-as", Where: where})
	}
	if len(kept.Writes) > 0 {
		f.Out = append(f.Out, kept)
	}
	return nil
}

// putBack takes items that are left out into the estate as they are on the
// server, once a plan that would have changed them is kept.
func putBack(t *estate.Tx, actor string, left []LeftOut) error {
	by := map[string][]intake.Found{}
	var order []string
	for _, x := range left {
		if by[x.server] == nil {
			order = append(order, x.server)
		}
		by[x.server] = append(by[x.server], intake.Found{Path: x.path, Folder: x.folder, Rules: x.rules})
	}
	for _, name := range order {
		s, err := t.Server(name)
		if err != nil {
			return err
		}
		slices.SortFunc(by[name], func(a, b intake.Found) int { return len(a.Path) - len(b.Path) }) // folders before what is in them
		p, _, err := intake.Now(plan.New(t, actor), s, by[name])
		if err != nil {
			return err
		}
		if _, err := p.Keep(t); err != nil {
			return err
		}
	}
	return t.Err()
}
