package cli

import (
	"context"
	"encoding/json"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/estate"
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
	f.StringVar(&l.URL, "url", "", "the `address` where it answers: ldaps://HOST[:PORT] or ldap://HOST[:PORT]")
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
	c, err = a.signOnDirectory(ctx, sign, x, l)
	return x, c, err
}

func (a *app) signOnDirectory(ctx context.Context, sign *signing, x *plan.Directory, l ldap.Link) (*ldap.Client, error) {
	var s ldap.Secret // none: nobody signs on
	if l.User != "" || sign.tickets || sign.keytab != "" {
		var err error
		if s, err = a.secret(sign, x.Name, l.User); err != nil {
			return nil, err
		}
	}
	return ldap.Dial(ctx, l, s)
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
			d := report.Directory{Name: x.Name, URL: l.URL, Bases: l.Bases, User: l.User, CA: l.CA, Filter: l.Filter, Unencrypted: l.Open, Writes: x.Writes, Shape: x.Shape, Purposes: x.Purposes, Taken: moment(plan.ReadingOf(t, x.Name).At)}
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

// moment writes a time that was kept in seconds; "" for none.
func moment(seconds int64) string {
	if seconds == 0 {
		return ""
	}
	return time.Unix(seconds, 0).UTC().Format(time.RFC3339)
}
