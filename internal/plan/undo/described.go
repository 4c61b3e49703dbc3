package undo

import (
	"fmt"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/store"
)

// Told tells what a change of the journal altered, in the words of plans.
func Described(d *plan.Planner, id int64) ([]plan.Edit, error) {
	t := d.T
	edits := []plan.Edit{}
	for _, x := range t.Turns(id) {
		_, folder, items, ok := t.StrandNow(x.Strand)
		e := plan.Edit{Kind: "item", Where: "items no longer there", Items: items, Lines: d.Diff(x.Before, x.After, folder, nil, nil)}
		for _, item := range t.Items(x.Strand, 1) {
			e.Where = t.Where(item)
		}
		if ok && len(e.Lines) > 0 {
			edits = append(edits, e)
		}
	}
	rowName := func(v any) string {
		n, _ := v.(int64)
		if a, ok := t.RowAccount(n); ok {
			return t.Name(a.ID)
		}
		return "an account no longer there"
	}
	for _, r := range t.Rows(id) {
		sign, v := plan.Comes, r.After
		if r.After == nil && r.Before != nil {
			sign, v = plan.Goes, r.Before
		}
		both := r.Before != nil && r.After != nil
		if both {
			sign = plan.Changes
		}
		if r.Last != 0 {
			edits = append(edits, plan.Edit{Kind: r.Table, Where: r.Table, Lines: []plan.Line{{Sign: plan.Comes, What: "rows", Text: format.Count(r.Last-r.ID+1, "row")}}})
			continue
		}
		add := func(kind, where string, lines ...plan.Line) {
			if len(lines) > 0 {
				edits = append(edits, plan.Edit{Kind: kind, Where: where, Lines: lines})
			}
		}
		switch r.Table {
		case "accounts":
			if both {
				b, err := rowAccount(r.Before)
				a, err2 := rowAccount(r.After)
				if err == nil && err2 == nil {
					edits = append(edits, d.AccountLines(plan.AccountEdit{Before: &b, After: &a}))
				}
				continue
			}
			add("account", fmt.Sprintf("%s %s", acc.Kind(store.Number(v, 0)), store.Text(v, 1)), plan.Line{Sign: sign, What: "account", Text: store.Text(v, 3)})
		case "members":
			text := rowName(v[1])
			if until := store.Text(v, 2); until != "" { // its last day
				text += " until " + until
			}
			add("membership", "group "+rowName(v[0]), plan.Line{Sign: sign, What: "membership", Text: text})
		case "servers":
			if both {
				b, err := servers.TraitsOf(store.Text(r.Before, 2))
				a, err2 := servers.TraitsOf(store.Text(r.After, 2))
				if err == nil && err2 == nil {
					edits = append(edits, plan.ServerLines(plan.ServerEdit{Before: &estate.Server{Name: store.Text(v, 0), Traits: b}, After: &estate.Server{Name: store.Text(v, 0), Traits: a}}))
				}
				continue
			}
			add("server", "server "+store.Text(v, 0), plan.Line{Sign: sign, What: "server"})
		case "levels":
			add("level", "level "+store.Text(v, 0), plan.Line{Sign: sign, What: "level"})
		case "administrators":
			server := "a server no longer there"
			if now := t.Now("servers", store.Number(v, 0)); now != nil {
				server = "server " + store.Text(now, 0)
			}
			add("administrator", server, plan.Line{Sign: sign, What: "administrator", Text: rowName(v[1])})
		case "shares":
			where := "share " + store.Text(v, 1)
			if now := t.Now("servers", store.Number(v, 0)); now != nil {
				where = "share //" + store.Text(now, 0) + "/" + store.Text(v, 1)
			}
			if both {
				add("share", where, d.Diff(t.Descriptor(store.Number(r.Before, 5)), t.Descriptor(store.Number(r.After, 5)), false, nil, nil)...)
				continue
			}
			add("share", where, plan.Line{Sign: sign, What: "share", Text: "over " + store.Text(v, 3)})
		case "items":
			switch {
			case !both:
				add("item", "item "+store.Text(v, 1), plan.Line{Sign: sign, What: "item"})
			case r.Before[0] != r.After[0] || r.Before[1] != r.After[1]:
				add("item", "item "+store.Text(r.Before, 1), plan.Line{Sign: plan.Moves, What: "place", Text: t.Where(r.ID)})
			}
		case "papers":
			kind, name := estate.RecordKind(store.Text(v, 0)), store.Text(v, 1)
			edits = append(edits, d.DescribeRecord(kind, name, store.Text(v, 2), sign))
		case "deadlines":
			add("last-day", "last day", plan.Line{Sign: sign, What: "last-day", Text: store.Text(v, 3)})
		}
	}
	return edits, t.Err()
}
