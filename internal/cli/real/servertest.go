package real

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
	"tarnwold/internal/server/local"
	"tarnwold/internal/server/smb"
)

func serverTest(a *run.App) *cobra.Command {
	var sign run.Signing
	c := &cobra.Command{
		Use:   "test SERVER",
		Short: "Test a real server step by step",
		Long: `Test a real server step by step: reached, signed on, shares seen,
each share's rules readable and writable, accounts readable. Nothing is changed
there: whether rules are writable is found by opening a share's folder with the
right to write them, and closing it again.`,
		Example:           "  tarnwold server test stagedoor --password-file ~/.stagedoor",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteServers,
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			if s, c, is, err := a.Itself(ctx, args[0], local.Link{}); err != nil || is {
				if err != nil {
					return err
				}
				defer c.Close()
				return testItself(a, ctx, s, c)
			}
			s, l, secret, err := a.Credentials(ctx, &sign, args[0])
			if err != nil {
				return err
			}
			return a.Tested(s, testServer(ctx, l, secret))
		},
	}
	sign.Flags(c)
	return c
}

func testServer(ctx context.Context, l smb.Link, secret smb.Secret) (steps []run.Step) {
	note := func(what string, err error, more string) bool {
		x := run.Step{What: what, Works: err == nil, More: more}
		if err != nil {
			x.More = err.Error()
		}
		steps = append(steps, x)
		return err == nil
	}
	c, err := smb.Dial(ctx, l, secret)
	var un *smb.Unreached
	reached := err
	if errors.As(err, &un) && un.Step != "reach" {
		reached = nil
	}
	if !note("reached", reached, l.Address()) || !note("signed on", err, as(l, secret, c)) {
		return steps
	}
	defer c.Close()
	shares, err := c.Shares(ctx)
	names := make([]string, len(shares))
	for i, s := range shares {
		names[i] = s.Name
	}
	note("shares seen", err, strings.Join(names, ", "))
	for _, s := range shares {
		if _, err := c.Look(ctx, s.Name, "", false); !note("rules readable on "+s.Name, err, "") {
			continue
		}
		note("rules writable on "+s.Name, c.MayWrite(ctx, s.Name, ""), "")
	}
	all, members, err := c.Accounts(ctx)
	note("accounts readable", err, fmt.Sprintf("%s, %s", report.Count(int64(len(all)), "account"), report.Count(int64(len(members)), "membership")))
	return steps
}

// testItself tells what of this machine's own trees can be read and written.
func testItself(a *run.App, ctx context.Context, s estate.Server, c *local.Client) error {
	roots, err := c.Shares(ctx)
	if err != nil {
		return err
	}
	steps := []run.Step{{What: "is this machine", Works: true}}
	if len(roots) == 0 {
		steps = append(steps, run.Step{What: "trees", More: "none is read yet: tarnwold scan " + s.Name + " --root /FOLDER"})
	}
	for _, r := range roots {
		x := run.Step{What: "readable at " + r.Name, Works: true}
		if _, err := c.Look(ctx, r.Name, "", false); err != nil {
			x.Works, x.More = false, err.Error()
		}
		steps = append(steps, x)
	}
	root := run.Step{What: "writable", Works: os.Geteuid() == 0}
	if !root.Works {
		root.More = "not as root: only what the user this runs as owns, and no owners"
	}
	return a.Tested(s, append(steps, root))
}

// as says who is signed on, by what, and what holds of the session.
func as(l smb.Link, secret smb.Secret, c *smb.Client) string {
	if c == nil {
		return ""
	}
	is := c.Session()
	if is.Guest {
		return "as a guest, whoever " + l.User + " is: nothing is signed"
	}
	who := "as " + l.User
	if l.Domain != "" {
		who += " of " + l.Domain
	}
	if secret.Kerberos() {
		who += ", by Kerberos"
	}
	if is.Encrypted {
		return who + ", encrypted"
	}
	return who + ", signed"
}
