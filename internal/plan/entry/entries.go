// Package entry makes plans of what is given and taken on places: allow and deny
// entries, seals, owners, modes, last days that pass, one account in place of
// another.
package entry

import (
	"errors"
	"fmt"
	"slices"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
)

// Entry is what an entry is to say, as it was typed.
type Entry struct {
	Kind  rule.Kind
	Who   string
	What  string     // levels and rights joined by commas
	Scope rule.Scope // 0: the tree on a folder
	Until estate.Day
	At    int // against canonical order, this place in the list
	On    rule.Flags
	Share bool // of shares' own rules; Targets.Where are shares
}

func Line(d *plan.Planner, e Entry, where ...string) (rule.Line, error) {
	l := rule.Line{Kind: e.Kind, Scope: e.Scope, On: e.On}
	if l.Scope == 0 {
		l.Scope = rule.Tree
	}
	var err error
	if l.Who, err = d.RuleAccount(e.Who, where...); err != nil {
		return l, err
	}
	l.What, err = d.Level(e.What)
	return l, err
}

// Give makes an allow or deny entry come on items or shares.
func Give(d *plan.Planner, e Entry, x plan.Targets) (*plan.Plan, error) {
	if err := d.Future(e.Until); err != nil {
		return nil, err
	}
	l, err := Line(d, e, x.Where...)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("%s %s %s on %s", e.Kind, e.Who, e.What, x.Text())
	if e.Until != "" {
		p.Change += " until " + string(e.Until)
	}
	p.Nothing = d.T.Name(l.Who) + " has just that entry there already"
	if e.Until != "" {
		p.Nothing = d.T.Name(l.Who) + " has just that entry there already, for good or until that day"
	}
	edit := GivingEdit(d, l, e.What, e.Until, e.At)
	p, err = edited(d, p, x, e.Share, edit)
	return explained(d, p, err, e.What)
}

// GivingEdit is the edit that makes an entry come.
func GivingEdit(d *plan.Planner, l rule.Line, what string, until estate.Day, at int) plan.ItemEdit {
	how := func(dated estate.Dated) rule.Giving {
		return rule.Giving{At: at, Alone: until != "", Apart: func(o rule.Entry) bool { _, ok := dated[o]; return ok }}
	}
	dates := func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
		out := plan.Still(dated, after)
		es, err := l.Entries(folder)
		if err != nil || before == nil {
			return out
		}
		_, stand, err := before.Give(es, how(dated))
		if err != nil {
			return out
		}
		for _, s := range stand {
			if _, was := dated[s]; until == "" {
				delete(out, s)
			} else if was || !slices.Contains(before.Rules.Entries, s) {
				out[s] = until
			}
		}
		return out
	}
	out := plan.ItemEdit{
		Make: func(b, _ *rule.Descriptor, folder bool, dated estate.Dated) (*rule.Descriptor, error) {
			es, err := l.Entries(folder)
			if err == nil {
				var after *rule.Descriptor
				if after, _, err = b.Give(es, how(dated)); err == nil {
					return after, nil
				}
			}
			return nil, plan.EntryRefused(err)
		},
		Dates: dates,
	}
	givingPosix(d, &out, l, what, until, false)
	return out
}

// edited makes a plan of an edit of items, or of the rules of shares.
func edited(d *plan.Planner, p *plan.Plan, x plan.Targets, shares bool, edit plan.ItemEdit) (*plan.Plan, error) {
	if shares {
		return d.OnShares(p, x.Where, edit)
	}
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	if err := d.OnItems(p, targets, edit, false); err != nil {
		return nil, at(d, err, targets)
	}
	return d.Evaluate(p)
}

// at says of a refusal on which place it was, where only one was meant.
func at(d *plan.Planner, err error, targets []estate.Target) error {
	var r *estate.Refused
	if len(targets) == 1 && errors.As(err, &r) {
		return &estate.Refused{Why: d.T.Where(targets[0].Item) + ": " + r.Why, Do: r.Do}
	}
	return err
}

// Taking says which own entries are to be taken away, as it was typed.
type Taking struct {
	Who   string
	What  string // only these rights are taken out of the entries
	Kinds []rule.Kind
	Scope rule.Scope
	Share bool
}

// Take makes entries set on items or shares go, or have fewer rights.
func Take(d *plan.Planner, y Taking, x plan.Targets) (*plan.Plan, error) {
	which, err := Which(d, y, x.Where...)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("revoke %s on %s", y.Who, x.Text())
	p.Nothing = "no such entry is set there"
	edit := TakingEdit(d, which)
	if y.Share {
		return d.OnShares(p, x.Where, edit)
	}
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	if len(targets) == 1 {
		if err := setAbove(d, targets[0], which.Who, edit); err != nil {
			return nil, err
		}
	}
	if err := d.OnItems(p, targets, edit, false); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// Which reads what is to be taken away.
func Which(d *plan.Planner, y Taking, where ...string) (rule.Which, error) {
	which := rule.Which{Kinds: y.Kinds, Whole: y.Share}
	var err error
	if which.Who, err = d.RuleAccount(y.Who, where...); err != nil {
		return which, err
	}
	if y.Scope != 0 {
		which.Scope = &y.Scope
	}
	if y.What != "" {
		what, err := d.Level(y.What)
		if err != nil {
			return which, err
		}
		which.What = &what
	}
	return which, nil
}

// TakingEdit is the edit that makes entries go.
func TakingEdit(d *plan.Planner, which rule.Which) plan.ItemEdit {
	return plan.ItemEdit{
		Hands: true,
		Posix: takingPosix(d, which),
		Make: func(b, _ *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
			return b.Take(which, folder), nil
		},
		// An entry that keeps some of its rights keeps its last day.
		Dates: func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
			out := plan.Still(dated, after)
			for e, u := range dated {
				one := &rule.Descriptor{Rules: rule.Rules{Entries: []rule.Entry{e}}}
				if left := one.Take(which, folder); left != one && len(left.Rules.Entries) == 1 {
					out[left.Rules.Entries[0]] = u
				}
			}
			return out
		},
	}
}

// setAbove refuses to take away what comes from above, and says where it is set.
func setAbove(d *plan.Planner, x estate.Target, who plan.ID, edit plan.ItemEdit) error {
	b := plan.Desc(d.T.Of(x.Strand))
	if b == nil {
		return nil
	}
	after, err := edit.Make(b, nil, x.Folder, nil)
	if err != nil || after != b {
		return err
	}
	at := d.T.Place(x.Item)
	for _, e := range b.Rules.FromAbove() {
		if e.Who != who {
			continue
		}
		from := "from above, nowhere now"
		if i, _, ok := rule.Origin(e, x.Folder, plan.Descs(d.T.Above(at))); ok {
			from = at.Up(i + 1)
		}
		return &estate.Refused{
			Why: fmt.Sprintf("no such entry is set on %s; %s comes from above (%s)", at, ask.Language(d.T).Write(e, x.Folder), from),
			Do:  "revoke it there",
		}
	}
	return nil
}

// Replace makes an allow entry come in the place of those that are set there
// for the same account.
func Replace(d *plan.Planner, e Entry, x plan.Targets) (*plan.Plan, error) {
	if err := d.Future(e.Until); err != nil {
		return nil, err
	}
	e.Kind = rule.Allow
	l, err := Line(d, e, x.Where...)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("replace %s by %s on %s", e.Who, e.What, x.Text())
	if e.Until != "" {
		p.Change += " until " + string(e.Until)
	}
	p.Nothing = d.T.Name(l.Who) + " has just that there already"
	edit := replacingEdit(d, e, l, false)
	p, err = edited(d, p, x, e.Share, edit)
	return explained(d, p, err, e.What)
}

// replacingEdit is the edit that makes an allow entry come in the place of those that are
// set for the same account. orGive: one comes too where none is set.
func replacingEdit(d *plan.Planner, e Entry, l rule.Line, orGive bool) plan.ItemEdit {
	entries := func(b *rule.Descriptor, folder bool) ([]rule.Entry, *rule.Descriptor, error) {
		l := l
		found := false
		for _, o := range b.Rules.Own() {
			if o.Who != l.Who || o.Kind != rule.Allow {
				continue
			}
			if e.Scope == 0 && !e.Share {
				if !found {
					l.Scope = 0
				}
				l.Scope |= o.Scope()
			}
			found = true
		}
		if !found && !orGive {
			return nil, nil, &estate.Refused{Why: fmt.Sprintf("no allow entry for %s is set there", d.T.Name(l.Who)), Do: "use: tarnwold grant"}
		}
		es, err := l.Entries(folder || e.Share)
		if err != nil {
			return nil, nil, plan.EntryRefused(err)
		}
		return es, b.Take(rule.Which{Who: l.Who, Kinds: []rule.Kind{rule.Allow}}, folder), nil
	}
	edit := plan.ItemEdit{
		Make: func(b, _ *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
			es, bare, err := entries(b, folder)
			if err != nil {
				return nil, err
			}
			after, _, err := bare.Give(es, rule.Giving{})
			if err != nil {
				return nil, plan.EntryRefused(err)
			}
			return after, nil
		},
		Dates: func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
			out := estate.Dated{}
			for o, u := range plan.Still(dated, after) {
				if o.Who != l.Who || o.Kind != rule.Allow {
					out[o] = u
				}
			}
			if before == nil {
				return out
			}
			if es, _, err := entries(before, folder); err == nil && e.Until != "" {
				for _, o := range es {
					out[o] = e.Until
				}
			}
			return out
		},
	}
	givingPosix(d, &edit, l, e.What, e.Until, true)
	if orGive {
		return edit
	}
	there := edit.Posix
	edit.Posix = func(r, up *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
		if who, err := Number(d, l.Who); err == nil && r.Turned(who, posix.Drops(), posix.Drops()) == r {
			return nil, &estate.Refused{Why: fmt.Sprintf("nothing is set there for %s", d.T.Name(l.Who)), Do: "use: tarnwold grant"}
		}
		return there(r, up, dated)
	}
	return edit
}

// Watch makes audit entries come on items.
func Watch(d *plan.Planner, e Entry, x plan.Targets) (*plan.Plan, error) {
	e.Kind = rule.Audit
	l, err := Line(d, e, x.Where...)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("watch %s %s on %s", e.Who, e.What, x.Text())
	p.Nothing = "that is watched there already"
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	err = d.OnItems(p, targets, plan.ItemEdit{Make: func(b, _ *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		es, err := l.Entries(folder)
		if err != nil {
			return nil, plan.EntryRefused(err)
		}
		return b.GiveAudit(es), nil
	}}, false)
	if err != nil {
		return nil, at(d, err, targets)
	}
	seen := map[int64]bool{}
	for _, x := range targets {
		s, _, ok := d.T.Stands(x.Item)
		if !ok || seen[s.ID] {
			continue
		}
		seen[s.ID] = true
		if _, linked := d.T.Link(s); linked {
			a := plan.Advice{Kind: "unwritten", Where: s.Name}
			if s.Traits.WritesAudit {
				a.Kind = "written"
			}
			p.Advice = append(p.Advice, a)
		}
	}
	return d.Evaluate(p)
}
