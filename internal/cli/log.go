package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

func (a *app) logCommand() *cobra.Command {
	var place, who, actor, since string
	c := &cobra.Command{
		Use:   "log",
		Short: "List who changed what, when, by which command",
		Example: `  tarnwold log
  tarnwold log --place //stagedoor/productions/Wardrobe
  tarnwold log --account stage --since 2026-11-01
  tarnwold log show 7`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := day(since); err != nil {
				return err
			}
			return a.view(c.Context(), func(t *estate.Tx) error {
				keep := func(estate.Record) bool { return true }
				and := func(also func(estate.Record) bool) {
					first := keep
					keep = func(r estate.Record) bool { return first(r) && also(r) }
				}
				if since != "" {
					and(func(r estate.Record) bool { return r.At >= since })
				}
				if actor != "" {
					and(func(r estate.Record) bool { return strings.EqualFold(r.Actor, actor) })
				}
				if place != "" {
					p, err := t.Find(place)
					if err != nil {
						return err
					}
					and(func(r estate.Record) bool { return t.Altered(r.ID, p) })
				}
				if who != "" {
					id, err := t.Who(who)
					if err != nil {
						return err
					}
					and(func(r estate.Record) bool { return t.Concerns(r.ID, id) })
				}
				g := report.Grid{Heads: []string{"change", "at (UTC)", "by", "what", "note"}, Wrap: map[string]int{"what": 70}}
				var kept []estate.Record
				for _, r := range t.Log() {
					if !keep(r) {
						continue
					}
					kept = append(kept, r)
					g.Rows = append(g.Rows, []string{fmt.Sprint(r.ID), strings.Replace(strings.TrimSuffix(r.At, "Z"), "T", " ", 1), r.Actor, r.Summary, recordNote(r)})
				}
				p := a.printer()
				if p.Format == report.JSON {
					return p.Value(kept)
				}
				if len(kept) == 0 {
					p.Line("no change fits")
				}
				return p.Grid(g)
			})
		},
	}
	f := c.Flags()
	f.StringVar(&place, "place", "", "only changes to this `item`")
	f.StringVar(&who, "account", "", "only changes that concern this `account`")
	f.StringVar(&actor, "actor", "", "only changes this `account` made")
	f.StringVar(&since, "since", "", "only changes from this `day` on, as 2026-11-01")
	c.AddCommand(a.logShow())
	return c
}

func recordNote(r estate.Record) string {
	var notes []string
	if r.Undoes != 0 {
		notes = append(notes, fmt.Sprintf("undoes %d", r.Undoes))
	}
	if r.UndoneBy != 0 {
		notes = append(notes, fmt.Sprintf("undone by %d", r.UndoneBy))
	}
	if r.Forced != "" {
		notes = append(notes, "forced: "+r.Forced)
	}
	return strings.Join(notes, "; ")
}

func changeNumber(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, misused("%q is no number of a change; see: tarnwold log", s)
	}
	return n, nil
}

func (a *app) logShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show N",
		Short:   "Show one change: every entry that came and went, before and after",
		Example: "  tarnwold log show 7",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := changeNumber(args[0])
			if err != nil {
				return err
			}
			return a.view(c.Context(), func(t *estate.Tx) error {
				r, err := t.Record(n)
				if err != nil {
					return err
				}
				p := a.printer()
				p.Line("%s by %s at %s", report.Strong(fmt.Sprintf("change %d", r.ID)), r.Actor, r.At)
				p.Line("  %s", r.Command)
				p.Line("  %s", r.Summary)
				if note := recordNote(r); note != "" {
					p.Line("  %s", note)
				}
				p.Line("")
				g := report.Grid{Heads: []string{"what", "", "before and after", "items"}, Wrap: map[string]int{"before and after": 60, "what": 60}}
				lang := language(t)
				for _, x := range t.Turns(n) {
					where := "items no longer there"
					if items := t.Items(x.Strand, 1); len(items) > 0 {
						where = alike(t.Place(items[0]).String(), x.Items)
					}
					rows := descriptorChanges(t, lang, where, x.Before, x.After, x.Folder)
					for i := range rows {
						rows[i] = append(rows[i], "")
					}
					if len(rows) > 0 {
						rows[0][3] = fmt.Sprint(x.Items)
					}
					g.Rows = append(g.Rows, rows...)
				}
				for _, row := range rowChanges(t, t.Rows(n)) {
					g.Rows = append(g.Rows, append(row, ""))
				}
				return p.Grid(g)
			})
		},
	}
}

// descriptorChanges lists what differs between two descriptors of a place.
func descriptorChanges(t *estate.Tx, lang rule.Language, where string, before, after *rule.Descriptor, folder bool) [][]string {
	var rows [][]string
	row := func(sign, what string) {
		rows = append(rows, []string{where, sign, what})
		where = ""
	}
	if before.Owner != after.Owner {
		row(report.Bad("goes"), "owner "+t.Name(before.Owner))
		row(report.Good("comes"), "owner "+t.Name(after.Owner))
	}
	if before.Sealed() != after.Sealed() {
		row(map[bool]string{true: report.Good("comes"), false: report.Bad("goes")}[after.Sealed()], "the seal")
	}
	for _, l := range [][2]*rule.Rules{{&before.Rules, &after.Rules}, {&before.Audit, &after.Audit}} {
		for _, r := range entryChanges("", l[0], l[1], func(e rule.Entry) []string {
			s := lang.Write(e, folder)
			if !e.Own() {
				s += " (from above)"
			}
			return []string{s}
		}) {
			row(r[1], r[2])
		}
	}
	if len(rows) == 0 {
		row("", "the order of the entries, or how it is inherited")
	}
	return rows
}

// rowChanges says in words what changed in tables other than the items' rules.
func rowChanges(t *estate.Tx, rows []estate.RowChange) [][]string {
	var out [][]string
	for _, r := range rows {
		sign, v := report.Good("comes"), r.After
		if r.After == nil && r.Before != nil {
			sign, v = report.Bad("goes"), r.Before
		}
		if r.Last != 0 {
			out = append(out, []string{r.Table, sign, report.Count(r.Last-r.Row+1, "row")})
			continue
		}
		both := r.Before != nil && r.After != nil
		if both {
			sign = "changes"
		}
		switch r.Table {
		case "accounts":
			kind, _ := v[0].(int64)
			out = append(out, []string{fmt.Sprintf("%s %v", account.Kind(kind), v[1]), sign, ""})
		case "members":
			out = append(out, []string{"membership", sign, t.RowName(v[1]) + " in " + t.RowName(v[0])})
		case "servers", "levels":
			out = append(out, []string{strings.TrimSuffix(r.Table, "s"), sign, fmt.Sprint(v[0])})
		case "shares":
			if both && r.Before[4] != r.After[4] {
				b, _ := r.Before[4].(int64)
				x, _ := r.After[4].(int64)
				out = append(out, descriptorChanges(t, language(t), fmt.Sprintf("share %v", v[1]), t.Descriptor(b), t.Descriptor(x), false)...)
				continue
			}
			out = append(out, []string{fmt.Sprintf("share %v", v[1]), sign, fmt.Sprintf("over %v", v[2])})
		case "administrators":
			out = append(out, []string{"administrator", sign, t.RowName(v[1])})
		case "items":
			if !both {
				out = append(out, []string{"item", sign, fmt.Sprint(v[1])})
			} else if !(r.Before[0] == r.After[0] && r.Before[1] == r.After[1]) {
				out = append(out, []string{"item", "moves", fmt.Sprintf("%v, now %v", r.Before[1], r.After[1])})
			}
		case "deadlines":
			out = append(out, []string{"last day", sign, fmt.Sprint(v[3])})
		}
	}
	return out
}

func (a *app) undoCommand() *cobra.Command {
	return a.takeBack("undo", "Take a change back: every descriptor as it was, byte for byte", func(t *estate.Tx, n int64) (int64, error) {
		r, err := t.Record(n)
		if err == nil && r.UndoneBy != 0 {
			err = &estate.Refused{Why: fmt.Sprintf("change %d is undone already, by change %d", n, r.UndoneBy)}
		}
		return n, err
	})
}

func (a *app) redoCommand() *cobra.Command {
	return a.takeBack("redo", "Make a change again that was undone", func(t *estate.Tx, n int64) (int64, error) {
		r, err := t.Record(n)
		if err == nil && r.UndoneBy == 0 {
			err = &estate.Refused{Why: fmt.Sprintf("change %d is not undone", n)}
		}
		return r.UndoneBy, err
	})
}

func (a *app) takeBack(verb, short string, which func(*estate.Tx, int64) (int64, error)) *cobra.Command {
	var k keeping
	c := &cobra.Command{
		Use:   verb + " N",
		Short: short,
		Long: short + `.

It is refused where something later builds on the change, unless --force, which
is written into the journal.`,
		Example: fmt.Sprintf("  tarnwold %s 7\n  tarnwold %s 7 --force --yes", verb, verb),
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := changeNumber(args[0])
			if err != nil {
				return err
			}
			return a.keepIf(c.Context(), k, func(t *estate.Tx, m *estate.Meta) (string, error) {
				target, err := which(t, n)
				if err != nil {
					return "", err
				}
				r, err := t.Record(n)
				if err != nil {
					return "", err
				}
				if err := a.previewUndo(t, target); err != nil {
					return "", err
				}
				over, err := t.Undo(target, k.force)
				if err != nil {
					return "", err
				}
				if over {
					t.SetForced([]string{"built-on"})
				}
				t.SetUndoes(target)
				a.say("%s change %d: %s", verb, n, r.Summary)
				return fmt.Sprintf("%s %d: %s", verb, n, r.Summary), nil
			})
		},
	}
	k.plainFlags(c)
	return c
}

// previewUndo shows what taking a change back does to the rules it altered,
// and its impact.
func (a *app) previewUndo(t *estate.Tx, change int64) error {
	if a.quiet || a.format != report.Table {
		return nil
	}
	turns := t.Turns(change)
	var strands []int64
	for _, x := range turns {
		if x.Items > 0 {
			strands = append(strands, x.Strand)
		}
	}
	if len(strands) == 0 {
		return nil
	}
	p := &proposal{forest: t.Below(strands...), renews: true}
	for i := len(turns) - 1; i >= 0; i-- { // the first turn of a strand counts
		if n := p.forest.Node(turns[i].Strand); n >= 0 {
			p.forest.Nodes[n].After = turns[i].Before
		}
	}
	for i := range p.forest.Nodes {
		if p.forest.Nodes[i].Parent >= 0 {
			continue
		}
		if place, ok := somePlace(t, p, i); ok {
			p.places, p.nodes = append(p.places, place), append(p.nodes, i)
		}
	}
	rows, routes, err := impactOf(t, p)
	if err != nil {
		return err
	}
	return a.preview(t, p, rows, routes)
}
