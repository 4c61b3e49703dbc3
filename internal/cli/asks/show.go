package asks

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

func ShowCommand(a *run.App) *cobra.Command {
	var audit bool
	c := &cobra.Command{
		Use:   "show WHERE",
		Short: "Show an item's owner and rules, and where each entry comes from",
		Example: `  tarnwold show //stagedoor/productions/Wardrobe
  tarnwold show stagedoor:/srv/playhouse/Casting
  tarnwold show "//stagedoor/productions/Box Office/Ledgers" --audit
  tarnwold show //stagedoor/productions/Wardrobe --live`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompletePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			return run.Answer(a, c, func(k *ask.Asker) (*show.Shown, error) { return show.Show(k, args[0]) },
				func(p *doc.Printer, s *show.Shown) error { return report.Shown(p, s, audit) })
		},
	}
	a.LiveFlag(c, func(args []string) []string { return args })
	c.Flags().BoolVar(&audit, "audit", false, "show the audit entries instead: what the server writes down")
	return c
}
