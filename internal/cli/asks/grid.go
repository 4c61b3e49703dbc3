package asks

import (
	"slices"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

func GridCommand(a *run.App) *cobra.Command {
	var q census.Gridding
	var all, groups bool
	c := &cobra.Command{
		Use:   "grid WHERE",
		Short: "Show folders down, accounts across, levels in the cells",
		Long: `Show folders down, accounts across, and in each cell the level the account has
there. Behind a level + says that an entry set on that very folder names the
account, - that a deny entry takes something from it. A group's column is for
somebody who is in that group and in no other; "who else" names the users with
access whom no column covers.

Across are the groups and users that the rules there name; or those after
--for, as "*" every user there is. --distinct goes all the way down and shows
places with the same rules under the same folder once.`,
		Example: `  tarnwold grid //stagedoor/productions
  tarnwold grid //stagedoor/productions --depth 2 --for wardrobe,lighting,volunteers
  tarnwold grid //stagedoor/productions --groups --format csv`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			q.Where = args[0]
			if len(q.For) == 1 && q.For[0] == "*" {
				q.For, q.Everyone = nil, true
			}
			q.GroupsOnly = groups
			return grid(a, c, q, all)
		},
	}
	c.Flags().IntVar(&q.Depth, "depth", 1, "how many layers of folders below WHERE")
	c.Flags().StringSliceVar(&q.For, "for", nil, "the accounts across, `WHO,…`; department=Foyer for users of whom that is known; \"*\" for every user")
	c.Flags().BoolVar(&groups, "groups", false, "only groups across")
	c.Flags().BoolVar(&q.Files, "files", false, "files too, not only folders")
	c.Flags().BoolVar(&q.Distinct, "distinct", false, "all that is below, each set of rules once")
	run.AllFlag(c, &all)
	_ = c.RegisterFlagCompletionFunc("for", a.CompleteAccounts(0))
	return c
}

// grid prints a grid: row by row where a program reads it, whole where it is drawn.
func grid(a *run.App, c *cobra.Command, q census.Gridding, all bool) error {
	if a.Format == doc.Table && !all {
		q.Limit = run.ShownLines
	}
	return a.View(c.Context(), func(t *estate.Tx) error {
		p := a.Printer()
		a.Supposes(p)
		var head *census.Gridded
		var rows []census.GridRow
		var w *report.GridWriter
		k := ask.New(t)
		err := census.Grid(k, q, func(g *census.Gridded) (err error) {
			head = g
			if a.Format == doc.CSV {
				w, err = report.GridCSV(p, g, !q.Everyone)
			}
			return err
		}, func(r *census.GridRow) error {
			if w != nil {
				return w.Row(r)
			}
			kept := *r
			kept.Cells = slices.Clone(r.Cells)
			rows = append(rows, kept)
			return nil
		})
		switch {
		case err != nil:
			return err
		case w != nil:
			return w.End()
		}
		p.WhoIs = a.WhoIs(k)
		return report.Gridded(p, head, rows)
	})
}
