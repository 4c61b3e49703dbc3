package changes

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

// placesCommand makes a command that edits the places it is given.
func placesCommand(a *run.App, c *cobra.Command, check func() error, fn func(*plan.Planner, plan.Targets) (*plan.Plan, error)) *cobra.Command {
	var k run.Keeping
	var f run.Targets
	k.Flags(c)
	f.Flags(c, a)
	c.Args = f.Enough(0)
	c.ValidArgsFunction = a.CompletePlaces
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := check(); err != nil {
			return err
		}
		x, err := f.Read(c.Context(), args)
		if err != nil {
			return err
		}
		return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return fn(d, x) })
	}
	return c
}

func unchecked() error { return nil }

func SealCommand(a *run.App) *cobra.Command {
	var keep, clear bool
	c := &cobra.Command{
		Use:   "seal WHERE…",
		Short: "Stop an item from inheriting entries from above",
		Long: `Seal an item: it takes no entries from above any more. --keep turns those it has
from above into its own, so that nobody's access changes; --clear drops them.`,
		Example: `  tarnwold seal //stagedoor/productions/Archive --keep
  tarnwold seal "//stagedoor/productions/Box Office/Ledgers" --clear --dry-run`,
	}
	c.Flags().BoolVar(&keep, "keep", false, "keep what comes from above, as own entries")
	c.Flags().BoolVar(&clear, "clear", false, "drop what comes from above")
	check := func() error {
		if keep == clear {
			return run.Misused("say --keep or --clear: what becomes of the entries from above?")
		}
		return nil
	}
	return placesCommand(a, c, check, func(d *plan.Planner, x plan.Targets) (*plan.Plan, error) { return entry.Seal(d, keep, x) })
}

func UnsealCommand(a *run.App) *cobra.Command {
	var clear bool
	c := &cobra.Command{
		Use:   "unseal WHERE…",
		Short: "Let an item inherit entries from above again",
		Long: `Unseal an item: it takes entries from above again, behind its own, and everything
below it is renewed to match. --clear-own drops its own entries.`,
		Example: `  tarnwold unseal //stagedoor/productions/Casting --dry-run
  tarnwold unseal //stagedoor/productions/Casting --clear-own --dry-run`,
	}
	c.Flags().BoolVar(&clear, "clear-own", false, "drop the item's own entries")
	return placesCommand(a, c, unchecked, func(d *plan.Planner, x plan.Targets) (*plan.Plan, error) { return entry.Unseal(d, clear, x) })
}

func ReflowCommand(a *run.App) *cobra.Command {
	return placesCommand(a, &cobra.Command{
		Use:   "reflow WHERE…",
		Short: "Renew inherited entries at and below an item, so that they match what is handed down",
		Long: `Renew the inherited entries of an item and everything below it, and report what
was stale: entries a server left behind when an item was moved or its owner
changed. Own entries never move; sealed items stay as they are.`,
		Example: "  tarnwold reflow //stagedoor/productions/Wardrobe",
	}, unchecked, func(d *plan.Planner, x plan.Targets) (*plan.Plan, error) { return entry.Reflow(d, x) })
}

func DiffersCommand(a *run.App) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "differs WHERE",
		Short: "Find every place below that differs from its folder",
		Long: `Find every place at or below a folder that is sealed, has entries of its own, is
stale (its inherited entries are not those its folder hands down now), or has
another owner than its folder.`,
		Example: `  tarnwold differs //stagedoor/productions
  tarnwold differs stagedoor:/srv/playhouse --format csv`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompletePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			limit := 200
			if all || a.Format != doc.Table {
				limit = 0
			}
			bar := a.Progress(-1, "looking at everything below")
			defer bar.End()
			return run.Answer(a, c, func(k *ask.Asker) (*show.Differing, error) {
				defer bar.End()
				return show.Differs(k, args[0], limit)
			}, report.Differing)
		},
	}
	c.Flags().BoolVar(&all, "all", false, "list every place, however many")
	return c
}
