// Package cli is the command line: its commands put together from those beside it,
// one file a command. A command reads its flags, asks ask or plan, and hands the
// answer to report.
package cli

import (
	"cmp"
	"context"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/cli/asks"
	"tarnwold/internal/cli/changes"
	"tarnwold/internal/cli/govern"
	"tarnwold/internal/cli/load"
	"tarnwold/internal/cli/people"
	"tarnwold/internal/cli/real"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/server"
	"tarnwold/internal/store"
)

// Main runs the program and gives its exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	// To the very end: a signal that comes when all is said no longer ends what was kept
	// as if it had been stopped.
	ctx, _ := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	// Who reads may go away: that is an error of writing then, not the end.
	signal.Ignore(syscall.SIGPIPE)
	// A question is over before much garbage comes of it.
	debug.SetGCPercent(200)
	store.Release = built().Release
	a := &run.App{Commands: Commands, In: in, Out: out, Err: errs, Shown: args}
	a.ReadConfig()
	a.Color = run.Paints(out) && a.Yes("color")
	a.Asks = run.IsTerminal(in) && run.IsTerminal(errs)
	return a.Run(ctx, args)
}

// Commands makes the program's commands.
func Commands(a *run.App) *cobra.Command {
	version, logFormat := false, ""
	root := &cobra.Command{
		Use:   "tarnwold",
		Short: "Who may do what on your file servers, why, and what would change it",
		Long: `Tarnwold keeps a model of your file servers in one file, an estate: their
shares, folders, files, accounts and rules. On it you grant and deny access,
see what a change does before you keep it, and have every user's access
explained: what, why, by which group, from which folder.

New here? Run: tarnwold demo. Your own server: tarnwold setup`,
		Example: `  tarnwold setup
  tarnwold init
  tarnwold load accounts accounts.csv members.csv
  tarnwold load tree tree.csv --at stagedoor:/srv/playhouse
  tarnwold explain ines //stagedoor/productions/Wardrobe
  tarnwold grant wardrobe edit //stagedoor/productions/Wardrobe`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if version {
				return writeVersion(a.Printer())
			}
			if a.Asks && run.IsTerminal(a.Out) {
				return firstSteps(a)
			}
			return c.Help()
		},
		PersistentPreRunE: func(c *cobra.Command, _ []string) (err error) {
			a.Command = c.CommandPath()
			if err := a.Configured(c); err != nil {
				return err
			}
			if a.Format, err = doc.ParseFormat(a.FormatText); err != nil {
				return run.AsUsage(err)
			}
			l, err := run.Logger(a.Err, logFormat)
			if err != nil {
				return err
			}
			if a.Inner == nil && a.Verbose {
				c.SetContext(server.WithLog(c.Context(), l))
			}
			a.BeginPager(c)
			return a.BeginFile(c)
		},
	}
	root.SetFlagErrorFunc(run.FlagError)
	root.Flags().BoolVar(&version, "version", false, "show the version")
	f := root.PersistentFlags()
	home := a.Home
	if home == "" {
		home = run.EnvOr("TARNWOLD_ESTATE", cmp.Or(a.Setting("estate"), "tarnwold.estate"))
	}
	f.StringVar(&a.EstatePath, "estate", home, "the estate `file`; TARNWOLD_ESTATE names it too")
	f.StringVar(&a.FormatText, "format", cmp.Or(a.Setting("format"), "table"), "how to answer: table, json, csv or markdown")
	if a.Inner == nil && a.Actor == "" {
		a.Actor = run.EnvOr("TARNWOLD_AS", a.Setting("as"))
	}
	f.StringVar(&a.Actor, "as", a.Actor, "the `account` that acts, for the journal and the guards (default: the login name)")
	_ = root.RegisterFlagCompletionFunc("as", a.CompleteAccounts(account.User))
	f.BoolVarP(&a.Verbose, "verbose", "v", false, "say what servers and directories are asked, and how long each took")
	f.StringVar(&logFormat, "log-format", "text", "how --verbose says it: text or json, a line each")
	_ = root.RegisterFlagCompletionFunc("log-format", cobra.FixedCompletions([]string{"text", "json"}, cobra.ShellCompDirectiveNoFileComp))
	f.BoolVar(&a.NoPager, "no-pager", false, "write a long answer as it is; else it is shown by PAGER, or less, at a terminal")
	_ = root.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(doc.Formats, cobra.ShellCompDirectiveNoFileComp))
	root.AddGroup(
		&cobra.Group{ID: "know", Title: "People and servers"},
		&cobra.Group{ID: "give", Title: "Give and take access"},
		&cobra.Group{ID: "shape", Title: "Shape inheritance and ownership"},
		&cobra.Group{ID: "ask", Title: "Ask"},
		&cobra.Group{ID: "govern", Title: "Govern"},
		&cobra.Group{ID: "estate", Title: "The estate"},
	)
	for _, g := range []struct {
		group string
		cmds  []*cobra.Command
	}{
		{"estate", []*cobra.Command{initCommand(a), real.SetupCommand(a), load.LoadCommand(a), load.ScanCommand(a), real.DriftCommand(a), real.ProveCommand(a), changes.LogCommand(a), changes.UndoCommand(a), changes.RedoCommand(a), real.ResumeCommand(a), changes.CheckCommand(a), backupCommand(a), compactCommand(a), configCommand(a), demoCommand(a), versionCommand(a)}},
		{"know", []*cobra.Command{people.UserCommand(a), people.GroupCommand(a), changes.LevelCommand(a), real.ServerCommand(a), changes.ShareCommand(a), people.DirectoryCommand(a), people.RealmCommand(a)}},
		{"give", []*cobra.Command{changes.GrantCommand(a), changes.DenyCommand(a), changes.RevokeCommand(a), changes.ReplaceCommand(a), changes.JoinerCommand(a), changes.MoverCommand(a), changes.LeaverCommand(a), changes.StripCommand(a), changes.SwapCommand(a), changes.LikeCommand(a), changes.OutfitCommand(a), changes.WatchCommand(a), changes.ExpireCommand(a), changes.ApplyCommand(a)}},
		{"shape", []*cobra.Command{changes.SealCommand(a), changes.UnsealCommand(a), changes.ReflowCommand(a), changes.DiffersCommand(a), changes.OwnerCommand(a), changes.OwnedCommand(a), changes.ModeCommand(a), changes.PutCommand(a), changes.MoveCommand(a), changes.CopyCommand(a)}},
		{"ask", []*cobra.Command{asks.ExplainCommand(a), asks.WhoCommand(a), asks.ReachCommand(a), asks.FilesCommand(a), asks.CompareCommand(a), asks.GridCommand(a), changes.RoleCommand(a), asks.UsesCommand(a), asks.TryCommand(a), asks.ShowCommand(a), asks.HistoryCommand(a), asks.QuestionsCommand(a)}},
		{"govern", []*cobra.Command{asks.ExpectCommand(a), govern.PolicyCommand(a), govern.RequestCommand(a), govern.KeeperCommand(a), govern.DutiesCommand(a), govern.ReviewCommand(a), govern.FindingsCommand(a), load.TrailCommand(a), load.UnusedCommand(a), govern.NightlyCommand(a)}},
	} {
		for _, c := range g.cmds {
			c.GroupID = g.group
			switch name := c.Name(); {
			case name == "questions" || name == "history":
			case g.group == "ask" || name == "expect" || name == "findings" || name == "differs" || name == "owned" || name == "uses":
				a.Supposing(c)
			}
			switch c.Name() {
			case "who", "reach", "grid", "compare", "uses", "expect", "findings":
				a.Writing(c)
			}
			if c.Name() == "expect" || c.Name() == "findings" {
				run.Checking(c)
			}
			run.Asking(c, g.group == "ask" || c.Name() == "expect" || c.Name() == "duties")
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID("estate")
	root.SetCompletionCommandGroupID("estate")
	strict(root)
	run.OnceEach(root)
	return root
}

// strict makes every wrong use of a command an error of its own kind, and a
// command that only holds others say so when it is given something else.
func strict(c *cobra.Command) {
	if args := c.Args; args != nil {
		c.Args = func(c *cobra.Command, given []string) error {
			if err := args(c, given); err != nil {
				if c.HasSubCommands() && len(given) > 0 {
					err = run.NoCommand(c, given[0])
				}
				return run.Misused("%w; see: %s --help", err, c.CommandPath())
			}
			return nil
		}
	}
	c.SuggestionsMinimumDistance = 2
	for _, s := range c.Commands() {
		strict(s)
	}
}
