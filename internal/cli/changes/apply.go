package changes

import (
	"slices"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/saved"
	"tarnwold/internal/report/changes"
)

func ApplyCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "apply FILE",
		Short: "Apply a saved change set",
		Long: `Apply a change set that --save wrote. It is shown with its impact as it would be
now, and refused if what it saw has changed since: rules at, above or below its
places, its shares, last days, or who is in which group. Who keeps it is held to
the same rules as when acting directly.`,
		Example: `  tarnwold grant stage read //stagedoor/productions/Archive --save later.json
  tarnwold apply later.json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := run.ReadFile(c.Context(), args[0], saved.ReadSaved)
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return saved.Apply(d, s) })
		},
	}
	k.PlainFlags(c)
	k.LDIFFlag(c)
	return c
}

func ExpireCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var on string
	c := &cobra.Command{
		Use:   "expire",
		Short: "List entries and memberships whose last day is past, and take them away",
		Long: `List entries and memberships whose last day is past, and take them away in one
change. With --yes it can run every night; where nothing is over it does nothing.
--on a day to come shows what will be over by then: ended before its day, what
others set takes --force, and the say of whoever keeps the place or group.
Days are those of this machine's clock and zone.`,
		Example: `  tarnwold expire --dry-run
  tarnwold expire --yes
  tarnwold expire --on 2027-04-01 --dry-run`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			day, err := estate.ParseDay(on)
			if err != nil {
				return run.AsUsage(err)
			}
			if day == "" {
				day = estate.Today()
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
				p, o.Ended, err = entry.Expire(d, day)
				if err == nil && k.DryRun { // to look ahead is what that is for
					p.Warnings = slices.DeleteFunc(p.Warnings, func(w plan.Warning) bool { return w.Guard == "ends-early" })
				}
				return p, err
			})
		},
	}
	k.PlainFlags(c)
	k.LDIFFlag(c)
	c.Flags().StringVar(&on, "on", "", "as if it were this `day`")
	return c
}
