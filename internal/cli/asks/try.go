package asks

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

func TryCommand(a *run.App) *cobra.Command {
	var from, to string
	var acts strings.Builder
	for _, x := range verdict.Acts {
		fmt.Fprintf(&acts, "  %-21s %s\n", x.Name, x.About)
	}
	var not uncounted
	var plain plainly
	c := &cobra.Command{
		Use:   "try WHO ACT WHERE",
		Short: "Try what a user would: may they open, save, make, rename, move or delete it",
		Long: `Try an act as a user would do it, without doing it: yes or no, every right it
needs on every item it touches, what is missing, and the first thing that would
have to change.

` + acts.String() + `
//SERVER/SHARE/… tries through that share, SERVER:/… at the server itself. For
create and make-folder WHERE is the new thing; rename, move and replace take
--to WHERE, give-owner takes --to WHO. --from tries many at once: a CSV file
with the columns user, act, where and, if need be, to.

Exit code 1 says no.`,
		Example: `  tarnwold try ines save //stagedoor/productions/Wardrobe/Fittings/measurements.ods
  tarnwold try silas create "//stagedoor/productions/Scripts/new draft.odt"
  tarnwold try petra rename //stagedoor/productions/Scripts --to Drafts
  tarnwold try bram save "//stagedoor/productions/Wardrobe/hire list.csv" --live
  tarnwold try --from acts.csv --format csv`,
		Args: func(c *cobra.Command, args []string) error {
			if from != "" {
				return cobra.NoArgs(c, args)
			}
			return cobra.ExactArgs(3)(c, args)
		},
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User), run.CompleteWords(ask.ActNames()), a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			if from != "" {
				return tryMany(a, c, from, plain, &not)
			}
			return run.Answer(a, c, func(k *ask.Asker) (*explain.Tried, error) {
				return explain.Try(k, args[0], args[1], plain.typed(args[2]), plain.to(args[1], to), false)
			},
				func(p *doc.Printer, t *explain.Tried) error {
					if err := report.Tried(p, t); err != nil {
						return err
					}
					if !t.Allowed {
						return run.ErrNo
					}
					not.note(t.Route, t.NotCounted)
					return not.or(nil)
				})
		},
	}
	not.flags(c)
	plain.flag(c)
	c.Flags().StringVar(&to, "to", "", "`where` it goes to, its new name, or the new owner")
	c.Flags().StringVar(&from, "from", "", "a CSV `file` of acts with the columns user, act, where and maybe to")
	_ = c.RegisterFlagCompletionFunc("to", a.CompletePlaces)
	a.LiveFlag(c, func(args []string) []string {
		if strings.HasPrefix(to, "//") {
			return []string{plain.typed(args[2]), plain.typed(to)}
		}
		return []string{plain.typed(args[2])}
	})
	c.MarkFlagsMutuallyExclusive("live", "from")
	return c
}

func tryMany(a *run.App, c *cobra.Command, file string, plain plainly, not *uncounted) error {
	var all []*explain.Tried
	bad, err := askMany(a, c, file, csvfile.Trials, func(k *ask.Asker, q csvfile.Asking) error {
		t, err := explain.Try(k, q.User, q.Act, plain.typed(q.Where), plain.to(q.Act, q.To), a.Format != doc.JSON)
		if err == nil {
			t.Where, t.To = q.Where, q.To // as asked, so that rows find their answers
			all = append(all, t)
			not.note(t.Route, t.NotCounted)
		}
		return err
	}, func(q csvfile.Asking, why string) {
		all = append(all, &explain.Tried{User: ask.Account{Name: q.User}, Act: q.Act, Where: q.Where, To: q.To, Error: why})
	})
	if err != nil {
		return err
	}
	if err := report.TriedMany(a.Printer(), all); err != nil {
		return err
	}
	not.tell(a)
	return not.or(bad)
}
