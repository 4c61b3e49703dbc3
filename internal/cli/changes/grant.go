// Package changes has the commands that change rules, items and shares, and those
// that show and take back what was changed.
package changes

import (
	"io"
	"path/filepath"

	"github.com/spf13/cobra"

	"tarnwold/core/rule"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func GrantCommand(a *run.App) *cobra.Command {
	return giveCommand(a, rule.Allow, &cobra.Command{
		Use:   "grant WHO LEVEL WHERE…",
		Short: "Give a group or user a level on items",
		Long: `Give a group or user a level on items: an allow entry on each, handed down to
everything below that takes entries from above. LEVEL is a level, rights by
name, or both, joined by commas. Without --scope the entry covers the folder
and everything below. With --until it is an entry of its own, which tarnwold
expire takes away; giving the same without a day makes it stay for good.

--from FILE with nothing before it gives what a sheet lists, in one change: CSV or a
workbook (.xlsx) with the columns who, level, where, and maybe kind (allow or deny), scope,
until, why and share (yes for the share's own rules). After WHO and LEVEL the file is a
list of places.`,
		Example: `  tarnwold grant --from june.csv --dry-run
  tarnwold grant wardrobe edit //stagedoor/productions/Wardrobe
  tarnwold grant lighting read,add-file //stagedoor/productions/Lighting --scope here+folders
  tarnwold grant foyer read "//stagedoor/productions/Box Office/rota.ods" --dry-run
  tarnwold grant stage edit //stagedoor/programme --share`,
	})
}

func DenyCommand(a *run.App) *cobra.Command {
	return giveCommand(a, rule.Deny, &cobra.Command{
		Use:   "deny WHO LEVEL WHERE…",
		Short: "Deny a group or user a level on items",
		Long: `Deny a group or user a level on items: a deny entry on each, before the allow
entries set there, handed down to everything below that takes entries from
above. An allow entry set on an item below still comes first there. --from FILE takes a
sheet, as that of tarnwold grant.`,
		Example: `  tarnwold deny volunteers full "//stagedoor/productions/Box Office/Ledgers"
  tarnwold deny lark delete stagedoor:/srv/playhouse/Archive --scope tree`,
	})
}

// entryFlags are the flags that say which entry of an item or share is meant.
type entryFlags struct {
	run.Keeping
	run.Targets
	scope string
	share bool
	until string
}

func (f *entryFlags) flags(c *cobra.Command, a *run.App) {
	f.Keeping.Flags(c)
	f.Targets.Flags(c, a)
	c.Flags().StringVar(&f.scope, "scope", "", "what the entry covers: here, folders, files joined by +, tree (the default), below; \"once\" after it for the first layer only")
	c.Flags().BoolVar(&f.share, "share", false, "change the share's own rules instead; WHERE is //SERVER/SHARE")
	_ = c.RegisterFlagCompletionFunc("scope", cobra.FixedCompletions([]string{"here", "folders", "files", "tree", "below", "here+files", "here+folders"}, cobra.ShellCompDirectiveNoFileComp))
}

// entry reads what an entry is to say.
func (f *entryFlags) entry(kind rule.Kind, who, what string) (e entry.Entry, err error) {
	e = entry.Entry{Kind: kind, Who: who, What: what, Share: f.share}
	if e.Scope, err = f.readScope(); err != nil {
		return e, err
	}
	if e.Until, err = estate.ParseDay(f.until); err != nil {
		err = run.AsUsage(err)
	}
	return e, err
}

func (f *entryFlags) readScope() (rule.Scope, error) {
	switch {
	case f.share && f.scope != "":
		return 0, run.Misused("entries of a share have no scope")
	case f.share:
		return rule.Here, nil
	case f.scope == "":
		return 0, nil
	}
	s, err := rule.ParseScope(f.scope)
	if err != nil {
		return 0, run.AsUsage(err)
	}
	return s, nil
}

func (f *entryFlags) untilFlag(c *cobra.Command) {
	c.Flags().StringVar(&f.until, "until", "", "the last `day` of the entry, as 2027-03-31; tarnwold expire takes it away after")
}

func giveCommand(a *run.App, kind rule.Kind, c *cobra.Command) *cobra.Command {
	var f entryFlags
	var at int
	f.flags(c, a)
	f.untilFlag(c)
	c.Flags().IntVar(&at, "at", 0, "put the entry at this place in the list, against canonical order; 1 is the first")
	enough := f.Enough(2)
	c.Args = func(c *cobra.Command, args []string) error {
		if len(args) == 0 && f.From() != "" {
			return nil
		}
		return enough(c, args)
	}
	c.ValidArgsFunction = run.CompleteInOrder(a.CompleteAccounts(0), a.CompleteLevels, a.CompletePlaces)
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return giveFrom(a, c, &f, kind)
		}
		e, err := f.entry(kind, args[0], args[1])
		if err != nil {
			return err
		}
		if at < 0 {
			return run.Misused("there is no place %d in a list; 1 is the first", at)
		}
		e.At = at
		x, err := f.Read(c.Context(), args[2:])
		if err != nil {
			return err
		}
		return a.PreviewAndCommit(c, f.Keeping, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return entry.Give(d, e, x) })
	}
	return c
}

// giveFrom gives what a sheet lists, CSV or a workbook, in one change.
func giveFrom(a *run.App, c *cobra.Command, f *entryFlags, kind rule.Kind) error {
	for _, name := range []string{"scope", "share", "until", "at", "owned-by", "kind", "plain"} {
		if c.Flags().Changed(name) {
			return run.Misused("--%s doesn't go with a sheet of entries: each row says its own", name)
		}
	}
	rows, err := run.ReadFile(c.Context(), f.From(), func(r io.Reader, file string) ([]csvfile.Entry, error) {
		s, err := run.OpenSheet(r, file, csvfile.Entries)
		if err != nil {
			return nil, err
		}
		return s.ReadEntries(kind == rule.Deny)
	})
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return run.Misused("%s names no entry", doc.Clip(f.From()))
	}
	all := make([]entry.Wanted, len(rows))
	for i := range rows {
		r := &rows[i]
		w := entry.Wanted{Entry: entry.Entry{Kind: rule.Allow, Who: r.Who, What: r.Level, Scope: r.Scope, Share: r.Share}, Where: r.Where, Why: r.Why, Wrong: r.Wrong}
		if r.Deny {
			w.Kind = rule.Deny
		}
		if w.Until, err = estate.ParseDay(r.Until); err != nil {
			return r.Wrong("until", err)
		}
		if r.Share {
			w.Scope = rule.Here
		}
		all[i] = w
	}
	return a.PreviewAndCommit(c, f.Keeping, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
		return entry.GiveMany(d, all, filepath.Base(f.From()))
	})
}

func RevokeCommand(a *run.App) *cobra.Command {
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
	c.Args = f.Enough(1)
	c.Flags().StringVar(&level, "level", "", "only these rights: a level, rights, or both joined by commas")
	c.Flags().StringVar(&kind, "entries", "", "only entries of this kind: allow, deny or audit")
	c.ValidArgsFunction = run.CompleteInOrder(a.CompleteAccounts(0), a.CompletePlaces)
	c.RunE = func(c *cobra.Command, args []string) error {
		scope, err := f.readScope()
		if err != nil {
			return err
		}
		y := entry.Taking{Who: args[0], What: level, Share: f.share}
		if !f.share {
			y.Scope = scope
		}
		if kind != "" {
			k, ok := map[string]rule.Kind{"allow": rule.Allow, "deny": rule.Deny, "audit": rule.Audit}[kind]
			if !ok {
				return run.Misused("%q is not a kind of entry: allow, deny or audit", doc.Clip(kind))
			}
			y.Kinds = []rule.Kind{k}
		}
		x, err := f.Read(c.Context(), args[1:])
		if err != nil {
			return err
		}
		return a.PreviewAndCommit(c, f.Keeping, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return entry.Take(d, y, x) })
	}
	return c
}

func ReplaceCommand(a *run.App) *cobra.Command {
	var f entryFlags
	c := &cobra.Command{
		Use:   "replace WHO LEVEL WHERE…",
		Short: "Give a group or user another level in place of the one set there",
		Long: `Replace what is allowed to a group or user on items: the allow entries set
there for it go, and one with the new level comes in the same scope unless
--scope says another. A last day goes with its entry, and is told of; --until
gives the new one a day.`,
		Example: `  tarnwold replace acc-lighting-edit revise //stagedoor/productions/Lighting
  tarnwold replace stage edit //stagedoor/vault --share`,
	}
	f.flags(c, a)
	f.untilFlag(c)
	c.Args = f.Enough(2)
	c.ValidArgsFunction = run.CompleteInOrder(a.CompleteAccounts(0), a.CompleteLevels, a.CompletePlaces)
	c.RunE = func(c *cobra.Command, args []string) error {
		e, err := f.entry(rule.Allow, args[0], args[1])
		if err != nil {
			return err
		}
		x, err := f.Read(c.Context(), args[2:])
		if err != nil {
			return err
		}
		return a.PreviewAndCommit(c, f.Keeping, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return entry.Replace(d, e, x) })
	}
	return c
}

func WatchCommand(a *run.App) *cobra.Command {
	var f entryFlags
	var on string
	c := &cobra.Command{
		Use:   "watch WHO LEVEL WHERE…",
		Short: "Set audit entries: a server logs who uses rights, or tries to",
		Long: `Set audit entries on items: the server that keeps them writes down when someone
uses these rights, or tries to and fails. They decide nothing, are handed down
as other entries are, and are kept through every other change. show --audit
lists them; revoke --entries audit takes them away.`,
		Example: `  tarnwold watch everyone@ delete "//stagedoor/productions/Box Office/Ledgers" --on success,failure`,
	}
	f.Keeping.Flags(c)
	f.Targets.Flags(c, a)
	c.Flags().StringVar(&f.scope, "scope", "", "what the entry covers, as with grant")
	c.Flags().StringVar(&on, "on", "failure", "what is written down: success, failure or both joined by a comma")
	c.Args = f.Enough(2)
	c.ValidArgsFunction = run.CompleteInOrder(a.CompleteAccounts(0), a.CompleteLevels, a.CompletePlaces)
	c.RunE = func(c *cobra.Command, args []string) error {
		e, err := f.entry(rule.Audit, args[0], args[1])
		if err != nil {
			return err
		}
		if e.On, err = rule.ParseOn(on); err != nil {
			return run.AsUsage(err)
		}
		x, err := f.Read(c.Context(), args[2:])
		if err != nil {
			return err
		}
		return a.PreviewAndCommit(c, f.Keeping, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) { return entry.Watch(d, e, x) })
	}
	return c
}
