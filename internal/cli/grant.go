package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

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
	targets
	scope string
	share bool
	at    int
	until string
}

func (f *entryFlags) flags(c *cobra.Command, a *app) {
	f.keeping.flags(c)
	f.targets.flags(c, a)
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
	f.flags(c, a)
	c.Flags().IntVar(&f.at, "at", 0, "put the entry at this place in the list, against canonical order; 1 is the first")
	c.Flags().StringVar(&f.until, "until", "", "the last `day` of the entry, as 2027-03-31; tarnwold expire takes it away after")
	c.Args = f.enough(2)
	c.ValidArgsFunction = a.completeWhoLevelWhere
	c.RunE = func(c *cobra.Command, args []string) error {
		scope, err := f.read()
		if err == nil {
			err = day(f.until)
		}
		if err != nil {
			return err
		}
		if f.share && f.until != "" {
			return misused("entries of a share take no last day")
		}
		return a.propose(c.Context(), f.keeping, func(t *estate.Tx) (*proposal, error) {
			line, err := entryLine(t, kind, args[0], args[1], scope)
			if err != nil {
				return nil, err
			}
			p, err := a.give(t, line, args[2:], &f)
			if err != nil {
				return nil, err
			}
			p.summary = fmt.Sprintf("%s %s %s on %s", kind, args[0], args[1], f.places(args[2:]))
			if f.until != "" {
				p.summary += " until " + f.until
			}
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

func (a *app) give(t *estate.Tx, line rule.Line, where []string, f *entryFlags) (*proposal, error) {
	if f.share {
		return onShares(t, where, func(d *rule.Descriptor) (*rule.Descriptor, error) {
			es, err := line.Entries(true)
			if err != nil {
				return nil, usageError{err}
			}
			return d.Give(es, f.at)
		})
	}
	places, err := f.find(t, where)
	if err != nil {
		return nil, err
	}
	p, err := onItems(t, places, func(place estate.Place) change.Edit {
		return func(d, _ *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			es, err := line.Entries(folder)
			if err == nil {
				var after *rule.Descriptor
				if after, err = d.Give(es, f.at); err == nil {
					return after, nil
				}
			}
			return nil, &estate.Refused{Why: fmt.Sprintf("%s: %v", place, err), When: err}
		}
	})
	if err != nil || f.until == "" {
		return p, err
	}
	for _, place := range p.places {
		es, err := line.Entries(place.Folder)
		if err != nil {
			return nil, err
		}
		also := p.also
		p.also = func(t *estate.Tx) {
			if also != nil {
				also(t)
			}
			t.SetDeadline(place.Item, es, f.until)
		}
	}
	p.lines = append(p.lines, "Until "+f.until+".")
	return p, nil
}

// places names the places of a command for the journal.
func (f *targets) places(where []string) string {
	s := strings.Join(where, ", ")
	if f.from != "" {
		s += " from " + f.from
	}
	if f.ownedBy != "" {
		s += " owned by " + f.ownedBy
	}
	return strings.TrimSpace(s)
}

func (a *app) revokeCommand() *cobra.Command {
	var f entryFlags
	var level, kind string
	c := &cobra.Command{
		Use:   "revoke WHO WHERE…",
		Short: "Take away the entries set for a group or user",
		Long: `Take away the entries, allow and deny, that are set on items for a group or
user, and with them what was handed down to everything below. Entries that come
from above stay: revoke them where they are set. --level takes only that level's
rights out of them, --entries only the allow, deny or audit ones, --scope only
those of that scope.`,
		Example: `  tarnwold revoke wardrobe //stagedoor/productions/Wardrobe
  tarnwold revoke lark stagedoor:/srv/playhouse/Archive --scope tree --yes
  tarnwold revoke volunteers "//stagedoor/productions/Box Office/Ledgers" --entries deny
  tarnwold revoke acc-lighting-edit //stagedoor/productions/Lighting --level delete
  tarnwold revoke stage //stagedoor/vault --share`,
	}
	f.flags(c, a)
	c.Args = f.enough(1)
	c.Flags().StringVar(&level, "level", "", "only these rights: a level, rights, or both joined by commas")
	c.Flags().StringVar(&kind, "entries", "", "only entries of this kind: allow, deny or audit")
	c.ValidArgsFunction = a.completeWhoWhere
	c.RunE = func(c *cobra.Command, args []string) error {
		scope, err := f.read()
		if err != nil {
			return err
		}
		which := rule.Which{}
		switch kind {
		case "":
		case "allow":
			which.Kinds = []rule.Kind{rule.Allow}
		case "deny":
			which.Kinds = []rule.Kind{rule.Deny}
		case "audit":
			which.Kinds = []rule.Kind{rule.Audit}
		default:
			return misused("%q is no kind of entry: allow, deny or audit", kind)
		}
		if f.scope != "" {
			which.Scope = &scope
		}
		return a.propose(c.Context(), f.keeping, func(t *estate.Tx) (*proposal, error) {
			if which.Who, err = t.Who(args[0]); err != nil {
				return nil, err
			}
			if level != "" {
				what, err := parseLevel(t, level)
				if err != nil {
					return nil, err
				}
				which.What = &what
			}
			p, err := a.take(t, which, args[1:], &f)
			if err != nil {
				return nil, err
			}
			p.summary = fmt.Sprintf("revoke %s on %s", args[0], f.places(args[1:]))
			p.nothing = "no such entry is set there"
			return p, nil
		})
	}
	return c
}

func (a *app) take(t *estate.Tx, which rule.Which, where []string, f *entryFlags) (*proposal, error) {
	if f.share {
		return onShares(t, where, func(d *rule.Descriptor) (*rule.Descriptor, error) { return d.Take(which, false), nil })
	}
	places, err := f.find(t, where)
	if err != nil {
		return nil, err
	}
	return onItems(t, places, func(place estate.Place) change.Edit {
		return func(d, _ *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			after := d.Take(which, folder)
			if after != d || len(places) > 1 {
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

func (a *app) replaceCommand() *cobra.Command {
	var f entryFlags
	c := &cobra.Command{
		Use:   "replace WHO LEVEL WHERE…",
		Short: "Give a group or user another level in place of the one set there",
		Long: `Replace what is allowed to a group or user on items: the allow entries set
there for it go, and one with the new level comes in the same scope unless
--scope says another.`,
		Example: `  tarnwold replace acc-lighting-edit revise //stagedoor/productions/Lighting
  tarnwold replace stage edit //stagedoor/vault --share`,
	}
	f.flags(c, a)
	c.Args = f.enough(2)
	c.ValidArgsFunction = a.completeWhoLevelWhere
	c.RunE = func(c *cobra.Command, args []string) error {
		scope, err := f.read()
		if err != nil {
			return err
		}
		return a.propose(c.Context(), f.keeping, func(t *estate.Tx) (*proposal, error) {
			line, err := entryLine(t, rule.Allow, args[0], args[1], scope)
			if err != nil {
				return nil, err
			}
			edit := func(d *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
				l := line
				found := false
				for _, e := range d.Rules.Own() {
					if e.Who == l.Who && e.Kind == rule.Allow {
						if f.scope == "" && !f.share && !found {
							l.Scope = 0
						}
						found = true
						if f.scope == "" && !f.share {
							l.Scope |= e.Scope()
						}
					}
				}
				if !found {
					return nil, &estate.Refused{Why: fmt.Sprintf("no allow entry for %s is set there", t.Name(l.Who)), Do: "use: tarnwold grant"}
				}
				es, err := l.Entries(folder || f.share)
				if err != nil {
					return nil, &estate.Refused{Why: err.Error(), When: err}
				}
				return d.Take(rule.Which{Who: l.Who, Kinds: []rule.Kind{rule.Allow}}, folder).Give(es, 0)
			}
			var p *proposal
			if f.share {
				p, err = onShares(t, args[2:], func(d *rule.Descriptor) (*rule.Descriptor, error) { return edit(d, true) })
			} else {
				var places []estate.Place
				if places, err = f.find(t, args[2:]); err == nil {
					p, err = onItems(t, places, func(estate.Place) change.Edit {
						return func(d, _ *rule.Descriptor, folder bool) (*rule.Descriptor, error) { return edit(d, folder) }
					})
				}
			}
			if err != nil {
				return nil, err
			}
			p.summary = fmt.Sprintf("replace %s by %s on %s", args[0], args[1], f.places(args[2:]))
			p.nothing = t.Name(line.Who) + " has just that there already"
			return p, nil
		})
	}
	return c
}

func (a *app) watchCommand() *cobra.Command {
	var f entryFlags
	var on string
	c := &cobra.Command{
		Use:   "watch WHO LEVEL WHERE…",
		Short: "Have a server write down who uses rights, or tries to",
		Long: `Set audit entries on items: the server that keeps them writes down when someone
uses these rights, or tries to and fails. They decide nothing, are handed down
as other entries are, and are kept through every other change. show --audit
lists them; revoke --entries audit takes them away.`,
		Example: `  tarnwold watch everyone@ delete "//stagedoor/productions/Box Office/Ledgers" --on success,failure
  tarnwold watch volunteers read //stagedoor/productions/Casting --on failure`,
	}
	f.flags(c, a)
	c.Args = f.enough(2)
	c.ValidArgsFunction = a.completeWhoLevelWhere
	c.Flags().StringVar(&on, "on", "success,failure", "what is written down: success, failure or both")
	c.RunE = func(c *cobra.Command, args []string) error {
		scope, err := f.read()
		if err != nil {
			return err
		}
		flags, err := rule.ParseOn(on)
		if err != nil {
			return usageError{err}
		}
		if f.share {
			return misused("a share has no audit entries")
		}
		return a.propose(c.Context(), f.keeping, func(t *estate.Tx) (*proposal, error) {
			line, err := entryLine(t, rule.Audit, args[0], args[1], scope)
			if err != nil {
				return nil, err
			}
			line.On = flags
			places, err := f.find(t, args[2:])
			if err != nil {
				return nil, err
			}
			p, err := onItems(t, places, func(estate.Place) change.Edit {
				return func(d, _ *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
					es, err := line.Entries(folder)
					if err != nil {
						return nil, &estate.Refused{Why: err.Error(), When: err}
					}
					return d.GiveAudit(es), nil
				}
			})
			if err != nil {
				return nil, err
			}
			p.summary = fmt.Sprintf("watch %s %s on %s", args[0], args[1], f.places(args[2:]))
			p.nothing = "that is watched there already"
			return p, nil
		})
	}
	return c
}

func (a *app) completeWhoWhere(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeAccounts(0)(c, args, begun)
	}
	return a.completePlaces(c, args, begun)
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
