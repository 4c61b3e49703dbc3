package govern

import (
	"context"
	"io"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/exception"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/report/changes"
)

func KeeperCommand(a *run.App) *cobra.Command {
	return run.Holder("keeper", "Manage keepers: who is responsible for groups and places, and alone may change them",
		`  tarnwold keeper add ines --of group:wardrobe
  tarnwold keeper add board --of "//stagedoor/productions/Board Papers"
  tarnwold keeper list`,
		keeperSet(a, true), keeperList(a), keeperSet(a, false))
}

func keeperSet(a *run.App, on bool) *cobra.Command {
	var k run.Keeping
	var of []string
	c := &cobra.Command{
		Use: "add WHO", Short: "Make a user or group the keeper of groups, or of a place and all below it",
		Long: `Make a user, or everybody in a group, the keeper of groups or of a place. Where
there are keepers, only they (who acts, or --as) may change the members of the
groups, or the rules of the place and all below it, without --force. A group kept
by its name is not kept by a pattern that fits it; of places the nearest counts.
'manager of NAME' is whoever that user works for at the time, by what is known of
them (user show); nobody keeps it while that isn't known.`,
		Example: `  tarnwold keeper add 'manager of ruta' --of group:design-guests
  tarnwold keeper add ines --of 'group:acc-wardrobe-*'
  tarnwold keeper add warden --of //stagedoor/productions`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(0)),
		RunE: func(c *cobra.Command, args []string) error {
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
				if on {
					return keeper.AddKeeper(d, args[0], of)
				}
				return keeper.RemoveKeeper(d, args[0], of)
			})
		},
	}
	if !on {
		c.Use, c.Short, c.Long = "remove WHO", "Remove a keeper", ""
		c.Example = "  tarnwold keeper remove ines --of group:wardrobe"
	}
	k.PlainFlags(c)
	c.Flags().StringArrayVar(&of, "of", nil, "what is kept: group:`NAME`, with * and ? in it for many, or a place; may be given again")
	_ = c.MarkFlagRequired("of")
	_ = c.RegisterFlagCompletionFunc("of", a.CompletePlaces)
	return c
}

func keeperList(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List who keeps what", Example: "  tarnwold keeper list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var out []keeper.Keeper
			err := a.View(c.Context(), func(t *estate.Tx) (err error) {
				out, err = keeper.Keepers(t)
				return err
			})
			if err != nil {
				return err
			}
			return changes.Keepers(a.Printer(), out)
		},
	}
}

func DutiesCommand(a *run.App) *cobra.Command {
	var except string
	c := &cobra.Command{
		Use:   "duties",
		Short: "List who has conflicting duties: members and rules, asking and accepting, everything",
		Long: `List everybody who decides both on a group's members and on a place that group
opens, everybody who may accept a request of their own, and every administrator.
Exit code 1 says that there are any. --except FILE passes over those that are
meant so, one a line:

  except KIND WHO [WHERE] [until DAY] because REASON

KIND is both-keys, own-request or administrator; * stands for any.`,
		Example: `  tarnwold duties
  tarnwold duties --except duties.except`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := readExceptions(c.Context(), except)
			if err != nil {
				return err
			}
			var out []request.Duty
			err = a.View(c.Context(), func(t *estate.Tx) (err error) {
				out, err = request.Duties(plan.New(t, a.Who()))
				return err
			})
			if err != nil {
				return err
			}
			kept, passed := exception.Split(list, out, string(estate.Today()), dutyAbout)
			if err := changes.Duties(a.Printer(), kept, passed, list.Unused()); err != nil {
				return err
			}
			if len(kept) > 0 {
				return run.ErrNo
			}
			return nil
		},
	}
	exceptFlag(c, &except)
	return c
}

func exceptFlag(c *cobra.Command, except *string) {
	c.Flags().StringVar(except, "except", "", "a `file` of those that are meant so, each with its reason")
}

// readExceptions reads a file of exceptions; "" has none.
func readExceptions(ctx context.Context, file string) (exception.List, error) {
	if file == "" {
		return nil, nil
	}
	return run.ReadFile(ctx, file, func(r io.Reader, f string) (exception.List, error) { return exception.Read(r, f) })
}
