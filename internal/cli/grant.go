package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

func (a *app) grantCommand() *cobra.Command {
	return a.giveCommand(rule.Allow, &cobra.Command{
		Use:   "grant WHO LEVEL WHERE…",
		Short: "Give a group or user a level on items",
		Long: `Give a group or user a level on items: an allow entry on each, handed down to
everything below that takes entries from above. LEVEL is a level, rights by
name, or both, joined by commas. Without --scope the entry covers the folder
and everything below.`,
		Example: `  tarnwold grant wardrobe edit //stagedoor/productions/Wardrobe
  tarnwold grant lighting read,add-file //stagedoor/productions/Lighting --scope here+folders
  tarnwold grant foyer read "//stagedoor/productions/Box Office/rota.ods" --dry-run
  tarnwold grant stage edit //stagedoor/programme --share`,
	})
}

func (a *app) denyCommand() *cobra.Command {
	return a.giveCommand(rule.Deny, &cobra.Command{
		Use:   "deny WHO LEVEL WHERE…",
		Short: "Refuse a group or user a level on items",
		Long: `Refuse a group or user a level on items: a deny entry on each, before the allow
entries set there, handed down to everything below that takes entries from
above. An allow entry set on an item below still comes first there.`,
		Example: `  tarnwold deny volunteers full "//stagedoor/productions/Box Office/Ledgers"
  tarnwold deny lark delete stagedoor:/srv/playhouse/Archive --scope tree`,
	})
}

// entryFlags are the flags that say which entry of an item or share is meant.
type entryFlags struct {
	keeping
	scope string
	share bool
}

func (f *entryFlags) flags(c *cobra.Command) {
	f.keeping.flags(c)
	c.Flags().StringVar(&f.scope, "scope", "", "what the entry covers: here, folders, files joined by +, tree (the default), below; \"once\" after it for the first layer only")
	c.Flags().BoolVar(&f.share, "share", false, "change the share's own rules instead; WHERE is //SERVER/SHARE")
	_ = c.RegisterFlagCompletionFunc("scope", cobra.FixedCompletions([]string{"here", "folders", "files", "tree", "below", "here+files", "here+folders"}, cobra.ShellCompDirectiveNoFileComp))
}

func (f *entryFlags) read() (rule.Scope, error) {
	if f.share {
		if f.scope != "" {
			return 0, misused("entries of a share have no scope")
		}
		return rule.Here, nil
	}
	if f.scope == "" {
		return rule.Tree, nil
	}
	s, err := rule.ParseScope(f.scope)
	if err != nil {
		return 0, usageError{err}
	}
	return s, nil
}

func (a *app) giveCommand(kind rule.Kind, c *cobra.Command) *cobra.Command {
	var f entryFlags
	f.flags(c)
	c.Args = cobra.MinimumNArgs(3)
	c.ValidArgsFunction = a.completeWhoLevelWhere
	c.RunE = func(c *cobra.Command, args []string) error {
		scope, err := f.read()
		if err != nil {
			return err
		}
		return a.propose(c.Context(), f.keeping, func(t *estate.Tx) (*proposal, error) {
			line, err := entryLine(t, kind, args[0], args[1], scope)
			if err != nil {
				return nil, err
			}
			p, err := a.give(t, line, args[2:], f.share)
			if err != nil {
				return nil, err
			}
			p.summary = fmt.Sprintf("%s %s %s on %s", kind, args[0], args[1], strings.Join(args[2:], ", "))
			p.nothing = t.Name(line.Who) + " has just that entry there already"
			return p, nil
		})
	}
	return c
}

// entryLine reads who and what of an entry, and refuses an account that can't
// carry one.
func entryLine(t *estate.Tx, kind rule.Kind, who, what string, scope rule.Scope) (rule.Line, error) {
	l := rule.Line{Kind: kind, Scope: scope}
	var err error
	if l.Who, err = t.Who(who); err != nil {
		return l, err
	}
	if acc, ok := t.Account(l.Who); ok && acc.Purpose == account.Mail {
		return l, &estate.Refused{Why: fmt.Sprintf("%s is a mail group, and a mail group can't carry an entry", t.Name(l.Who)), Do: "name a role or access group"}
	}
	l.What, err = parseLevel(t, what)
	return l, err
}

func parseLevel(t *estate.Tx, what string) (right.What, error) {
	levels := t.Levels()
	w, err := levels.Parse(what)
	var unknown *right.NameError
	if errors.As(err, &unknown) {
		names := right.AllNames()
		for _, l := range levels {
			names = append(names, l.Name)
		}
		return w, &estate.NotFound{What: "level or right", Name: unknown.Name, Near: estate.Nearest(unknown.Name, names)}
	}
	if err != nil {
		return w, usageError{err}
	}
	return w, nil
}

func (a *app) give(t *estate.Tx, line rule.Line, where []string, share bool) (*proposal, error) {
	if share {
		return onShares(t, where, func(d *rule.Descriptor) (*rule.Descriptor, error) {
			es, err := line.Entries(true)
			if err != nil {
				return nil, usageError{err}
			}
			return d.Give(es, 0)
		})
	}
	return onItems(t, where, func(place estate.Place) change.Edit {
		return func(d, _ *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			es, err := line.Entries(folder)
			if err != nil {
				return nil, &estate.Refused{Why: fmt.Sprintf("%s: %v", place, err), When: err}
			}
			after, err := d.Give(es, 0)
			if errors.Is(err, rule.ErrAbsent) {
				return nil, &estate.Refused{Why: fmt.Sprintf("%s: %v", place, err), When: err}
			}
			return after, err
		}
	})
}

func (a *app) revokeCommand() *cobra.Command {
	var f entryFlags
	c := &cobra.Command{
		Use:   "revoke WHO WHERE…",
		Short: "Take away the entries set for a group or user",
		Long: `Take away the entries, allow and deny, that are set on items for a group or
user, and with them what was handed down to everything below. Entries that come
from above stay: revoke them where they are set. --scope takes away only
entries of that scope.`,
		Example: `  tarnwold revoke wardrobe //stagedoor/productions/Wardrobe
  tarnwold revoke lark stagedoor:/srv/playhouse/Archive --scope tree --yes
  tarnwold revoke stage //stagedoor/programme --share`,
		Args: cobra.MinimumNArgs(2),
	}
	f.flags(c)
	c.ValidArgsFunction = func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 {
			return a.completeAccounts(0)(c, args, begun)
		}
		return a.completePlaces(c, args, begun)
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		scope, err := f.read()
		if err != nil {
			return err
		}
		return a.propose(c.Context(), f.keeping, func(t *estate.Tx) (*proposal, error) {
			which := rule.Which{}
			if which.Who, err = t.Who(args[0]); err != nil {
				return nil, err
			}
			if f.scope != "" {
				which.Scope = &scope
			}
			p, err := a.take(t, which, args[1:], f.share)
			if err != nil {
				return nil, err
			}
			p.summary = fmt.Sprintf("revoke %s on %s", args[0], strings.Join(args[1:], ", "))
			p.nothing = "no such entry is set there"
			return p, nil
		})
	}
	return c
}

func (a *app) take(t *estate.Tx, which rule.Which, where []string, share bool) (*proposal, error) {
	if share {
		return onShares(t, where, func(d *rule.Descriptor) (*rule.Descriptor, error) { return d.Take(which, false), nil })
	}
	return onItems(t, where, func(place estate.Place) change.Edit {
		return func(d, _ *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			after := d.Take(which, folder)
			if after != d {
				return after, nil
			}
			for _, e := range d.Rules.FromAbove() {
				if e.Who == which.Who {
					from, _ := origin(place, t.Above(place), e)
					return nil, &estate.Refused{
						Why: fmt.Sprintf("no such entry is set on %s; %s comes from above (%s)", place, language(t).Write(e, folder), from),
						Do:  "revoke it there",
					}
				}
			}
			return d, nil
		}
	})
}

// completeWhoLevelWhere offers accounts, then levels, then places.
func (a *app) completeWhoLevelWhere(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return a.completeAccounts(0)(c, args, begun)
	case 1:
		var out []string
		_ = a.view(c.Context(), func(t *estate.Tx) error {
			for _, l := range t.Levels() {
				out = append(out, l.Name+"\t"+l.About)
			}
			return nil
		})
		return out, cobra.ShellCompDirectiveNoFileComp
	}
	return a.completePlaces(c, args, begun)
}
