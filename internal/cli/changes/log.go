package changes

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/undo"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func LogCommand(a *run.App) *cobra.Command {
	var where, who, actor, since string
	var proof, all bool
	c := &cobra.Command{
		Use:   "log",
		Short: "List who changed what, when, by which command",
		Long: `List who changed what, when, by which command, newest first. Times and days are
those of this machine's clock and zone. A table stops at a hundred changes and says how
many more there are; what is for programs has all of them.

--proof prints the journal's newest proof: a hash over that change and every one
before it. Kept where nobody of the estate can alter it (on paper, in a log server),
it shows with tarnwold check --head whether history was rewritten since.`,
		Example: `  tarnwold log
  tarnwold log --proof
  tarnwold log --place //stagedoor/productions/Wardrobe
  tarnwold log --account stage --since 2026-11-01
  tarnwold log show 7`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if proof {
				return proofOf(a, c)
			}
			day, err := estate.ParseDay(since)
			if err != nil {
				return run.AsUsage(err)
			}
			var kept []estate.Change
			err = a.View(c.Context(), func(t *estate.Tx) error {
				fits := []func(estate.Change) bool{}
				if day != "" {
					from := day.Begins().UTC().Format(time.RFC3339)
					fits = append(fits, func(r estate.Change) bool { return r.At >= from })
				}
				if actor != "" {
					fits = append(fits, func(r estate.Change) bool { return strings.EqualFold(r.Actor, actor) })
				}
				if where != "" {
					p, err := t.FindText(where)
					if err != nil {
						return err
					}
					fits = append(fits, func(r estate.Change) bool { return t.Altered(r.ID, p) })
				}
				if who != "" {
					id, err := t.Who(who)
					if err != nil {
						return err
					}
					ids := []estate.ID{id}
					if acc, ok := t.Account(id); ok {
						ids = t.Forms(acc)
					}
					fits = append(fits, func(r estate.Change) bool { return t.Concerns(r.ID, ids) })
				}
			records:
				for _, r := range t.Log() {
					if err := c.Context().Err(); err != nil {
						return err
					}
					for _, fit := range fits {
						if !fit(r) {
							continue records
						}
					}
					kept = append(kept, r)
				}
				return nil
			})
			if err != nil {
				return err
			}
			return changes.Log(a.Printer(), kept, all)
		},
	}
	f := c.Flags()
	f.StringVar(&where, "place", "", "only changes to this `item`")
	f.StringVar(&who, "account", "", "only changes that concern this `account`")
	f.StringVar(&actor, "actor", "", "only changes this `account` made")
	f.StringVar(&since, "since", "", "only changes from this `day` on, as 2026-11-01")
	f.BoolVar(&all, "all", false, "every change, however many")
	f.BoolVar(&proof, "proof", false, "print the newest proof instead, to be kept elsewhere")
	_ = c.RegisterFlagCompletionFunc("place", a.CompletePlaces)
	_ = c.RegisterFlagCompletionFunc("account", a.CompleteAccounts(0))
	c.AddCommand(logShow(a))
	return c
}

// proofOf prints the journal's newest proof.
func proofOf(a *run.App, c *cobra.Command) error {
	var p estate.Proof
	err := a.View(c.Context(), func(t *estate.Tx) error {
		var ok bool
		if p, ok = t.HeadProof(); !ok {
			return &estate.Refused{Why: "no change carries a proof yet", Do: "the next change gives one to every change there is"}
		}
		return t.Err()
	})
	if err != nil {
		return err
	}
	return changes.Proof(a.Printer(), p)
}

func changeNumber(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, run.Misused("%q is not the number of a change; see: tarnwold log", doc.Clip(s))
	}
	return n, nil
}

func logShow(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:     "show N",
		Short:   "Show one change: every entry that came and went, before and after",
		Example: "  tarnwold log show 7",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.CompleteChanges(func(*estate.Change) bool { return true }),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := changeNumber(args[0])
			if err != nil {
				return err
			}
			var r changes.Record
			err = a.View(c.Context(), func(t *estate.Tx) (err error) {
				if r.Change, err = t.ChangeNumbered(n); err == nil {
					r.Edits, err = undo.Described(plan.New(t, a.Who()), n)
				}
				return err
			})
			if err != nil {
				return err
			}
			return changes.WriteChange(a.Printer(), &r)
		},
	}
}

func UndoCommand(a *run.App) *cobra.Command {
	return takeBack(a, "undo", "Undo a change: every descriptor as it was, byte for byte", undo.Undo)
}

func RedoCommand(a *run.App) *cobra.Command {
	return takeBack(a, "redo", "Redo a change that was undone", undo.Redo)
}

func takeBack(a *run.App, verb, short string, do func(*plan.Planner, int64, bool) (*plan.Plan, error)) *cobra.Command {
	var k run.Keeping
	use := verb + " N"
	more := ""
	if verb == "undo" {
		use = "undo [N]"
		more = `

Without a number it takes back a change whose writing to a real server was
broken off (see tarnwold resume).`
	}
	c := &cobra.Command{
		Use:   use,
		Short: short,
		Long: short + `.

It is refused where something later builds on the change, unless --force: then
what the change itself set is taken out of what stands now, and everything below
follows. What can't be taken back is said, and nothing is done.` + more,
		Example: fmt.Sprintf("  tarnwold %s 7\n  tarnwold %s 7 --force --yes", verb, verb),
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: a.CompleteChanges(func(x *estate.Change) bool { return (x.UndoneBy != 0) == (verb == "redo") }),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 && verb == "undo" && !k.DryRun {
				err := a.TakeBackUnfinished(c.Context(), &k.Sign)
				if no := new(estate.Refused); errors.As(err, &no) && no.Why == live.NothingUnfinished {
					return run.Misused("which change? tarnwold log lists them; no change is unfinished, which is what undo takes back without a number")
				}
				return err
			}
			if len(args) == 0 {
				return run.Misused("which change? tarnwold log lists them")
			}
			n, err := changeNumber(args[0])
			if err != nil {
				return err
			}
			defer run.Sparing()()
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return do(d, n, k.Force) })
		},
	}
	k.PlainFlags(c)
	k.LDIFFlag(c)
	return c
}

func CheckCommand(a *run.App) *cobra.Command {
	var head string
	var repair bool
	c := &cobra.Command{
		Use:   "check",
		Short: "Check the whole estate file for anything wrong",
		Long: `Look at the whole estate: the database's own check, the hash of every
descriptor, every rule of how items hang together, the journal with its proofs, last
days and names. Exit code 1 says that something is wrong.

--head takes a proof that tarnwold log --proof printed once: where no change carries
it any more, history up to there was rewritten since. Without one kept elsewhere, who
owns the file can make the whole chain anew, and that isn't seen; nor do proofs say
anything of what stands outside the journal.

--repair makes anew, all of it or nothing, what follows from what is whole: the database's
indexes, what names are found by, counts of items, and the index of strands. The journal,
and what the estate says, stay as they are; what else is wrong is left, and told.`,
		Example: `  tarnwold check
  tarnwold check --repair
  tarnwold check --head 6b1c…`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			head = strings.ToLower(strings.TrimSpace(head))
			if _, err := hex.DecodeString(head); head != "" && (err != nil || len(head) != 2*sha256.Size) {
				return run.Misused("--head is %q; wanted a proof as tarnwold log --proof prints it: %d hexadecimal digits", doc.Clip(head), 2*sha256.Size)
			}
			bar := a.Progress(-1, "checking")
			defer bar.End()
			var faults []estate.Fault
			if repair {
				mended, err := repaired(a, c, bar.Say)
				bar.End()
				if err != nil {
					return err
				}
				return toldFaults(a, mended)
			}
			err := a.View(c.Context(), func(t *estate.Tx) error {
				faults = t.Check(bar.Say)
				if head != "" {
					if _, ok := t.ProofOf(head); !ok {
						faults = append(faults, estate.Fault{What: "no change carries the proof " + doc.Clip(head) + ": history was rewritten since it was printed, or it is of another estate", Do: "take the estate from a backup of that time, and compare"})
					}
				}
				return nil
			})
			bar.End()
			if cerr := c.Context().Err(); cerr != nil {
				return cerr
			}
			if err != nil && len(faults) == 0 {
				return err
			}
			return toldFaults(a, faults)
		},
	}
	c.Flags().BoolVar(&repair, "repair", false, "make anew what follows from what is whole, such as indexes and counts")
	c.Flags().StringVar(&head, "head", "", "a `proof` that was printed once: was history rewritten since?")
	c.MarkFlagsMutuallyExclusive("repair", "head")
	return c
}

// toldFaults prints what is wrong; where something is still, the answer is no.
func toldFaults(a *run.App, faults []estate.Fault) error {
	if err := changes.Faults(a.Printer(), a.EstatePath, faults); err != nil {
		return err
	}
	if slices.ContainsFunc(faults, func(f estate.Fault) bool { return !f.Repaired }) {
		return run.ErrNo
	}
	return nil
}

// repaired looks at an estate, makes anew what can be, and looks again: what is gone then was
// repaired, and what has come of it is told as well.
func repaired(a *run.App, c *cobra.Command, step func(string)) (out []estate.Fault, err error) {
	ctx := c.Context()
	e, done, err := a.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	check := func() (found []estate.Fault, err error) {
		err = e.View(ctx, func(t *estate.Tx) error {
			found = t.Check(step)
			return nil
		})
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil && len(found) == 0 {
			return nil, err
		}
		return found, nil
	}
	before, err := check()
	if err != nil || len(before) == 0 {
		return nil, err
	}
	step("repairing")
	if err := e.Repair(ctx); err != nil {
		return nil, fmt.Errorf("nothing was repaired: %w", err)
	}
	after, err := check()
	if err != nil {
		return nil, err
	}
	for _, f := range before {
		if f.Repaired = !slices.ContainsFunc(after, func(o estate.Fault) bool { return o.What == f.What }); f.Repaired {
			out = append(out, f)
		}
	}
	return append(out, after...), nil
}
