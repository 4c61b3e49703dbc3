package cli

import (
	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/report"
)

func (a *app) likeCommand() *cobra.Command {
	var k keeping
	c := &cobra.Command{
		Use:   "like WHO WHO",
		Short: "Make the second user equal to the first: groups first, then entries",
		Long: `Make the second user equal to the first in one change: in the same groups, with
the same primary group, on the same lists of administrators, named by the same
entries. What either owns stays his. tarnwold compare shows the difference.`,
		Example:           `  tarnwold like ines bram --dry-run`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: completeInOrder(a.completeAccounts(account.User), a.completeAccounts(account.User)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.carry(c, k, func(d *plan.Desk, o *report.Outcome) (*plan.Plan, error) { return entry.Like(d, args[0], args[1]) })
		},
	}
	k.flags(c)
	return c
}
