package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/report"
	"tarnwold/internal/server"
)

func (a *app) driftCommand() *cobra.Command {
	var sign signing
	var all bool
	c := &cobra.Command{
		Use:   "drift SERVER",
		Short: "Tell what is otherwise on a real server than in the estate",
		Long: `Tell what is otherwise on a real server than in the estate: items that came or
went, and rules that are others, entry by entry. Nothing is taken in, and nothing
is changed anywhere. Exit code 1 says that something differs.`,
		Example: `  tarnwold drift stagedoor
  tarnwold drift stagedoor --format csv`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeServers,
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			s, live, err := a.signOn(ctx, &sign, args[0])
			if err != nil {
				return err
			}
			defer live.Close()
			return a.drift(ctx, s, live, all)
		},
	}
	sign.flags(c)
	allFlag(c, &all)
	return c
}

func (a *app) drift(ctx context.Context, s estate.Server, live server.Server, all bool) error {
	shares, err := live.Shares(ctx)
	if err != nil {
		return err
	}
	limit := shownLines
	if all || a.format != report.Table {
		limit = 0
	}
	var out *plan.Drift
	var bad []unread
	err = a.view(ctx, func(t *estate.Tx) error {
		d := plan.New(t, a.who())
		out = d.BeginDrift(s, limit)
		for _, x := range shares {
			if err := out.Share(d, x.Name, x.Folder, x.Rules); err != nil {
				return err
			}
		}
		out.SharesGone(d)
		for _, x := range topmost(shares) {
			known, err := out.Tree(d, x.Folder)
			if err != nil {
				return err
			}
			if !known {
				continue
			}
			bar := a.progress(-1, "comparing "+x.Name)
			n := 0
			err = live.Scan(ctx, x.Name, func(i server.Item) error {
				if n++; n%256 == 0 {
					bar.set(n)
				}
				if i.Err != nil {
					bad = append(bad, unread{strings.TrimSuffix(x.Name+"/"+i.Path, "/"), i.Err})
					out.Pass(i.Path)
					return nil
				}
				return out.Item(d, i.Path, i.Folder, i.Rules)
			})
			bar.end()
			if err != nil {
				return err
			}
			out.Gone(d)
		}
		return t.Err()
	})
	if err != nil {
		return err
	}
	if err := a.printer().Drifted(out); err != nil {
		return err
	}
	if len(bad) > 0 {
		for i, u := range bad {
			if i < mostListed {
				a.printer().Line(report.S("not read: %s: %s", u.where, u.why.Error()))
			}
		}
		return &partlyRead{len(bad)}
	}
	if len(out.Lines) > 0 {
		return errNo
	}
	return nil
}
