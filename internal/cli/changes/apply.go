package changes

import (
	"bufio"
	"io"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/saved"
	"tarnwold/internal/report/changes"
)

func ApplyCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "apply FILE",
		Short: "Apply a saved change set, or the changed workbook of a grid",
		Long: `Apply a change set that --save wrote. It is shown with its impact as it would be
now, and refused if what it saw has changed since: rules at, above or below its
places, its shares, last days, or who is in which group. Who keeps it is held to
the same rules as when acting directly.

Or apply the workbook of a grid (grid -o FILE.xlsx) in which cells were changed: where a
level is written, the account's own allow entries at the place are replaced by one of that
level; where nothing is, they go. Rows and columns may be sorted, left out, or added: a
place, an account. It is refused where a cell can't be made so that way, as where a level
comes from above, and where the place has something else since the grid was written; each
such cell is named.`,
		Example: `  tarnwold grant stage read //stagedoor/productions/Archive --save later.json
  tarnwold apply later.json
  tarnwold grid //stagedoor/productions -o productions.xlsx
  tarnwold apply productions.xlsx --dry-run`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			given, err := run.ReadFile(c.Context(), args[0], readGiven)
			if err != nil {
				return err
			}
			if given.set == nil {
				return applyGrid(a, c, k, given.cells, filepath.Base(args[0]))
			}
			s := given.set
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return saved.Apply(d, s) })
		},
	}
	k.PlainFlags(c)
	k.LDIFFlag(c)
	return c
}

// given is what a file says that is to be applied.
type given struct {
	set   *saved.Saved
	cells []workbook.Changed // of a grid
}

func readGiven(r io.Reader, file string) (g given, err error) {
	in := bufio.NewReader(r)
	if begins, _ := in.Peek(4); !workbook.Is(begins) {
		g.set, err = saved.ReadSaved(in, file)
		return g, err
	}
	sheets, err := workbook.Read(in, file)
	if err == nil {
		g.cells, err = workbook.Differences(sheets, file)
	}
	return g, err
}

// applyGrid makes what was changed in a grid so: first where nobody sees it, to know that
// each cell will say what was written there.
func applyGrid(a *run.App, c *cobra.Command, k run.Keeping, cells []workbook.Changed, name string) error {
	var g *entry.Regridded
	build := func(d *plan.Planner) (_ *plan.Plan, err error) {
		if g, err = entry.Regrid(d, cells, name); err != nil {
			return nil, err
		}
		return g.Plan, nil
	}
	if len(cells) > 0 {
		if err := a.Afterwards(c.Context(), build, func(k *ask.Asker) error { return g.Unmet(k) }); err != nil {
			return err
		}
	}
	return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return build(d) })
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
