package load

import (
	"context"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/place"
	"tarnwold/internal/ask"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/format/trail"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func TrailCommand(a *run.App) *cobra.Command {
	var q intake.TrailQuestion
	var since string
	var all bool
	c := &cobra.Command{
		Use:   "trail [WHO] [WHERE]",
		Short: "Show who tried what, as servers logged it, and why it was refused",
		Long: `Show who tried what and how often, as the servers logged it (tarnwold trail
load), most first: everybody or one user or the members of a group; anywhere or
at and below a place. Every refusal is explained by the estate as it was then.`,
		Example: `  tarnwold trail load audit.log --server stagedoor
  tarnwold trail --refused
  tarnwold trail lark --since 2026-11-01
  tarnwold trail "//stagedoor/productions/Box Office" --refused --format json`,
		Args: cobra.MaximumNArgs(2),
		RunE: func(c *cobra.Command, args []string) (err error) {
			for _, w := range args {
				isPlace := place.Whole(w)
				switch {
				case isPlace && q.Where == "":
					q.Where = w
				case !isPlace && q.Who == "":
					q.Who = w
				default:
					return run.Misused("wanted one user or group and one place; %q is another", doc.Clip(w))
				}
			}
			if q.Since, err = estate.ParseDay(since); err != nil {
				return run.AsUsage(err)
			}
			q.Limit = 24
			if all {
				q.Limit = 0
			} else if a.Format != doc.Table {
				q.Limit = 10_000
			}
			e, done, err := a.Open(c.Context())
			if err != nil {
				return err
			}
			defer done()
			bar := a.Progress(-1, "looking")
			got, err := q.Look(c.Context(), e, bar.Say)
			bar.End()
			if err != nil {
				return err
			}
			return changes.Trail(a.Printer(), got)
		},
	}
	f := c.Flags()
	f.BoolVar(&q.Refused, "refused", false, "only what was refused, or failed without saying why")
	f.StringVar(&since, "since", "", "only from this `day` on, as 2026-11-01")
	f.BoolVar(&all, "all", false, "every line, however many")
	c.ValidArgsFunction = run.CompleteInOrder(a.CompleteAccounts(0), a.CompletePlaces)
	c.AddCommand(trailLoad(a))
	return c
}

// tryActs are the acts that a trail tells of.
var tryActs = []string{"list", "read", "read-rules", "save", "create", "make-folder", "delete", "rename", "change-rules", "take-owner"}

func trailLoad(a *run.App) *cobra.Command {
	var server, kind string
	c := &cobra.Command{
		Use:   "load FILE…",
		Short: "Load who tried what, from servers' logs",
		Long: `Load who tried what, from files; each line once, however often it is loaded.
What a file holds is told by its first lines, or by --kind:

  csv    the columns at,user,act,where,result; where is an address, result
         granted or refused
  smb    lines of an SMB server's vfs_full_audit with full_audit:prefix =
         %u|%I|%S, from syslog or the server's own log; wants --server
  linux  Linux audit records (audit.log); wants --server

An SMB server that is to write them has in its configuration:

  vfs objects = full_audit …
  full_audit:prefix = %u|%I|%S
  full_audit:success = create_file unlinkat renameat mkdirat
  full_audit:failure = create_file unlinkat renameat mkdirat connect`,
		Example: `  tarnwold trail load /var/log/samba/audit.log --server stagedoor
  tarnwold trail load /var/log/audit/audit.log --server flyloft
  tarnwold trail load tries.csv`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, files []string) error {
			if kind != "" && kind != "csv" && kind != "smb" && kind != "linux" {
				return run.Misused("--kind is %q; wanted csv, smb or linux", doc.Clip(kind))
			}
			e, done, err := a.Open(c.Context())
			if err != nil {
				return err
			}
			defer done()
			var out []intake.TrailLoad
			bar := a.Progress(-1, "reading")
			err = e.Note(c.Context(), func(t *estate.Tx) error {
				x, err := intake.NewTrailing(t, server)
				if err != nil {
					return err
				}
				for _, file := range files {
					x.Load = intake.TrailLoad{File: file}
					had := t.TrailSize()
					if err := readTrail(c.Context(), x, file, kind, func(n int64) { bar.Set(int(n)) }); err != nil {
						return err
					}
					x.Load.New = t.TrailSize() - had
					out = append(out, x.Load)
				}
				return nil
			})
			bar.End()
			if err != nil {
				return err
			}
			return changes.TrailLoaded(a.Printer(), out)
		},
	}
	c.Flags().StringVar(&server, "server", "", "the `server` that wrote it")
	c.Flags().StringVar(&kind, "kind", "", "what the files hold: csv, smb or linux")
	_ = c.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions([]string{"csv", "smb", "linux"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

// readTrail reads one file of tries.
func readTrail(ctx context.Context, x *intake.Trailing, file, kind string, step func(int64)) error {
	_, err := run.ReadFile(ctx, file, func(r io.Reader, f string) (struct{}, error) {
		head, r, err := firstLines(r)
		if err != nil {
			return struct{}{}, err
		}
		switch {
		case kind != "":
		case strings.HasPrefix(strings.TrimPrefix(head, "\ufeff"), "at,") || strings.Contains(strings.SplitN(head, "\n", 2)[0], ",where"):
			kind = "csv"
		case strings.Contains(head, "msg=audit("):
			kind = "linux"
		case strings.Contains(head, "|"):
			kind = "smb"
		default:
			return struct{}{}, run.Misused("%s holds nothing of a trail in its first lines; say what it is with --kind csv, smb or linux", doc.Clip(f))
		}
		return struct{}{}, readTries(ctx, x, r, f, kind, step)
	})
	return err
}

// firstLines looks at how a file begins.
func firstLines(r io.Reader) (string, io.Reader, error) {
	b := make([]byte, 64<<10)
	n, err := io.ReadFull(r, b)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return "", nil, err
	}
	return string(b[:n]), io.MultiReader(strings.NewReader(string(b[:n])), r), nil
}

func readTries(ctx context.Context, x *intake.Trailing, r io.Reader, file, kind string, step func(int64)) (err error) {
	each := func(rec trail.Record) error {
		if x.Load.Read&1023 == 0 {
			step(x.Load.Read)
			if err := ctx.Err(); err != nil {
				return err
			}
		}
		return x.Add(rec)
	}
	switch kind {
	case "csv":
		s, err := csvfile.Open(r, file, csvfile.Tries)
		if err != nil {
			return err
		}
		return s.ReadTries(tryActs, each)
	case "smb":
		x.Load.Passed, err = trail.SMB(r, file, time.Now(), each)
	default:
		x.Load.Passed, err = trail.Linux(r, file, each)
	}
	return err
}

func UnusedCommand(a *run.App) *cobra.Command {
	var since string
	c := &cobra.Command{
		Use:   "unused WHERE",
		Short: "List who has access that nothing in the trail shows them using",
		Long: `List who has access at or below a place, and has used none of it since a day, as
far as the trail tells (tarnwold trail load): what was written down and taken in.
Users who were only refused count as not using it.`,
		Example: "  tarnwold unused //stagedoor/productions/Wardrobe --since 2026-06-01",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: run.CompleteInOrder(a.CompletePlaces),
		RunE: func(c *cobra.Command, args []string) error {
			day, err := estate.ParseDay(since)
			if err != nil {
				return run.AsUsage(err)
			}
			return run.Answer(a, c, func(k *ask.Asker) (*entry.Unused, error) { return entry.UnusedSince(plan.On(k, a.Who()), args[0], day) }, changes.Unused)
		},
	}
	c.Flags().StringVar(&since, "since", "", "the first `day` that counts, as 2026-06-01")
	_ = c.MarkFlagRequired("since")
	return c
}
