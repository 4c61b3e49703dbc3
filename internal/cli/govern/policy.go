package govern

import (
	"context"
	"io"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/policy"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/report/changes"
)

func PolicyCommand(a *run.App) *cobra.Command {
	return run.Holder("policy", "Apply rules from a file to places, and take them off again",
		`  tarnwold policy check wardrobe.policy --on //stagedoor/productions
  tarnwold policy lay wardrobe.policy --on //stagedoor/productions
  tarnwold policy drift
  tarnwold policy lift wardrobe-season`,
		policyCheck(a), policyLay(a), policyList(a), policyShow(a), policyDrift(a), policyLift(a))
}

const policyForm = `
  policy wardrobe-season
  because the guest designers need the workshop until the tour ends
  at Wardrobe
    sealed keep
    allow acc-wardrobe-edit edit tree
    allow design-guests add below until 2027-03-31
    only deny volunteers full tree
  expect
    maud can add Wardrobe/Sketches

Places are relative to where it is laid (--on), or whole addresses. "sealed keep"
stops what comes from above and keeps a copy, "sealed clear" keeps none; "owner
WHO" hands it on; entries come as grant and deny set them; "only" before one
takes away what else is set there for that account.`

func readPolicy(ctx context.Context, file string) (*policy.Policy, error) {
	return run.ReadFile(ctx, file, func(r io.Reader, f string) (*policy.Policy, error) { return policy.Read(r, f) })
}

func onFlag(a *run.App, c *cobra.Command, on *[]string, what string) {
	c.Flags().StringArrayVar(on, "on", nil, what)
	_ = c.RegisterFlagCompletionFunc("on", a.CompletePlaces)
}

func policyLay(a *run.App) *cobra.Command {
	var k run.Keeping
	var on []string
	c := &cobra.Command{
		Use:   "lay FILE",
		Short: "Lay a policy on places: one change, one impact, one confirmation",
		Long: `Lay a policy on places. What it expects is asked of the outcome before it is
kept. Laid again, with another text or on more places, the difference is laid.
` + policyForm,
		Example: `  tarnwold policy lay wardrobe.policy --on //stagedoor/productions --dry-run
  tarnwold policy lay wardrobe.policy --on //stagedoor/productions --on //flyloft/programme --yes`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			pol, err := readPolicy(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
				p, o.Expects, err = policies.LayPolicy(d, pol, on)
				return p, err
			})
		},
	}
	k.Flags(c)
	onFlag(a, c, &on, "the `place` its relative places are relative to; several times for several")
	return c
}

func policyCheck(a *run.App) *cobra.Command {
	var on []string
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Read a policy, and with --on say what laying it would do, keeping nothing",
		Long: `Read a policy and say what is in it; a mistake is told with its line and column.
With --on its names and places are looked up too, and what it expects is asked of
the outcome; exit code 1 says that a guard or an expectation speaks against it.
` + policyForm,
		Example: `  tarnwold policy check wardrobe.policy
  tarnwold policy check wardrobe.policy --on //stagedoor/productions`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			pol, err := readPolicy(c.Context(), args[0])
			if err != nil {
				return err
			}
			if len(on) == 0 {
				return changes.PolicyRead(a.Printer(), pol)
			}
			var o *changes.Outcome
			err = a.PreviewAndCommit(c, run.Keeping{DryRun: true, Model: true}, func(d *plan.Planner, out *changes.Outcome) (p *plan.Plan, err error) {
				o = out
				p, o.Expects, err = policies.LayPolicy(d, pol, on)
				return p, err
			})
			if err == nil && len(o.Warnings) > 0 {
				return run.ErrNo
			}
			return err
		},
	}
	onFlag(a, c, &on, "look at what laying it on this `place` would do; several times for several")
	return c
}

func policyList(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the policies that are laid", Example: "  tarnwold policy list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var out []policies.PolicyStands
			err := a.View(c.Context(), func(t *estate.Tx) error {
				all, err := policies.Policies(t)
				d := plan.New(t, a.Who())
				for i := range all {
					out = append(out, policies.StandsOf(d, &all[i]))
				}
				return err
			})
			if err != nil {
				return err
			}
			return changes.Policies(a.Printer(), out)
		},
	}
}

func policyShow(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a laid policy: where, since when, by whom, and its text",
		Example: "  tarnwold policy show wardrobe-season", Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompletePolicies,
		RunE: func(c *cobra.Command, args []string) error {
			var out policies.PolicyStands
			err := a.View(c.Context(), func(t *estate.Tx) error {
				p, err := policies.Policy(t, args[0])
				if err == nil {
					out = policies.StandsOf(plan.New(t, a.Who()), p)
				}
				return err
			})
			if err != nil {
				return err
			}
			return changes.Policy(a.Printer(), &out)
		},
	}
}

// drifts asks of laid policies what is otherwise; names none: of all.
func drifts(t *estate.Tx, who string, names []string) (out []*policies.PolicyDrift, err error) {
	var list []policies.LaidPolicy
	if len(names) == 0 {
		if list, err = policies.Policies(t); err != nil {
			return nil, err
		}
	}
	for _, n := range names {
		p, err := policies.Policy(t, n)
		if err != nil {
			return nil, err
		}
		list = append(list, *p)
	}
	d := plan.New(t, who)
	x := expect.NewExpecting(ask.New(t))
	for i := range list {
		f, err := policies.DriftOf(d, &list[i], x.Expect)
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

func policyDrift(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "drift [NAME]",
		Short: "Show what differs from what laid policies want, and by which change",
		Long: `Show what differs in the estate from what laid policies want, and by which
change. For a real server, scan it first. Exit code 1 says that something is.`,
		Example: `  tarnwold policy drift
  tarnwold policy drift wardrobe-season`,
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.CompletePolicies,
		RunE: func(c *cobra.Command, args []string) error {
			var out []*policies.PolicyDrift
			err := a.View(c.Context(), func(t *estate.Tx) (err error) {
				out, err = drifts(t, a.Who(), args)
				return err
			})
			if err != nil {
				return err
			}
			if err := changes.PolicyDrifts(a.Printer(), out); err != nil {
				return err
			}
			for _, f := range out {
				if len(f.Lines)+len(f.Unmet) > 0 {
					return run.ErrNo
				}
			}
			return nil
		},
	}
}

func policyLift(a *run.App) *cobra.Command {
	var k run.Keeping
	var on []string
	c := &cobra.Command{
		Use:   "lift NAME",
		Short: "Take a policy off again: what it set goes, what it replaced comes back",
		Long: `Take a policy off the places it is laid on, or only off those below --on. What it
set goes and what it replaced comes back, as far as nothing later builds on it;
what is left is told.`,
		Example: `  tarnwold policy lift wardrobe-season
  tarnwold policy lift wardrobe-season --on //flyloft/programme --yes`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompletePolicies,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return policies.LiftPolicy(d, args[0], on)
			})
		},
	}
	k.Flags(c)
	onFlag(a, c, &on, "only off this `place`; several times for several")
	return c
}
