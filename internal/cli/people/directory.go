package people

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tarnwold/core/account"
	"tarnwold/internal/cli/load"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/server/ldap"
)

func DirectoryCommand(a *run.App) *cobra.Command {
	return run.Holder("directory", "Read people from a directory (LDAP), and keep up with it",
		`  tarnwold directory add house --url ldaps://dc.playhouse.test --base dc=playhouse,dc=test --user warden@playhouse.test
  tarnwold directory sync house --dry-run`,
		directoryAdd(a), directorySet(a), directoryList(a), directoryShow(a), directoryTest(a), directorySync(a), directoryProve(a), directoryRemove(a))
}

func directoryAdd(a *run.App) *cobra.Command {
	var l ldap.Link
	var s load.Shaping
	var writes bool
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add a directory: how it is reached, and how its entries are read",
		Long: `Say how a directory is reached (LDAP, RFC 4511), and how its entries stand for
users and groups. Nothing is asked of it yet, and nothing is ever written there but,
with --writes, who is a member of which of its groups, where a change does that.

ldaps:// is encrypted from the first byte, ldap:// by StartTLS before anything else
is said; certificates are always checked. With --unencrypted nothing is, and no
password is sent: one signs on as nobody, or by Kerberos. The password is asked for
when it is needed, or taken from TARNWOLD_PASSWORD_NAME or TARNWOLD_PASSWORD, or with
--password-file, or from the file that --password-at names, whose place is kept; it
itself never is.`,
		Example: `  tarnwold directory add house --url ldaps://dc.playhouse.test --base dc=playhouse,dc=test --user warden@playhouse.test
  tarnwold directory add house --url ldap://ldap.playhouse.test --base ou=people,dc=playhouse,dc=test --base ou=groups,dc=playhouse,dc=test --shape rfc2307
  tarnwold directory add house --url ldaps://dc.playhouse.test --base dc=playhouse,dc=test --role 'role-*' --access 'acc-*'`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			sh, err := s.Shape()
			if err != nil {
				return err
			}
			good, err := l.Good()
			if err != nil {
				return run.Misused("%s", err)
			}
			if good.PasswordAt, err = run.PasswordAt(good.PasswordAt); err != nil {
				return err
			}
			text, err := json.Marshal(good)
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, run.Keeping{Yes: true}, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return d.AddDirectory(plan.Directory{Name: args[0], Link: text, Shape: sh, Purposes: s.Purposes, Writes: writes})
			})
		},
	}
	linkFlags(c, &l, &writes)
	s.Flags(c)
	_ = c.MarkFlagRequired("url")
	_ = c.MarkFlagRequired("base")
	return c
}

// linkFlags are those that say how a directory is reached.
func linkFlags(c *cobra.Command, l *ldap.Link, writes *bool) {
	f := c.Flags()
	f.StringVar(&l.URL, "url", "", "the `address` where it answers: ldaps://HOST[:PORT] or ldap://HOST[:PORT]")
	f.StringArrayVar(&l.Bases, "base", nil, "a `name` below which people are looked for; may be said several times")
	f.StringVar(&l.User, "user", "", "who signs on: a distinguished `name`, or as the directory takes it; nobody unless said")
	f.StringVar(&l.PasswordAt, "password-at", "", "a `file` with the password in its first line, which nobody else may read: it is read from then on where nothing else says one")
	f.StringVar(&l.CA, "ca", "", "a `file` with certificates to trust, beside the system's own")
	f.StringVar(&l.Realm, "realm", "", "the Kerberos `realm` of a keytab's user")
	f.StringVar(&l.Filter, "filter", "", "only what this `filter` (RFC 4515) finds")
	f.BoolVar(writes, "writes", false, "group join and leave change its groups' members there too")
	f.BoolVar(&l.Open, "unencrypted", false, "nothing is encrypted, and no password is sent")
}

func directorySet(a *run.App) *cobra.Command {
	var l ldap.Link
	var writes bool
	c := &cobra.Command{
		Use:   "set NAME",
		Short: "Change how a directory is reached, or whether it is written to",
		Long: `Change how a directory is reached, or whether it is written to; what isn't said stays.
Where another part of it is read then (--url, --base, --filter), the next sync reads it
whole. How its entries stand for people doesn't change: for another shape remove the
directory and add it anew.`,
		Example: `  tarnwold directory set house --url ldaps://dc2.playhouse.test
  tarnwold directory set house --writes
  tarnwold directory set house --password-at /etc/tarnwold/house.secret
  tarnwold directory set house --writes=false --user warden@playhouse.test`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			given := map[string]bool{}
			own := c.LocalNonPersistentFlags()
			c.Flags().Visit(func(f *pflag.Flag) {
				if own.Lookup(f.Name) != nil {
					given[f.Name] = true
				}
			})
			if len(given) == 0 {
				return run.Misused("nothing to change is given; see: tarnwold directory set --help")
			}
			return a.PreviewAndCommit(c, run.Keeping{Yes: true}, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				return d.SetDirectory(args[0], func(x *plan.Directory) ([]string, bool, error) { return setLink(x, &l, writes, given) })
			})
		},
	}
	linkFlags(c, &l, &writes)
	return c
}

// setLink puts what was given into how a directory is reached, and says what changed;
// whole: another part of it may be read then.
func setLink(x *plan.Directory, l *ldap.Link, writes bool, given map[string]bool) (said []string, whole bool, err error) {
	var now ldap.Link
	if err := json.Unmarshal(x.Link, &now); err != nil {
		return nil, false, err
	}
	put := func(flag string, at *string, to string) {
		if given[flag] && *at != to {
			said = append(said, fmt.Sprintf("%s %s, was %s", flag, cmp.Or(to, "none"), cmp.Or(*at, "none")))
			*at = to
		}
	}
	if given["base"] && !slices.Equal(now.Bases, l.Bases) {
		said = append(said, fmt.Sprintf("base %s, was %s", strings.Join(l.Bases, "; "), strings.Join(now.Bases, "; ")))
		now.Bases = l.Bases
	}
	put("url", &now.URL, l.URL)
	put("filter", &now.Filter, l.Filter)
	whole = len(said) > 0
	at, err := run.PasswordAt(l.PasswordAt)
	if err != nil {
		return nil, false, err
	}
	if given["user"] && !given["password-at"] && now.User != l.User { // it was the other's
		given["password-at"] = true
	}
	put("password-at", &now.PasswordAt, at)
	put("user", &now.User, l.User)
	put("ca", &now.CA, l.CA)
	put("realm", &now.Realm, l.Realm)
	yes := map[bool]string{true: "yes", false: "no"}
	for _, b := range []struct {
		flag string
		at   *bool
		to   bool
	}{{"unencrypted", &now.Open, l.Open}, {"writes", &x.Writes, writes}} {
		if given[b.flag] && *b.at != b.to {
			said = append(said, fmt.Sprintf("%s %s, was %s", b.flag, yes[b.to], yes[*b.at]))
			*b.at = b.to
		}
	}
	good, err := now.Good()
	if err != nil {
		return nil, false, run.Misused("%s", err)
	}
	x.Link, err = json.Marshal(good)
	return said, whole, err
}

// directoriesShown tells of directories.
func directoriesShown(a *run.App, ctx context.Context, only string) (out []changes.Directory, err error) {
	out = []changes.Directory{}
	err = a.View(ctx, func(t *estate.Tx) error {
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
			d := changes.Directory{Name: x.Name, URL: l.URL, Bases: l.Bases, User: l.User, PasswordAt: l.PasswordAt, CA: l.CA, Filter: l.Filter, Unencrypted: l.Open, Writes: x.Writes, Shape: x.Shape, Purposes: x.Purposes, Taken: moment(plan.CursorOf(t, x.Name).At)}
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

func directoryList(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the directories", Example: "  tarnwold directory list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := directoriesShown(a, c.Context(), "")
			if err != nil {
				return err
			}
			return changes.Directories(a.Printer(), all)
		},
	}
}

func directoryShow(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a directory: how it is reached and read, and who came from it", Example: "  tarnwold directory show house",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			all, err := directoriesShown(a, c.Context(), args[0])
			if err != nil {
				return err
			}
			return changes.WriteDirectory(a.Printer(), &all[0])
		},
	}
}

func directoryRemove(a *run.App) *cobra.Command {
	var k run.Keeping
	c := &cobra.Command{
		Use: "remove NAME", Short: "Forget a directory; its people stay", Example: "  tarnwold directory remove house",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
				o.Brief = true
				return d.RemoveDirectory(args[0])
			})
		},
	}
	k.PlainFlags(c)
	return c
}

// moment writes a time that was kept in seconds; "" for none.
func moment(seconds int64) string {
	if seconds == 0 {
		return ""
	}
	return time.Unix(seconds, 0).UTC().Format(time.RFC3339)
}
