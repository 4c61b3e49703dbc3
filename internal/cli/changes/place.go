package changes

import (
	"fmt"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/item"
	"tarnwold/internal/report/changes"
)

func PutCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var folder bool
	var owner string
	c := &cobra.Command{
		Use:   "put FOLDER NAME",
		Short: "Make an item in the model as a user would",
		Long: `Make a file, or with --folder a folder, as the user named by --owner would: they
need add-file or add-subdirectory on the folder by the way it is named, they own
the new item, and it inherits at that moment.`,
		Example: `  tarnwold put //stagedoor/productions/Timesheets "ines week 48.ods" --owner ines
  tarnwold put //stagedoor/productions/Wardrobe Repairs --folder --owner bram`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.CompletePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
				p, o.Made, err = item.Put(d, args[0], args[1], folder, owner)
				return p, err
			})
		},
	}
	k.PlainFlags(c)
	c.Flags().BoolVar(&folder, "folder", false, "make a folder")
	c.Flags().StringVar(&owner, "owner", "", "the `user` who makes it")
	_ = c.MarkFlagRequired("owner")
	_ = c.RegisterFlagCompletionFunc("owner", a.CompleteAccounts(account.User))
	return c
}

func MoveCommand(a *run.App) *cobra.Command {
	return carryCommand(a, "move", "Move an item, and see what each person's access becomes",
		`Move an item with all below it to another folder of its server, into it or under
a new name. By the server's trait it keeps its inherited entries, stale until
something renews them, or takes those of its new folder.`, item.Move)
}

func CopyCommand(a *run.App) *cobra.Command {
	return carryCommand(a, "copy", "Copy an item, and see what each person's access is there",
		`Copy an item with all below it to a folder, of any server. A copy is made anew:
it takes what its new folder hands down, has no own entries, and belongs to the
acting account where that is a user of the estate, else to the owner of the
original.`, item.Copy)
}

func carryCommand(a *run.App, verb, short, long string, do func(d *plan.Planner, from, to string) (*plan.Plan, error)) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use: verb + " FROM TO", Short: short, Long: long,
		Example: fmt.Sprintf(`  tarnwold %[1]s "//stagedoor/productions/Wardrobe/Sketches/act one, ball gown.png" //stagedoor/productions/Archive
  tarnwold %[1]s //stagedoor/productions/Lighting/Plots "//stagedoor/productions/Archive/Plots 2026"`, verb),
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.CompletePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return do(d, args[0], args[1]) })
		},
	}
	k.PlainFlags(c)
	return c
}
