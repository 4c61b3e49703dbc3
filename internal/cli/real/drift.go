package real

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/load"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/server"
)

func DriftCommand(a *run.App) *cobra.Command {
	var sign run.Signing
	var all bool
	c := &cobra.Command{
		Use:   "drift SERVER",
		Short: "Show what differs between a real server and the estate",
		Long: `Show what differs between a real server and the estate: items that came or
went, and rules that are others, entry by entry, with when the server says each
was changed last. Nothing is taken in, and nothing is changed anywhere. Exit code
1 says that something differs.`,
		Example: `  tarnwold drift stagedoor
  tarnwold drift stagedoor --format csv`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteServers,
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			s, live, err := a.SignOn(ctx, &sign, args[0])
			if err != nil {
				return err
			}
			defer live.Close()
			return drift(a, ctx, s, live, all)
		},
	}
	sign.Flags(c)
	run.AllFlag(c, &all)
	return c
}

func drift(a *run.App, ctx context.Context, s estate.Server, from server.Server, all bool) error {
	bar := a.Counting("reading " + s.Name)
	was, err := load.Answered(a, ctx, s)
	if err != nil {
		return err
	}
	job := live.Scan{Server: s, Was: was, Step: func(share string, items, left int) {
		bar.Say(fmt.Sprintf("reading %s, %s left", share, report.Count(int64(left), "folder")))
		bar.Set(items)
	}}
	seen, err := job.Read(ctx, from)
	bar.End()
	if err != nil {
		return err
	}
	defer seen.Close()
	limit := run.ShownLines
	if all || a.Format != doc.Table {
		limit = 0
	}
	var out *intake.Drift
	if err := a.View(ctx, func(t *estate.Tx) error {
		out, err = intake.DriftOf(plan.New(t, a.Who()), s, seen.Shares, seen.Trees, limit)
		return err
	}); err != nil {
		return err
	}
	if err := changes.Drifted(a.Printer(), out); err != nil {
		return err
	}
	if err := load.Unread(a, seen); err != nil {
		return err
	}
	if len(out.Lines) > 0 {
		return run.ErrNo
	}
	return nil
}
