// Package run is what every command runs in: it opens the estate, shows a plan,
// asks the person, keeps it, writes it out to servers, and says what went wrong.
package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/settings"
	"tarnwold/internal/plan"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/store"
)

// Version is set when a release is built.
var Version = ""

// Exit codes.
const (
	ExitDone    = 0 // done, or the answer is yes
	ExitNo      = 1 // the answer is no, a check failed, or a guard refused
	ExitUsage   = 2 // used wrongly
	ExitTrouble = 3 // something could not be read, reached or kept
)

// App is one run of the program.
type App struct {
	Commands func(*App) *cobra.Command // makes them anew for each run

	In       io.Reader
	Out, Err io.Writer
	Color    bool // paint what goes to out
	NoPager  bool // a long answer is written as it is
	Verbose  bool // what servers are asked is said
	Asks     bool // someone sits there and can be asked

	EstatePath string
	Command    string // that is run, as in "tarnwold user list"
	Format     doc.Format
	FormatText string
	Actor      string
	Home       string   // the estate file where none is named; empty: the usual one
	Shown      []string // the command as it was typed, for the journal
	suppose    supposition
	File       outFile
	Inner      *estate.Estate              // the estate that is supposed, where a question makes a change
	made       func(*plan.Plan) bool       // is told of each change in it, and says whether it is made; may be nil
	set        map[string]settings.Setting // what files of settings say, by their names
	order      []string                    // of those
	configErr  error
	warned     bool // that others may read the estate
}

// Root makes the commands of this run.
func (a *App) Root() *cobra.Command { return a.Commands(a) }

func IsTerminal(v any) bool {
	_, ok := screen(v)
	return ok
}

func (a *App) Run(ctx context.Context, args []string) int {
	root := a.Root()
	root.SetArgs(args)
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	c, err := root.ExecuteContextC(ctx)
	var some *Unanswered
	whole := err == nil || errors.Is(err, ErrNo) || errors.As(err, &some)
	if ferr := a.endFile(whole); ferr != nil && whole {
		err = ferr
	}
	a.endPager()
	if err == nil || errors.Is(err, syscall.EPIPE) {
		return ExitDone
	}
	if errors.Is(err, ErrNo) {
		return ExitNo
	}
	if s := err.Error(); strings.HasPrefix(s, "required flag(s) ") || strings.HasPrefix(s, "if any flags in the group ") {
		err = AsUsage(together(err)) // what the library finds wrong by itself
	}
	if errors.Is(err, store.ErrStopped) || errors.Is(err, context.Canceled) { // wherever it was at
		err = store.ErrStopped
	}
	if a.Format == "" { // it went wrong before the format was looked at
		a.Format, _ = doc.ParseFormat(a.FormatText)
	}
	err = meant(c, err)
	code := CodeOf(err)
	a.SayError(err, code)
	return code
}

// together says in plain words which flags don't go together.
func together(err error) error {
	_, set, ok := strings.Cut(err.Error(), " none of the others can be; [")
	names, ok2 := strings.CutSuffix(set, "] were all set")
	if !ok || !ok2 {
		return err
	}
	return fmt.Errorf("--%s don't go together; leave out all but one", strings.ReplaceAll(names, " ", " and --"))
}

// Asking marks the commands that only ask, which a file of questions may hold.
func Asking(c *cobra.Command, all bool) {
	switch name := c.Name(); {
	case all && name != "questions", name == "differs", name == "owned", name == "uses", name == "log", name == "list", name == "show", name == "drift" && c.Parent() != nil && c.Parent().Name() == "policy":
		c.Annotations = map[string]string{"asks": "yes"}
	}
	for _, s := range c.Commands() {
		Asking(s, all)
	}
}

func EnvOr(name, other string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return other
}

// Holder makes a command that only holds others.
func Holder(use, short, example string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Example: example, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	c.AddCommand(subs...)
	return c
}

func (a *App) Printer() *doc.Printer {
	p := printer(a.Out, a.Format)
	p.Color = a.Color && a.Format == doc.Table
	p.Command = a.Command
	return p
}

// WhoIs reads who people are, where a page is to say it; nil: nothing says it.
func (a *App) WhoIs(k *ask.Asker) func(name string) string {
	if a.Format != doc.Page {
		return nil
	}
	known := k.Described()
	return func(name string) string {
		d := known[name]
		return strings.Join(report.DetailLines(&d), "; ")
	}
}

// Answer opens the estate, asks it, and prints what comes back once the
// transaction is over, so that a long output holds nobody up.
func Answer[T any](a *App, c *cobra.Command, question func(*ask.Asker) (T, error), print func(*doc.Printer, T) error) error {
	var got T
	var known func(string) string
	err := a.View(c.Context(), func(t *estate.Tx) (err error) {
		k := ask.New(t)
		if got, err = question(k); err == nil {
			known = a.WhoIs(k)
		}
		return err
	})
	if err != nil {
		return err
	}
	p := a.Printer()
	a.Supposes(p)
	p.WhoIs = known
	return print(p, got)
}

// View opens the estate and reads from it.
func (a *App) View(ctx context.Context, fn func(*estate.Tx) error) error {
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	return a.Supposed(ctx, e, func(e *estate.Estate) error { return e.View(ctx, fn) })
}

// Who is the acting account: --as, else the login name.
func (a *App) Who() string {
	if a.Actor != "" {
		return a.Actor
	}
	return login()
}

// login is the login name.
func login() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username[strings.LastIndexByte(u.Username, '\\')+1:]
	}
	return EnvOr("USER", "unknown")
}

// Command writes arguments as they could be typed.
func Command(args []string) string {
	words := []string{"tarnwold"}
	for _, w := range args {
		if w == "" || strings.ContainsAny(w, " \t\n'\"$&|;<>()*?[]#~\\`") {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		words = append(words, w)
	}
	return strings.Join(words, " ")
}
