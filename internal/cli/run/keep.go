package run

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/plan/saved"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/store"
)

// Keeping are the flags of every command that can change somebody's access.
type Keeping struct {
	DryRun, Yes, Force bool
	partly             bool // what can't be written on a real server is left out
	lose               int  // how many hundredths may be gone when something is taken in; -1: as usual
	save               string
	ldif               string // what is to be done in directories is written down there, and not done
	Model              bool   // in the estate alone, whatever real server it is linked to
	Sign               Signing
}

// Flags adds those of a command whose change can be saved for later too.
func (k *Keeping) Flags(c *cobra.Command) {
	k.PlainFlags(c)
	c.Flags().StringVar(&k.save, "save", "", "write the change set to this `file` instead, for: tarnwold apply")
	k.LDIFFlag(c)
	c.MarkFlagsMutuallyExclusive("save", "ldif")
}

// LDIFFlag is of commands that may change who is in a directory's groups.
func (k *Keeping) LDIFFlag(c *cobra.Command) {
	c.Flags().StringVar(&k.ldif, "ldif", "", "write what is to be changed in a directory to this `file` as LDIF changes, and keep the rest")
}

func (k *Keeping) PlainFlags(c *cobra.Command) {
	c.Flags().BoolVar(&k.DryRun, "dry-run", false, "show what would change and keep nothing")
	c.Flags().BoolVar(&k.Yes, "yes", false, "keep the change without asking")
	c.Flags().BoolVar(&k.Force, "force", false, "keep it although a guard warns; the journal says so")
	c.Flags().BoolVar(&k.Model, "model-only", false, "change the estate alone, and no real server or directory")
	c.Flags().BoolVar(&k.partly, "partly", false, "leave out what a real server doesn't let be written, and keep the rest")
	k.Sign.Flags(c)
}

// LoseFlag is of commands that take in what is kept elsewhere.
func (k *Keeping) LoseFlag(c *cobra.Command) {
	c.Flags().IntVar(&k.lose, "may-lose", -1, "how many percent of the people, groups, shares or items may be gone at once, `N` (default 10); more takes --force")
}

// Build works out a plan, and may tell more of it in the outcome.
type Build func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error)

// A plan is worked out anew where somebody else changed the estate in between
// and nobody was shown it: so often at least, and for so long.
const (
	tries    = 6
	patience = 5 * time.Second
)

// again tells whether a plan is to be worked out once more, and lets others
// pass first.
func again(ctx context.Context, try int, since time.Time) bool {
	if ctx.Err() != nil || try >= tries && time.Since(since) > patience {
		return false
	}
	wait := time.NewTimer(rand.N(time.Duration(min(try, 20)) * 5 * time.Millisecond))
	defer wait.Stop()
	select {
	case <-ctx.Done():
	case <-wait.C:
	}
	return true
}

// PreviewAndCommit works a plan out, shows it with its impact, asks where someone is
// there to be asked, and keeps it whole or not at all. What is kept is kept
// before it is printed, so that it doesn't hang on whether somebody reads.
func (a *App) PreviewAndCommit(c *cobra.Command, k Keeping, fn Build) error {
	ctx := c.Context()
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	if a.Inner != nil {
		var p *plan.Plan
		err := e.View(ctx, func(t *estate.Tx) (err error) {
			build := func(d *plan.Planner) (*plan.Plan, error) { return fn(d, &changes.Outcome{}) }
			if d := plan.New(t, a.Who()); a.made != nil { // it is looked at
				p, err = d.Make(build)
			} else {
				p, err = build(d)
			}
			return err
		})
		if err != nil {
			return err
		}
		if a.made != nil && !a.made(p) {
			return nil
		}
		return a.keepSupposed(ctx, p)
	}
	began := time.Now()
	for try := 1; ; try++ {
		o := &changes.Outcome{DryRun: k.DryRun}
		var text, put []byte
		var relied []policies.Relied
		bar := a.Progress(-1, "working it out")
		err := e.View(ctx, func(t *estate.Tx) error {
			d := plan.New(t, a.Who())
			d.Progress = bar.Say
			if f := c.Flags().Lookup("may-lose"); f != nil && f.Changed {
				d.MayLose(k.lose)
			}
			build := func(d *plan.Planner) (*plan.Plan, error) {
				d.Apart = k.ldif != ""
				if d.Keeping() {
					return fn(d, &changes.Outcome{})
				}
				*o = changes.Outcome{DryRun: k.DryRun}
				return fn(d, o)
			}
			var p *plan.Plan
			var err error
			if k.save == "" && !t.ReachesOut() {
				p, err = d.Make(build)
			} else { // it is written out whole
				p, err = build(d)
			}
			if err != nil {
				return err
			}
			o.Plan = p
			if p.Changes() && !p.IsSo && p.Laid > 0 {
				if relied, err = holding(t); err != nil {
					return err
				}
			}
			if !k.Model {
				if put, err = outbound(d, p, o, Command(a.Shown)); err != nil {
					return err
				}
			}
			if k.save != "" && p.Changes() {
				text, err = saved.Save(d, p, Command(a.Shown))
			}
			return err
		})
		if err == nil && o.Changes() && len(o.Expects)+len(relied) > 0 {
			bar.Say("asking what is expected of it")
			err = a.askOutcome(ctx, e, o, relied)
		}
		if err == nil && len(o.Outbound) > 0 {
			bar.Say("looking at the server")
			err = a.foretell(ctx, e, &k, o)
		}
		bar.End()
		if errors.Is(err, estate.ErrMoved) && again(ctx, try, began) {
			continue
		}
		if err != nil {
			return err
		}
		p := o.Plan
		if k.ldif == "" && !k.DryRun {
			if err := p.InDirectory(); err != nil {
				return err
			}
		}
		stops := p.Changes() && slices.ContainsFunc(p.Warnings, func(w plan.Warning) bool {
			return p.Stops(w) && (k.save == "" || w.Guard != "may-not") // who applies it is asked then
		})
		o.Forced = k.Force && stops
		o.Refused = stops && !k.Force && !k.DryRun
		out := a.Printer()
		switch {
		case !p.Changes() && len(p.ToDo) > 0 && !k.DryRun:
			if err := a.writeLDIF(ctx, &k, o); err != nil {
				return err
			}
			return changes.WriteOutcome(out, o)
		case !p.Changes(), k.DryRun:
			return changes.WriteOutcome(out, o)
		case o.Refused:
			if err := changes.WriteOutcome(out, o); err != nil && !errors.Is(err, syscall.EPIPE) {
				return err
			}
			return &guarded{p.Warnings}
		case k.save != "":
			if err := writeNew(k.save, text); err != nil {
				return err
			}
			o.Saved = k.save
			return changes.WriteOutcome(out, o)
		case p.Asks && !k.Yes && !a.Asks:
			return Misused("there is no terminal to ask at: add --yes to keep the change, or --dry-run to look at it")
		case p.Asks && !k.Yes:
			return a.confirmAndCommit(ctx, e, &k, o, put)
		}
		o.Kept, err = a.keepAndWrite(ctx, e, &k, o, put)
		if errors.Is(err, estate.ErrMoved) && again(ctx, try, began) {
			continue
		}
		if err != nil {
			return err
		}
		return unsaid(o, changes.WriteOutcome(out, o))
	}
}

// unsaid says of a change that it was kept, where what was printed of it didn't
// come through. Who reads no further than they like is told nothing more.
func unsaid(o *changes.Outcome, err error) error {
	if err == nil || o.Kept == 0 || errors.Is(err, syscall.EPIPE) {
		return err
	}
	return fmt.Errorf("kept as change %d, but what there is to say of it could not be printed: %w", o.Kept, err)
}

// holding lists what laid policies expect and holds: what doesn't anyway a change needn't answer for.
func holding(t *estate.Tx) (out []policies.Relied, err error) {
	all, err := policies.ReliedOn(t)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	x := expect.NewExpecting(ask.New(t))
	for i := range all {
		got, err := x.Expect(&all[i].Expectation)
		if err != nil {
			return nil, err
		}
		if got.Holds && got.Error == "" {
			out = append(out, all[i])
		}
	}
	return out, nil
}

// askOutcome keeps a plan where nobody sees it, and asks there what is expected of it, and
// what laid policies rely on; what isn't met is a guard's warning.
func (a *App) askOutcome(ctx context.Context, e *estate.Estate, o *changes.Outcome, relied []policies.Relied) error {
	return e.Private(ctx, func(then *estate.Estate) error {
		if _, err := then.Change(ctx, o.Meta("outcome"), o.Keep); err != nil {
			return err
		}
		return then.View(ctx, func(t *estate.Tx) error {
			x := expect.NewExpecting(ask.New(t))
			for i := range o.Expects {
				got, err := x.Expect(&o.Expects[i])
				if err != nil {
					return err
				}
				o.Expected = append(o.Expected, got)
				if got.Error != "" {
					return &format.Error{File: got.File, Line: got.Line, What: got.Error}
				}
				if !got.Holds {
					o.Warnings = append(o.Warnings, plan.Warning{Guard: "expectation", Who: got.Text, Where: report.Against(got)})
				}
			}
			return unmet(t, x, o, relied)
		})
	})
}

// unmet warns of what laid policies rely on and wouldn't hold any more, of those that
// would still be laid as they are.
func unmet(t *estate.Tx, x *expect.Expecting, o *changes.Outcome, relied []policies.Relied) error {
	if len(relied) == 0 {
		return nil
	}
	still, err := policies.ReliedOn(t)
	if err != nil {
		return err
	}
	key := func(r *policies.Relied) string { return r.Policy + "\x00" + r.Where + "\x00" + r.Text }
	laid := map[string]bool{}
	for _, r := range still {
		laid[key(&r)] = true
	}
	for i := range relied {
		r := &relied[i]
		if !laid[key(r)] || slices.ContainsFunc(o.Expects, func(e expect.Expectation) bool { return e.Text == r.Text }) {
			continue
		}
		got, err := x.Expect(&r.Expectation)
		if err != nil {
			return err
		}
		if !got.Holds {
			o.Warnings = append(o.Warnings, plan.Warning{Guard: "expectation", Who: fmt.Sprintf("%s (policy %s)", got.Text, r.Policy), Where: report.Against(got)})
		}
	}
	return nil
}

// confirmAndCommit shows a plan, asks, and keeps it if nothing came in between.
func (a *App) confirmAndCommit(ctx context.Context, e *estate.Estate, k *Keeping, o *changes.Outcome, put []byte) error {
	out := a.Printer()
	if out.Format == doc.Table {
		changes.Preview(out, o)
	} else if err := changes.WriteOutcome(out, o); err != nil {
		return err
	}
	if out.Err() != nil { // who can't see it can't say yes to it
		return out.Err()
	}
	yes, err := a.yes(ctx, "Keep this change? [y/N] ")
	if err != nil {
		return err
	}
	if !yes {
		out.Line(doc.S("Nothing was kept."))
		return ErrNo
	}
	if o.Kept, err = a.keepAndWrite(ctx, e, k, o, put); err != nil {
		return err
	}
	changes.Became(out, o)
	return unsaid(o, out.Err())
}

// yes asks a person, who may also end it with Ctrl-C, at once.
func (a *App) yes(ctx context.Context, question string) (bool, error) {
	fmt.Fprint(a.Err, question)
	line, _ := Typed(ctx, bufio.NewReader(a.In)) // what can't be read is no yes
	if ctx.Err() != nil {
		fmt.Fprintln(a.Err)
		return false, store.ErrStopped
	}
	line = strings.ToLower(strings.TrimSpace(line))
	return line == "y" || line == "yes", nil
}

// Typed reads a line, or ends with its context: who waits at a terminal may press Ctrl-C.
func Typed(ctx context.Context, in *bufio.Reader) (string, error) {
	type got struct {
		line string
		err  error
	}
	c := make(chan got, 1)
	go func() {
		line, err := in.ReadString('\n')
		c <- got{line, err}
	}()
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case g := <-c:
		return g.line, g.err
	}
}

func writeNew(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return Misused("%s already exists, and is not overwritten; name another file", path)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		os.Remove(path)
	}
	return err
}
