package changes

import (
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/place"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func OwnerCommand(a *run.App) *cobra.Command {
	var k run.Keeping
	var f run.Targets
	var to string
	var below bool
	c := &cobra.Command{
		Use:   "owner WHERE…",
		Short: "Show who owns items, or hand ownership on",
		Long: `Show who owns items and what that brings; with --to, hand ownership on, with
--below for everything below too.

An administrator of the server may give ownership to anyone. Another user of the
estate who acts (--as) may only take it for themselves, and needs write-owner on
the item for that. Inherited entries that stood for the former owner stay until
they are renewed: see differs and reflow.`,
		Example: `  tarnwold owner "//stagedoor/productions/Archive/Tour 2024"
  tarnwold owner "//stagedoor/productions/Archive/Tour 2024" --to warden --below`,
		ValidArgsFunction: a.CompletePlaces,
	}
	k.Flags(c)
	f.Flags(c, a)
	c.Args = f.Enough(0)
	c.Flags().StringVar(&to, "to", "", "hand ownership to this `account`")
	c.Flags().BoolVar(&below, "below", false, "everything below too")
	_ = c.RegisterFlagCompletionFunc("to", a.CompleteAccounts(0))
	c.RunE = func(c *cobra.Command, args []string) error {
		x, err := f.Read(c.Context(), args)
		if err != nil {
			return err
		}
		if to != "" {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return entry.Own(d, to, below, x) })
		}
		if below {
			return run.Misused("--below goes with --to")
		}
		return run.AnswerItems(a, c, x, show.Owners, report.Owners)
	}
	return c
}

func OwnedCommand(a *run.App) *cobra.Command {
	var sizes bool
	c := &cobra.Command{
		Use:   "owned WHO [WHERE]",
		Short: "List everything someone owns, or how much each owns",
		Long: `List everything someone owns. With --sizes it is how many files each owner has and how
large they are, as far as a scan of a real server told: everybody's, or somebody's, or
what is at and below a place.`,
		Example: `  tarnwold owned silas
  tarnwold owned silas //stagedoor/productions --format csv
  tarnwold owned --sizes
  tarnwold owned --sizes //stagedoor/productions`,
		Args:              cobra.RangeArgs(0, 2),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(0), a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			if sizes {
				who, where := "", ""
				for i, word := range args {
					if _, err := place.ParsePlain(word); err == nil || i == 1 {
						where = word
					} else {
						who = word
					}
				}
				if len(args) == 2 && who == "" {
					return run.Misused("%q is a place, and WHO comes first", doc.Clip(args[0]))
				}
				return run.Answer(a, c, func(k *ask.Asker) ([]census.OwnerFiles, error) { return census.OwnerSizes(k, who, where) }, report.OwnerSizes)
			}
			if len(args) == 0 {
				return run.Misused("who? or with --sizes everybody")
			}
			under := strings.Join(args[1:], "")
			return a.View(c.Context(), func(t *estate.Tx) error {
				p := a.Printer()
				var who string
				var s *doc.Stream
				begin := func() {
					if s == nil {
						s = p.Stream([]string{"kind", "place"}, []int{8}, "items", map[string]any{"account": who})
					}
				}
				id, err := t.Who(args[0])
				if err != nil {
					return err
				}
				who = t.Name(id)
				if under != "" {
					if _, err := t.FindText(under); err != nil {
						return err
					}
				}
				begin()
				_, err = show.EachOwned(ask.New(t), args[0], under, func(o show.Owned) error {
					if s.Rows()&1023 == 0 && c.Context().Err() != nil {
						return c.Context().Err()
					}
					return s.Row(o, o.Kind, o.Where)
				})
				if err != nil {
					return err
				}
				if err := s.End(); err != nil {
					return err
				}
				p.Line(doc.In(doc.Strong, who), doc.S(" owns %s", report.Count(int64(s.Rows()), "item")))
				return p.Err()
			})
		},
	}
	c.Flags().BoolVar(&sizes, "sizes", false, "how many files each owner has, and how large they are")
	return c
}
