// Package asks has the commands that only ask.
package asks

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func ExplainCommand(a *run.App) *cobra.Command {
	var from, want string
	var rights bool
	var not uncounted
	var plain plainly
	c := &cobra.Command{
		Use:   "explain WHO WHERE",
		Short: "Explain what a user may do with an item, and because of what",
		Long: `Explain what a user may do with an item: in one sentence what they can and can't
do, the level, and for each act the entry that decides, the folder it is set on
and the groups on the way from the user to the entry's account. --rights shows
the same for every single right; JSON has both. --want names a level they should
have, and tells the smallest changes that would give it, each as the command
that makes it, with what else it opens and to whom; each is tried first, in an
estate nobody else sees.

//SERVER/SHARE/… asks about that one way in; SERVER:/… asks about every share
over the item and about the server itself. --from answers many questions at
once: a CSV file with the columns user and where; a row that can't be answered
says why in its column error, and the exit code is 3 then. The answer "granted"
is a hexadecimal mask of the rights, synchronize left out.

Exit code 1 says that nothing is granted, or not the level that is wanted.`,
		Example: `  tarnwold explain ines //stagedoor/productions/Wardrobe
  tarnwold explain petra stagedoor:/srv/playhouse/Foyer --rights
  tarnwold explain bram //stagedoor/productions/Lighting --want edit
  tarnwold explain bram //stagedoor/productions/Wardrobe --live
  tarnwold explain --from questions.csv --format csv`,
		Args: func(c *cobra.Command, args []string) error {
			if from != "" {
				return cobra.NoArgs(c, args)
			}
			return cobra.ExactArgs(2)(c, args)
		},
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User), a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			if from != "" {
				return explainMany(a, c, from, plain, &not)
			}
			args[1] = plain.typed(args[1])
			if want != "" {
				return explainWanted(a, c, args[0], args[1], want, rights)
			}
			return run.Answer(a, c, func(k *ask.Asker) ([]*explain.Explained, error) { return explain.Explain(k, args[0], args[1], false) },
				func(p *doc.Printer, list []*explain.Explained) error {
					if err := report.Explained(report.Rights(p, rights), list, false); err != nil {
						return err
					}
					some := error(run.ErrNo)
					for _, x := range list {
						not.note(x.Route, x.NotCounted)
						if !x.Nothing() {
							some = nil
						}
					}
					return not.or(some)
				})
		},
	}
	not.flags(c)
	plain.flag(c)
	c.Flags().BoolVar(&rights, "rights", false, "show every right and what decides it, not the acts alone")
	c.Flags().StringVar(&want, "want", "", "tell what would give them this `level`")
	_ = c.RegisterFlagCompletionFunc("want", a.CompleteLevels)
	c.Flags().StringVar(&from, "from", "", "a CSV `file` of questions with the columns user and where")
	c.MarkFlagsMutuallyExclusive("want", "from")
	a.LiveFlag(c, func(args []string) []string { return []string{plain.typed(args[1])} })
	c.MarkFlagsMutuallyExclusive("live", "from")
	return c
}

// explainWanted explains, and tells what would give a user the level they should have.
func explainWanted(a *run.App, c *cobra.Command, who, where, want string, rights bool) error {
	ctx := c.Context()
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	var list []*explain.Explained
	var mends []review.Mending
	bar := a.Progress(-1, "looking for what would mend it")
	err = a.Supposed(ctx, e, func(e *estate.Estate) error {
		err := e.View(ctx, func(t *estate.Tx) (err error) {
			list, err = explain.Explain(ask.New(t), who, where, false)
			return err
		})
		if err == nil {
			mends, err = review.Mends(ctx, e, a.Who(), who, where, want, bar.Say)
		}
		return err
	})
	bar.End()
	if err != nil {
		return err
	}
	p := a.Printer()
	a.Supposes(p)
	if err := changes.Wanted(report.Rights(p, rights), list, mends); err != nil {
		return err
	}
	for _, m := range mends {
		if !m.Held {
			return run.ErrNo
		}
	}
	return nil
}

func explainMany(a *run.App, c *cobra.Command, file string, plain plainly, not *uncounted) error {
	var all []*explain.Explained
	bad, err := askMany(a, c, file, csvfile.Askings, func(k *ask.Asker, q csvfile.Asking) error {
		answers, err := explain.Explain(k, q.User, plain.typed(q.Where), a.Format != doc.JSON)
		all = append(all, answers...)
		for _, x := range answers {
			not.note(x.Route, x.NotCounted)
			if x.Where == plain.typed(q.Where) {
				x.Where = q.Where // as asked, so that rows find their answers
			}
		}
		return err
	}, func(q csvfile.Asking, why string) {
		all = append(all, &explain.Explained{User: ask.Account{Name: q.User}, Where: q.Where, Error: why})
	})
	if err != nil {
		return err
	}
	if err := report.Explained(a.Printer(), all, true); err != nil {
		return err
	}
	not.tell(a)
	return not.or(bad)
}

// askMany asks a file's rows one after the other. A row that can't be
// answered is one of the answers, and counted in bad.
func askMany(a *run.App, c *cobra.Command, file string, kind csvfile.Kind, one func(*ask.Asker, csvfile.Asking) error, wrong func(csvfile.Asking, string)) (bad, err error) {
	rows, err := run.ReadFile(c.Context(), file, func(r io.Reader, f string) ([]csvfile.Asking, error) {
		s, err := csvfile.Open(r, f, kind)
		if err != nil {
			return nil, err
		}
		return s.ReadAskings()
	})
	if err != nil {
		return nil, err
	}
	n := 0
	bar := a.Progress(len(rows), "asking")
	err = a.View(c.Context(), func(t *estate.Tx) error {
		defer bar.End()
		k := ask.New(t)
		for i, q := range rows {
			err := q.Err
			if err == nil {
				err = one(k, q)
			}
			if t.Err() != nil { // the estate itself fails, not the question
				return t.Err()
			}
			if err != nil {
				n++
				why := err.Error()
				if q.Err == nil {
					why = fmt.Sprintf("line %d: %s", q.Line, why)
				}
				wrong(q, why)
			}
			if i%64 == 0 {
				bar.Set(i)
				if err := c.Context().Err(); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if n > 0 {
		bad = &run.Unanswered{Rows: n, Of: len(rows)}
	}
	return bad, err
}
