package asks

import (
	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

func ReachCommand(a *run.App) *cobra.Command {
	var n run.Narrowing
	c := &cobra.Command{
		Use:   "reach WHO",
		Short: "Show all someone can get to, folded where the answer changes",
		Long: `Show all someone can get to, by every share and at the servers themselves, as a
tree folded where the answer changes: a line holds for everything below it,
until another line says otherwise. A place that can be opened by name but not
reached by browsing, because a folder above doesn't show its names, is marked.

--can asks for a level, rights or an act instead: yes or no, folded the same way.`,
		Example: `  tarnwold reach bram
  tarnwold reach petra --under //stagedoor/productions
  tarnwold reach ines --can edit --format csv`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User)),
		RunE: func(c *cobra.Command, args []string) error {
			return run.Answer(a, c, func(k *ask.Asker) (*census.Reaching, error) {
				return census.ReachOf(k, args[0], n.Under, n.Can, n.Limit(a))
			},
				func(p *doc.Printer, r *census.Reaching) error { return report.Reaching(p, r) })
		},
	}
	n.Flags(c, a, true)
	run.AllFlag(c, &n.All)
	return c
}
