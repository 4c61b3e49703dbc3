package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/report"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb"
)

// Step is one thing that a test of a server looked at.
type step = report.ServerStep

func (a *app) serverTest() *cobra.Command {
	var sign signing
	c := &cobra.Command{
		Use:   "test SERVER",
		Short: "Say step by step what works on a real server",
		Long: `Say step by step what works on a real server: reached and signed on, shares
seen, rules readable, accounts readable. Nothing is changed there.`,
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
	if !note("reached and signed on", err, l.Address()+" as "+l.User) {
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
		err := c.Scan(ctx, s.Name, server.Reading{}, func(x server.Item) error {
			if x.Err != nil {
				return x.Err
			}
			return errEnough
		})
		if err == errEnough {
			err = nil
		}
		note("rules readable on "+s.Name, err, "")
	}
	all, members, err := c.Accounts(ctx)
	note("accounts readable", err, fmt.Sprintf("%s, %s", report.Count(int64(len(all)), "account"), report.Count(int64(len(members)), "membership")))
	return steps
}

var errEnough = fmt.Errorf("enough was seen")
