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
	var like entry.LikeOptions
	c := &cobra.Command{
		Use:   "like WHO WHO",
		Short: "Make the second user equal to the first: groups first, then entries",
		Long: `Make the second user equal to the first in one change: in the same groups, with
the same primary group, on the same lists of administrators, named by the same
entries. What either owns stays theirs, and so does what they have on their own
home: a place that they own and whose own entries name of all single users them
alone. tarnwold compare shows the difference.`,
		Example: `  tarnwold like ines bram --dry-run
  tarnwold like ines bram --groups-only --dry-run`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User), a.CompleteAccounts(account.User)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
				return entry.Like(d, args[0], args[1], like)
			})
		},
	}
	c.Flags().BoolVar(&like.GroupsOnly, "groups-only", false, "groups, primary group and lists of administrators, and no entries")
	c.Flags().BoolVar(&like.Homes, "homes", false, "what is set for either on their own home too")
	c.MarkFlagsMutuallyExclusive("groups-only", "homes")
	k.Flags(c)
	return c
}
