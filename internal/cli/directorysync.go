package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report"
	"tarnwold/internal/server/ldap"
)

func (a *app) directorySync() *cobra.Command {
	var k keeping
	var since bool
	c := &cobra.Command{
		Use:   "sync NAME",
		Short: "Take in who came, went, is called otherwise, joined and left",
		Long: `Read a directory's people, and make a plan of what is otherwise than the estate
has it: who comes and goes, who is called otherwise (an account is known again by
its identifier, or its number), who is disabled or expired, who joins and leaves,
and what all that opens and closes. Who has gone and is still named by rules stays,
shut, and in none of the directory's groups.

With --since-last only what was changed there since the last time is read, which is
quick; who has gone is not seen by that. It is refused where people who came from
there were taken back since: only a whole reading brings them again.`,
		Example: `  tarnwold directory sync house --dry-run
  tarnwold directory sync house --yes
  tarnwold directory sync house --since-last --yes`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			x, live, err := a.dialDirectory(c.Context(), &k.sign, args[0])
			if err != nil {
				return err
			}
			defer live.Close()
			filter := x.Shape.Search()
			if since {
				if x.Shape.Changed == "" {
					return misused("the shape %s doesn't say which attribute grows with every change", x.Shape.Name)
				}
				var last *plan.Reading
				back := false
				if err := a.view(c.Context(), func(t *estate.Tx) error {
					last = plan.ReadingOf(t, x.Name)
					back = last.TakenBack(t)
					return t.Err()
				}); err != nil {
					return err
				}
				switch {
				case last.Changed == 0:
					return misused("%s was never read whole; leave out --since-last this once", x.Name)
				case back:
					return misused("people of %s were taken back since it was read; leave out --since-last this once", x.Name)
				}
				filter = fmt.Sprintf("(&%s(%s>=%s))", filter, x.Shape.Changed, shape.AsChanged(x.Shape.Changed, last.Changed))
			}
			defer sparing()()
			began := time.Now()
			folk, err := a.folkIn(c.Context(), x, live, filter, since)
			if err != nil {
				return err
			}
			from := intake.FolkFrom{Directory: x.Name, File: x.Name, At: began.Unix(), Whole: !since, Types: x.Shape.Type != ""}
			if x.Shape.SID != "" {
				is, err := live.Domain(c.Context())
				if err != nil {
					return err
				}
				if from.Domain = is.Name; is.Name != "" && !k.dryRun {
					if err := a.knowDomain(c.Context(), folk, is); err != nil {
						return err
					}
				}
			}
			var taken *plan.Plan
			err = a.carry(c, k, func(d *plan.Desk, o *report.Outcome) (p *plan.Plan, err error) {
				same := false
				if p, same, err = intake.NothingOf(d, folk, from); same || err != nil {
					o.Taken = &intake.Taken{LeftOut: folk.Left, Apart: []string{}}
				} else {
					p, o.Taken, err = intake.TakeFolk(d, folk, from)
				}
				taken = p
				return p, err
			})
			if err != nil || k.dryRun || taken.Changes() {
				return err
			}
			return a.remember(c.Context(), taken.Read().Remember)
		},
	}
	k.plainFlags(c)
	k.loseFlag(c)
	c.Flags().BoolVar(&since, "since-last", false, "read only what was changed there since the last time")
	return c
}

// folkIn reads the people that a filter finds in a directory. Where it finds some
// only, members it tells of that it doesn't find are known by the estate.
func (a *app) folkIn(ctx context.Context, x *plan.Directory, live *ldap.Client, filter string, some bool) (*shape.Folk, error) {
	g := shape.Gather(x.Shape, x.Name, x.Purposes, time.Now())
	bar := a.counting("reading " + x.Name)
	n := 0
	told, err := live.Entries(ctx, filter, append(x.Shape.Attributes(), x.Purposes.Attributes()...), func(e *shape.Entry) error {
		n++
		bar.set(n)
		return g.Put(e)
	})
	bar.end()
	if err == nil && some && g.Unknown() {
		err = a.knownEntries(ctx, g, x.Name)
	}
	if err != nil {
		return nil, err
	}
	folk, err := g.Folk()
	if n := len(told.Referrals); err == nil && n > 0 {
		folk.Left["places elsewhere that it refers to, which are not followed"] = n
	}
	return folk, err
}

// knownEntries lets a gathering know the people that came from a directory before,
// and are there. Groups may name who is gone for long; that makes nobody a member.
func (a *app) knownEntries(ctx context.Context, g *shape.Gathering, name string) error {
	return a.view(ctx, func(t *estate.Tx) error {
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
func (a *app) knowDomain(ctx context.Context, folk *shape.Folk, is ldap.Domain) error {
	for i := range folk.People {
		d, rid, ok := folk.People[i].ID.Domain()
		if !ok || rid < 500 {
			continue
		}
		return a.remember(ctx, func(t *estate.Tx) error {
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

// remember writes down what is no change of the estate.
func (a *app) remember(ctx context.Context, fn func(t *estate.Tx) error) error {
	e, done, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer done()
	return e.Note(ctx, fn)
}
