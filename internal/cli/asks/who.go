package asks

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

func WhoCommand(a *run.App) *cobra.Command {
	var n run.Narrowing
	var below bool
	var not uncounted
	c := &cobra.Command{
		Use:   "who WHERE",
		Short: "Show everyone who has access to an item, by level, and the way each has it",
		Long: `Show everyone who has access to an item, by level, and the way each has it: by
which entry, of which group, as an administrator, by owning. The head of each
route says whether the place is open to everyone, to some, or to one alone.

//SERVER/SHARE/… asks for that share, SERVER:/… for every route to the place.
--can keeps those who have a level or rights, or who can do an act. What is below a
folder and open to others is counted; --below lists it.

Exit code 1 says nobody.`,
		Example: `  tarnwold who //stagedoor/productions/Wardrobe
  tarnwold who stagedoor:/srv/playhouse/Casting --can edit
  tarnwold who //stagedoor/productions/Archive --below
  tarnwold who "//stagedoor/productions/Box Office/Ledgers" --format csv`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			return run.Answer(a, c, func(k *ask.Asker) (*census.Having, error) { return census.Who(k, args[0], n.Can, below) },
				func(p *doc.Printer, h *census.Having) error {
					if err := report.Having(p, h); err != nil {
						return err
					}
					some := error(run.ErrNo)
					for _, r := range h.Routes {
						not.note(r.Route, r.NotCounted)
						if r.Users > 0 {
							some = nil
						}
					}
					return not.or(some)
				})
		},
	}
	not.flags(c)
	n.Flags(c, a, false)
	c.Flags().BoolVar(&below, "below", false, "list what is below a folder and open to people who can't have the folder itself")
	return c
}
