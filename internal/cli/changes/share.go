package changes

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
)

func ShareCommand(a *run.App) *cobra.Command {
	return run.Holder("share", "Manage shares and their own rules",
		`  tarnwold share add //stagedoor/programme /srv/playhouse/Programme
  tarnwold share show //stagedoor/vault`,
		shareAdd(a), shareList(a), shareShow(a), shareRemove(a))
}

func shareAdd(a *run.App) *cobra.Command {
	var k run.Keeping
	var n servers.NewShare
	c := &cobra.Command{
		Use:   "add //SERVER/SHARE FOLDER",
		Short: "Add a share over a server's folder, and see what it opens",
		Long: `Add a share over a folder of a server, given by the server's own path. Its
rules are "allow everyone@ full" unless --rule says otherwise: then the files'
rules alone decide.`,
		Example: `  tarnwold share add //stagedoor/programme /srv/playhouse/Programme
  tarnwold share add //stagedoor/vault /srv/playhouse --rule "deny volunteers full" --rule "allow authenticated@ edit"
  tarnwold share add //stagedoor/readingroom /srv/playhouse --read-only`,
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			n.Address, n.Folder = args[0], args[1]
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return servers.AddShares(d, []servers.NewShare{n})
			})
		},
	}
	k.PlainFlags(c)
	c.Flags().BoolVar(&n.ReadOnly, "read-only", false, "switch the share to read-only")
	c.Flags().StringArrayVar(&n.Rules, "rule", nil, "an `entry` of the share's rules, as \"allow stage edit\"")
	return c
}

func shareRemove(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:               "remove //SERVER/SHARE…",
		Short:             "Remove shares, and see what that closes; the folders stay",
		Example:           "  tarnwold share remove //stagedoor/readingroom --dry-run",
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.CompletePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return servers.RemoveShares(d, args) })
		},
	}
	k.PlainFlags(c)
	return c
}

func shareList(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the shares of all servers",
		Example: "  tarnwold share list",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return run.Answer(a, c, show.Shares, report.Shares)
		},
	}
}

func shareShow(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:               "show //SERVER/SHARE",
		Short:             "Show a share: its folder, its switch, its own rules",
		Example:           "  tarnwold share show //stagedoor/vault",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompletePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			at, err := plan.ShareAddress(args[0])
			if err != nil {
				return err
			}
			return run.Answer(a, c, func(k *ask.Asker) (*show.Share, error) { return show.ShareNamed(k, at) }, report.Share)
		},
	}
}
