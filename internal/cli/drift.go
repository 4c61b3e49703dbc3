package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
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
went, and rules that are others, entry by entry, with when the server says each
was changed last. Nothing is taken in, and nothing is changed anywhere. Exit code
1 says that something differs.`,
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

func (a *app) drift(ctx context.Context, s estate.Server, from server.Server, all bool) error {
	bar := a.counting("reading " + s.Name)
	was, err := a.answered(ctx, s)
	if err != nil {
		return err
	}
	job := live.Scan{Server: s, Was: was, Step: func(share string, items, left int) {
		bar.say(fmt.Sprintf("reading %s, %s left", share, report.Count(int64(left), "folder")))
		bar.set(items)
	}}
	seen, err := job.Read(ctx, from)
	bar.end()
	if err != nil {
		return err
	}
	defer seen.Close()
	limit := shownLines
	if all || a.format != report.Table {
		limit = 0
	}
	var out *intake.Drift
	if err := a.view(ctx, func(t *estate.Tx) error {
		out, err = intake.DriftOf(plan.New(t, a.who()), s, seen.Shares, seen.Tracts, limit)
		return err
	}); err != nil {
		return err
	}
	if err := a.printer().Drifted(out); err != nil {
		return err
	}
	if err := a.unread(seen); err != nil {
		return err
	}
	if len(out.Lines) > 0 {
		return errNo
	}
	return nil
}
