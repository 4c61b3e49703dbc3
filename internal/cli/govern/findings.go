package govern

import (
	"context"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/place"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/exception"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func FindingsCommand(a *run.App) *cobra.Command {
	var kinds, mend []string
	var since, except string
	var all, summary, try, too bool
	var top int
	var k run.Keeping
	c := &cobra.Command{
		Use:   "findings [WHERE]",
		Short: "Find what is probably wrong, everywhere or at and below a place",
		Long: `Look at everything, or at a place and all below it, and tell what is probably
wrong: how much it touches, why it matters, and the command that mends it. Kinds:
` + wrapped(findings.FindingKinds()) + `

--mend KIND makes one change of all mends of that kind that change nobody's
access, and shows the others; with --access-too of those too that change somebody's,
whose is shown first. --since DAY tells only what is new since then;
--except FILE passes over what is meant so, one a line:

  except KIND WHAT… [until DAY] because REASON

WHAT are accounts and places it is about; a place means all below it too; * stands
for any kind. Each mend that a table shows is tried in an estate that is thrown away, and
whose access it changes is said; of more than 20,000 items, and in other formats, with --try.
Groups, levels and last days are looked at only where no place is
named. Exit code 1 says that anything is left.`,
		Example: `  tarnwold findings --summary
  tarnwold findings --top 3
  tarnwold findings
  tarnwold findings //stagedoor/productions --kind stale --kind single-user
  tarnwold findings --kind open-to-everyone --try
  tarnwold findings --mend idle-entry,stale --dry-run
  tarnwold findings --since 2026-11-01 --except house.except -o findings.xml`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			where := ""
			if len(args) == 1 {
				where = args[0]
			}
			day, err := estate.ParseDay(since)
			if err != nil {
				return run.AsUsage(err)
			}
			list, err := readExceptions(c.Context(), except)
			if err != nil {
				return err
			}
			if c.Flags().Changed("top") && top < 1 {
				return run.Misused("--top %d: wanted a number of findings, 1 or more", top)
			}
			if too && len(mend) == 0 {
				return run.Misused("--access-too goes with --mend")
			}
			if len(mend) > 0 {
				if len(kinds) > 0 || since != "" {
					return run.Misused("--mend names the kinds that are mended; leave --kind and --since out")
				}
				return mendFindings(a, c, k, where, mend, list, too)
			}
			out, err := showFindings(a, c.Context(), where, kinds, day)
			if err != nil {
				return err
			}
			x := &report.Findings{Since: string(day), All: all}
			var ways func(string) []string
			if len(list) > 0 {
				if err := a.View(c.Context(), func(t *estate.Tx) error { ways = waysTo(t); return t.Err() }); err != nil {
					return err
				}
			}
			x.List, x.Meant = excepted(list, out, ways)
			x.Unused = list.Unused()
			if top > 0 {
				x.Top(top)
			}
			if !c.Flags().Changed("try") && !summary {
				if try, err = triedUnasked(a, c.Context()); err != nil {
					return err
				}
			}
			if x.Tried = try; try {
				if err := tryMends(a, c.Context(), x); err != nil {
					return err
				}
			}
			p := a.Printer()
			a.Supposes(p)
			if err := a.View(c.Context(), func(t *estate.Tx) error { p.WhoIs = a.WhoIs(ask.New(t)); return t.Err() }); err != nil {
				return err
			}
			a.File.Says = x.Head()
			write := report.WriteFindings
			if summary {
				write = report.FindingsSummary
			}
			if err := write(p, x); err != nil {
				return err
			}
			if len(x.List) > 0 {
				return run.ErrNo
			}
			return nil
		},
	}
	k.PlainFlags(c)
	k.LDIFFlag(c)
	f := c.Flags()
	f.StringSliceVar(&kinds, "kind", nil, "only findings of this `kind`; may be given again")
	f.StringSliceVar(&mend, "mend", nil, "mend findings of this `kind`, where that changes nobody's access; may be given again")
	f.BoolVar(&too, "access-too", false, "mend what changes somebody's access too; who gains and loses is shown first")
	f.StringVar(&since, "since", "", "only what is new since the beginning of this `day`, as 2026-11-01")
	f.BoolVar(&all, "all", false, "every finding, however many")
	f.BoolVar(&try, "try", false, "try each mend that is shown, and say whose access it changes; a table of a small estate does unasked")
	f.BoolVar(&summary, "summary", false, "one line a kind, with counts, for a first look")
	f.IntVar(&top, "top", 0, "only the `N` most telling: of each of the gravest kinds the one that touches the most, then the next of each")
	for _, other := range []string{"all", "summary", "mend"} {
		c.MarkFlagsMutuallyExclusive("top", other)
	}
	c.MarkFlagsMutuallyExclusive("all", "summary")
	c.MarkFlagsMutuallyExclusive("mend", "summary")
	c.MarkFlagsMutuallyExclusive("mend", "try")
	c.MarkFlagsMutuallyExclusive("summary", "try")
	exceptFlag(c, &except)
	fixed := cobra.FixedCompletions(findings.FindingKinds(), cobra.ShellCompDirectiveNoFileComp)
	_ = c.RegisterFlagCompletionFunc("kind", fixed)
	_ = c.RegisterFlagCompletionFunc("mend", fixed)
	return c
}

// fewItems is how large an estate may be for mends to be tried unasked: each takes as long
// as a dry run.
const fewItems = 20_000

// triedUnasked tells whether the mends that a table shows are tried without being asked for.
func triedUnasked(a *run.App, ctx context.Context) (few bool, err error) {
	if a.Format != doc.Table {
		return false, nil
	}
	err = a.View(ctx, func(t *estate.Tx) error {
		few = t.AtMost(fewItems)
		return t.Err()
	})
	return few, err
}

// tryMends tries the mends that are shown: in a table the first of each kind.
func tryMends(a *run.App, ctx context.Context, x *report.Findings) error {
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	all := x.All || a.Format != doc.Table
	total := 0
	_ = x.Shown(all, func(*findings.Finding) error { total++; return nil })
	bar := a.Progress(total, "trying mends")
	defer bar.End()
	n := 0
	return a.Supposed(ctx, e, func(e *estate.Estate) error {
		return x.Shown(all, func(f *findings.Finding) (err error) {
			f.Tried, err = a.Trial(ctx, e, f.Commands)
			n++
			bar.Set(n)
			return err
		})
	})
}

// wrapped puts words into lines of a help text.
func wrapped(words []string) string {
	var b strings.Builder
	n := 0
	for i, w := range words {
		if i < len(words)-1 {
			w += ","
		}
		if n > 0 && n+len(w) > 78 {
			b.WriteString("\n")
			n = 0
		} else if n > 0 {
			b.WriteString(" ")
			n++
		}
		b.WriteString(w)
		n += len(w)
	}
	return b.String() + "."
}

// excepted leaves out what is meant so. A place may be named by any way to it.
func excepted(list exception.List, out []findings.Finding, ways func(string) []string) ([]findings.Finding, int) {
	return exception.Split(list, out, string(estate.Today()), func(f *findings.Finding) (string, []string) {
		about := []string{f.Where, f.Who, f.Other, strings.TrimPrefix(f.Where, "group "), strings.TrimPrefix(f.Where, "share "), strings.TrimPrefix(f.Where, "level ")}
		if len(list) > 0 {
			about = append(about, ways(f.Where)...)
		}
		return f.Kind, about
	})
}

// waysTo gives what else a place is called by: through each share over it, and at its
// server.
func waysTo(t *estate.Tx) func(where string) []string {
	shares := map[string][]estate.Share{}
	for _, s := range t.Servers() {
		shares[strings.ToLower(s.Name)] = t.Shares(s)
	}
	return func(where string) (out []string) {
		at, err := place.ParsePlain(strings.TrimPrefix(where, "share "))
		if err != nil {
			return nil
		}
		path := at.Path
		for _, sh := range shares[strings.ToLower(at.Server)] {
			if at.Share != "" && strings.EqualFold(sh.Name, at.Share) {
				path = place.Join(sh.Folder, at.Path)
			}
		}
		if at.Share != "" {
			out = append(out, at.Server+":"+path)
		}
		for _, sh := range shares[strings.ToLower(at.Server)] {
			if rest, ok := sh.Cut(path); ok {
				out = append(out, strings.TrimSuffix("//"+at.Server+"/"+sh.Name+"/"+rest, "/"))
			}
		}
		return out
	}
}

func findingsOf(ctx context.Context, e *estate.Estate, where string, kinds []string, step func(string)) (out []findings.Finding, err error) {
	err = e.View(ctx, func(t *estate.Tx) (err error) {
		d := plan.New(t, "")
		d.Progress = step
		out, err = review.Findings(d, where, kinds)
		return err
	})
	return out, err
}

// showFindings looks for what is probably wrong; since a day, only what is new.
func showFindings(a *run.App, ctx context.Context, where string, kinds []string, since estate.Day) (out []findings.Finding, err error) {
	e, done, err := a.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	bar := a.Progress(-1, "looking at everything")
	defer bar.End()
	defer run.Sparing()()
	err = a.Supposed(ctx, e, func(e *estate.Estate) error {
		out, err = findingsOf(ctx, e, where, kinds, bar.Say)
		return err
	})
	if err != nil || since == "" {
		return out, err
	}
	var was []findings.Finding
	err = e.Private(ctx, func(p *estate.Estate) error {
		begun, err := intake.RewindTo(ctx, p, since.Begins().UTC().Format(time.RFC3339))
		if err != nil || !begun {
			return err
		}
		bar.Say("looking at how it was")
		was, err = findingsOf(ctx, p, "", kinds, bar.Say)
		return err
	})
	return newSince(out, was), err
}

// newSince lists what wasn't found before.
func newSince(now, was []findings.Finding) []findings.Finding {
	before := map[string]bool{}
	for i := range was {
		before[was[i].Key()] = true
	}
	out := []findings.Finding{}
	for i := range now {
		if !before[now[i].Key()] {
			out = append(out, now[i])
		}
	}
	return out
}

// mendFindings makes one change of the mends that change nobody's access, or of all there are.
func mendFindings(a *run.App, c *cobra.Command, k run.Keeping, where string, kinds []string, list exception.List, all bool) error {
	var left []findings.Finding
	err := a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
		found, err := review.Findings(d, where, kinds)
		if err != nil {
			return nil, err
		}
		found, _ = excepted(list, found, waysTo(d.T))
		p, left, err = review.MendFindings(d, found, all)
		o.Unmended = left
		return p, err
	})
	if err == nil && len(left) > 0 {
		return run.ErrNo
	}
	return err
}
