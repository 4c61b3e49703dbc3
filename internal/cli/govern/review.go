package govern

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/newfile"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/confirm"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func ReviewCommand(a *run.App) *cobra.Command {
	return run.Holder("review", "Have keepers confirm what is set on what they keep, or take it away",
		`  tarnwold review start winter --due 2027-01-31
  tarnwold review show winter --to winter
  tarnwold review take winter/petra.xlsx
  tarnwold review close winter`,
		reviewStart(a), reviewList(a), reviewShow(a), reviewRemind(a), reviewTake(a), reviewClose(a))
}

func (r *reviewing) complete(a *run.App) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return run.CompleteInOrder(func(c *cobra.Command, _ []string, _ string) (names []string, _ cobra.ShellCompDirective) {
		_ = a.View(c.Context(), func(t *estate.Tx) error {
			all, err := confirm.Reviews(t)
			for i := range all {
				if r.any || all[i].State == confirm.Open {
					names = append(names, all[i].Name)
				}
			}
			return err
		})
		return names, cobra.ShellCompDirectiveNoFileComp
	})
}

// reviewing says which reviews are completed: any, or those that are open.
type reviewing struct{ any bool }

func reviewStart(a *run.App) *cobra.Command {
	var s confirm.Starting
	var due string
	var k run.Keeping
	c := &cobra.Command{
		Use:   "start NAME",
		Short: "Begin a review: whoever keeps a place or a group is to confirm what is set there",
		Long: `Begin a review of the allow entries that are set at and below places, of those of the
shares there, and of who is in groups: each is a row to be kept, taken away, or asked
about. It is cut into parts by keeper: rows whose place has two keepers are in the part of
each, and those that nobody keeps are in a part of their own. Nobody's access changes by it.

Without --of it covers all places and groups that are kept. --changed leaves out what the
last closed review kept and what hasn't changed since.`,
		Example: `  tarnwold review start winter --due 2027-01-31
  tarnwold review start vault --of //stagedoor/vault --of 'group:acc-*' --by keepers
  tarnwold review start spring --changed
  tarnwold review start archive --of //stagedoor/productions/Archive --by warden`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) (err error) {
			s.Name = args[0]
			if s.Due, err = estate.ParseDay(due); err != nil {
				return run.AsUsage(err)
			}
			k.Yes = true // nobody's access changes
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return confirm.Start(d, s) })
		},
	}
	f := c.Flags()
	f.StringArrayVar(&s.Of, "of", nil, "what is reviewed: a `place` and all below it, or group:PATTERN; may be given again (default: all that is kept)")
	f.StringVar(&s.By, "by", "keepers", "who is asked: keepers, or one `account` for all of it")
	f.StringVar(&due, "due", "", "the `day` by which it is to be answered")
	f.BoolVar(&s.Changed, "changed", false, "only what is new, or has changed, since the last closed review kept it")
	f.BoolVar(&k.DryRun, "dry-run", false, "show the parts and keep nothing")
	_ = c.RegisterFlagCompletionFunc("of", a.CompletePlaces)
	_ = c.RegisterFlagCompletionFunc("by", a.CompleteAccounts(0))
	return c
}

func reviewList(a *run.App) *cobra.Command {
	var open bool
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the reviews, and how far each is",
		Example: "  tarnwold review list\n  tarnwold review list --open --format json",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var out []*confirm.Status
			if err := a.View(c.Context(), func(t *estate.Tx) error {
				all, err := confirm.Reviews(t)
				if err != nil {
					return err
				}
				for i := range all {
					if open && all[i].State != confirm.Open {
						continue
					}
					s, err := confirm.StatusOf(t, &all[i])
					if err != nil {
						return err
					}
					out = append(out, s)
				}
				return t.Err()
			}); err != nil {
				return err
			}
			return changes.Reviews(a.Printer(), out)
		},
	}
	c.Flags().BoolVar(&open, "open", false, "only those that aren't closed")
	return c
}

func status(a *run.App, c *cobra.Command, name string) (s *confirm.Status, err error) {
	err = a.View(c.Context(), func(t *estate.Tx) error {
		r, err := confirm.Find(t, name)
		if err == nil {
			s, err = confirm.StatusOf(t, r)
		}
		return err
	})
	return s, err
}

func reviewShow(a *run.App) *cobra.Command {
	var part, to string
	c := &cobra.Command{
		Use:   "show NAME",
		Short: "Show how far a review is; write each keeper's part as a page and a workbook",
		Long: `Show how far a review is, part by part. --part shows the rows of one part, with what was
said of each; as -o FILE.xlsx it is a workbook to be answered. --to writes every part into
a folder, as a page to be read and a workbook to be answered: keep, take away or ask
behind each row, a note where there is something to say. What was changed by others since
is left out, and counted.`,
		Example: `  tarnwold review show winter
  tarnwold review show winter --part petra
  tarnwold review show winter --part petra -o petra.xlsx
  tarnwold review show winter --to winter`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: (&reviewing{any: true}).complete(a),
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case to != "":
				return writeParts(a, c, args[0], to)
			case part == "" && (a.Format == doc.Workbook || a.Format == doc.Page):
				return run.Misused("-o writes the rows of one part: --part NAME; all of them go into a folder with --to")
			case part == "":
				s, err := status(a, c, args[0])
				if err != nil {
					return err
				}
				return changes.Review(a.Printer(), s)
			}
			var got *confirm.PartRows
			if err := eachPart(a, c, args[0], []string{part}, func(x *confirm.PartRows) error { got = x; return nil }); err != nil {
				return err
			}
			return changes.Part(a.Printer(), got)
		},
	}
	c.Flags().StringVar(&part, "part", "", "show the rows of the part of this `keeper`, as the review calls it")
	c.Flags().StringVar(&to, "to", "", "write every part into this `folder`, as a page and a workbook; it is made")
	c.MarkFlagsMutuallyExclusive("part", "to")
	_ = c.MarkFlagDirname("to")
	a.Writing(c)
	return c
}

func eachPart(a *run.App, c *cobra.Command, name string, want []string, fn func(*confirm.PartRows) error) error {
	return a.View(c.Context(), func(t *estate.Tx) error {
		r, err := confirm.Find(t, name)
		if err != nil {
			return err
		}
		return confirm.PartsOf(plan.New(t, a.Who()), r, want, fn)
	})
}

// writeParts writes each part of a review as a page and a workbook.
func writeParts(a *run.App, c *cobra.Command, name, to string) error {
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	p := a.Printer()
	taken, n := map[string]bool{}, 0
	err := eachPart(a, c, name, nil, func(x *confirm.PartRows) error {
		base := fileName(x.Part)
		for i := 2; taken[estate.Key(base)]; i++ {
			base = fmt.Sprintf("%s-%d", fileName(x.Part), i)
		}
		taken[estate.Key(base)] = true
		for ending, f := range map[string]doc.Format{".html": doc.Page, ".xlsx": doc.Workbook} {
			var text bytes.Buffer
			if err := changes.Part(&doc.Printer{W: &text, Format: f}, x); err != nil {
				return err
			}
			if err := newfile.Write(filepath.Join(to, base+ending), 0o600, text.Bytes()); err != nil {
				return err
			}
		}
		n++
		return c.Context().Err()
	})
	if err != nil {
		return err
	}
	type written struct {
		To    string `json:"to"`
		Parts int    `json:"parts"`
	}
	return p.Give(written{to, n}, []string{"to", "parts"}, func() [][]string { return [][]string{{to, fmt.Sprint(n)}} }, func() {
		says := fmt.Sprintf("%d parts", n)
		if n == 1 {
			says = "1 part"
		}
		p.Line(doc.S("Written to %s: %s, each as a page and a workbook. Give them out, and take back what is answered: tarnwold review take FILE", to, says))
	})
}

// fileName makes a name a file's: letters, digits and few marks stay.
func fileName(name string) string {
	s := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', strings.ContainsRune("._-@", r), r > 0x7f && doc.Clean(string(r)) == string(r):
			return r
		}
		return '_'
	}, name)
	if s = strings.TrimLeft(s, "."); s == "" {
		return "part"
	}
	return format.Clip(s)
}

func reviewRemind(a *run.App) *cobra.Command {
	c := &cobra.Command{
		Use:   "remind [NAME]",
		Short: "List whose part isn't answered, with their mail; nothing is sent",
		Long: `List whose part of the open reviews, or of one, isn't answered yet: how many rows, by
when, and where their mail goes. Nothing is sent: as CSV it is what a mail program takes.
Exit code 1 says that there is any.`,
		Example: `  tarnwold review remind
  tarnwold review remind winter --format csv`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: (&reviewing{}).complete(a),
		RunE: func(c *cobra.Command, args []string) error {
			var out []changes.Reminder
			if err := a.View(c.Context(), func(t *estate.Tx) error {
				all, err := confirm.Reviews(t)
				if err == nil && len(args) == 1 {
					var one *confirm.Review
					if one, err = confirm.Find(t, args[0]); err == nil {
						all = []confirm.Review{*one}
					}
				}
				if err != nil {
					return err
				}
				for i := range all {
					if all[i].State != confirm.Open {
						continue
					}
					s, err := confirm.StatusOf(t, &all[i])
					if err != nil {
						return err
					}
					for _, p := range s.Parts {
						if n := p.Rows - p.Answered; n > 0 {
							out = append(out, changes.Reminder{Review: s.Review, Part: p.Part, Now: p.Now, Mail: p.Mail, Rows: n, Due: s.Due, Overdue: s.Overdue})
						}
					}
				}
				return t.Err()
			}); err != nil {
				return err
			}
			if err := changes.Reminders(a.Printer(), out); err != nil {
				return err
			}
			if len(out) > 0 {
				return run.ErrNo
			}
			return nil
		},
	}
	return c
}

func reviewTake(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "take FILE.xlsx",
		Short: "Take in the answers that a keeper put into the workbook of their part",
		Long: `Take in what is answered in the workbook of a part: keep, take away or ask behind each
row; rows without an answer stay open. What is said later of a row counts. Nobody's access
changes by it: what is to be taken away goes when the review is closed. Whose part it is
takes it in, with --as where somebody does it for them; else it takes --force, and the
journal says so.`,
		Example: `  tarnwold review take winter/petra.xlsx
  tarnwold review take winter/petra.xlsx --as petra --dry-run`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			said, err := run.ReadFile(c.Context(), args[0], func(r io.Reader, file string) (*workbook.Answers, error) {
				sheets, err := workbook.Read(r, file)
				if err != nil {
					return nil, err
				}
				return workbook.Reviewed(sheets, file)
			})
			if err != nil {
				return err
			}
			k.Yes = true
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return confirm.Answered(d, said) })
		},
	}
	c.Flags().BoolVar(&k.DryRun, "dry-run", false, "show what is answered and keep nothing")
	c.Flags().BoolVar(&k.Force, "force", false, "take it in although it is somebody else's part; the journal says so")
	return c
}

func reviewClose(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use:   "close NAME",
		Short: "Close a review: one change takes away all that is to go",
		Long: `Close a review. All that was answered with take away goes, in one change that is shown
with its impact first, and whose say is that of the keepers who answered. What was kept,
asked about, answered in two ways by two keepers, or not answered stays as it is, and is
told. Undone like any change, it is open again.`,
		Example: `  tarnwold review close winter --dry-run
  tarnwold review close winter`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: (&reviewing{}).complete(a),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
				p, o.Closing, err = confirm.Close(d, args[0])
				return p, err
			})
		},
	}
	k.PlainFlags(c)
	k.LDIFFlag(c)
	return c
}
