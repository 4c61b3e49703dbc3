// Package people has the commands of users, groups and directories.
package people

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func UserCommand(a *run.App) *cobra.Command {
	return run.Holder("user", "Manage users",
		`  tarnwold user list
  tarnwold user show ines`,
		accountAdd(a, account.User), accountList(a, account.User), userShow(a), accountSet(a, account.User), accountRemove(a, account.User))
}

func GroupCommand(a *run.App) *cobra.Command {
	return run.Holder("group", "Manage groups and who is in them",
		`  tarnwold group show acc-wardrobe-edit
  tarnwold group join wardrobe bram ines
  tarnwold group leave wardrobe bram`,
		accountAdd(a, account.Group), accountList(a, account.Group), groupShow(a), groupJoin(a), groupLeave(a), accountSet(a, account.Group), accountRemove(a, account.Group))
}

func accountAdd(a *run.App, kind account.Kind) *cobra.Command {
	n := people.NewAccount{Kind: kind}
	c := &cobra.Command{
		Use:   "add NAME…",
		Short: fmt.Sprintf("Add a %s", kind),
		Long: fmt.Sprintf(`Add a %s. Without --sid or --id it gets the next number of the estate's domain,
one that no account ever had.`, kind),
		Example: map[account.Kind]string{account.User: "  tarnwold user add petra --primary foyer", account.Group: "  tarnwold group add acc-programme-read --purpose access"}[kind],
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, names []string) error {
			if len(names) > 1 && (n.SID != "" || n.POSIX != account.NoPOSIX) {
				return run.Misused("--sid and --id say who one account is, and %d are named", len(names))
			}
			return a.PreviewAndCommit(c, run.Keeping{Yes: true}, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return people.AddAccounts(d, names, n) })
		},
	}
	f := c.Flags()
	f.StringVar(&n.SID, "sid", "", "the account's own `identifier`, S-1-…")
	f.Int64Var(&n.POSIX, "id", account.NoPOSIX, "the account's uid or gid; -1: none")
	if kind == account.Group {
		f.StringVar(&n.Purpose, "purpose", "", "what the group is for: role, access or mail")
		f.StringVar(&n.About, "about", "", "what the job is, in a `sentence`")
	} else {
		f.StringVar(&n.Primary, "primary", "", "the user's primary `group`")
		_ = c.RegisterFlagCompletionFunc("primary", a.CompleteAccounts(account.Group))
	}
	return c
}

func accountSet(a *run.App, kind account.Kind) *cobra.Command {
	var k run.Keeping
	var purpose, primary, about string
	var further []string
	var shut, reopened bool
	c := &cobra.Command{
		Use: "set NAME…", Short: "Set what groups are for",
		Example: `  tarnwold group set wardrobe --purpose role --about "sews, mends and hires"`,
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: a.CompleteAccounts(kind),
		RunE: func(c *cobra.Command, names []string) error {
			var set people.AccountSetting
			given := 0
			for flag, to := range map[string]**string{"purpose": &set.Purpose, "primary": &set.Primary, "about": &set.About} {
				if f := c.Flags().Lookup(flag); f != nil && f.Changed {
					value := f.Value.String()
					*to = &value
					given++
				}
			}
			if shut || reopened {
				set.Shut = &shut
				given++
			}
			format.EachDetail(func(name, _ string) {
				if f := c.Flags().Lookup(name); f != nil && f.Changed {
					if set.Details == nil {
						set.Details = map[string]string{}
					}
					set.Details[name] = f.Value.String()
					given++
				}
			})
			for _, x := range further {
				name, value, ok := strings.Cut(x, "=")
				if name = strings.TrimSpace(name); !ok || name == "" {
					return run.Misused("--detail %s: wanted NAME=VALUE", format.Clip(x))
				}
				if c.Flags().Lookup(name) != nil {
					return run.Misused("--detail %s: that is --%s", format.Clip(x), name)
				}
				if set.Details == nil {
					set.Details = map[string]string{}
				}
				set.Details[name] = strings.TrimSpace(value)
				given++
			}
			if given == 0 {
				return run.Misused("nothing to change is given; see: %s --help", c.CommandPath())
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return people.SetAccounts(d, kind, names, set)
			})
		},
	}
	k.PlainFlags(c)
	f := c.Flags()
	f.StringVar(&about, "about", "", "what to know about them, in a `sentence`")
	if kind == account.Group {
		f.StringVar(&purpose, "purpose", "", "what the group is for: role, access, mail, or nothing")
		return c
	}
	c.Short, c.Example = "Set what is known of users, their primary group, or that they have left", `  tarnwold user set petra --full-name "Petra Voss" --department Foyer --manager ines
  tarnwold user set petra --primary foyer
  tarnwold user set lark --ends 2027-06-30
  tarnwold user set silas --shut`
	format.EachDetail(func(name, about string) { f.String(name, "", about+"; empty: it isn't known") })
	f.StringArrayVar(&further, "detail", nil, "what else is known of them, as `NAME=VALUE`; an empty value takes it away; may be given again")
	_ = c.RegisterFlagCompletionFunc("manager", a.CompleteAccounts(account.User))
	f.StringVar(&primary, "primary", "", "the users' primary `group`; empty: none is known")
	f.BoolVar(&shut, "shut", false, "nobody can sign on as them any more; findings tell what that leaves")
	f.BoolVar(&reopened, "reopened", false, "somebody can sign on as them again")
	c.MarkFlagsMutuallyExclusive("shut", "reopened")
	_ = c.RegisterFlagCompletionFunc("primary", a.CompleteAccounts(account.Group))
	return c
}

func accountList(a *run.App, kind account.Kind) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "list",
		Short: fmt.Sprintf("List the %ss", kind),
		Long: fmt.Sprintf(`List the %ss by name. A table stops at %d and says how many more there are, but
for --all; what is for programs has all of them.`, kind, mostPeople),
		Example: fmt.Sprintf("  tarnwold %s list\n  tarnwold %s list --all", kind, kind),
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			most, more := mostPeople, int64(0)
			if all || a.Format != doc.Table {
				most = 0
			}
			return run.Answer(a, c, func(k *ask.Asker) (list []show.Person, err error) {
				list, more, err = show.People(k, kind, most)
				return list, err
			}, func(p *doc.Printer, list []show.Person) error {
				return report.People(p, list, kind == account.Group, more)
			})
		},
	}
	c.Flags().BoolVar(&all, "all", false, "list all of them, however many there are")
	return c
}

// mostPeople is how many accounts a table lists.
const mostPeople = 1000

func userShow(a *run.App) *cobra.Command {
	var on string
	var local bool
	c := &cobra.Command{
		Use:   "show USER",
		Short: "Show a user and every group they are in, with the way there",
		Long: `Show a user and every group they are in, with the way there. With --on it is what they
present to a server: every identifier that counts there, with the way to it, and the groups
that don't count, each with why.`,
		Example:           "  tarnwold user show ines\n  tarnwold user show ines --on stagedoor",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteAccounts(account.User),
		RunE: func(c *cobra.Command, args []string) error {
			if local && on == "" {
				return run.Misused("--local goes with --on SERVER")
			}
			if on != "" {
				return run.Answer(a, c, func(k *ask.Asker) (*show.Presented, error) { return show.UserOn(k, args[0], on, local) }, report.Presented)
			}
			return run.Answer(a, c, func(k *ask.Asker) (*show.Belonging, error) { return show.User(k, args[0]) }, report.User)
		},
	}
	c.Flags().StringVar(&on, "on", "", "the `server` they come to")
	c.Flags().BoolVar(&local, "local", false, "at the server itself, not through a share")
	_ = c.RegisterFlagCompletionFunc("on", a.CompleteServers)
	return c
}

func groupShow(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "show GROUP",
		Short: "Show a group and its members at any depth, with the way there",
		Long: `Show a group and everyone who is in it at any depth, each with the chain of
groups between. Users whose primary group it is count although no member list
shows them; they are marked.`,
		Example:           "  tarnwold group show acc-wardrobe-edit",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteAccounts(account.Group),
		RunE: func(c *cobra.Command, args []string) error {
			return run.Answer(a, c, func(k *ask.Asker) (*show.Gathering, error) { return show.Group(k, args[0]) }, report.Group)
		},
	}
}

func groupJoin(a *run.App) *cobra.Command {
	var until string
	var k run.Keeping
	c := &cobra.Command{
		Use:   "join GROUP MEMBER…",
		Short: "Make users or groups members of a group, and see what that opens",
		Example: `  tarnwold group join wardrobe bram ines
  tarnwold group join acc-wardrobe-edit wardrobe --until 2027-03-31`,
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.Group), a.CompleteAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			day, err := estate.ParseDay(until)
			if err != nil {
				return run.AsUsage(err)
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return people.Join(d, args[0], args[1:], day)
			})
		},
	}
	k.Flags(c)
	c.Flags().StringVar(&until, "until", "", "the last `day` of the membership, as 2027-03-31")
	return c
}

func groupLeave(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:               "leave GROUP MEMBER…",
		Short:             "End memberships of a group, and see what that closes",
		Example:           "  tarnwold group leave wardrobe bram",
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.Group), a.CompleteAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return people.Leave(d, args[0], args[1:])
			})
		},
	}
	k.Flags(c)
	return c
}

func accountRemove(a *run.App, kind account.Kind) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "remove NAME…",
		Short: fmt.Sprintf("Remove a %s that nothing names any more", kind),
		Long: fmt.Sprintf(`Remove a %s that nothing names any more: no entry of its own or from above,
no owner, share, administrators' list or membership. What still names it is
listed.`, kind),
		Example:           map[account.Kind]string{account.User: "  tarnwold user remove lark", account.Group: "  tarnwold group remove volunteers"}[kind],
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.CompleteAccounts(kind),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return people.RemoveAccounts(d, kind, args)
			})
		},
	}
	k.PlainFlags(c)
	return c
}
