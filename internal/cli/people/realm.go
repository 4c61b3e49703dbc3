package people

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func RealmCommand(a *run.App) *cobra.Command {
	return run.Holder("realm", "Manage realms: the machine, the domain or the estate that accounts belong to",
		`  tarnwold realm list
  tarnwold realm link workbench --with house`,
		realmList(a), realmLink(a), realmUnlink(a))
}

func realmList(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the realms, with how many accounts belong to each",
		Long: `List the realms, with how many accounts belong to each. A machine's own accounts are
those of its passwd and group files that nobody else has: they are known on it alone,
called NAME@MACHINE, and nobody on any other server. Its built-in groups are its own too.`,
		Example: "  tarnwold realm list",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return run.Answer(a, c, show.Realms, report.Realms)
		},
	}
}

func realmLink(a *run.App) *cobra.Command {
	var with, by string
	c := &cobra.Command{
		Use:   "link SERVER --with DIRECTORY",
		Short: "Set which directory a machine takes its accounts from",
		Long: `Set which directory a machine takes its accounts from, as by its name service. A scan
then takes an account of the machine for one of the directory where both number and name
are the same, or with --by number where the number is; everybody else is the machine's own.
Without a link whoever has both in the estate is meant, wherever they are from.

The directory has the say on its people and its groups: what the machine tells otherwise of
them is told by the scan, and nothing is changed by it.`,
		Example:           "  tarnwold realm link workbench --with house\n  tarnwold realm link workbench --with house --by number",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteServers,
		RunE: func(c *cobra.Command, args []string) error {
			how := estate.ByBoth
			switch by {
			case "number-and-name":
			case "number":
				how = estate.ByNumber
			default:
				return run.Misused("--by %s: wanted number-and-name or number", doc.Clip(by))
			}
			if with == "" {
				return run.Misused("say from which directory: --with DIRECTORY")
			}
			return a.PreviewAndCommit(c, run.Keeping{Yes: true}, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return people.LinkRealm(d, args[0], with, how)
			})
		},
	}
	c.Flags().StringVar(&with, "with", "", "the `directory`")
	c.Flags().StringVar(&by, "by", "number-and-name", "what makes an account one of the directory's: number-and-name or number")
	_ = c.RegisterFlagCompletionFunc("by", cobra.FixedCompletions([]string{"number-and-name", "number"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func realmUnlink(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:               "unlink SERVER",
		Short:             "Forget which directory a machine takes its accounts from",
		Example:           "  tarnwold realm unlink workbench",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteServers,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, run.Keeping{Yes: true}, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return people.UnlinkRealm(d, args[0])
			})
		},
	}
}
