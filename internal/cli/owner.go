package cli

import (
	"fmt"

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
