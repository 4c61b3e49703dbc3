package changes

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
)

func ModeCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var f run.Targets
	var set string
	var entries []string
	var below bool
	c := &cobra.Command{
		Use:   "mode WHERE…",
		Short: "Show or set the bits and lists of items of POSIX trees",
		Long: `Show the mode and the lists of items of POSIX trees, or set them as they are
meant: --set takes a mode in octal (2770), in letters (rwxrws---) or as a change
(g+w, o=, u=rwX,g=rX, +t for a sticky folder), --entry an entry of a list as the
text form of POSIX.1e has it: user:bram:r-x, group::rwx, mask::r-x, and with
default: before it one of the default list, for what is made below from now on.

Where a new entry takes a wider mask, what the mask cut of others stays cut: it
goes from their entries, and is shown. With --below everything below is changed
too. To give a level to somebody there is grant.`,
		Example: `  tarnwold mode propstore:/srv/props/Workshop
  tarnwold mode propstore:/srv/props/Workshop --set +t
  tarnwold mode propstore:/srv/props/Workshop --entry group:lighting:rwx --entry default:group:lighting:rwx
  tarnwold mode propstore:/srv/props/Archive --set g-w,o= --below --dry-run`,
		ValidArgsFunction: a.CompletePlaces,
	}
	k.Flags(c)
	f.Flags(c, a)
	c.Args = f.Enough(0)
	c.Flags().StringVar(&set, "set", "", "the `mode` to be set, or what of it is to change")
	c.Flags().StringArrayVar(&entries, "entry", nil, "an `entry` of a list to be set; may be given again")
	c.Flags().BoolVar(&below, "below", false, "everything below too")
	c.RunE = func(c *cobra.Command, args []string) error {
		x, err := f.Read(c.Context(), args)
		if err != nil {
			return err
		}
		if set != "" || len(entries) > 0 {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return entry.Mode(d, set, entries, below, x)
			})
		}
		if below {
			return run.Misused("--below goes with --set or --entry")
		}
		return run.AnswerItems(a, c, x, show.Modes, report.Modes)
	}
	return c
}
