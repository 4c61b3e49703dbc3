package policies

import (
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
)

// Outfitting says how a folder is to be fitted out, as it was typed.
type Outfitting struct {
	Folder string
	Name   string
	Line   int // of a list; 0: typed
}

// Outfits fits folders out with groups of their own: seals each, makes an
// access group a level, gives each its level there, and takes the entries of
// others out. Whoever is in charge stays. above keeps what comes from above as
// copies; fill moves who holds one of the levels today into its group, and
// leaves what is none of them.
func Outfits(d *plan.Planner, list []Outfitting, levels []string, above, fill bool, file string) (*plan.Plan, error) {
	var said []string
	for _, x := range list {
		said = append(said, x.Folder)
	}
	p := d.NewPlan("%s fitted out with groups of their own: %s", plan.Many(said), strings.Join(levels, ", "))
	if len(list) == 1 {
		p.Change = fmt.Sprintf("%s fitted out with groups of its own: acc-%s-%s", list[0].Folder, list[0].Name, strings.Join(levels, ", -"))
	}
	var lines []rule.Line
	for _, name := range levels {
		l, err := d.K.Level(name)
		if err != nil {
			return nil, err
		}
		if _, named := d.T.Levels().Lookup(name); !named {
			return nil, &estate.Refused{Why: fmt.Sprintf("%s is not a level, and the groups are called by theirs", name), Do: "add a level of your own: tarnwold level add"}
		}
		lines = append(lines, rule.Line{Kind: rule.Allow, Scope: rule.Tree, What: right.What{Folder: l.Folder, File: l.File}})
	}
	free := d.T.FreeIDs()
	b := d.Bundle(p)
	taken, folders := map[string]bool{}, map[int64]bool{}
	for _, x := range list {
		bad := func(err error) error {
			if x.Line > 0 {
				return &format.Error{File: file, Line: x.Line, What: err.Error()}
			}
			return err
		}
		at, err := d.K.Place(x.Folder)
		if err != nil {
			return nil, bad(err)
		}
		switch {
		case !at.Folder:
			return nil, bad(&estate.Refused{Why: fmt.Sprintf("%s is a file; only folders are fitted out", at.Via())})
		case folders[at.Item]:
			return nil, bad(&estate.Refused{Why: fmt.Sprintf("%s is named twice", at.Via())})
		case taken[estate.Key(x.Name)]:
			return nil, bad(&estate.Refused{Why: fmt.Sprintf("two folders are to have the name %s", x.Name)})
		case strings.TrimSpace(x.Name) == "":
			return nil, bad(&estate.Refused{Why: "the groups of " + at.Via() + " have no name"})
		}
		folders[at.Item], taken[estate.Key(x.Name)] = true, true
		o := &outfit{d: d, p: p, at: at}
		for i, name := range levels {
			g, err := outfitGroup(d, p, free, fmt.Sprintf("acc-%s-%s", x.Name, name))
			if err != nil {
				return nil, bad(err)
			}
			l := lines[i]
			l.Who = g.ID
			o.groups, o.lines = append(o.groups, g), append(o.lines, l)
		}
		e, err := o.edit(above, fill)
		if err != nil {
			return nil, bad(err)
		}
		b.Item(at.Target(), &e)
	}
	if err := b.Done(); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// outfitGroup makes a group come, or takes one that is there and empty.
func outfitGroup(d *plan.Planner, p *plan.Plan, free interface {
	For(acc.Account) (plan.ID, error)
}, name string) (acc.Account, error) {
	if err := estate.GoodName("group", name); err != nil {
		return acc.Account{}, err
	}
	if people.Has(d, name, acc.Group) {
		g, err := d.T.Named("group:"+name, acc.Group)
		if err != nil {
			return g, err
		}
		if g.Purpose == acc.Mail {
			return g, &estate.Refused{Why: fmt.Sprintf("there is a group %s already, and a mail group carries no access", name)}
		}
		if len(d.T.Directory().MembersOf(g.ID)) > 0 {
			return g, &estate.Refused{Why: fmt.Sprintf("there is a group %s already, and somebody is in it", name), Do: "take another name"}
		}
		return g, nil
	}
	g := acc.Account{Kind: acc.Group, Name: name, POSIX: acc.NoPOSIX, Purpose: acc.Access}
	var err error
	if g.ID, err = free.For(g); err != nil {
		return g, err
	}
	d.T.Foresee(g)
	p.Work.Accounts = append(p.Work.Accounts, edit.Account{After: &g})
	return g, nil
}

// outfit is one folder being fitted out.
type outfit struct {
	d      *plan.Planner
	p      *plan.Plan
	at     estate.Place
	groups []acc.Account
	lines  []rule.Line // one a group, in the order of the levels
}

// edit works out what becomes of the folder's entries, and who joins.
func (o *outfit) edit(above, fill bool) (plan.ItemEdit, error) {
	d := o.d
	now := d.K.AsEntries(d.T.Of(o.at.Strand))
	if now.Rules.Absent {
		return plan.ItemEdit{}, &estate.Refused{Why: fmt.Sprintf("the rules of %s are absent, and it is open to everyone", o.at.Via()), Do: "seal it with entries of its own first"}
	}
	joins := map[plan.ID]bool{} // whose entries give way to a membership
	lang := ask.Language(d.T)
	var whose []plan.ID
	of := map[plan.ID][]rule.Entry{} // what each account is allowed, wherever from
	for _, e := range now.Rules.Entries {
		if e.Kind != rule.Allow {
			continue
		}
		if of[e.Who] == nil {
			whose = append(whose, e.Who)
		}
		own := e
		own.Flags &^= rule.Inherited
		of[e.Who] = append(of[e.Who], own)
	}
	charge := func(e rule.Entry) bool {
		return e.Kind == rule.Allow && e.Rights.Map()&right.WriteACL != 0 && e.Scope()&rule.Here != 0
	}
	if fill {
		for _, who := range whose {
			a, known := d.T.Account(who)
			if !known || slices.ContainsFunc(of[who], charge) {
				continue
			}
			level := -1
			for i, l := range o.lines {
				es, err := l.Entries(true)
				if err != nil {
					return plan.ItemEdit{}, plan.EntryRefused(err)
				}
				if sameRights(es, of[who]) {
					level = i
				}
			}
			if level < 0 {
				for _, e := range of[who] {
					o.p.Advice = append(o.p.Advice, plan.Advice{Kind: "left", Where: o.at.String(), Text: lang.Write(e, true) + " is none of the levels"})
				}
				continue
			}
			if a.Kind == acc.Group && a.Purpose == acc.Mail {
				continue
			}
			joins[who] = true
			day := estate.Day("")
			for e, u := range d.T.Dated(estate.Bearer{Item: o.at.Item}, now) {
				if e.Who == who {
					day = u
				}
			}
			group := o.groups[level]
			o.p.Work.Members = append(o.p.Work.Members, edit.Membership{Group: &group, Member: &a, Was: nil, Is: &estate.Membership{Until: day}})
		}
	}
	goes := func(e rule.Entry, own bool) bool {
		switch {
		case e.Kind != rule.Allow || charge(e):
			return false // a refusal that goes would open something
		case fill:
			_, known := d.T.Account(e.Who)
			return joins[e.Who] || !known && !own && !above
		case own:
			_, known := d.T.Account(e.Who)
			return known
		}
		return !above
	}
	make := func(x, _ *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
		fromAbove := map[rule.Entry]bool{}
		for _, e := range x.Rules.FromAbove() {
			e.Flags &^= rule.Inherited
			fromAbove[e] = !slices.Contains(x.Rules.Own(), e)
		}
		x = x.Seal(true)
		var gone []rule.Entry
		for _, e := range x.Rules.Own() {
			if goes(e, !fromAbove[e]) {
				gone = append(gone, e)
			}
		}
		x = x.Without(gone)
		for _, l := range o.lines {
			es, err := l.Entries(folder)
			if err != nil {
				return nil, plan.EntryRefused(err)
			}
			after, _, err := x.Give(es, rule.Giving{})
			if err != nil {
				return nil, plan.EntryRefused(err)
			}
			x = after
		}
		return x, nil
	}
	return plan.ItemEdit{Make: make}, nil
}

// sameRights tells whether entries of two accounts give just the same.
func sameRights(a, b []rule.Entry) bool {
	in := func(e rule.Entry, list []rule.Entry) bool {
		return slices.ContainsFunc(list, func(o rule.Entry) bool { return o.Rights.Map() == e.Rights.Map() && o.Flags == e.Flags })
	}
	for _, e := range a {
		if !in(e, b) {
			return false
		}
	}
	for _, e := range b {
		if !in(e, a) {
			return false
		}
	}
	return true
}
