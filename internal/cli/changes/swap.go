package changes

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/report/changes"
)

func SwapCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var under string
	c := &cobra.Command{
		Use:   "swap OLD NEW",
		Short: "Replace one account by another in everything that names it",
		Long: `Replace one account by another in everything that names it: entries and
audit entries, owners, shares' rules, lists of administrators, groups it is in,
last days. --under keeps to the rules at and below a place.`,
		Example: `  tarnwold swap silas nils --dry-run
  tarnwold swap acc-casting-edit casting --under //stagedoor/productions/Casting --dry-run`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(0), a.CompleteAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
				return entry.Swap(d, args[0], args[1], under)
			})
		},
	}
	k.Flags(c)
	c.Flags().StringVar(&under, "under", "", "only the rules at and below this `place`")
	_ = c.RegisterFlagCompletionFunc("under", a.CompletePlaces)
	return c
}
