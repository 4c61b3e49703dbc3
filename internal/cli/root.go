// Package cli is the command line: one file a command. A command reads its
// flags, asks ask or plan, and hands the answer to report. It is the only
// place that asks a person.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"os/user"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
	"tarnwold/internal/store"
)

// Exit codes.
const (
	exitDone    = 0 // done, or the answer is yes
	exitNo      = 1 // the answer is no, a check failed, or a guard refused
	exitUsage   = 2 // used wrongly
	exitTrouble = 3 // something could not be read, reached or kept
)

// app is one run of the program.
type app struct {
	commands func(*app) *cobra.Command // makes them anew for each run

	in       io.Reader
	out, err io.Writer
	color    bool // paint what goes to out
	asks     bool // someone sits there and can be asked

	estatePath string
	format     report.Format
	formatText string
	actor      string
	home       string   // the estate file where none is named; empty: the usual one
	shown      []string // the command as it was typed, for the journal
	suppose    supposition
	file       outFile
	inner      *estate.Estate // the estate that is supposed, where a question makes a change
	warned     bool           // that others may read the estate
}

// Main runs the program and gives its exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	// Who reads may go away: that is an error of writing then, not the end.
	signal.Ignore(syscall.SIGPIPE)
	// A question is over before much garbage comes of it.
	debug.SetGCPercent(200)
	a := &app{commands: commands, in: in, out: out, err: errs, shown: args}
	a.color = isTerminal(out) && os.Getenv("NO_COLOR") == ""
	a.asks = isTerminal(in) && isTerminal(errs)
	return a.run(ctx, args)
}

// root makes the commands of this run.
func (a *app) root() *cobra.Command { return a.commands(a) }

func isTerminal(v any) bool {
	f, ok := v.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func (a *app) run(ctx context.Context, args []string) int {
	root := a.root()
	root.SetArgs(args)
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	err := root.ExecuteContext(ctx)
	var some *unanswered
	whole := err == nil || errors.Is(err, errNo) || errors.As(err, &some)
	if ferr := a.endFile(whole); ferr != nil && whole {
		err = ferr
	}
	if err == nil || errors.Is(err, syscall.EPIPE) {
		return exitDone
	}
	if errors.Is(err, errNo) {
		return exitNo
	}
	if s := err.Error(); strings.HasPrefix(s, "required flag(s) ") || strings.HasPrefix(s, "if any flags in the group ") {
		err = asUsage(err) // what the library finds wrong by itself
	}
	if errors.Is(err, store.ErrStopped) || errors.Is(err, context.Canceled) { // wherever it was at
		err = store.ErrStopped
	}
	if a.format == "" { // it went wrong before the format was looked at
		a.format, _ = report.ParseFormat(a.formatText)
	}
	code := codeOf(err)
	a.sayError(err, code)
	return code
}

// commands makes the program's commands.
func commands(a *app) *cobra.Command {
	root := &cobra.Command{
		Use:   "tarnwold",
		Short: "Who may do what on your file servers, why, and what would change it",
		Long: `Tarnwold keeps a model of your file servers in one file, an estate: their
shares, folders, files, accounts and rules. On it you grant and deny access,
see what a change does before you keep it, and have every user's access
explained: what, why, by which group, from which folder.

New here? Run: tarnwold demo`,
		Example: `  tarnwold init
  tarnwold load accounts accounts.csv members.csv
  tarnwold load tree tree.csv --at stagedoor:/srv/playhouse
  tarnwold explain ines //stagedoor/productions/Wardrobe
  tarnwold grant wardrobe edit //stagedoor/productions/Wardrobe`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.NoArgs,
		RunE:          func(c *cobra.Command, _ []string) error { return c.Help() },
		PersistentPreRunE: func(c *cobra.Command, _ []string) (err error) {
			if a.format, err = report.ParseFormat(a.formatText); err != nil {
				return asUsage(err)
			}
			return a.beginFile(c)
		},
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return misused("%w; see: %s --help", err, c.CommandPath())
	})
	f := root.PersistentFlags()
	home := a.home
	if home == "" {
		home = envOr("TARNWOLD_ESTATE", "tarnwold.estate")
	}
	f.StringVar(&a.estatePath, "estate", home, "the estate `file`; TARNWOLD_ESTATE names it too")
	f.StringVar(&a.formatText, "format", "table", "how to answer: table, json, csv or markdown")
	f.StringVar(&a.actor, "as", a.actor, "the `account` that acts, for the journal and the guards (default: the login name)")
	_ = root.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(report.Formats, cobra.ShellCompDirectiveNoFileComp))
	root.AddGroup(
		&cobra.Group{ID: "know", Title: "Know the people and the servers"},
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
		{"estate", []*cobra.Command{a.initCommand(), a.loadCommand(), a.scanCommand(), a.driftCommand(), a.proveCommand(), a.logCommand(), a.undoCommand(), a.redoCommand(), a.resumeCommand(), a.checkCommand(), a.demoCommand(), a.versionCommand()}},
		{"know", []*cobra.Command{a.userCommand(), a.groupCommand(), a.levelCommand(), a.serverCommand(), a.shareCommand(), a.directoryCommand()}},
		{"give", []*cobra.Command{a.grantCommand(), a.denyCommand(), a.revokeCommand(), a.replaceCommand(), a.stripCommand(), a.swapCommand(), a.likeCommand(), a.outfitCommand(), a.watchCommand(), a.expireCommand(), a.applyCommand()}},
		{"shape", []*cobra.Command{a.sealCommand(), a.unsealCommand(), a.reflowCommand(), a.differsCommand(), a.ownerCommand(), a.ownedCommand(), a.modeCommand(), a.putCommand(), a.moveCommand(), a.copyCommand()}},
		{"ask", []*cobra.Command{a.explainCommand(), a.whoCommand(), a.reachCommand(), a.filesCommand(), a.compareCommand(), a.gridCommand(), a.roleCommand(), a.usesCommand(), a.tryCommand(), a.showCommand(), a.historyCommand(), a.questionsCommand()}},
		{"govern", []*cobra.Command{a.expectCommand(), a.policyCommand(), a.requestCommand(), a.keeperCommand(), a.dutiesCommand(), a.findingsCommand(), a.trailCommand(), a.unusedCommand(), a.nightlyCommand()}},
	} {
		for _, c := range g.cmds {
			c.GroupID = g.group
			switch name := c.Name(); {
			case name == "questions" || name == "history":
			case g.group == "ask" || name == "expect" || name == "findings" || name == "differs" || name == "owned" || name == "uses":
				a.supposing(c)
			}
			switch c.Name() {
			case "who", "reach", "grid", "compare", "uses", "expect", "findings":
				a.writing(c)
			}
			if c.Name() == "expect" || c.Name() == "findings" {
				checking(c)
			}
			asking(c, g.group == "ask" || c.Name() == "expect" || c.Name() == "duties")
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID("estate")
	root.SetCompletionCommandGroupID("estate")
	strict(root)
	onceEach(root)
	return root
}

// asking marks the commands that only ask, which a file of questions may hold.
func asking(c *cobra.Command, all bool) {
	switch name := c.Name(); {
	case all && name != "questions", name == "differs", name == "owned", name == "uses", name == "log", name == "list", name == "show", name == "drift" && c.Parent() != nil && c.Parent().Name() == "policy":
		c.Annotations = map[string]string{"asks": "yes"}
	}
	for _, s := range c.Commands() {
		asking(s, all)
	}
}

// strict makes every wrong use of a command an error of its own kind, and a
// command that only holds others say so when it is given something else.
func strict(c *cobra.Command) {
	if args := c.Args; args != nil {
		c.Args = func(c *cobra.Command, given []string) error {
			if err := args(c, given); err != nil {
				if c.HasSubCommands() && len(given) > 0 {
					err = fmt.Errorf("%q is no command of %s", report.Clip(given[0]), c.CommandPath())
					if near := c.SuggestionsFor(given[0]); len(near) > 0 {
						err = fmt.Errorf("%w; the nearest is %q", err, near[0])
					}
				}
				return misused("%w; see: %s --help", err, c.CommandPath())
			}
			return nil
		}
	}
	c.SuggestionsMinimumDistance = 2
	for _, s := range c.Commands() {
		strict(s)
	}
}

func envOr(name, other string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return other
}

// holder makes a command that only holds others.
func holder(use, short, example string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Example: example, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	c.AddCommand(subs...)
	return c
}

func (a *app) printer() *report.Printer {
	p := &report.Printer{W: a.out, Format: a.format, Screen: isTerminal(a.out), Color: a.color && a.format == report.Table}
	if f, ok := a.out.(*os.File); ok && p.Screen {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil {
			p.Width = w
		}
	}
	return p
}

// answer opens the estate, asks it, and prints what comes back once the
// transaction is over, so that a long output holds nobody up.
func answer[T any](a *app, c *cobra.Command, question func(*ask.Asker) (T, error), print func(*report.Printer, T) error) error {
	var got T
	err := a.view(c.Context(), func(t *estate.Tx) (err error) {
		got, err = question(ask.New(t))
		return err
	})
	if err != nil {
		return err
	}
	p := a.printer()
	a.supposes(p)
	return print(p, got)
}

// view opens the estate and reads from it.
func (a *app) view(ctx context.Context, fn func(*estate.Tx) error) error {
	e, done, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer done()
	return a.supposed(ctx, e, func(e *estate.Estate) error { return e.View(ctx, fn) })
}

// who is the acting account: --as, else the login name.
func (a *app) who() string {
	if a.actor != "" {
		return a.actor
	}
	return login()
}

// login is the login name.
func login() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username[strings.LastIndexByte(u.Username, '\\')+1:]
	}
	return envOr("USER", "unknown")
}

// command writes arguments as they could be typed.
func command(args []string) string {
	words := []string{"tarnwold"}
	for _, w := range args {
		if w == "" || strings.ContainsAny(w, " \t\n'\"$&|;<>()*?[]#~\\`") {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		words = append(words, w)
	}
	return strings.Join(words, " ")
}
