package plan

import (
	"errors"
	"fmt"
	"slices"

	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
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

// Level reads levels and rights joined by commas.
func (d *Desk) Level(what string) (right.What, error) { return Level(d.t, what) }

// Level reads levels and rights joined by commas.
func Level(t *estate.Tx, what string) (right.What, error) {
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
		return w, &estate.Refused{Why: err.Error()}
	}
	return w, nil
}

func (d *Desk) line(e Entry) (rule.Line, error) {
	l := rule.Line{Kind: e.Kind, Scope: e.Scope, On: e.On}
	if l.Scope == 0 {
		l.Scope = rule.Tree
	}
	var err error
	if l.Who, err = d.t.Who(e.Who); err != nil {
		return l, err
	}
	l.What, err = d.Level(e.What)
	return l, err
}

// future refuses a day that is past.
func (d *Desk) future(u estate.Day) error {
	if u != "" && u < d.Today {
		return &estate.Refused{Why: fmt.Sprintf("%s is past: today is %s", u, d.Today), Do: "say a day that is still to come"}
	}
	return nil
}

// Give makes an allow or deny entry come on items or shares.
func (d *Desk) Give(e Entry, x Targets) (*Plan, error) {
	if err := d.future(e.Until); err != nil {
		return nil, err
	}
	l, err := d.line(e)
	if err != nil {
		return nil, err
	}
	p := d.begin("%s %s %s on %s", e.Kind, e.Who, e.What, x.said())
	if e.Until != "" {
		p.Change += " until " + string(e.Until)
	}
	p.Nothing = d.t.Name(l.Who) + " has just that entry there already"
	if e.Until != "" {
		p.Nothing = d.t.Name(l.Who) + " has just that entry there already, for good or until that day"
	}
	edit := d.giving(l, e.What, e.Until, e.At)
	p, err = d.edited(p, x, e.Share, edit)
	return d.explained(p, err, e.What)
}

// giving is the edit that makes an entry come.
func (d *Desk) giving(l rule.Line, what string, until estate.Day, at int) itemEdit {
	how := func(dated estate.Dated) rule.Giving {
		return rule.Giving{At: at, Alone: until != "", Apart: func(o rule.Entry) bool { _, ok := dated[o]; return ok }}
	}
	dates := func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
		out := still(dated, after)
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
	out := itemEdit{
		make: func(b, _ *rule.Descriptor, folder bool, dated estate.Dated) (*rule.Descriptor, error) {
			es, err := l.Entries(folder)
			if err == nil {
				var after *rule.Descriptor
				if after, _, err = b.Give(es, how(dated)); err == nil {
					return after, nil
				}
			}
			return nil, entryRefused(err)
		},
		dates: dates,
	}
	d.givingPosix(&out, l, what, until, false)
	return out
}

// edited makes a plan of an edit of items, or of the rules of shares.
func (d *Desk) edited(p *Plan, x Targets, shares bool, edit itemEdit) (*Plan, error) {
	if shares {
		return d.onShares(p, x.Where, edit)
	}
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	if err := d.onItems(p, targets, edit, false); err != nil {
		return nil, d.at(err, targets)
	}
	return d.finish(p)
}

func entryRefused(err error) error {
	if errors.Is(err, rule.ErrAbsent) {
		return &estate.Refused{Why: err.Error(), Do: "seal it with entries of its own first"}
	}
	return &estate.Refused{Why: err.Error()}
}

// at says of a refusal on which place it was, where only one was meant.
func (d *Desk) at(err error, targets []estate.Target) error {
	var r *estate.Refused
	if len(targets) == 1 && errors.As(err, &r) {
		return &estate.Refused{Why: d.t.Where(targets[0].Item) + ": " + r.Why, Do: r.Do}
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
func (d *Desk) Take(y Taking, x Targets) (*Plan, error) {
	which, err := d.which(y)
	if err != nil {
		return nil, err
	}
	p := d.begin("revoke %s on %s", y.Who, x.said())
	p.Nothing = "no such entry is set there"
	edit := d.taking(which)
	if y.Share {
		return d.onShares(p, x.Where, edit)
	}
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	if len(targets) == 1 {
		if err := d.setAbove(targets[0], which.Who, edit); err != nil {
			return nil, err
		}
	}
	if err := d.onItems(p, targets, edit, false); err != nil {
		return nil, err
	}
	return d.finish(p)
}

// which reads what is to be taken away.
func (d *Desk) which(y Taking) (rule.Which, error) {
	which := rule.Which{Kinds: y.Kinds, Whole: y.Share}
	var err error
	if which.Who, err = d.t.Who(y.Who); err != nil {
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

// taking is the edit that makes entries go.
func (d *Desk) taking(which rule.Which) itemEdit {
	return itemEdit{
		hands: true,
		posix: d.takingPosix(which),
		make: func(b, _ *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
			return b.Take(which, folder), nil
		},
		// An entry that keeps some of its rights keeps its last day.
		dates: func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
			out := still(dated, after)
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
func (d *Desk) setAbove(x estate.Target, who ID, edit itemEdit) error {
	b := desc(d.t.Of(x.Strand))
	if b == nil {
		return nil
	}
	after, err := edit.make(b, nil, x.Folder, nil)
	if err != nil || after != b {
		return err
	}
	at := d.t.Place(x.Item)
	for _, e := range b.Rules.FromAbove() {
		if e.Who != who {
			continue
		}
		from := "from above, nowhere now"
		if i, _, ok := rule.Origin(e, x.Folder, descs(d.t.Above(at))); ok {
			from = at.Up(i + 1)
		}
		return &estate.Refused{
			Why: fmt.Sprintf("no such entry is set on %s; %s comes from above (%s)", at, ask.Language(d.t).Write(e, x.Folder), from),
			Do:  "revoke it there",
		}
	}
	return nil
}

// Replace makes an allow entry come in the place of those that are set there
// for the same account.
func (d *Desk) Replace(e Entry, x Targets) (*Plan, error) {
	if err := d.future(e.Until); err != nil {
		return nil, err
	}
	e.Kind = rule.Allow
	l, err := d.line(e)
	if err != nil {
		return nil, err
	}
	p := d.begin("replace %s by %s on %s", e.Who, e.What, x.said())
	if e.Until != "" {
		p.Change += " until " + string(e.Until)
	}
	p.Nothing = d.t.Name(l.Who) + " has just that there already"
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
		if !found {
			return nil, nil, &estate.Refused{Why: fmt.Sprintf("no allow entry for %s is set there", d.t.Name(l.Who)), Do: "use: tarnwold grant"}
		}
		es, err := l.Entries(folder || e.Share)
		if err != nil {
			return nil, nil, entryRefused(err)
		}
		return es, b.Take(rule.Which{Who: l.Who, Kinds: []rule.Kind{rule.Allow}}, folder), nil
	}
	edit := itemEdit{
		make: func(b, _ *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
			es, bare, err := entries(b, folder)
			if err != nil {
				return nil, err
			}
			after, _, err := bare.Give(es, rule.Giving{})
			if err != nil {
				return nil, entryRefused(err)
			}
			return after, nil
		},
		dates: func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
			out := estate.Dated{}
			for o, u := range still(dated, after) {
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
	d.givingPosix(&edit, l, e.What, e.Until, true)
	there := edit.posix
	edit.posix = func(r, up *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
		if who, err := d.number(l.Who); err == nil && r.Turned(who, posix.Drops(), posix.Drops()) == r {
			return nil, &estate.Refused{Why: fmt.Sprintf("nothing is set there for %s", d.t.Name(l.Who)), Do: "use: tarnwold grant"}
		}
		return there(r, up, dated)
	}
	p, err = d.edited(p, x, e.Share, edit)
	return d.explained(p, err, e.What)
}

// Watch makes audit entries come on items.
func (d *Desk) Watch(e Entry, x Targets) (*Plan, error) {
	e.Kind = rule.Audit
	l, err := d.line(e)
	if err != nil {
		return nil, err
	}
	p := d.begin("watch %s %s on %s", e.Who, e.What, x.said())
	p.Nothing = "that is watched there already"
	targets, err := d.Find(x)
	if err != nil {
		return nil, err
	}
	err = d.onItems(p, targets, itemEdit{make: func(b, _ *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		es, err := l.Entries(folder)
		if err != nil {
			return nil, entryRefused(err)
		}
		return b.GiveAudit(es), nil
	}}, false)
	if err != nil {
		return nil, d.at(err, targets)
	}
	seen := map[int64]bool{}
	for _, x := range targets {
		s, _, ok := d.t.Stands(x.Item)
		if !ok || seen[s.ID] {
			continue
		}
		seen[s.ID] = true
		if _, linked := d.t.Link(s); linked {
			a := Advice{Kind: "unwritten", Where: s.Name}
			if s.Traits.WritesAudit {
				a.Kind = "written"
			}
			p.Advice = append(p.Advice, a)
		}
	}
	return d.finish(p)
}
