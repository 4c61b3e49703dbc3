package asks

import (
	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

func HistoryCommand(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "history WHO WHERE",
		Short: "List when a user's access to an item changed, by which change, by whom",
		Long: `List when a user's access to an item changed, newest first, by each route: by
which change of the journal, made by whom, from which level to which. A change
anywhere counts: of the item, of a folder above, of a group, of a share.`,
		Example: `  tarnwold history ines //stagedoor/productions/Wardrobe
  tarnwold history petra stagedoor:/srv/playhouse/Foyer --format csv`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User), a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			e, done, err := a.Open(ctx)
			if err != nil {
				return err
			}
			defer done()
			var got *explain.History
			err = e.Private(ctx, func(p *estate.Estate) error {
				_, err := p.Change(ctx, estate.Meta{Actor: run.WhatIf, Head: estate.Any}, func(t *estate.Tx) (string, error) {
					got, err = explain.HistoryOf(t, args[0], args[1])
					return "", err
				})
				return err
			})
			if err != nil {
				return err
			}
			return report.History(a.Printer(), got)
		},
	}
}
