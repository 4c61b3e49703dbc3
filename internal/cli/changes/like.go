package changes

import (
	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/report/changes"
)

func LikeCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "like WHO WHO",
		Short: "Make the second user equal to the first: groups first, then entries",
		Long: `Make the second user equal to the first in one change: in the same groups, with
the same primary group, on the same lists of administrators, named by the same
entries. What either owns stays theirs. tarnwold compare shows the difference.`,
		Example:           `  tarnwold like ines bram --dry-run`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User), a.CompleteAccounts(account.User)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) { return entry.Like(d, args[0], args[1]) })
		},
	}
	k.Flags(c)
	return c
}
