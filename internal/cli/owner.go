package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

func (a *app) ownerCommand() *cobra.Command {
	var k keeping
	var f targets
	var to string
	var below bool
	c := &cobra.Command{
		Use:   "owner WHERE…",
		Short: "Show who owns items, or hand ownership on",
		Long: `Show who owns items and what that brings; with --to, hand ownership on, with
--below for everything below too.

An administrator of the server may give ownership to anyone. Another user of the
estate who acts (--as) may only take it for himself, and needs write-owner on
the item for that. Inherited entries that stood for the former owner stay until
they are renewed: see differs and reflow.`,
		Example: `  tarnwold owner "//stagedoor/productions/Archive/Tour 2024"
  tarnwold owner "//stagedoor/productions/Archive/Tour 2024" --to warden --below`,
		ValidArgsFunction: a.completePlaces,
	}
	k.flags(c)
	f.flags(c, a)
	c.Args = f.enough(0)
	c.Flags().StringVar(&to, "to", "", "hand ownership to this `account`")
	c.Flags().BoolVar(&below, "below", false, "everything below too")
	_ = c.RegisterFlagCompletionFunc("to", a.completeAccounts(0))
	c.RunE = func(c *cobra.Command, args []string) error {
		if to == "" {
			if below {
				return misused("--below goes with --to")
			}
			return a.showOwners(c, &f, args)
		}
		return a.propose(c.Context(), k, func(t *estate.Tx) (*proposal, error) {
			owner, err := t.Who(to)
			if err != nil {
				return nil, err
			}
			places, err := f.find(t, args)
			if err != nil {
				return nil, err
			}
			p, err := over(t, places)
			if err != nil {
				return nil, err
			}
			edit := change.Edit(func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) { return d.OwnedBy(owner), nil })
			for i := range p.forest.Nodes {
				p.forest.Edits[i] = edit
			}
			if !below {
				clear(p.forest.Edits)
				for _, n := range p.nodes {
					p.forest.Edits[n] = edit
				}
			}
			p.renews = below
			p.summary, p.nothing = fmt.Sprintf("owner of %s to %s", f.places(args), to), t.Name(owner)+" owns it already"
			if err := p.forest.Work(); err != nil {
				return nil, err
			}
			p.renews = below
			return p, a.mayHandOn(t, p, owner)
		})
	}
	return c
}

// mayHandOn holds the acting account to the rules of ownership.
func (a *app) mayHandOn(t *estate.Tx, p *proposal, owner account.ID) error {
	actor, err := t.Named(a.who(), account.User)
	if err != nil {
		return nil // acts on the model from outside it
	}
	k := newAsker(t)
	for i := range p.forest.Nodes {
		if !p.forest.Nodes[i].Changed() {
			continue
		}
		place, ok := somePlace(t, p, i)
		if !ok {
			continue
		}
		q := k.question(actor.ID, place, nil)
		q.Item = p.forest.Nodes[i].Before
		if q.Administrator {
			continue
		}
		if owner != actor.ID {
			return &estate.Refused{Why: fmt.Sprintf("%s is no administrator of %s, and only an administrator may give ownership to another", actor.Name, place.Server.Name),
				Do: fmt.Sprintf("%s can take it: --to %s", actor.Name, actor.Name)}
		}
		if !verdict.Granted(q).Has(right.WriteOwner) {
			return &estate.Refused{Why: fmt.Sprintf("%s has no write-owner on %s, which taking ownership needs", actor.Name, place)}
		}
	}
	return t.Err()
}

func (a *app) showOwners(c *cobra.Command, f *targets, args []string) error {
	return a.view(c.Context(), func(t *estate.Tx) error {
		places, err := f.find(t, args)
		if err != nil {
			return err
		}
		g := report.Grid{Heads: []string{"place", "kind", "owner", "owning brings"}}
		for _, p := range places {
			d := t.Of(p.Strand)
			brings := rule.OwnersOwn(d).String()
			if rule.OwnersOwn(d) == 0 {
				brings = "only what the entries for owner@ say"
			}
			g.Rows = append(g.Rows, []string{p.String(), kindOf(p.Folder), t.Name(d.Owner), brings})
		}
		return a.printer().Grid(g)
	})
}

func (a *app) ownedCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "owned WHO [WHERE]",
		Short: "List all that someone owns, anywhere or below a place",
		Example: `  tarnwold owned silas
  tarnwold owned silas //stagedoor/productions/Archive`,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.completeWhoWhere,
		RunE: func(c *cobra.Command, args []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				who, err := t.Who(args[0])
				if err != nil {
					return err
				}
				var found []estate.Place
				if len(args) == 2 {
					p, err := t.Find(args[1])
					if err != nil {
						return err
					}
					found = t.Owned(who, &p.Server, p.Path)
				} else {
					found = t.Owned(who, nil, "")
				}
				p := a.printer()
				p.Line("%s owns %s", report.Strong(t.Name(who)), report.Count(int64(len(found)), "item"))
				g := report.Grid{Heads: []string{"place", "kind"}}
				for _, x := range found {
					g.Rows = append(g.Rows, []string{x.String(), kindOf(x.Folder)})
				}
				return p.Grid(g)
			})
		},
	}
}

func (a *app) levelCommand() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the levels, weakest first", Example: "  tarnwold level list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				g := report.Grid{Heads: []string{"level", "on a folder", "on a file", "what it is for", "note"}}
				for _, l := range t.Levels() {
					note := "the estate's own"
					if right.IsBuiltin(l.Name) {
						note = ""
					}
					g.Rows = append(g.Rows, []string{l.Name, mask(l.Folder), mask(l.File), l.About, note})
				}
				return a.printer().Grid(g)
			})
		},
	}
	show := &cobra.Command{
		Use: "show LEVEL", Short: "Explain a level, right by right", Example: "  tarnwold level show revise", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				what, err := parseLevel(t, args[0])
				if err != nil {
					return err
				}
				p := a.printer()
				if l, ok := t.Levels().Lookup(args[0]); ok {
					p.Line("%s: %s\n", report.Strong(l.Name), l.About)
				}
				g := report.Grid{Heads: []string{"right", "folder", "file", "what it allows"}}
				for i := range right.Count {
					r := right.At(i)
					if what.Folder&r == 0 && what.File&r == 0 {
						continue
					}
					name := r.Names(false)[0]
					if other := r.Names(true)[0]; other != name {
						name += ", " + other
					}
					g.Rows = append(g.Rows, []string{name, yesNo(what.Folder&r != 0), yesNo(what.File&r != 0), right.Sentence(r)})
				}
				return p.Grid(g)
			})
		},
	}
	var folder, file, about string
	add := &cobra.Command{
		Use: "add NAME", Short: "Add a level of the estate's own",
		Long:    "Add a level of the estate's own from levels and rights joined by commas. Without\n--file the level speaks of folders only.",
		Example: `  tarnwold level add proofread --folder read --file read,write-data,append-data --about "read, and correct what is there"`,
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				l := right.Level{Name: args[0], About: about}
				on, err := parseLevel(t, folder)
				if err != nil {
					return "", err
				}
				l.Folder = on.Folder
				if file != "" {
					if on, err = parseLevel(t, file); err != nil {
						return "", err
					}
					l.File = on.File
				}
				a.say("level %s added", l.Name)
				return "level " + l.Name + " added", t.AddLevel(l)
			})
		},
	}
	add.Flags().StringVar(&folder, "folder", "", "what it allows on a folder, as levels and rights")
	add.Flags().StringVar(&file, "file", "", "what it allows on a file, as levels and rights")
	add.Flags().StringVar(&about, "about", "", "what it lets a person do, in a few words")
	_ = add.MarkFlagRequired("folder")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a level of the estate's own; entries keep their rights", Example: "  tarnwold level remove proofread", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				a.say("level %s removed", args[0])
				return "level " + args[0] + " removed", t.RemoveLevel(args[0])
			})
		},
	}
	return holder("level", "Know the levels, and add some of your own", "  tarnwold level list\n  tarnwold level show revise", list, show, add, remove)
}

func mask(s right.Set) string {
	if s == 0 {
		return "–"
	}
	return strings.ToLower(fmt.Sprintf("0x%x", uint32(s)))
}
