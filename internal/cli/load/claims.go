package load

import (
	"io"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report/changes"
)

func loadClaims(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "claims FILE",
		Short: "Load the claims of users that conditions of entries ask for, from CSV (user,claim,kind,value)",
		Long: `Load the claims of users that conditions of entries ask for (@User.NAME) from a CSV file with the
columns user, claim, kind and value: kind is text, number, yes-no, identifier or bytes,
and a claim with several values has a row for each. Users in the file have just those
claims then; a row with an empty claim says that somebody has none. Where a server's
traits say that conditions count, answers follow, as the directory would tell the server.`,
		Example: "  tarnwold load claims claims.csv",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			rows, err := run.ReadFile(c.Context(), args[0], func(r io.Reader, f string) ([]csvfile.ClaimRow, error) {
				s, err := csvfile.Open(r, f, csvfile.Claims)
				if err != nil {
					return nil, err
				}
				return s.ReadClaims()
			})
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
				return intake.ClaimsLoaded(d, args[0], rows)
			})
		},
	}
	k.PlainFlags(c)
	return c
}
