package changes

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/report/changes"
)

func StripCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var under, owner string
	c := &cobra.Command{
		Use:   "strip WHO…",
		Short: "Remove accounts from everything that names them, in one change",
		Long: `Remove accounts from everything that names them, in one change: entries and audit
entries wherever they are set, shares' rules, lists of administrators, groups,
last days; sealed places too. What they own is handed to the account after
--owner-to. --under keeps to the rules at and below a place.

The accounts themselves stay; tarnwold user remove takes them away then.`,
		Example: `  tarnwold strip silas --owner-to warden --dry-run
  tarnwold strip lark --under //stagedoor/productions --owner-to warden --dry-run`,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.CompleteAccounts(0),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
				return entry.Strip(d, args, under, owner)
			})
		},
	}
	k.Flags(c)
	c.Flags().StringVar(&under, "under", "", "only the rules at and below this `place`")
	c.Flags().StringVar(&owner, "owner-to", "", "`who` owns what they owned then")
	_ = c.RegisterFlagCompletionFunc("under", a.CompletePlaces)
	_ = c.RegisterFlagCompletionFunc("owner-to", a.CompleteAccounts(0))
	return c
}
