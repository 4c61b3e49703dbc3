package entry

import (
	"fmt"
	"strings"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
)

// Wanted is one of many entries that are given at once.
type Wanted struct {
	Entry
	Where string
	Why   string
	// Wrong says of an error in which row of what file it is, and of which column.
	Wrong func(column string, err error) error
}

// GiveMany makes many entries come, in one plan. from says where they are written.
func GiveMany(d *plan.Planner, all []Wanted, from string) (*plan.Plan, error) {
	p := d.NewPlan("%s from %s", format.Count(int64(len(all)), "entry"), from)
	p.Nothing = "just those entries are there already"
	if why := reasons(all); why != "" {
		p.Change += ": " + why
	}
	b := d.Bundle(p)
	x := &many{d: d, edits: map[wantedKey]*plan.ItemEdit{}, said: map[saidKey]said{}}
	for i := range all {
		if err := x.add(b, &all[i]); err != nil {
			return nil, err
		}
		if err := d.Ctx.Err(); err != nil {
			return nil, err
		}
	}
	if err := b.Done(); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// mostReasons is how many bytes of reasons the journal has of one change.
const mostReasons = 300

// reasons are those of all rows, each once.
func reasons(all []Wanted) string {
	var list []string
	seen, n := map[string]bool{}, 0
	for i := range all {
		why := all[i].Why
		if why == "" || seen[why] {
			continue
		}
		seen[why] = true
		if n += len(why) + 2; n > mostReasons {
			list = append(list, "…")
			break
		}
		list = append(list, why)
	}
	return strings.Join(list, "; ")
}

// many are entries on their way into one plan.
type many struct {
	d     *plan.Planner
	edits map[wantedKey]*plan.ItemEdit // those alike are one edit, of all its places
	said  map[saidKey]said
}

// wantedKey is what edits are alike by; an account may be another on another server.
type wantedKey struct {
	who, what, server string
	kind              rule.Kind
	scope             rule.Scope
	until             estate.Day
	share             bool
}

// saidKey is what two rows can say otherwise of.
type saidKey struct {
	of    int64 // an item, or a share
	share bool
	who   plan.ID
	kind  rule.Kind
	scope rule.Scope
}

type said struct {
	what  string
	until estate.Day
}

func (x *many) add(b *plan.Bundle, w *Wanted) error {
	d := x.d
	if err := d.Future(w.Until); err != nil {
		return w.Wrong("until", err)
	}
	server := ""
	if a, err := place.ParsePattern(w.Where); err == nil {
		server = a.Base.Server
	}
	l, err := Line(d, w.Entry, w.Where)
	if err != nil {
		column := "who"
		if _, werr := d.Level(w.What); werr != nil {
			column = "level"
		}
		return w.Wrong(column, err)
	}
	key := wantedKey{w.Who, w.What, server, w.Kind, w.Scope, w.Until, w.Share}
	edit, ok := x.edits[key]
	if !ok {
		e := GivingEdit(d, l, w.What, w.Until, 0)
		edit = &e
		x.edits[key] = edit
	}
	once := func(of int64) error {
		k := saidKey{of, w.Share, l.Who, w.Kind, l.Scope}
		if was, ok := x.said[k]; ok && was != (said{w.What, w.Until}) {
			return w.Wrong("level", fmt.Errorf("another row says %s for %s there; one of the two has to go", ending(was.what, was.until), w.Who))
		}
		x.said[k] = said{w.What, w.Until}
		return nil
	}
	if w.Share {
		servers, shares, err := d.Shares([]string{w.Where})
		if err != nil {
			return w.Wrong("where", err)
		}
		for i := range shares {
			if err := once(shares[i].ID); err != nil {
				return err
			}
			b.Share(servers[i], shares[i], edit)
		}
		return nil
	}
	targets, err := d.Find(plan.Targets{Where: []string{w.Where}})
	if err != nil {
		return w.Wrong("where", err)
	}
	for _, t := range targets {
		if err := once(t.Item); err != nil {
			return err
		}
		b.Item(t, edit)
	}
	return nil
}

// ending is what an entry says, and how long.
func ending(what string, until estate.Day) string {
	if until == "" {
		return what
	}
	return what + " until " + string(until)
}
