// Package cli is the command line: one file a command. A command reads its
// flags, asks estate and core, and hands the answer to report.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"os/user"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

// Exit codes.
const (
	exitDone    = 0 // done, or the answer is yes
	exitNo      = 1 // the answer is no, or a check failed
	exitUsage   = 2 // used wrongly
	exitTrouble = 3 // something could not be read, reached or kept
)

// usageError is a command used wrongly.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func misused(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// errNo ends a command whose answer, already printed, is no.
var errNo = errors.New("no")

// app is one run of the program.
type app struct {
	in       io.Reader
	out, err io.Writer
	color    bool // paint what goes to out
	asks     bool // someone sits there and can be asked

	estatePath string
	format     report.Format
	formatText string
	actor      string
	home       string // the estate file where none is named; empty: the usual one
	quiet      bool   // what is kept was shown already
	holds      bool   // what say is given waits in held
	held       []string
	shown      []string // the command as it was typed, for the journal
}

// Main runs the program and gives its exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errs, shown: args}
	a.color = isTerminal(out) && os.Getenv("NO_COLOR") == ""
	a.asks = isTerminal(in) && isTerminal(errs)
	return a.run(ctx, args)
}

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
	if err == nil {
		return exitDone
	}
	if errors.Is(err, errNo) {
		return exitNo
	}
	message := report.Clean(strings.ReplaceAll(err.Error(), "\n", "\ue005"))
	fmt.Fprintln(a.err, "tarnwold: "+strings.ReplaceAll(message, `\ue005`, "\n"))
	var notFound *estate.NotFound
	var refused *estate.Refused
	var misused usageError
	var unknown *right.NameError
	switch {
	case errors.As(err, &misused), errors.As(err, &notFound), errors.As(err, &refused), errors.As(err, &unknown):
		return exitUsage
	}
	return exitTrouble
}

func (a *app) root() *cobra.Command {
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
		PersistentPreRunE: func(*cobra.Command, []string) (err error) {
			a.format, err = report.ParseFormat(a.formatText)
			if err != nil {
				return usageError{err}
			}
			return nil
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
	f.StringVar(&a.formatText, "format", "table", "how to answer: table, json or csv")
	f.StringVar(&a.actor, "as", a.actor, "the `account` that acts, for the journal and the guards (default: the login name)")
	_ = root.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"table", "json", "csv"}, cobra.ShellCompDirectiveNoFileComp))
	root.AddGroup(
		&cobra.Group{ID: "know", Title: "Know the people and the servers"},
		&cobra.Group{ID: "give", Title: "Give and take access"},
		&cobra.Group{ID: "shape", Title: "Shape inheritance and ownership"},
		&cobra.Group{ID: "ask", Title: "Ask"},
		&cobra.Group{ID: "estate", Title: "The estate"},
	)
	for _, g := range []struct {
		group string
		cmds  []*cobra.Command
	}{
		{"estate", []*cobra.Command{a.initCommand(), a.loadCommand(), a.logCommand(), a.undoCommand(), a.redoCommand(), a.demoCommand(), a.versionCommand()}},
		{"know", []*cobra.Command{a.userCommand(), a.groupCommand(), a.levelCommand(), a.serverCommand(), a.shareCommand()}},
		{"give", []*cobra.Command{a.grantCommand(), a.denyCommand(), a.revokeCommand(), a.replaceCommand(), a.watchCommand(), a.expireCommand(), a.applyCommand()}},
		{"shape", []*cobra.Command{a.sealCommand(), a.unsealCommand(), a.reflowCommand(), a.differsCommand(), a.ownerCommand(), a.ownedCommand(), a.putCommand(), a.moveCommand(), a.copyCommand()}},
		{"ask", []*cobra.Command{a.showCommand(), a.explainCommand()}},
	} {
		for _, c := range g.cmds {
			c.GroupID = g.group
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID("estate")
	root.SetCompletionCommandGroupID("estate")
	strict(root)
	return root
}

// strict makes every wrong use of a command an error of its own kind, and a
// command that only holds others say so when it is given something else.
func strict(c *cobra.Command) {
	if args := c.Args; args != nil {
		c.Args = func(c *cobra.Command, given []string) error {
			if err := args(c, given); err != nil {
				if c.HasSubCommands() && len(given) > 0 {
					err = fmt.Errorf("%q is no command of %s", given[0], c.CommandPath())
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
	return &report.Printer{W: a.out, Format: a.format, Screen: isTerminal(a.out), Color: a.color && a.format == report.Table}
}

// say prints a line about what was done, for people: on out beside a table,
// on err where out is for a program.
func (a *app) say(format string, args ...any) {
	if a.quiet && !strings.HasPrefix(format, "Kept") {
		return
	}
	if a.holds {
		a.held = append(a.held, fmt.Sprintf(format, args...))
		return
	}
	p := a.printer()
	if a.format != report.Table {
		p.W, p.Format = a.err, report.Table
	}
	p.Line(format, args...)
}

// view opens the estate and reads from it.
func (a *app) view(ctx context.Context, fn func(*estate.Tx) error) error {
	e, err := estate.Open(ctx, a.estatePath)
	if err != nil {
		return err
	}
	defer e.Close()
	return e.View(ctx, fn)
}

// alter opens the estate, changes it in one go and keeps the change.
func (a *app) alter(ctx context.Context, fn func(*estate.Tx) (string, error)) error {
	e, err := estate.Open(ctx, a.estatePath)
	if err != nil {
		return err
	}
	defer e.Close()
	a.holds = true // nothing is said to be done before it is kept
	_, err = e.Change(ctx, a.meta(), true, fn)
	a.holds = false
	if err != nil {
		return err
	}
	for _, line := range a.held {
		a.say("%s", line)
	}
	a.held = nil
	return nil
}

func (a *app) meta() estate.Meta {
	return estate.Meta{Actor: a.who(), Command: command(a.shown)}
}

// who is the acting account: --as, else the login name.
func (a *app) who() string {
	if a.actor != "" {
		return a.actor
	}
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

// language is how entries are written in an estate.
func language(t *estate.Tx) rule.Language {
	return rule.Language{Levels: t.Levels(), Name: func(id account.ID) string { return t.Name(id) }, Who: t.Who}
}
