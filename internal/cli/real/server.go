// Package real has the commands of servers and of what is true on them.
package real

import (
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
)

func ServerCommand(a *run.App) *cobra.Command {
	return run.Holder("server", "Manage servers, their traits and administrators",
		`  tarnwold server list
  tarnwold server show stagedoor`,
		serverAdd(a), serverList(a), serverShow(a), serverTest(a), serverTraits(a), serverAdministrators(a), serverPrivilege(a), serverLink(a), serverRemove(a))
}

func serverAdd(a *run.App) *cobra.Command {
	var traits string
	var set, admins []string
	var l linking
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add a server, a real one or a model",
		Long: `Add a server. What it does beyond its rules is kept as its traits: the
measured set "smb" unless said otherwise, "smb-domain" for a domain's
controller, "smb-member" for another server of one, or "plain", which is the
standard's decision and nothing beside it; --trait changes a single one.

--smb links it to a real server, which tarnwold scan reads then. The password is
asked for when it is needed, or taken from TARNWOLD_PASSWORD_NAME (the server's
name in capitals) or TARNWOLD_PASSWORD, or with --password-file; it is never kept.

--local links it to this machine itself, whose own trees are read with owners,
groups, modes and lists then; its traits are the set "posix".`,
		Example: `  tarnwold server add flyloft
  tarnwold server add propstore --local
  tarnwold server add stagedoor --smb stagedoor.example:445 --user warden
  tarnwold server add stagedoor --traits smb-domain --administrator warden
  tarnwold server add attic --traits plain --trait asks-folders-above=true`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			link, err := l.link(a.Who())
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, run.Keeping{Yes: true}, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				if l.local && !c.Flags().Changed("traits") {
					traits = "posix"
				}
				return servers.AddServer(d, args[0], traits, set, admins, link)
			})
		},
	}
	f := c.Flags()
	l.flags(c)
	f.StringVar(&traits, "traits", "smb", "the named `set` of traits: "+strings.Join(verdict.TraitNames(), ", "))
	f.StringArrayVar(&set, "trait", nil, "one trait as `NAME=VALUE`; server traits lists them")
	f.StringArrayVar(&admins, "administrator", nil, "an `account` for the server's list of administrators")
	_ = c.RegisterFlagCompletionFunc("administrator", a.CompleteAccounts(0))
	_ = c.RegisterFlagCompletionFunc("traits", cobra.FixedCompletions(verdict.TraitNames(), cobra.ShellCompDirectiveNoFileComp))
	return c
}

func serverList(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the servers",
		Example: "  tarnwold server list",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return run.Answer(a, c, show.Servers, report.Servers)
		},
	}
}

func serverShow(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:               "show SERVER",
		Short:             "Show a server: its traits, administrators, shares and trees",
		Example:           "  tarnwold server show stagedoor",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteServers,
		RunE: func(c *cobra.Command, args []string) error {
			return run.Answer(a, c, func(k *ask.Asker) (*show.Server, error) { return show.ServerNamed(k, args[0]) }, report.Server)
		},
	}
}

func serverLink(a *run.App) *cobra.Command {
	var k run.Keeping
	var l linking
	c := &cobra.Command{
		Use:     "link SERVER",
		Aliases: []string{"set"},
		Short:   "Link a server to a real one, or change how it is reached",
		Long: `Link a server of the estate to a real one, or change how it is reached; what isn't
said stays as it is. Another user comes with the domain that is said with them. What
the estate knows of the server stays; scan tells what differs there. Its traits and
administrators have commands of their own.`,
		Example: `  tarnwold server link flyloft --smb flyloft.example --user warden
  tarnwold server set flyloft --user 'PLAYHOUSE\petra' --require-encryption
  tarnwold server set flyloft --old-dialects=false --dry-run`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteServers,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				s, err := d.T.Server(args[0])
				if err != nil {
					return nil, err
				}
				l := l // a plan may be made again
				if was, ok := d.T.Link(s); ok {
					if err := l.keep(c, was); err != nil {
						return nil, err
					}
				}
				link, err := l.link(a.Who())
				if err == nil && link == nil {
					err = run.Misused("to which? --smb HOST[:PORT] names it")
				}
				if err != nil {
					return nil, err
				}
				return servers.LinkServer(d, s.Name, link)
			})
		},
	}
	l.flags(c)
	c.Flags().BoolVar(&k.DryRun, "dry-run", false, "show what would change and keep nothing")
	return c
}

func serverRemove(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "remove SERVER",
		Short: "Take a server out of the estate, with its shares and folders",
		Long: `Take a server out of the estate, with its shares and all the estate has of its
folders. The real server itself stays as it is.`,
		Example:           "  tarnwold server remove flyloft",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteServers,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return servers.RemoveServer(d, args[0]) })
		},
	}
	k.PlainFlags(c)
	return c
}

func serverTraits(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "traits SERVER [SET | TRAIT VALUE]",
		Short: "Show a server's traits, or give it others, and see what that changes",
		Long: `Show what a server does beyond its rules, each trait with what it means and who
was seen to do so; with SET take a named set (` + strings.Join(verdict.TraitNames(), ", ") + `), with TRAIT
VALUE set one. What that opens and closes is shown before it is kept.`,
		Example: `  tarnwold server traits stagedoor
  tarnwold server traits stagedoor smb-domain --dry-run
  tarnwold server traits stagedoor asks-folders-above yes --dry-run`,
		Args: cobra.RangeArgs(1, 3),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteServers, func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
			words := verdict.TraitNames()
			for _, t := range verdict.TraitList {
				words = append(words, t.Name)
			}
			return run.Fitting(words, begun), cobra.ShellCompDirectiveNoFileComp
		}),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				return run.Answer(a, c, func(k *ask.Asker) (*show.Server, error) { return show.ServerNamed(k, args[0]) }, report.Traits)
			}
			value := strings.Join(args[2:], "")
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return servers.SetTraits(d, args[0], args[1], value, len(args) == 3)
			})
		},
	}
	k.PlainFlags(c)
	return c
}

func serverPrivilege(a *run.App) *cobra.Command {
	var k run.Keeping
	var remove bool
	c := &cobra.Command{
		Use:   "privilege SERVER PRIVILEGE ACCOUNT…",
		Short: "Give accounts a privilege on a server, or take it from them",
		Long: `Give accounts a privilege on a server. It counts where the server's trait
privileges-pass is set. A share's rules and switch then don't stop what one lets
through: SeBackupPrivilege reading, SeRestorePrivilege writing, deletion and changing
rules and owners; the files' own rules still decide, as no answer counts a program that
says at an open that it makes or restores a backup. SeTakeOwnershipPrivilege gives
write-owner on every item, whatever any rules say. A scan takes in who has them on a
real server. The machine's own groups are named as everywhere: 'BUILTIN\Backup Operators'.`,
		Example: `  tarnwold server privilege stagedoor SeBackupPrivilege 'BUILTIN\Backup Operators'
  tarnwold server privilege stagedoor SeRestorePrivilege warden --remove --dry-run`,
		Args: cobra.MinimumNArgs(3),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteServers, func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
			var words []string
			for _, p := range verdict.Privileges() {
				words = append(words, string(p))
			}
			return run.Fitting(words, begun), cobra.ShellCompDirectiveNoFileComp
		}, a.CompleteAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return servers.Privileges(d, args[0], args[1], args[2:], !remove)
			})
		},
	}
	k.PlainFlags(c)
	c.Flags().BoolVar(&remove, "remove", false, "take it from them")
	return c
}

func serverAdministrators(a *run.App) *cobra.Command {
	var k run.Keeping
	var remove bool
	c := &cobra.Command{
		Use:   "administrator SERVER ACCOUNT…",
		Short: "Put accounts on a server's list of administrators, or take them off",
		Example: `  tarnwold server administrator stagedoor warden
  tarnwold server administrator stagedoor warden --remove --dry-run`,
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteServers, a.CompleteAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return servers.Administrators(d, args[0], args[1:], !remove)
			})
		},
	}
	k.PlainFlags(c)
	c.Flags().BoolVar(&remove, "remove", false, "take them off the list")
	return c
}
