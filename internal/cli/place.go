package cli

import (
	"fmt"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

func (a *app) putCommand() *cobra.Command {
	var k keeping
	var folder bool
	var owner string
	c := &cobra.Command{
		Use:   "put FOLDER NAME",
		Short: "Make an item in the model as a user would",
		Long: `Make a file, or with --folder a folder, as the user named by --owner would: he
needs add-file or add-subdirectory on the folder by the way it is named, owns
the new item, and it inherits at that moment.`,
		Example: `  tarnwold put //stagedoor/productions/Timesheets "ines week 48.ods" --owner ines
  tarnwold put //stagedoor/productions/Wardrobe Repairs --folder --owner bram`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			return a.keepIf(c.Context(), k, func(t *estate.Tx, _ *estate.Meta) (string, error) {
				user, err := t.Named(owner, account.User)
				if err != nil {
					return "", err
				}
				in, err := t.Find(args[0])
				if err != nil {
					return "", err
				}
				q := newAsker(t).question(user.ID, in, in.Share)
				need := right.WriteData
				if folder {
					need = right.AppendData
				}
				if !verdict.Granted(q).Has(need) {
					return "", &estate.Refused{Why: fmt.Sprintf("%s has no %s on %s", user.Name, need.Names(true)[0], in.Via()), Do: fmt.Sprintf("see: tarnwold explain %s %q", user.Name, in.Via())}
				}
				d := rule.NewChild(t.Of(in.Strand), folder, user.ID, primaryOf(t, user), rule.PlainRules(user.ID))
				made, err := t.Put(in, args[1], folder, d)
				if err != nil {
					return "", err
				}
				if !a.quiet {
					if err := a.printItem(t, made); err != nil {
						return "", err
					}
				}
				return fmt.Sprintf("put %s as %s", made, user.Name), nil
			})
		},
	}
	k.plainFlags(c)
	c.Flags().BoolVar(&folder, "folder", false, "make a folder")
	c.Flags().StringVar(&owner, "owner", "", "the `user` who makes it")
	_ = c.MarkFlagRequired("owner")
	_ = c.RegisterFlagCompletionFunc("owner", a.completeAccounts(account.User))
	return c
}

// primaryOf gives a user's primary group, as a new item gets it.
func primaryOf(t *estate.Tx, user account.Account) account.ID {
	if !user.Primary.IsZero() {
		return user.Primary
	}
	if d, _, ok := user.ID.Domain(); ok {
		return d.Child(account.DomainUsersRID)
	}
	return account.ID{}
}

func (a *app) moveCommand() *cobra.Command {
	return a.carryCommand("move", "Move an item, and see what each person's access becomes",
		`Move an item with all below it to another folder of its server, into it or under
a new name. By the server's trait it keeps its inherited entries, stale until
something renews them, or takes those of its new folder.`,
		func(t *estate.Tx, from, to estate.Place, name string) (estate.Place, string, error) {
			made, err := t.Move(from, to, name)
			if err != nil {
				return made, "", err
			}
			how := "it keeps its entries; those from its old folder are stale until a reflow"
			if !from.Server.Traits.MovedKeeps {
				how = "it takes the entries of its new folder"
				p, err := over(t, []estate.Place{made})
				if err != nil {
					return made, "", err
				}
				p.forest.Renew = true
				p.forest.Edits[p.nodes[0]] = func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
					return d.Renewed(parent, folder), nil
				}
				if err := p.forest.Work(); err != nil {
					return made, "", err
				}
				t.Keep(p.forest)
			}
			return t.Place(made.Item), how, t.Err()
		})
}

func (a *app) copyCommand() *cobra.Command {
	return a.carryCommand("copy", "Copy an item, and see what each person's access is there",
		`Copy an item with all below it to a folder, of any server. A copy is made anew:
it takes what its new folder hands down, has no own entries, and belongs to the
acting account where that is a user of the estate, else to the owner of the
original.`,
		func(t *estate.Tx, from, to estate.Place, name string) (estate.Place, string, error) {
			owner, err := t.Named(a.who(), account.User)
			id := owner.ID
			if err != nil {
				id = t.Of(from.Strand).Owner
				owner, _ = t.Account(id)
			}
			made, n, err := t.Copy(from, to, name, id, primaryOf(t, owner))
			return made, report.Count(n, "item") + " made, owned by " + t.Name(id), err
		})
}

func (a *app) carryCommand(verb, short, long string, do func(t *estate.Tx, from, to estate.Place, name string) (estate.Place, string, error)) *cobra.Command {
	var k keeping
	c := &cobra.Command{
		Use: verb + " FROM TO", Short: short, Long: long,
		Example: fmt.Sprintf(`  tarnwold %[1]s "//stagedoor/productions/Wardrobe/Sketches/act one, ball gown.png" //stagedoor/productions/Archive
  tarnwold %[1]s //stagedoor/productions/Lighting/Plots "//stagedoor/productions/Archive/Plots 2026"`, verb),
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.completePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			return a.keepIf(c.Context(), k, func(t *estate.Tx, _ *estate.Meta) (string, error) {
				from, err := t.Find(args[0])
				if err != nil {
					return "", err
				}
				to, name, err := t.Landing(args[1], from.Name())
				if err != nil {
					return "", err
				}
				before := accessOf(t, from)
				source := from.String()
				made, how, err := do(t, from, to, name)
				if err != nil {
					return "", err
				}
				if !a.quiet {
					a.say("%s is now %s: %s.", source, made, how)
					if err := a.printAccessChange(before, accessOf(t, made)); err != nil {
						return "", err
					}
				}
				return fmt.Sprintf("%s %s to %s", verb, source, made), t.Err()
			})
		},
	}
	k.plainFlags(c)
	return c
}

// accessOf gives every user's level on a place by every route: user → route → level.
func accessOf(t *estate.Tx, place estate.Place) map[string]map[string]string {
	k := newAsker(t)
	k.brief = true
	out := map[string]map[string]string{}
	place.Share = nil
	for _, u := range t.Accounts(account.User) {
		levels := map[string]string{}
		for _, sh := range t.Through(place) {
			levels[sh.Address(place.Server)] = k.answer(u, place, &sh).Level
		}
		levels["local"] = k.answer(u, place, nil).Level
		out[u.Name] = levels
	}
	return out
}

// printAccessChange lists whose access is another one by each route.
func (a *app) printAccessChange(before, after map[string]map[string]string) error {
	type key struct{ route, was, is string }
	users := map[key][]string{}
	var order []key
	note := func(u, route, was, is string) {
		if was == is {
			return
		}
		k := key{route, was, is}
		if users[k] == nil {
			order = append(order, k)
		}
		users[k] = append(users[k], u)
	}
	for u := range after {
		for route, is := range after[u] {
			was, ok := before[u][route]
			if !ok {
				was = "not there"
			}
			note(u, route, was, is)
		}
		for route, was := range before[u] {
			if _, ok := after[u][route]; !ok {
				note(u, route, was, "not there")
			}
		}
	}
	sort.Slice(order, func(i, j int) bool {
		x, y := order[i], order[j]
		if x.route != y.route {
			return x.route < y.route
		}
		return x.was+x.is < y.was+y.is
	})
	if len(order) == 0 {
		a.say("Nobody's access changes.")
		return nil
	}
	g := report.Grid{Heads: []string{"who", "through", "was", "becomes"}, Wrap: map[string]int{"who": 50}}
	for _, k := range order {
		sort.Strings(users[k])
		g.Rows = append(g.Rows, []string{strings.Join(users[k], ", "), k.route, k.was, k.is})
	}
	return a.printer().Grid(g)
}
