package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/report"
)

func (a *app) userCommand() *cobra.Command {
	return holder("user", "Know the users",
		`  tarnwold user list
  tarnwold user show ines`,
		a.accountAdd(account.User), a.accountList(account.User), a.userShow(), a.accountSet(account.User), a.accountRemove(account.User))
}

func (a *app) groupCommand() *cobra.Command {
	return holder("group", "Know the groups, and who is in them",
		`  tarnwold group show acc-wardrobe-edit
  tarnwold group join wardrobe bram ines
  tarnwold group leave wardrobe bram`,
		a.accountAdd(account.Group), a.accountList(account.Group), a.groupShow(), a.groupJoin(), a.groupLeave(), a.accountSet(account.Group), a.accountRemove(account.Group))
}

func (a *app) accountAdd(kind account.Kind) *cobra.Command {
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
				return misused("--sid and --id say who one account is, and %d are named", len(names))
			}
			return a.carry(c, keeping{yes: true}, func(d *plan.Desk, _ *report.Outcome) (*plan.Plan, error) { return people.AddAccounts(d, names, n) })
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
		_ = c.RegisterFlagCompletionFunc("primary", a.completeAccounts(account.Group))
	}
	return c
}

func (a *app) accountSet(kind account.Kind) *cobra.Command {
	var k keeping
	var purpose, primary, about string
	var shut, reopened bool
	c := &cobra.Command{
		Use: "set NAME…", Short: "Say what groups are for",
		Example: `  tarnwold group set wardrobe --purpose role --about "sews, mends and hires"`,
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: a.completeAccounts(kind),
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
			if given == 0 {
				return misused("nothing is said of them; see: %s --help", c.CommandPath())
			}
			return a.carry(c, k, func(d *plan.Desk, _ *report.Outcome) (*plan.Plan, error) {
				return people.SetAccounts(d, kind, names, set)
			})
		},
	}
	k.plainFlags(c)
	f := c.Flags()
	f.StringVar(&about, "about", "", "what is to be known of them, in a `sentence`")
	if kind == account.Group {
		f.StringVar(&purpose, "purpose", "", "what the group is for: role, access, mail, or nothing")
		return c
	}
	c.Short, c.Example = "Give users another primary group, or say that they have left", `  tarnwold user set petra --primary foyer
  tarnwold user set silas --shut`
	f.StringVar(&primary, "primary", "", "the users' primary `group`; empty: none is known")
	f.BoolVar(&shut, "shut", false, "nobody can sign on as them any more; findings tell what that leaves")
	f.BoolVar(&reopened, "reopened", false, "somebody can sign on as them again")
	c.MarkFlagsMutuallyExclusive("shut", "reopened")
	_ = c.RegisterFlagCompletionFunc("primary", a.completeAccounts(account.Group))
	return c
}

func (a *app) accountList(kind account.Kind) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   fmt.Sprintf("List the %ss", kind),
		Example: fmt.Sprintf("  tarnwold %s list", kind),
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return answer(a, c, func(k *ask.Asker) ([]show.Person, error) { return show.People(k, kind) }, func(p *report.Printer, list []show.Person) error {
				return p.People(list, kind == account.Group)
			})
		},
	}
}

func (a *app) userShow() *cobra.Command {
	return &cobra.Command{
		Use:               "show USER",
		Short:             "Show a user and every group he is in, with the way there",
		Example:           "  tarnwold user show ines",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeAccounts(account.User),
		RunE: func(c *cobra.Command, args []string) error {
			return answer(a, c, func(k *ask.Asker) (*show.Belonging, error) { return show.User(k, args[0]) }, (*report.Printer).User)
		},
	}
}

func (a *app) groupShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show GROUP",
		Short: "Show a group and its members at any depth, with the way there",
		Long: `Show a group and everyone who is in it at any depth, each with the chain of
groups between. Users whose primary group it is count although no member list
shows them; they are marked.`,
		Example:           "  tarnwold group show acc-wardrobe-edit",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeAccounts(account.Group),
		RunE: func(c *cobra.Command, args []string) error {
			return answer(a, c, func(k *ask.Asker) (*show.Gathering, error) { return show.Group(k, args[0]) }, (*report.Printer).Group)
		},
	}
}

func (a *app) groupJoin() *cobra.Command {
	var until string
	var k keeping
	c := &cobra.Command{
		Use:   "join GROUP MEMBER…",
		Short: "Make users or groups members of a group, and see what that opens",
		Example: `  tarnwold group join wardrobe bram ines
  tarnwold group join acc-wardrobe-edit wardrobe --until 2027-03-31`,
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: completeInOrder(a.completeAccounts(account.Group), a.completeAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			day, err := estate.ParseDay(until)
			if err != nil {
				return asUsage(err)
			}
			return a.carry(c, k, func(d *plan.Desk, _ *report.Outcome) (*plan.Plan, error) {
				return people.Join(d, args[0], args[1:], day)
			})
		},
	}
	k.flags(c)
	c.Flags().StringVar(&until, "until", "", "the last `day` of the membership, as 2027-03-31")
	return c
}

func (a *app) groupLeave() *cobra.Command {
	var k keeping
	c := &cobra.Command{
		Use:               "leave GROUP MEMBER…",
		Short:             "End memberships of a group, and see what that closes",
		Example:           "  tarnwold group leave wardrobe bram",
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: completeInOrder(a.completeAccounts(account.Group), a.completeAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.carry(c, k, func(d *plan.Desk, _ *report.Outcome) (*plan.Plan, error) { return people.Leave(d, args[0], args[1:]) })
		},
	}
	k.flags(c)
	return c
}

func (a *app) accountRemove(kind account.Kind) *cobra.Command {
	var k keeping
	c := &cobra.Command{
		Use:   "remove NAME…",
		Short: fmt.Sprintf("Remove a %s that nothing names any more", kind),
		Long: fmt.Sprintf(`Remove a %s that nothing names any more: no entry of its own or from above,
no owner, share, administrators' list or membership. What still names it is
listed.`, kind),
		Example:           map[account.Kind]string{account.User: "  tarnwold user remove lark", account.Group: "  tarnwold group remove volunteers"}[kind],
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.completeAccounts(kind),
		RunE: func(c *cobra.Command, args []string) error {
			return a.carry(c, k, func(d *plan.Desk, _ *report.Outcome) (*plan.Plan, error) { return people.RemoveAccounts(d, kind, args) })
		},
	}
	k.plainFlags(c)
	return c
}
