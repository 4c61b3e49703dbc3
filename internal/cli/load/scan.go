package load

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/server"
	"tarnwold/internal/server/local"
	"tarnwold/internal/store"
)

func ScanCommand(a *run.App) *cobra.Command {
	var sign run.Signing
	var k run.Keeping
	var how server.Reading
	var resume bool
	var of local.Link
	c := &cobra.Command{
		Use:   "scan SERVER [SHARE…]",
		Short: "Read a real server into the estate: accounts, shares, folders, files, rules",
		Long: `Read what a real server has: its accounts and groups, its shares with their
rules, every folder and file with its descriptor, size and times, and the names
of identifiers met. Several shares over one folder are read once; links are not
followed. What can't be read is counted and listed, and left out with what is
below it.

A second scan keeps only what differs from the estate, and shows it as
any change is shown: who gains and who loses by it. Stopped with Ctrl-C, or by a
server that goes away, what was read is kept beside the estate, and --resume
goes on from there.

Of a server that is this machine itself (server add NAME --local), --root names
the trees that are read: owners, groups, modes and lists, by several workers, no
link followed. What is mounted in them is left out and told of; --mounts goes
into it, but for what is mounted a second time. Programs with capabilities and
items marked immutable are told of, as are descriptors that an SMB server keeps
beside the lists: the server's traits say which of the two decides.`,
		Example: `  tarnwold scan stagedoor
  tarnwold scan propstore --root /srv/props
  tarnwold scan stagedoor productions --folders-only --depth 3
  tarnwold scan stagedoor --report-only
  tarnwold scan stagedoor --resume --password-file ~/.stagedoor`,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteServers, a.CompleteSharesOf),
		RunE: func(c *cobra.Command, args []string) error {
			if how.Depth < 0 {
				return run.Misused("--depth %d: wanted a number of layers, 1 or more", how.Depth)
			}
			for i, r := range of.Roots {
				abs, err := filepath.Abs(r)
				if err != nil {
					return err
				}
				of.Roots[i] = abs
			}
			s, live, err := a.SignOnTo(c.Context(), &sign, args[0], of)
			if err != nil {
				return err
			}
			defer live.Close()
			_, self := live.(*local.Client)
			switch {
			case !self && len(of.Roots) > 0:
				return run.Misused("--root goes with a server that is this machine itself; of %s name shares", s.Name)
			case self && len(args) > 1:
				return run.Misused("%s is this machine itself and has no shares to be named: say --root %s", s.Name, doc.Clip(args[1]))
			}
			if self && len(of.Roots) == 0 {
				if shares, err := live.Shares(c.Context()); err != nil || len(shares) == 0 {
					if err != nil {
						return err
					}
					return run.Misused("say which trees of this machine are meant: --root /FOLDER")
				}
			}
			return scan(a, c, k, s, live, args[1:], how, resume)
		},
	}
	sign.Flags(c)
	c.Flags().BoolVar(&k.DryRun, "report-only", false, "say what would be taken in and keep nothing")
	c.Flags().BoolVar(&k.Yes, "yes", false, "keep what is found without asking")
	c.Flags().BoolVar(&k.Force, "force", false, "keep it although a guard warns; the journal says so")
	k.LoseFlag(c)
	c.Flags().BoolVar(&how.FoldersOnly, "folders-only", false, "leave files out, for a first look")
	c.Flags().IntVar(&how.Depth, "depth", 0, "read so many `layers` below a share's folder (default: all)")
	c.Flags().BoolVar(&resume, "resume", false, "go on with a scan that was broken off")
	c.Flags().StringArrayVar(&of.Roots, "root", nil, "of this machine itself: read the tree at this `folder`; may be given again (default: those read before)")
	c.Flags().BoolVar(&of.Mounts, "mounts", false, "of this machine itself: go into what is mounted in the trees too")
	return c
}

// mostListed is how many things that can't be read are told one by one.
const mostListed = 10

func scan(a *run.App, c *cobra.Command, k run.Keeping, s estate.Server, from server.Server, only []string, how server.Reading, resume bool) error {
	ctx := c.Context()
	spool := live.SpoolOf(a.EstatePath, s.Name)
	bar := a.Counting("reading " + s.Name)
	was, err := Answered(a, ctx, s)
	if err != nil {
		return err
	}
	job := live.Scan{Server: s, Was: was, Only: only, Reading: how, Spool: spool, Resume: resume,
		Step: func(share string, items, left int) {
			bar.Say(fmt.Sprintf("reading %s, %s left", share, report.Count(int64(left), "folder")))
			bar.Set(items)
		},
		May: func(trees []*intake.ScannedTree) error { return mayTake(a, ctx, s, trees) },
	}
	seen, err := job.Read(ctx, from)
	bar.End()
	if err != nil {
		return err
	}
	defer seen.Close()
	head := headOf(a, ctx)
	if err := takeIn(a, c, k, s, seen, len(only) == 0); err != nil {
		if now := headOf(a, ctx); now != head { // what these say of nothing is so of the last part alone
			for why, what := range map[error]string{store.ErrStopped: "stopped", store.ErrFull: "the disk is full: stopped"} {
				if errors.Is(err, why) {
					return fmt.Errorf("%s with a part of it kept, up to change %d; tarnwold scan %s --resume takes in the rest", what, now, s.Name)
				}
			}
		}
		return err
	}
	if !k.DryRun {
		_ = os.Remove(spool)
	}
	return Unread(a, seen)
}

// headOf gives the number of the journal's last change, whether stopped or not.
func headOf(a *run.App, ctx context.Context) (n int64) {
	_ = a.View(context.WithoutCancel(ctx), func(t *estate.Tx) error {
		n = t.Head()
		return t.Err()
	})
	return n
}

// mayTake refuses, before hours are spent on reading, folders that can't hang
// beside what the estate has.
func mayTake(a *run.App, ctx context.Context, s estate.Server, trees []*intake.ScannedTree) error {
	return a.View(ctx, func(t *estate.Tx) error {
		for _, x := range trees {
			if _, err := t.At(s, x.Folder); err == nil {
				continue
			}
			if err := intake.MayLoad(t, place.Address{Server: s.Name, Path: x.Folder}); err != nil {
				return err
			}
		}
		return t.Err()
	})
}

// Answered finds who answered for a server when it was read last.
func Answered(a *run.App, ctx context.Context, s estate.Server) (id account.ID, err error) {
	err = a.View(ctx, func(t *estate.Tx) error {
		id = t.Answered(s)
		return t.Err()
	})
	return id, err
}

// takeIn keeps what a scan saw, each part of it a plan of its own: people,
// shares, rules, then what came and went.
func takeIn(a *run.App, c *cobra.Command, k run.Keeping, s estate.Server, seen *live.Seen, whole bool) error {
	ctx := c.Context()
	var known, fresh []*intake.ScannedTree
	var last time.Time
	shares := 0
	if err := a.View(ctx, func(t *estate.Tx) error {
		last, shares = t.Scanned(s), len(t.Shares(s))
		for _, x := range seen.Trees {
			if _, err := t.At(s, x.Folder); err == nil {
				known = append(known, x)
			} else {
				fresh = append(fresh, x)
			}
		}
		return t.Err()
	}); err != nil {
		return err
	}
	p := a.Printer()
	if !last.IsZero() && a.Format == doc.Table {
		p.Line(doc.S("Since the scan of %s:", last.Local().Format("Mon 2006-01-02 15:04")))
	}
	steps := []run.Build{
		func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
			return intake.OwnRenamed(d, s, *seen.Accounts)
		},
		func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
			o.Brief = true
			p, o.Loaded, err = intake.AccountsFound(d, s, *seen.Accounts)
			return p, err
		},
		func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
			return intake.MembersGone(d, s, *seen.Accounts)
		},
		func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
			return intake.OwnGone(d, s, *seen.Accounts)
		},
		func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
			return people.TakeBuiltin(d, s, seen.Builtin)
		},
		func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
			return servers.TakePrivileges(d, s, seen.Privileges)
		},
		func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
			o.Brief = shares == 0
			return intake.SharesFound(d, s, server.Doors(seen.Shares), whole && len(server.Doors(seen.Shares)) == len(seen.Shares))
		},
	}
	var otherwise intake.Changes
	if err := a.View(ctx, func(t *estate.Tx) (err error) {
		otherwise, err = intake.HasChanges(plan.New(t, a.Who()), s, known)
		return err
	}); err != nil {
		return err
	}
	if otherwise.Rules {
		steps = append(steps, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) { return intake.ChangedRules(d, s, known) })
	}
	if otherwise.Items {
		steps = append(steps, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) { return intake.NewAndGone(d, s, known) })
	}
	differ := len(fresh) > 0
	for _, fn := range steps {
		any, err := carryIfAny(a, c, k, fn)
		if err != nil {
			return err
		}
		differ = differ || any
	}
	if !differ && !last.IsZero() && a.Format == doc.Table {
		p.Line(doc.S("Nothing differs."))
	}
	for _, x := range fresh {
		if x.Tree.Len() == 0 {
			continue
		}
		if err := x.Tree.Arrange(); err != nil {
			return err
		}
		at := place.Address{Server: s.Name, Path: x.Folder}
		if k.DryRun {
			p.Line(doc.S("%s", intake.TreeLoaded(x.Tree, at)))
			continue
		}
		if err := keepTree(a, ctx, x.Tree, at, "keeping "+x.Share); err != nil {
			return err
		}
	}
	for _, n := range seen.Notes {
		p.Line(doc.S("%s", changes.NoteText(n)))
	}
	var differs []string
	if err := a.View(ctx, func(t *estate.Tx) error {
		differs = intake.DiffersThere(plan.New(t, a.Who()), s, *seen.Accounts)
		return t.Err()
	}); err != nil {
		return err
	}
	changes.DiffersThere(p, s.Name, differs)
	if seen.Told && seen.OnPOSIX == s.Traits.AsSpecified {
		changes.OtherTraits(p, s.Name, s.Traits.Name, seen.OnPOSIX)
	}
	if groups := slices.ContainsFunc(seen.Accounts.Accounts, func(x format.AccountRow) bool { return x.Kind == account.Group }); groups && last.IsZero() && seen.Accounts.Members.Len() == 0 {
		p.Line(doc.S("The server doesn't list the members of its groups; where it keeps them in a POSIX group file: tarnwold load accounts --passwd FILE --group FILE"))
	}
	if k.DryRun {
		p.Line(doc.S("Nothing was kept: this only reports."))
		return p.Err()
	}
	if !otherwise.Facts {
		known = nil
	}
	return note(a, context.WithoutCancel(ctx), s, seen, known, differs) // what is kept is kept whole
}

// carryIfAny is carry, silent where nothing differs; any: something did.
func carryIfAny(a *run.App, c *cobra.Command, k run.Keeping, fn run.Build) (any bool, err error) {
	if err := a.View(c.Context(), func(t *estate.Tx) error {
		d := plan.New(t, a.Who())
		p, err := fn(d, &changes.Outcome{})
		any = err == nil && p.Changes()
		return err
	}); err != nil || !any {
		return any, err
	}
	return true, a.PreviewAndCommit(c, k, fn)
}

// note remembers when a server was read, what its domains are called, and the
// sizes and times of what is in trees the estate knows.
func note(a *run.App, ctx context.Context, s estate.Server, seen *live.Seen, known []*intake.ScannedTree, differs []string) error {
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	return e.Note(ctx, func(t *estate.Tx) error {
		if err := intake.EachFact(plan.New(t, a.Who()), s, known, t.SetFacts); err != nil {
			return err
		}
		intake.NoteDiffering(t, s, differs)
		t.SetScanned(s, seen.At, seen.Machine)
		for _, d := range seen.Domains {
			t.SetDomain(d)
		}
		return t.Err()
	})
}

// Unread tells what couldn't be read.
func Unread(a *run.App, seen *live.Seen) error {
	p := a.Printer()
	for i, u := range seen.Unread {
		if i == mostListed {
			p.Line(doc.S("  and %d more", len(seen.Unread)-i))
			break
		}
		p.Line(doc.S("not read: %s: %s", u.Where, u.Why))
	}
	if len(seen.Unread) > 0 {
		return &partlyRead{len(seen.Unread)}
	}
	return p.Err()
}

// partlyRead ends a scan that left something out.
type partlyRead struct{ Items int }

func (e *partlyRead) Error() string {
	return report.Count(int64(e.Items), "item") + " could not be read and " + map[bool]string{true: "is", false: "are"}[e.Items == 1] + " left out, with what is below"
}
