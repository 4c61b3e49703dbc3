package asks

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

func UsesCommand(a *run.App) *cobra.Command {
	var through bool
	c := &cobra.Command{
		Use:   "uses WHO",
		Short: "List everywhere an account is named",
		Long: `List everywhere an account is named: in entries and audit entries where they are
set, in entries that came from above and that no folder hands down any more, as
owner, in shares' rules, on servers' lists of administrators, in groups, with a
last day. --through lists the groups it is in, at any depth, as well.

WHO may be an identifier (S-1-…) that the estate knows no account for.`,
		Example: `  tarnwold uses silas
  tarnwold uses bram --through
  tarnwold uses acc-wardrobe-edit --format csv`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			return run.Answer(a, c, func(k *ask.Asker) ([]uses.UsedAs, error) { return uses.UsesOf(k, args[0], through) },
				func(p *doc.Printer, list []uses.UsedAs) error { return report.UsedAs(p, args[0], list) })
		},
	}
	c.Flags().BoolVar(&through, "through", false, "the groups it is in as well")
	return c
}
