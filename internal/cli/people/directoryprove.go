package people

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/report/changes"
)

func directoryProve(a *run.App) *cobra.Command {
	var sign run.Signing
	c := &cobra.Command{
		Use:   "prove NAME",
		Short: "Compare every user's groups with the token that the directory itself gives",
		Long: `Compare every user's groups, at any depth, with the token that the directory itself
gives them (tokenGroups, at a domain), and print each difference. Ends with 1
where there is one. Special accounts that every user of a machine is are told, and
are no difference, as are identifiers that they and their groups had elsewhere.`,
		Example: "  tarnwold directory prove house", Args: cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDirectories,
		RunE: func(c *cobra.Command, args []string) error {
			x, live, err := a.DialDirectory(c.Context(), &sign, args[0])
			if err != nil {
				return err
			}
			defer live.Close()
			if x.Shape.Token == "" {
				return run.Misused("a directory of the shape %s tells no tokens", x.Shape.Name)
			}
			out := changes.DirectoryProof{Name: x.Name, Differences: []changes.TokenDifference{}}
			err = a.View(c.Context(), func(t *estate.Tx) error {
				users := slices.DeleteFunc(plan.KeptIn(t, x.Name), func(k plan.Kept) bool { return k.Kind != account.User || k.Gone() })
				bar := a.Progress(len(users), "asking "+x.Name)
				defer bar.End()
				dir := t.Directory()
				realms := map[account.ID]bool{}
				for _, g := range t.Builtins() {
					realm, _, _ := g.ID.Realm()
					realms[realm] = true
				}
				for i, u := range users {
					bar.Set(i)
					e, err := live.One(c.Context(), u.Entry, x.Shape.Token)
					if err != nil {
						return err
					}
					theirs := map[account.ID]bool{}
					for _, v := range e.Attrs.Of(x.Shape.Token) {
						id, n, err := account.FromBinary([]byte(v))
						if err != nil || n != len(v) {
							return fmt.Errorf("%s: %s is not an identifier", u.Entry, x.Shape.Token)
						}
						theirs[id] = true
					}
					out.Users++
					var realm account.ID // whose built-in groups are told here, and so are held to theirs
					if domain, _, ok := u.ID.Domain(); ok && realms[domain] {
						realm = domain
					}
					ours := account.NewToken(dir, u.ID, account.Traits{MailGroupsLeftOut: true, Realm: realm})
					for _, id := range ours.IDs() {
						if _, _, ok := id.Realm(); ok {
							continue // it stands there by the identifier that rules name
						}
						if id != u.ID && !theirs[id] {
							out.Differences = append(out.Differences, changes.TokenDifference{User: t.Name(u.ID), Group: t.Name(id), ID: id.String(), Here: true})
						}
						delete(theirs, id)
					}
					formers := account.NewToken(dir, u.ID, account.Traits{MailGroupsLeftOut: true, FormerIDs: true})
					for id := range theirs {
						if formers.Has(id) { // it counts what accounts had elsewhere
							out.Former++
							continue
						}
						_, builtin := id.Builtin()
						if _, ok := account.SpecialName(id); ok && (realm.IsZero() || !builtin) { // everybody's, which the route brings
							out.WellKnown++
							continue
						}
						out.Differences = append(out.Differences, changes.TokenDifference{User: t.Name(u.ID), Group: t.Name(id), ID: id.String()})
					}
				}
				return t.Err()
			})
			if err != nil {
				return err
			}
			changes.SortDifferences(out.Differences)
			if err := changes.DirectoryProven(a.Printer(), &out); err != nil {
				return err
			}
			if len(out.Differences) > 0 {
				return run.ErrNo
			}
			return nil
		},
	}
	sign.Flags(c)
	return c
}
