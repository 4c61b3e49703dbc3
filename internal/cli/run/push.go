package run

import (
	"cmp"
	"context"
	"errors"
	"os"

	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/saved"
	"tarnwold/internal/report/changes"
)

// TakeBackUnfinished takes a change back whose writing was broken off.
func (a *App) TakeBackUnfinished(ctx context.Context, sign *Signing) error {
	return a.Pushing(ctx, sign, "taking back", func(u *live.Push) error {
		told, err := u.TakeBack(ctx)
		if err != nil {
			return err
		}
		return changes.TakenBack(a.Printer(), told)
	})
}

// Pushing opens the estate for writing to real servers.
func (a *App) Pushing(ctx context.Context, sign *Signing, what string, fn func(*live.Push) error) error {
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	bar := a.Counting(what)
	defer bar.End()
	return fn(&live.Push{Estate: e, Dial: a.dialer(sign), Directory: a.directories(sign), Step: func(done, _ int) { bar.Set(done) }})
}

// outbound works out what a plan has to write to real servers, and the plan as
// it is put down meanwhile.
func outbound(d *plan.Planner, p *plan.Plan, o *changes.Outcome, shown string) ([]byte, error) {
	out, err := d.Outbound(p)
	if err != nil || len(out) == 0 {
		return nil, err
	}
	o.Outbound = out
	return saved.Save(d, p, shown)
}

// foretell looks at what of a plan's writes is to be left out, and what guards
// have against them that only the server knows.
func (a *App) foretell(ctx context.Context, e *estate.Estate, k *Keeping, o *changes.Outcome) error {
	u := &live.Push{Estate: e, Dial: a.dialer(&k.Sign)}
	f, err := u.Foretell(ctx, o.Outbound, k.Force)
	if err != nil {
		return err
	}
	o.Outbound, o.Left = f.Out, f.Left
	o.Warnings = append(o.Warnings, f.Warnings...)
	return nil
}

// keepAndWrite keeps a plan, and writes down first what of it is to be done in directories:
// the file goes again where the plan isn't kept, nor goes on later.
func (a *App) keepAndWrite(ctx context.Context, e *estate.Estate, k *Keeping, o *changes.Outcome, put []byte) (int64, error) {
	if k.ldif == "" || len(o.ToDo) == 0 {
		return a.keep(ctx, e, k, o, put)
	}
	if err := a.writeLDIF(ctx, k, o); err != nil {
		return 0, err
	}
	id, err := a.keep(ctx, e, k, o, put)
	if err != nil && !errors.As(err, new(*live.Broken)) {
		o.LDIF = ""
		_ = os.Remove(k.ldif)
	}
	return id, err
}

// keep keeps a plan: in the estate alone, or on the real servers and in directories too.
func (a *App) keep(ctx context.Context, e *estate.Estate, k *Keeping, o *changes.Outcome, put []byte) (int64, error) {
	m := o.Meta(Command(a.Shown))
	if len(o.Outbound) == 0 && len(o.Left) > 0 {
		return 0, &live.Unwritable{Items: o.Left}
	}
	if len(o.Outbound) == 0 {
		return e.Change(ctx, m, o.Keep)
	}
	of := 0
	for _, x := range o.Outbound {
		of += len(x.Writes)
	}
	bar := a.Progress(of, "writing to "+cmp.Or(o.Outbound[0].Server, o.Outbound[0].Directory))
	defer bar.End()
	u := &live.Push{Estate: e, Dial: a.dialer(&k.Sign), Directory: a.directories(&k.Sign), Step: func(done, _ int) { bar.Set(done) }, Left: o.Left, Partly: k.partly}
	id, err := u.Keep(ctx, o.Plan, put, m, o.Outbound)
	o.Left = u.Left
	return id, err
}
