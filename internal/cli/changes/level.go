package changes

import (
	"github.com/spf13/cobra"

	"tarnwold/core/right"
	"tarnwold/internal/ask"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/report/changes"
)

func LevelCommand(a *run.App) *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the levels, weakest first", Example: "  tarnwold level list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return run.Answer(a, c, func(k *ask.Asker) (right.Levels, error) { return k.Levels() }, changes.Levels)
		},
	}
	show := &cobra.Command{
		Use: "show LEVEL", Short: "Explain a level, right by right", Example: "  tarnwold level show revise", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteLevels,
		RunE: func(c *cobra.Command, args []string) error {
			return run.Answer(a, c, func(k *ask.Asker) (right.Level, error) { return k.Level(args[0]) }, changes.Level)
		},
	}
	var folder, file, about string
	add := &cobra.Command{
		Use: "add NAME", Short: "Add a level of the estate's own",
		Long:    "Add a level of the estate's own from levels and rights joined by commas. Without\n--file the level speaks of folders only.",
		Example: `  tarnwold level add proofread --folder read --file read,write-data,append-data --about "read, and correct what is there"`,
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, run.Keeping{Yes: true}, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return servers.AddLevel(d, args[0], folder, file, about)
			})
		},
	}
	add.Flags().StringVar(&folder, "folder", "", "what it allows on a folder, as levels and rights")
	add.Flags().StringVar(&file, "file", "", "what it allows on a file, as levels and rights")
	add.Flags().StringVar(&about, "about", "", "what it lets a person do, in a few words")
	_ = add.MarkFlagRequired("folder")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a level of the estate's own; entries keep their rights", Example: "  tarnwold level remove proofread", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteLevels,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, run.Keeping{Yes: true}, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return servers.RemoveLevel(d, args[0]) })
		},
	}
	return run.Holder("level", "List the levels, and add some of your own", "  tarnwold level list\n  tarnwold level show revise", list, show, add, remove)
}
