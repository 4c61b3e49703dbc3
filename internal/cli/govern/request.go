package govern

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func RequestCommand(a *run.App) *cobra.Command {
	var why, until string
	c := &cobra.Command{
		Use:   "request WHO LEVEL WHERE",
		Short: "Ask for access, and decide about what is asked for",
		Long: `Ask for a level on an item for one person, or several joined by commas. Nothing
is opened by asking. The same asked again is the same request; somebody else who
asks for it comes onto it. --as says who asks, where that is another than the one
who gets it.`,
		Example: `  tarnwold request petra read "//stagedoor/productions/Box Office/Ledgers" --why "the audit in March" --until 2027-03-31
  tarnwold request list
  tarnwold request show 1
  tarnwold request accept 1
  tarnwold request refuse 1 --why "ask the box office for a copy"`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			return cobra.ExactArgs(3)(c, args)
		},
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User), a.CompleteLevels, a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			day, err := estate.ParseDay(until)
			if err != nil {
				return run.AsUsage(err)
			}
			if strings.TrimSpace(why) == "" {
				return run.Misused("a request has a reason: --why TEXT")
			}
			return a.PreviewAndCommit(c, run.Keeping{}, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
				p, o.Request, err = request.Ask(d, strings.Split(args[0], ","), args[1], args[2], why, day)
				return p, err
			})
		},
	}
	c.Flags().StringVar(&why, "why", "", "what it is needed for, in a `sentence`")
	c.Flags().StringVar(&until, "until", "", "the last `day` it is needed, as 2027-03-31")
	c.AddCommand(requestList(a), requestShow(a), requestAccept(a), requestSettle(a, request.Refused), requestSettle(a, request.Withdrawn))
	return c
}

func requestNumber(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, run.Misused("%q is not the number of a request; see: tarnwold request list", doc.Clip(s))
	}
	return n, nil
}

// age reads a time as 3d, 36h or 90m.
func age(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 && n < 100_000 {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 {
		return 0, run.Misused("%q is not a length of time; write 3d, 36h or 90m", doc.Clip(s))
	}
	return d, nil
}

func requestList(a *run.App) *cobra.Command {
	var all bool
	var keeper, due string
	c := &cobra.Command{
		Use:   "list",
		Short: "List the requests that are open",
		Long: `List the requests that are open, oldest first. --for lists only those an account
may decide: it keeps the place, or a group that is named there. --due lists only
those waiting longer than a time; exit code 1 says that there are any.`,
		Example: `  tarnwold request list
  tarnwold request list --for ines
  tarnwold request list --due 3d --format json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var longer time.Duration
			if due != "" {
				var err error
				if longer, err = age(due); err != nil {
					return err
				}
				longer = max(longer, 1)
			}
			var out []request.Asked
			err := a.View(c.Context(), func(t *estate.Tx) (err error) {
				out, err = request.Requested(plan.New(t, a.Who()), all, keeper, longer)
				return err
			})
			if err != nil {
				return err
			}
			if err := changes.Requests(a.Printer(), out, all); err != nil {
				return err
			}
			if due != "" && len(out) > 0 {
				return run.ErrNo
			}
			return nil
		},
	}
	c.Flags().BoolVar(&all, "all", false, "those accepted, refused and withdrawn too")
	c.Flags().StringVar(&keeper, "for", "", "only those this `account` may decide")
	c.Flags().StringVar(&due, "due", "", "only those waiting longer than this `time`: 3d, 36h")
	c.MarkFlagsMutuallyExclusive("all", "due")
	_ = c.RegisterFlagCompletionFunc("for", a.CompleteAccounts(0))
	return c
}

// lookAt opens the estate and looks at a request.
func lookAt(a *run.App, c *cobra.Command, text string) (*request.Asked, error) {
	n, err := requestNumber(text)
	if err != nil {
		return nil, err
	}
	e, done, err := a.Open(c.Context())
	if err != nil {
		return nil, err
	}
	defer done()
	bar := a.Progress(-1, "looking for what would give it")
	defer bar.End()
	return request.LookAt(c.Context(), e, a.Who(), n, bar.Say)
}

func requestShow(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "show N",
		Short: "Show a request: what they have, why not more, and what would give it",
		Long: `Show a request: what its people have there, why not more, and the changes that
would give them what they ask for, each with all else it opens, the least first.`,
		Example: "  tarnwold request show 1", Args: cobra.ExactArgs(1), ValidArgsFunction: completeRequests(a, false),
		RunE: func(c *cobra.Command, args []string) error {
			got, err := lookAt(a, c, args[0])
			if err != nil {
				return err
			}
			return changes.Request(a.Printer(), got)
		},
	}
}

func requestAccept(a *run.App) *cobra.Command {
	var k run.Keeping
	var by string
	c := &cobra.Command{
		Use:   "accept N",
		Short: "Give what a request asks for, in one change",
		Long: `Give what a request asks for, in one change: by the way that opens least else, or
by another one that request show lists: --by 'join GROUP', 'leave GROUP', entry,
revoke, or its number in that list.`,
		Example: `  tarnwold request accept 1
  tarnwold request accept 1 --by 'join foyer'
  tarnwold request accept 1 --by entry --yes`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: completeRequests(a, true),
		RunE: func(c *cobra.Command, args []string) error {
			got, err := lookAt(a, c, args[0])
			if err != nil {
				return err
			}
			m, err := got.Chosen(by)
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				p, err := request.Accept(d, got.Number, m)
				if err == nil && by == "" && m != nil {
					for _, o := range got.Others(m) {
						p.Advice = append(p.Advice, plan.Advice{Kind: "other-way", Other: o.Name, Text: o.Text})
					}
				}
				return p, err
			})
		},
	}
	k.PlainFlags(c)
	k.LDIFFlag(c)
	c.Flags().StringVar(&by, "by", "", "by which `way`: join GROUP, leave GROUP, entry, revoke, or its number")
	return c
}

func requestSettle(a *run.App, state string) *cobra.Command {
	var k run.Keeping
	var why string
	c := &cobra.Command{
		Use: "refuse N", Short: "Refuse a request, saying why",
		Example: `  tarnwold request refuse 1 --why "ask the box office for a copy"`,
		Args:    cobra.ExactArgs(1), ValidArgsFunction: completeRequests(a, true),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := requestNumber(args[0])
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return request.Settle(d, n, state, why) })
		},
	}
	k.PlainFlags(c)
	c.Flags().StringVar(&why, "why", "", "the reason, in a `sentence`")
	if state == request.Withdrawn {
		c.Use, c.Short, c.Example = "withdraw N", "Take a request back", "  tarnwold request withdraw 1"
	} else {
		_ = c.MarkFlagRequired("why")
	}
	return c
}

// completeRequests offers requests by their numbers; only those that wait, or all.
func completeRequests(a *run.App, open bool) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(c *cobra.Command, args []string, begun string) (out []string, _ cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		_ = a.View(c.Context(), func(t *estate.Tx) error {
			list, err := request.Requests(t)
			for _, r := range list {
				var who []string
				for _, x := range r.Who {
					who = append(who, x.Name)
				}
				if !open || r.State == request.Open {
					out = append(out, fmt.Sprintf("%d\t%s", r.Number, doc.Clean(doc.Clip(strings.Join(who, ", ")+" "+r.Level+" "+r.Place))))
				}
			}
			return err
		})
		return run.Fitting(out, begun), cobra.ShellCompDirectiveNoFileComp
	}
}
