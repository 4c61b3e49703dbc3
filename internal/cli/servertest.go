package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/report"
	"tarnwold/internal/server/smb"
)

// Step is one thing that a test of a server looked at.
type step = report.ServerStep

func (a *app) serverTest() *cobra.Command {
	var sign signing
	c := &cobra.Command{
		Use:   "test SERVER",
		Short: "Say step by step what works on a real server",
		Long: `Say step by step what works on a real server: reached, signed on, shares seen,
each share's rules readable and writable, accounts readable. Nothing is changed
there: whether rules are writable is found by opening a share's folder with the
right to write them, and closing it again.`,
		Example:           "  tarnwold server test stagedoor --password-file ~/.stagedoor",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeServers,
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			s, l, secret, err := a.credentials(ctx, &sign, args[0])
			if err != nil {
				return err
			}
			steps := testServer(ctx, l, secret)
			if err := a.printer().ServerTest(s.Name, steps); err != nil {
				return err
			}
			for _, x := range steps {
				if !x.Works {
					return errNo
				}
			}
			return nil
		},
	}
	sign.flags(c)
	return c
}

func testServer(ctx context.Context, l smb.Link, secret smb.Secret) (steps []step) {
	note := func(what string, err error, more string) bool {
		x := step{What: what, Works: err == nil, More: more}
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
	if !note("reached", reached, l.Address()) || !note("signed on", err, as(l, secret)) {
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

// as says who is signed on, and by what.
func as(l smb.Link, secret smb.Secret) string {
	who := "as " + l.User
	if l.Domain != "" {
		who += " of " + l.Domain
	}
	if secret.Kerberos() {
		who += ", by Kerberos"
	}
	if l.Encrypt {
		who += ", encrypted"
	}
	return who
}
