package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

func (a *app) userCommand() *cobra.Command {
	return holder("user", "Know the users",
		`  tarnwold user list
  tarnwold user show ines`,
		a.accountAdd(account.User), a.accountList(account.User), a.userShow(), a.accountRemove(account.User))
}

func (a *app) groupCommand() *cobra.Command {
	return holder("group", "Know the groups, and who is in them",
		`  tarnwold group show acc-wardrobe-edit
  tarnwold group join wardrobe bram ines
  tarnwold group leave wardrobe bram`,
		a.accountAdd(account.Group), a.accountList(account.Group), a.groupShow(), a.groupJoin(), a.groupLeave(), a.accountRemove(account.Group))
}

func (a *app) accountAdd(kind account.Kind) *cobra.Command {
	var sid, purpose, primary string
	var id int64
	c := &cobra.Command{
		Use:     "add NAME…",
		Short:   fmt.Sprintf("Add a %s", kind),
		Example: map[account.Kind]string{account.User: "  tarnwold user add petra --primary foyer", account.Group: "  tarnwold group add acc-programme-read --purpose access"}[kind],
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, names []string) error {
			if len(names) > 1 && (sid != "" || id != account.NoPOSIX) {
				return misused("--sid and --id say who one account is, and %d are named", len(names))
			}
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				for _, name := range names {
					acc := account.Account{Kind: kind, Name: name, POSIX: id}
					var err error
					if sid != "" {
						if acc.ID, err = account.ParseID(sid); err != nil {
							return "", usageError{err}
						}
					}
					if acc.Purpose, err = account.ParsePurpose(purpose); err != nil {
						return "", usageError{err}
					}
					if primary != "" {
						g, err := t.Named(primary, account.Group)
						if err != nil {
							return "", err
						}
						acc.Primary = g.ID
					}
					acc, err = t.AddAccount(acc)
					if err != nil {
						return "", err
					}
					a.say("%s %s added, %s", kind, t.Name(acc.ID), acc.ID)
				}
				return fmt.Sprintf("%s %s added", kind, strings.Join(names, ", ")), nil
			})
		},
	}
	f := c.Flags()
	f.StringVar(&sid, "sid", "", "the account's own `identifier`, S-1-…")
	f.Int64Var(&id, "id", account.NoPOSIX, "the account's uid or gid; -1: none")
	if kind == account.Group {
		f.StringVar(&purpose, "purpose", "", "what the group is for: role, access or mail")
	} else {
		f.StringVar(&primary, "primary", "", "the user's primary `group`")
	}
	return c
}

func (a *app) accountList(kind account.Kind) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   fmt.Sprintf("List the %ss", kind),
		Example: fmt.Sprintf("  tarnwold %s list", kind),
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				g := report.Grid{Heads: []string{"user", "id", "primary group", "member of", "identifier"}}
				d := t.Directory()
				if kind == account.Group {
					g.Heads = []string{"group", "id", "purpose", "members", "member of", "identifier"}
				}
				for _, acc := range t.Accounts(kind) {
					id := ""
					if acc.POSIX != account.NoPOSIX {
						id = strconv.FormatInt(acc.POSIX, 10)
					}
					of := names(t, d.GroupsOf(acc.ID))
					if kind == account.Group {
						g.Rows = append(g.Rows, []string{t.Name(acc.ID), id, string(acc.Purpose), names(t, d.MembersOf(acc.ID)), of, acc.ID.String()})
						continue
					}
					primary := ""
					if !acc.Primary.IsZero() {
						primary = t.Name(acc.Primary)
					}
					g.Rows = append(g.Rows, []string{acc.Name, id, primary, of, acc.ID.String()})
				}
				return a.printer().Grid(g)
			})
		},
	}
}

func names(t *estate.Tx, ids []account.ID) string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = t.Name(id)
	}
	return strings.Join(out, ", ")
}

func (a *app) userShow() *cobra.Command {
	return &cobra.Command{
		Use:               "show USER",
		Short:             "Show a user and every group he is in, with the way there",
		Example:           "  tarnwold user show ines",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeAccounts(account.User),
		RunE: func(c *cobra.Command, args []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				u, err := t.Named(args[0], account.User)
				if err != nil {
					return err
				}
				tok := account.NewToken(t, u.ID, account.Traits{})
				p := a.printer()
				p.Line("%s, %s", report.Strong(t.Name(u.ID)), u.ID)
				if u.POSIX != account.NoPOSIX {
					p.Line("  uid %d", u.POSIX)
				}
				g := report.Grid{Heads: []string{"group", "by way of", "note"}}
				for _, acc := range t.Accounts(account.Group) {
					links := tok.Chain(acc.ID)
					if links == nil {
						continue
					}
					note := ""
					if links[1].Step == account.PrimaryOf {
						note = "primary group"
						if len(links) > 2 {
							note = "by the primary group"
						}
					}
					g.Rows = append(g.Rows, []string{t.Name(acc.ID), chain(t, links), note})
				}
				if len(g.Rows) == 0 {
					p.Line("  in no group")
				}
				return p.Grid(g)
			})
		},
	}
}

// chain writes the names along a chain, each identifier of one account once.
func chain(t *estate.Tx, links []account.Link) string {
	return strings.Join(chainNames(t, links), " → ")
}

func chainNames(t *estate.Tx, links []account.Link) []string {
	var out []string
	for _, l := range links {
		out = append(out, t.Name(l.ID))
	}
	return out
}

func (a *app) groupShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show GROUP",
		Short: "Show a group and its members at any depth, with the way there",
		Long: `Show a group and everyone who is in it at any depth, each with the chain of
groups between. Users whose primary group it is count although no member list
shows them; they are marked.`,
		Example:           "  tarnwold group show acc-wardrobe-edit",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeAccounts(account.Group),
		RunE: func(c *cobra.Command, args []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				acc, err := t.Named(args[0], account.Group)
				if err != nil {
					return err
				}
				d := t.Directory()
				p := a.printer()
				purpose := ""
				if acc.Purpose != account.Unsaid {
					purpose = ", purpose " + string(acc.Purpose)
				}
				p.Line("%s, %s%s", report.Strong(t.Name(acc.ID)), acc.ID, purpose)
				if of := d.GroupsOf(acc.ID); len(of) > 0 {
					p.Line("  itself in %s", names(t, of))
				}
				g := report.Grid{Heads: []string{"member", "kind", "by way of", "until", "note"}}
				users := 0
				for _, m := range d.MembersBelow(acc.ID) {
					kind, until, note := "unknown", t.Until(m.Chain[1], m.ID), ""
					if x, ok := d.Account(m.ID); ok {
						kind = x.Kind.String()
						if x.Kind == account.User {
							users++
						}
					}
					if m.Primary {
						note = "primary group, on no list"
					}
					way := make([]string, len(m.Chain))
					for i, id := range m.Chain {
						way[i] = t.Name(id)
					}
					g.Rows = append(g.Rows, []string{t.Name(m.ID), kind, strings.Join(way, " → "), until, note})
				}
				p.Line("  %s at any depth\n", report.Count(int64(users), "user"))
				return p.Grid(g)
			})
		},
	}
}

func (a *app) groupJoin() *cobra.Command {
	var until string
	var k keeping
	c := &cobra.Command{
		Use:   "join GROUP MEMBER…",
		Short: "Make users or groups members of a group, and see what that opens",
		Example: `  tarnwold group join wardrobe bram ines
  tarnwold group join acc-wardrobe-edit wardrobe --until 2027-03-31`,
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: a.completeAccounts(0),
		RunE: func(c *cobra.Command, args []string) error {
			if err := day(until); err != nil {
				return err
			}
			return a.members(c, args, k, func(t *estate.Tx, g, m account.Account) error {
				if err := t.Join(g, m, until); err != nil {
					return err
				}
				a.say("%s is now in %s", t.Name(m.ID), t.Name(g.ID))
				return nil
			}, "joined")
		},
	}
	k.plainFlags(c)
	c.Flags().StringVar(&until, "until", "", "the last `day` of the membership, as 2027-03-31")
	return c
}

func (a *app) groupLeave() *cobra.Command {
	var k keeping
	c := &cobra.Command{
		Use:               "leave GROUP MEMBER…",
		Short:             "End memberships of a group, and see what that closes",
		Example:           "  tarnwold group leave wardrobe bram",
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: a.completeAccounts(0),
		RunE: func(c *cobra.Command, args []string) error {
			return a.members(c, args, k, func(t *estate.Tx, g, m account.Account) error {
				if err := t.Leave(g, m); err != nil {
					return err
				}
				a.say("%s is no longer listed in %s", t.Name(m.ID), t.Name(g.ID))
				return nil
			}, "left")
		},
	}
	k.plainFlags(c)
	return c
}

// members changes memberships of the group named first, and shows what that
// opens and closes everywhere. Where nobody can be asked it goes ahead.
func (a *app) members(c *cobra.Command, args []string, k keeping, each func(t *estate.Tx, g, m account.Account) error, verb string) error {
	k.yes = k.yes || !a.asks
	return a.keepIf(c.Context(), k, func(t *estate.Tx, _ *estate.Meta) (string, error) {
		was := t.Directory()
		g, err := t.Named(args[0], account.Group)
		if err != nil {
			return "", err
		}
		for _, name := range args[1:] {
			m, err := t.Named(name, 0)
			if err != nil {
				return "", err
			}
			if err := each(t, g, m); err != nil {
				return "", err
			}
		}
		if !a.quiet && a.format == report.Table {
			p, err := everywhere(t, was)
			if err != nil {
				return "", err
			}
			rows, _, err := impactOf(t, p)
			if err != nil {
				return "", err
			}
			if err := a.printImpact(rows); err != nil {
				return "", err
			}
			a.printer().Line("")
		}
		return fmt.Sprintf("%s %s %s", strings.Join(args[1:], ", "), verb, args[0]), nil
	})
}

func (a *app) accountRemove(kind account.Kind) *cobra.Command {
	return &cobra.Command{
		Use:               "remove NAME…",
		Short:             fmt.Sprintf("Remove a %s that no rules name any more", kind),
		Example:           map[account.Kind]string{account.User: "  tarnwold user remove lark", account.Group: "  tarnwold group remove volunteers"}[kind],
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.completeAccounts(kind),
		RunE: func(c *cobra.Command, args []string) error {
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				for _, name := range args {
					acc, err := t.Named(name, kind)
					if err != nil {
						return "", err
					}
					if err := t.RemoveAccount(acc); err != nil {
						return "", err
					}
					a.say("%s %s removed", kind, acc.Name)
				}
				return fmt.Sprintf("%s %s removed", kind, strings.Join(args, ", ")), nil
			})
		},
	}
}
