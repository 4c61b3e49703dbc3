package changes

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func OutfitCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var levels []string
	var above, list string
	var fill bool
	c := &cobra.Command{
		Use:   "outfit WHERE NAME",
		Short: "Make access groups for a folder, one a level, and give each its level there",
		Long: `Fit a folder out with access groups of its own in one change: seal it, make a
group a level (acc-NAME-read, acc-NAME-edit, …), give each its level there, and
take the other accounts' allow entries out. Who may change the rules there stays,
and so does every deny entry. With --fill, who holds just one of the levels today
becomes a member of its group, and entries that are none of them stay; without,
nobody is in the groups yet, and the impact says who loses what.

--list FILE fits many folders out at once: CSV with the columns folder and name.`,
		Example: `  tarnwold outfit //stagedoor/productions/Lighting lighting --fill --dry-run
  tarnwold outfit //stagedoor/productions/Lighting lighting --levels read,edit,full --from-above drop
  tarnwold outfit --list departments.csv --fill --yes`,
		Args: func(c *cobra.Command, args []string) error {
			if list != "" && len(args) > 0 {
				return fmt.Errorf("--list names the folders, and so does the line")
			}
			if list != "" {
				return nil
			}
			return cobra.ExactArgs(2)(c, args)
		},
		ValidArgsFunction: run.CompleteInOrder(a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			if above != "keep" && above != "drop" {
				return run.Misused("--from-above is %q; wanted keep or drop", doc.Clip(above))
			}
			var folders []policies.Outfitting
			if list != "" {
				rows, err := run.ReadFile(c.Context(), list, func(r io.Reader, f string) ([]csvfile.Asking, error) {
					s, err := csvfile.Open(r, f, csvfile.Outfits)
					if err != nil {
						return nil, err
					}
					return s.ReadAskings()
				})
				if err != nil {
					return err
				}
				for _, r := range rows {
					if r.Err != nil {
						return r.Err
					}
					folders = append(folders, policies.Outfitting{Folder: r.Where, Name: r.User, Line: r.Line})
				}
				if len(folders) == 0 {
					return run.Misused("%s names no folder", doc.Clip(list))
				}
			} else {
				folders = []policies.Outfitting{{Folder: args[0], Name: args[1]}}
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return policies.Outfits(d, folders, levels, above == "keep", fill, list)
			})
		},
	}
	k.PlainFlags(c)
	k.LDIFFlag(c)
	f := c.Flags()
	f.StringSliceVar(&levels, "levels", []string{"read", "edit"}, "the `levels` it has groups for")
	f.StringVar(&above, "from-above", "keep", "what becomes of entries that come from above: keep or drop")
	f.BoolVar(&fill, "fill", false, "move who holds one of the levels there into its group")
	f.StringVar(&list, "list", "", "a CSV `file` of folders, with the columns folder and name")
	_ = c.RegisterFlagCompletionFunc("from-above", cobra.FixedCompletions([]string{"keep", "drop"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func RoleCommand(a *run.App) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "role WHO",
		Short: "Show what a job gives access to, place by place",
		Long: `Show what being in a group gives access to, place by place, beyond what anybody has;
of a user, each of their roles (groups whose purpose is role), and what they have
that no role gives them.`,
		Example: `  tarnwold role wardrobe
  tarnwold role ines`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			limit := 24
			if all || a.Format != doc.Table {
				limit = 0
			}
			var out *census.Jobs
			err := a.View(c.Context(), func(t *estate.Tx) (err error) {
				out, err = census.Role(ask.New(t), args[0], limit, func(id account.ID) string { return t.MetadataOf(id).About })
				return err
			})
			if err != nil {
				return err
			}
			p := a.Printer()
			a.Supposes(p)
			return report.Jobs(p, out)
		},
	}
	c.Flags().BoolVar(&all, "all", false, "every line, however many")
	return c
}
