package people

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/load"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/server/ldap"
)

func directorySync(a *run.App) *cobra.Command {
	var k run.Keeping
	var since bool
	c := &cobra.Command{
		Use:   "sync NAME",
		Short: "Take in who came, went, was renamed, joined and left there",
		Long: `Read a directory's people, and make a plan of what differs from the
estate: who comes and goes, who has another name (an account is known again by
its identifier, or its number), who is disabled or expired, who joins and leaves,
and what all that opens and closes. Who has gone and is still named by rules stays,
shut, and in none of the directory's groups.

With --since-last only what was changed there since the last time is read, which is
quick; who has gone is not seen by that. It is refused where people who came from
there were taken back since: only a whole reading brings them again.`,
		Example: `  tarnwold directory sync house --dry-run
  tarnwold directory sync house --yes
  tarnwold directory sync house --since-last --yes`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			x, live, err := a.DialDirectory(c.Context(), &k.Sign, args[0])
			if err != nil {
				return err
			}
			defer live.Close()
			filter := x.Shape.Search()
			if since {
				if x.Shape.Changed == "" {
					return run.Misused("the shape %s doesn't say which attribute grows with every change", x.Shape.Name)
				}
				var last *plan.SyncCursor
				back := false
				if err := a.View(c.Context(), func(t *estate.Tx) error {
					last = plan.CursorOf(t, x.Name)
					back = last.TakenBack(t)
					return t.Err()
				}); err != nil {
					return err
				}
				switch {
				case last.Changed == 0:
					return run.Misused("%s was never read whole; leave out --since-last this once", x.Name)
				case back:
					return run.Misused("people of %s were taken back since it was read; leave out --since-last this once", x.Name)
				}
				filter = fmt.Sprintf("(&%s(%s>=%s))", filter, x.Shape.Changed, shape.AsChanged(x.Shape.Changed, last.Changed))
			}
			defer run.Sparing()()
			began := time.Now()
			found, err := peopleIn(a, c.Context(), x, live, filter, since)
			if err != nil {
				return err
			}
			from := intake.PeopleFrom{Directory: x.Name, File: x.Name, At: began.Unix(), Whole: !since, Types: x.Shape.Type != ""}
			if x.Shape.SID != "" {
				is, err := live.Domain(c.Context())
				if err != nil {
					return err
				}
				if from.Domain = is.Name; is.Name != "" && !k.DryRun {
					if err := knowDomain(a, c.Context(), found, is); err != nil {
						return err
					}
				}
			}
			var taken *plan.Plan
			err = a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
				same := false
				if p, same, err = intake.NothingOf(d, found, from); same || err != nil {
					o.Taken = &intake.Taken{LeftOut: found.Left, Apart: []string{}}
				} else {
					p, o.Taken, err = intake.TakePeople(d, found, from)
				}
				taken = p
				return p, err
			})
			if err != nil || k.DryRun || taken.Changes() {
				return err
			}
			return load.Remember(a, c.Context(), taken.Cursor().Remember)
		},
	}
	k.PlainFlags(c)
	k.LoseFlag(c)
	c.Flags().BoolVar(&since, "since-last", false, "read only what was changed there since the last time")
	return c
}

// peopleIn reads the people that a filter finds in a directory. Where it finds some
// only, members it tells of that it doesn't find are known by the estate.
func peopleIn(a *run.App, ctx context.Context, x *plan.Directory, live *ldap.Client, filter string, some bool) (*shape.People, error) {
	g := shape.Gather(x.Shape, x.Name, x.Purposes, time.Now())
	bar := a.Counting("reading " + x.Name)
	n := 0
	told, err := live.Entries(ctx, filter, append(x.Shape.Attributes(), x.Purposes.Attributes()...), func(e *shape.Entry) error {
		n++
		bar.Set(n)
		return g.Put(e)
	})
	bar.End()
	if err == nil && some && g.Unknown() {
		err = knownEntries(a, ctx, g, x.Name)
	}
	if err != nil {
		return nil, err
	}
	found, err := g.People()
	if n := len(told.Referrals); err == nil && n > 0 {
		found.Left["places elsewhere that it refers to, which are not followed"] = n
	}
	return found, err
}

// knownEntries lets a gathering know the people that came from a directory before,
// and are there. Groups may name who is gone for long; that makes nobody a member.
func knownEntries(a *run.App, ctx context.Context, g *shape.Gathering, name string) error {
	return a.View(ctx, func(t *estate.Tx) error {
		for _, x := range plan.KeptIn(t, name) {
			if x.Gone() {
				continue
			}
			if err := g.Know(x.Entry, x.Account); err != nil {
				return err
			}
		}
		return t.Err()
	})
}

// knowDomain remembers what the domain of some people is called.
func knowDomain(a *run.App, ctx context.Context, found *shape.People, is ldap.Domain) error {
	for i := range found.People {
		d, rid, ok := found.People[i].ID.Domain()
		if !ok || rid < 500 {
			continue
		}
		return load.Remember(a, ctx, func(t *estate.Tx) error {
			for _, known := range t.Domains() {
				if known.ID == d && known.Name == is.Name && known.Realm == is.Realm {
					return nil
				}
			}
			t.SetDomain(estate.Domain{ID: d, Name: is.Name, Realm: is.Realm})
			return t.Err()
		})
	}
	return nil
}
