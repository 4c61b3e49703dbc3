package changes

import (
	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/report/changes"
)

// colleague is the flag that names who does the job.
func colleague(a *run.App, c *cobra.Command, who *string) {
	c.Flags().StringVar(who, "like", "", "the `colleague` who does the job")
	_ = c.MarkFlagRequired("like")
	_ = c.RegisterFlagCompletionFunc("like", a.CompleteAccounts(account.User))
}

func JoinerCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var like, until string
	n := people.NewAccount{}
	c := &cobra.Command{
		Use:   "joiner WHO --like COLLEAGUE",
		Short: "Give somebody who begins a job the groups of a colleague who does it",
		Long: `Give somebody who begins a job the groups of a colleague who does it: a new user, or one
the estate has. Entries that name the colleague alone aren't copied, nor is their place
on servers' lists of administrators: both are told. A new user gets the colleague's
primary group too (but for --until: a primary group has no last day), and the next number
of the estate's domain unless --sid or --id says who they are; where a directory says who
there is, they are made there first.`,
		Example: `  tarnwold joiner petra --like ines --dry-run
  tarnwold joiner bram --like ines --until 2027-06-30 --dry-run`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User)),
		RunE: func(c *cobra.Command, args []string) error {
			day, err := estate.ParseDay(until)
			if err != nil {
				return run.Misused("%v", err)
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return entry.Joiner(d, args[0], like, n, day)
			})
		},
	}
	k.Flags(c)
	colleague(a, c, &like)
	c.Flags().StringVar(&until, "until", "", "the last `day` of all this, YYYY-MM-DD")
	c.Flags().StringVar(&n.SID, "sid", "", "a new user's own `identifier`, S-1-…")
	c.Flags().Int64Var(&n.POSIX, "id", account.NoPOSIX, "a new user's uid; -1: none")
	c.Flags().StringVar(&n.Primary, "primary", "", "a new user's primary `group`, in place of the colleague's")
	_ = c.RegisterFlagCompletionFunc("primary", a.CompleteAccounts(account.Group))
	return c
}

func MoverCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var like string
	var keep []string
	c := &cobra.Command{
		Use:   "mover WHO --like COLLEAGUE",
		Short: "Give somebody who changes jobs the new job's groups, and take the old one's away",
		Long: `Give somebody who changes jobs the groups of a colleague who does the new one, and take
away what the old one gave: all other groups but those after --keep, entries that name
them alone, their place on servers' lists of administrators. Their home stays theirs, and
so does what they own; what that is is told.`,
		Example: `  tarnwold mover bram --like ines --dry-run
  tarnwold mover bram --like ines --keep volunteers --dry-run`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return entry.Mover(d, args[0], like, keep)
			})
		},
	}
	k.Flags(c)
	colleague(a, c, &like)
	c.Flags().StringArrayVar(&keep, "keep", nil, "a `group` they stay in; may be given again")
	_ = c.RegisterFlagCompletionFunc("keep", a.CompleteAccounts(account.Group))
	return c
}

func LeaverCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var owner string
	c := &cobra.Command{
		Use:   "leaver WHO",
		Short: "Take somebody who leaves off everything, and hand on what they own",
		Long: `Take somebody who leaves off everything that names them: groups, entries, shares' rules,
lists of administrators; what they own is handed to the account after --owner-to, and
nobody signs on as them any more. The account itself stays, so that the log and old
files name them; tarnwold user remove takes it away.`,
		Example:           "  tarnwold leaver silas --owner-to warden --dry-run",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return entry.Leaver(d, args[0], owner)
			})
		},
	}
	k.Flags(c)
	c.Flags().StringVar(&owner, "owner-to", "", "`who` owns what they owned then")
	_ = c.RegisterFlagCompletionFunc("owner-to", a.CompleteAccounts(0))
	return c
}
