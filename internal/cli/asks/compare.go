package asks

import (
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

func CompareCommand(a *run.App) *cobra.Command {
	var n run.Narrowing
	var like bool
	c := &cobra.Command{
		Use:   "compare WHO WHO [WHERE]",
		Short: "Put two users side by side, only where they differ, and say why",
		Long: `Put two users side by side: a line where they come to differ, going down, or to
be alike again, with the entry, owner or group that tells them apart. --like
prints the commands that would make the second equal to the first, memberships
first; tarnwold like does it in one change.`,
		Example: `  tarnwold compare ines bram
  tarnwold compare ines bram //stagedoor/productions/Wardrobe
  tarnwold compare ines bram --like`,
		Args:              cobra.RangeArgs(2, 3),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User), a.CompleteAccounts(account.User), a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			return run.Answer(a, c, func(k *ask.Asker) (*census.Comparison, error) {
				r, err := census.Compare(k, args[0], args[1], strings.Join(args[2:], ""), n.Limit(a))
				if err == nil && like {
					r.Like, err = explain.LikeSteps(k, args[0], args[1])
				}
				return r, err
			}, func(p *doc.Printer, r *census.Comparison) error { return report.Compared(p, r) })
		},
	}
	c.Flags().BoolVar(&like, "like", false, "print what would make the second equal to the first")
	run.AllFlag(c, &n.All)
	return c
}
