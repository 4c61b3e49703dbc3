package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/report"
	"tarnwold/internal/server/ldap"
)

func (a *app) directoryCommand() *cobra.Command {
	return holder("directory", "Take the people from where they are kept, and keep up with it",
		`  tarnwold directory add house --url ldaps://dc.playhouse.test --base dc=playhouse,dc=test --user warden@playhouse.test
  tarnwold directory sync house --dry-run`,
		a.directoryAdd(), a.directoryList(), a.directoryShow(), a.directoryTest(), a.directorySync(), a.directoryProve(), a.directoryRemove())
}

func (a *app) directoryAdd() *cobra.Command {
	var l ldap.Link
	var s shaping
	var writes bool
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Say how a directory is reached, and how its entries stand for people",
		Long: `Say how a directory is reached (LDAP, RFC 4511), and how its entries stand for
users and groups. Nothing is asked of it yet, and nothing is ever written there but,
with --writes, who is a member of which of its groups, where a change does that.

ldaps:// is encrypted from the first byte, ldap:// by StartTLS before anything else
is said; certificates are always checked. With --unencrypted nothing is, and no
password is sent: one signs on as nobody, or by Kerberos. The password is asked for
when it is needed, or taken from TARNWOLD_PASSWORD_NAME or TARNWOLD_PASSWORD, or with
--password-file; it is never kept.`,
		Example: `  tarnwold directory add house --url ldaps://dc.playhouse.test --base dc=playhouse,dc=test --user warden@playhouse.test
  tarnwold directory add house --url ldap://ldap.playhouse.test --base ou=people,dc=playhouse,dc=test --base ou=groups,dc=playhouse,dc=test --shape rfc2307
  tarnwold directory add house --url ldaps://dc.playhouse.test --base dc=playhouse,dc=test --role 'role-*' --access 'acc-*'`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			sh, err := s.shape()
			if err != nil {
				return err
			}
			good, err := l.Good()
			if err != nil {
				return misused("%s", err)
			}
			text, err := json.Marshal(good)
			if err != nil {
				return err
			}
			return a.carry(c, keeping{yes: true}, func(d *plan.Desk, _ *report.Outcome) (*plan.Plan, error) {
				return d.AddDirectory(plan.Directory{Name: args[0], Link: text, Shape: sh, Purposes: s.purposes, Writes: writes})
			})
		},
	}
	f := c.Flags()
	f.StringVar(&l.URL, "url", "", "where it answers: ldaps://HOST[:PORT] or ldap://HOST[:PORT]")
	f.StringArrayVar(&l.Bases, "base", nil, "a `name` below which people are looked for; may be said several times")
	f.StringVar(&l.User, "user", "", "who signs on: a distinguished `name`, or as the directory takes it; nobody unless said")
	f.StringVar(&l.CA, "ca", "", "a `file` with certificates to trust, beside the system's own")
	f.StringVar(&l.Realm, "realm", "", "the Kerberos `realm` of a keytab's user")
	f.StringVar(&l.Filter, "filter", "", "only what this `filter` (RFC 4515) finds")
	f.BoolVar(&writes, "writes", false, "group join and leave change its groups' members there too")
	f.BoolVar(&l.Open, "unencrypted", false, "nothing is encrypted, and no password is sent")
	s.flags(c)
	_ = c.MarkFlagRequired("url")
	_ = c.MarkFlagRequired("base")
	return c
}

// directory finds a directory and how it is reached.
func (a *app) directory(ctx context.Context, name string) (x *plan.Directory, l ldap.Link, err error) {
	err = a.view(ctx, func(t *estate.Tx) error {
		if x, err = plan.DirectoryNamed(t, name); err != nil {
			return err
		}
		return json.Unmarshal(x.Link, &l)
	})
	return x, l, err
}

// dialDirectory signs on to a directory.
func (a *app) dialDirectory(ctx context.Context, sign *signing, name string) (x *plan.Directory, c *ldap.Client, err error) {
	x, l, err := a.directory(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	var s ldap.Secret // none: nobody signs on
	if l.User != "" || sign.tickets || sign.keytab != "" {
		if s, err = a.secret(sign, x.Name, l.User); err != nil {
			return nil, nil, err
		}
	}
	c, err = ldap.Dial(ctx, l, s)
	return x, c, err
}

func (a *app) completeDirectories(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if len(args) == 0 {
		_ = a.view(c.Context(), func(t *estate.Tx) error {
			all, err := plan.Directories(t)
			for _, x := range all {
				out = append(out, x.Name)
			}
			return err
		})
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// directoriesShown tells of directories.
func (a *app) directoriesShown(ctx context.Context, only string) (out []report.Directory, err error) {
	out = []report.Directory{}
	err = a.view(ctx, func(t *estate.Tx) error {
		all, err := plan.Directories(t)
		if only != "" {
			var x *plan.Directory
			if x, err = plan.DirectoryNamed(t, only); err == nil {
				all = []plan.Directory{*x}
			}
		}
		if err != nil {
			return err
		}
		for _, x := range all {
			var l ldap.Link
			if err := json.Unmarshal(x.Link, &l); err != nil {
				return err
			}
			d := report.Directory{Name: x.Name, URL: l.URL, Bases: l.Bases, User: l.User, CA: l.CA, Filter: l.Filter, Unencrypted: l.Open, Writes: x.Writes, Shape: x.Shape, Purposes: x.Purposes, Taken: moment(t.Marked("directory " + x.Name))}
			for _, k := range plan.KeptIn(t, x.Name) {
				if k.Kind == account.User {
					d.Users++
				} else {
					d.Groups++
				}
				if k.Shut {
					d.Shut++
				}
			}
			out = append(out, d)
		}
		return t.Err()
	})
	return out, err
}

func (a *app) directoryList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the directories", Example: "  tarnwold directory list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.directoriesShown(c.Context(), "")
			if err != nil {
				return err
			}
			return a.printer().Directories(all)
		},
	}
}

func (a *app) directoryShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a directory: how it is reached and read, and who came from it", Example: "  tarnwold directory show house",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.directoriesShown(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printer().Directory(&all[0])
		},
	}
}

func (a *app) directoryRemove() *cobra.Command {
	var k keeping
	c := &cobra.Command{
		Use: "remove NAME", Short: "Forget a directory; its people stay", Example: "  tarnwold directory remove house",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			return a.carry(c, k, func(d *plan.Desk, o *report.Outcome) (*plan.Plan, error) {
				o.Brief = true
				return d.RemoveDirectory(args[0])
			})
		},
	}
	k.plainFlags(c)
	return c
}

func (a *app) directoryTest() *cobra.Command {
	var sign signing
	c := &cobra.Command{
		Use: "test NAME", Short: "Say step by step what works on a directory",
		Example: "  tarnwold directory test house", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			x, live, err := a.dialDirectory(c.Context(), &sign, args[0])
			var no *ldap.Unreached
			if err != nil && !errors.As(err, &no) {
				return err
			}
			steps := []step{}
			if err == nil {
				defer live.Close()
				err = a.foundIn(c.Context(), x, live, &steps)
				if err != nil && !errors.As(err, &no) {
					return err
				}
			}
			out := []step{}
			for _, s := range []struct{ step, what string }{{"reach", "reached"}, {"trust", "certificate trusted"}, {"sign-on", "signed on"}, {"ask", "people readable"}} {
				if err != nil && no.Step == s.step {
					more := no.Err.Error()
					if no.Do != "" {
						more += "; " + no.Do
					}
					out = append(out, step{What: s.what, More: more})
					break
				}
				if s.step != "ask" {
					out = append(out, step{What: s.what, Works: true})
				}
			}
			return a.tested(estate.Server{Name: args[0]}, append(out, steps...))
		},
	}
	sign.flags(c)
	return c
}

// foundIn says who is found in a directory.
func (a *app) foundIn(ctx context.Context, x *plan.Directory, live *ldap.Client, steps *[]step) error {
	g := shape.Gather(x.Shape, x.Name, x.Purposes, time.Now())
	if _, err := live.Entries(ctx, x.Shape.Search(), x.Shape.Attributes(), g.Put); err != nil {
		return err
	}
	folk, err := g.Folk()
	if err != nil {
		return err
	}
	users := 0
	for i := range folk.People {
		if folk.People[i].Kind == account.User {
			users++
		}
	}
	found := fmt.Sprintf("%s, %s, %s", report.Count(int64(users), "user"), report.Count(int64(len(folk.People)-users), "group"), report.Count(int64(len(folk.Members)), "membership"))
	*steps = append(*steps, step{What: "people readable", Works: true, More: found})
	return nil
}

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
quick; who has gone is not seen by that.`,
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
			mark := "directory " + x.Name + " changed"
			filter := x.Shape.Search()
			if since {
				if x.Shape.Changed == "" {
					return misused("the shape %s doesn't say which attribute grows with every change", x.Shape.Name)
				}
				var last int64
				if err := a.view(c.Context(), func(t *estate.Tx) error { last = t.Marked(mark); return t.Err() }); err != nil {
					return err
				}
				if last == 0 {
					return misused("%s was never read whole; leave out --since-last this once", x.Name)
				}
				filter = fmt.Sprintf("(&%s(%s>=%s))", filter, x.Shape.Changed, shape.AsChanged(x.Shape.Changed, last))
			}
			defer sparing()()
			began := time.Now()
			g := shape.Gather(x.Shape, x.Name, x.Purposes, began)
			bar := a.counting("reading " + x.Name)
			n := 0
			want := append(x.Shape.Attributes(), x.Purposes.Attributes()...)
			told, err := live.Entries(c.Context(), filter, want, func(e *shape.Entry) error {
				n++
				bar.set(n)
				return g.Put(e)
			})
			bar.end()
			if err != nil {
				return err
			}
			if since { // members it tells of that were not changed are known by the estate
				if err := a.knownEntries(c.Context(), g, x.Name); err != nil {
					return err
				}
			}
			folk, err := g.Folk()
			if err != nil {
				return err
			}
			if n := len(told.Referrals); n > 0 {
				folk.Left["places elsewhere that it refers to, which are not followed"] = n
			}
			from := plan.FolkFrom{Directory: x.Name, File: x.Name, Whole: !since, Types: x.Shape.Type != ""}
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
			err = a.carry(c, k, func(d *plan.Desk, o *report.Outcome) (p *plan.Plan, err error) {
				p, o.Taken, err = d.TakeFolk(folk, from)
				return p, err
			})
			if err != nil || k.dryRun {
				return err
			}
			return a.remember(c.Context(), func(t *estate.Tx) error {
				t.Mark("directory "+x.Name, began.Unix())
				if v := shape.ChangedAs(folk.Changed); v > 0 {
					t.Mark(mark, v)
				}
				return t.Err()
			})
		},
	}
	k.plainFlags(c)
	c.Flags().BoolVar(&since, "since-last", false, "read only what was changed there since the last time")
	return c
}

// knownEntries lets a gathering know the people that came from a directory before.
func (a *app) knownEntries(ctx context.Context, g *shape.Gathering, name string) error {
	return a.view(ctx, func(t *estate.Tx) error {
		for _, x := range plan.KeptIn(t, name) {
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

func (a *app) directoryProve() *cobra.Command {
	var sign signing
	c := &cobra.Command{
		Use:   "prove NAME",
		Short: "Hold every user's groups to the token that the directory itself tells",
		Long: `Hold every user's groups, at any depth, to the token that the directory itself
tells of him (tokenGroups, at a domain), and print each difference. Ends with 1
where there is one. Special accounts that every user of a machine is are told, and
are no difference.`,
		Example: "  tarnwold directory prove house", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			x, live, err := a.dialDirectory(c.Context(), &sign, args[0])
			if err != nil {
				return err
			}
			defer live.Close()
			if x.Shape.Token == "" {
				return misused("a directory of the shape %s tells no tokens", x.Shape.Name)
			}
			out := report.DirectoryProof{Name: x.Name, Differences: []report.TokenDifference{}}
			err = a.view(c.Context(), func(t *estate.Tx) error {
				users := slices.DeleteFunc(plan.KeptIn(t, x.Name), func(k plan.Kept) bool { return k.Kind != account.User || k.Gone() })
				bar := a.progress(len(users), "asking "+x.Name)
				defer bar.end()
				dir := t.Directory()
				for i, u := range users {
					bar.set(i)
					e, err := live.One(c.Context(), u.Entry, x.Shape.Token)
					if err != nil {
						return err
					}
					theirs := map[account.ID]bool{}
					for _, v := range e.Attrs[strings.ToLower(x.Shape.Token)] {
						id, n, err := account.FromBinary([]byte(v))
						if err != nil || n != len(v) {
							return fmt.Errorf("%s: %s is no identifier", u.Entry, x.Shape.Token)
						}
						theirs[id] = true
					}
					out.Users++
					ours := account.NewToken(dir, u.ID, account.Traits{MailGroupsLeftOut: true})
					for _, id := range ours.IDs() {
						if id != u.ID && !theirs[id] {
							out.Differences = append(out.Differences, report.TokenDifference{User: t.Name(u.ID), Group: t.Name(id), ID: id.String(), Here: true})
						}
						delete(theirs, id)
					}
					for id := range theirs {
						if _, ok := account.SpecialName(id); ok { // everybody's, which the route brings
							out.WellKnown++
							continue
						}
						out.Differences = append(out.Differences, report.TokenDifference{User: t.Name(u.ID), Group: t.Name(id), ID: id.String()})
					}
				}
				return t.Err()
			})
			if err != nil {
				return err
			}
			report.SortDifferences(out.Differences)
			if err := a.printer().DirectoryProven(&out); err != nil {
				return err
			}
			if len(out.Differences) > 0 {
				return errNo
			}
			return nil
		},
	}
	sign.flags(c)
	return c
}

// moment writes a time that was kept in seconds; "" for none.
func moment(seconds int64) string {
	if seconds == 0 {
		return ""
	}
	return time.Unix(seconds, 0).UTC().Format(time.RFC3339)
}
