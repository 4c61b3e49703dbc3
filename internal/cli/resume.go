package cli

import (
	"context"

	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/saved"
	"tarnwold/internal/report"
	"tarnwold/internal/server"
	"tarnwold/internal/server/local"
	"tarnwold/internal/server/smb"
)

func (a *app) resumeCommand() *cobra.Command {
	var sign signing
	var show bool
	c := &cobra.Command{
		Use:   "resume",
		Short: "Finish a change whose writing to a real server was broken off",
		Long: `Finish a change whose writing to a real server was broken off: by the network, a
kill, a server that went away. The servers are asked how each item stands; what
isn't written yet is written, and the change is kept. While it is unfinished the
estate takes no other change. tarnwold undo, without a number, takes it back
instead: every item is as it was before.`,
		Example: `  tarnwold resume --show
  tarnwold resume
  tarnwold undo`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.pushing(c.Context(), &sign, "finishing", func(u *live.Push) error {
				if show {
					told, err := u.Look(c.Context())
					if err != nil {
						return err
					}
					return a.printer().Unfinished(told)
				}
				told, id, err := u.Resume(c.Context())
				if err != nil {
					return err
				}
				return a.printer().Finished(told, id)
			})
		},
	}
	sign.flags(c)
	c.Flags().BoolVar(&show, "show", false, "say which items are in which state, and do nothing")
	return c
}

// takeBackUnfinished takes a change back whose writing was broken off.
func (a *app) takeBackUnfinished(ctx context.Context, sign *signing) error {
	return a.pushing(ctx, sign, "taking back", func(u *live.Push) error {
		told, err := u.TakeBack(ctx)
		if err != nil {
			return err
		}
		return a.printer().TakenBack(told)
	})
}

// pushing opens the estate for writing to real servers.
func (a *app) pushing(ctx context.Context, sign *signing, what string, fn func(*live.Push) error) error {
	e, done, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer done()
	bar := a.counting(what)
	defer bar.end()
	return fn(&live.Push{Estate: e, Dial: a.dialer(sign), Step: func(done, _ int) { bar.set(done) }})
}

// dialer signs on to servers by their names; a password is asked for once.
func (a *app) dialer(sign *signing) live.Dial {
	type known struct {
		link   smb.Link
		secret smb.Secret
	}
	servers := map[string]known{}
	return func(ctx context.Context, name string) (server.Server, error) {
		k, ok := servers[name]
		if !ok {
			if _, c, is, err := a.itself(ctx, name, local.Link{}); err != nil || is {
				return c, err
			}
			_, l, secret, err := a.credentials(ctx, sign, name)
			if err != nil {
				return nil, err
			}
			k = known{l, secret}
			servers[name] = k
		}
		return smb.Dial(ctx, k.link, k.secret)
	}
}

// outbound works out what a plan has to write to real servers, and the plan as
// it is put down meanwhile.
func outbound(d *plan.Desk, p *plan.Plan, o *report.Outcome, shown string) ([]byte, error) {
	out, err := d.Outbound(p)
	if err != nil || len(out) == 0 {
		return nil, err
	}
	o.Outbound = out
	return saved.Save(d, p, shown)
}

// foretell looks at what of a plan's writes is to be left out, and what guards
// have against them that only the server knows.
func (a *app) foretell(ctx context.Context, e *estate.Estate, k *keeping, o *report.Outcome) error {
	u := &live.Push{Estate: e, Dial: a.dialer(&k.sign)}
	f, err := u.Foretell(ctx, o.Outbound, k.force)
	if err != nil {
		return err
	}
	o.Outbound, o.Left = f.Out, f.Left
	o.Warnings = append(o.Warnings, f.Warnings...)
	return nil
}

// keep keeps a plan: in the estate alone, or on the real servers too.
func (a *app) keep(ctx context.Context, e *estate.Estate, k *keeping, o *report.Outcome, put []byte) (int64, error) {
	m := o.Meta(command(a.shown))
	if len(o.Directed) > 0 && !k.model {
		if len(o.Outbound) > 0 {
			return 0, misused("it goes to a directory and to a server both; do one after the other, with --model-only for neither")
		}
		return a.keepThere(ctx, e, k, o, m)
	}
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
	bar := a.progress(of, "writing to "+o.Outbound[0].Server)
	defer bar.end()
	u := &live.Push{Estate: e, Dial: a.dialer(&k.sign), Step: func(done, _ int) { bar.set(done) }, Left: o.Left, Partly: k.partly}
	id, err := u.Keep(ctx, o.Plan, put, m, o.Outbound)
	o.Left = u.Left
	return id, err
}
