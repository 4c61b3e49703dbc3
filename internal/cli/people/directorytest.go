package people

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/report"
	"tarnwold/internal/server/ldap"
)

func directoryTest(a *run.App) *cobra.Command {
	var sign run.Signing
	c := &cobra.Command{
		Use: "test NAME", Short: "Test a directory step by step",
		Example: "  tarnwold directory test house", Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			x, l, err := a.Directory(c.Context(), args[0])
			if err != nil {
				return err
			}
			live, err := a.SignOnDirectory(c.Context(), &sign, x, l)
			var no *ldap.Unreached
			if err != nil && !errors.As(err, &no) {
				return err
			}
			steps := []run.Step{}
			if err == nil {
				defer live.Close()
				var found *shape.People
				if found, err = peopleIn(a, c.Context(), x, live, x.Shape.Search(), false); err == nil {
					steps = append(steps, run.Step{What: "people readable", Works: true, More: foundIn(found)})
				} else if !errors.As(err, &no) {
					return err
				}
			}
			out := []run.Step{}
			for _, s := range []struct{ step, what string }{{"reach", "reached"}, {"trust", "certificate trusted"}, {"sign-on", "signed on"}, {"ask", "people readable"}} {
				if err != nil && no.Step == s.step {
					more := no.Err.Error()
					if no.Do != "" {
						more += "; " + no.Do
					}
					out = append(out, run.Step{What: s.what, More: more})
					break
				}
				switch {
				case s.step == "ask":
				case s.step == "trust" && l.Open: // no certificate is shown
				case s.step == "reach" && l.Open:
					out = append(out, run.Step{What: s.what, Works: true, More: "unencrypted"})
				default:
					out = append(out, run.Step{What: s.what, Works: true})
				}
			}
			return a.Tested(estate.Server{Name: args[0]}, append(out, steps...))
		},
	}
	sign.Flags(c)
	return c
}

// foundIn says who was found in a directory.
func foundIn(found *shape.People) string {
	users := 0
	for i := range found.People {
		if found.People[i].Kind == account.User {
			users++
		}
	}
	return fmt.Sprintf("%s, %s, %s", report.Count(int64(users), "user"), report.Count(int64(len(found.People)-users), "group"), report.Count(int64(len(found.Members)), "membership"))
}
