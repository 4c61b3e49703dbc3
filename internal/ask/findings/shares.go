package findings

import (
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
)

// weighed are the rights by which a share is held to what is below it.
var weighed = []right.Set{right.ReadData, right.WriteData, right.AppendData, right.Delete, right.WriteACL, right.WriteOwner}

// needs tells which rights a share lets somebody use, which it lets through
// and nobody can use below, and which somebody would have below and the share
// lets nobody use.
func (x *finding) needs(w *ask.Route) (wide, narrow right.Set, users int) {
	c := x.crowd(w)
	if c.weighed {
		return c.wide, c.narrow, c.users
	}
	defer func() { c.weighed, c.wide, c.narrow, c.users = true, wide, narrow, users }()
	type key struct {
		item  *rule.List
		child *uint64
	}
	type asked struct {
		through, has crowd.Bits
		used         bool
	}
	rights := make([]asked, len(weighed))
	for n, r := range weighed {
		rights[n] = asked{through: c.d.Through(r), has: c.d.People.Empty()}
	}
	seen := map[key]bool{}
	c.each(func(_ int, s crowd.Situation) bool {
		k := key{item: s.Item}
		if len(s.Child) > 0 {
			k.child = &s.Child[0]
		}
		if s.Gate == nil && seen[k] {
			return true
		}
		seen[k] = true
		left := false
		for n := range rights {
			if a := &rights[n]; !a.used {
				some := c.d.PastShare(s, weighed[n])
				a.has.Or(some)
				a.used = some.And(a.through).Len() > 0
				left = left || !a.used
			}
		}
		return left
	})
	for n, r := range weighed {
		a := &rights[n]
		switch {
		case a.used:
		case a.through.Len() > 0:
			wide |= r
		case a.has.Len() > 0:
			narrow |= r
			users = max(users, a.has.Len())
		}
	}
	return wide, narrow, users
}

// wideShares: rights a share lets through that nobody can use below.
func (x *finding) wideShares() error {
	for _, w := range x.shares() {
		wide, _, _ := x.needs(w)
		d := w.Share.Descriptor
		if a := w.Share.Admission; wide == 0 || d.Rules.Absent || a != nil && a.Exported { // an export has no rules of its own
			continue
		}
		f := Finding{Where: "share " + w.Share.Address(), What: wide.String(), Items: x.items(x.crowd(w).nodes)}
		var allow []rule.Entry
		for _, e := range d.Rules.Entries {
			if e.Kind == rule.Allow && e.Rights.Map()&wide != 0 {
				allow = append(allow, e)
			}
		}
		for _, e := range allow { // what is used stays, be it by owning something
			f.Commands = append(f.Commands, []string{"tarnwold", "replace", x.k.T.Name(e.Who), typed(x.k.Lang.Levels, e.Rights.Map()&^wide), w.Share.Address(), "--share"})
		}
		if len(allow) > 0 {
			f.Repair = Repair{Share: w.Share, Gone: allow, Rights: right.All &^ wide}
		}
		x.add(f)
	}
	return nil
}

// narrowShares: rights people have below that a share lets nobody use.
func (x *finding) narrowShares() error {
	for _, w := range x.shares() {
		_, narrow, users := x.needs(w)
		if narrow == 0 {
			continue
		}
		f := Finding{Where: "share " + w.Share.Address(), What: narrow.String(), Users: users, Items: x.items(x.crowd(w).nodes)}
		if w.Share.ReadOnly {
			f.Other = "it is switched to read-only"
		}
		level := ""
		for _, l := range x.k.Lang.Levels {
			if l.Folder.Has(narrow) && level == "" {
				level = l.Name
			}
		}
		if level != "" && !w.Share.ReadOnly {
			f.Commands = [][]string{{"tarnwold", "grant", "WHO", level, w.Share.Address(), "--share"}}
		}
		x.add(f)
	}
	return nil
}

// typed writes rights as they are typed: the strongest level they hold, and what is left.
func typed(levels []right.Level, rights right.Set) string {
	best := right.Level{}
	for _, l := range levels {
		if l.Folder != 0 && rights.Has(l.Folder) && l.Folder.Len() >= best.Folder.Len() {
			best = l
		}
	}
	rest := rights &^ best.Folder
	switch {
	case best.Name == "":
		return rights.String()
	case rest == 0:
		return best.Name
	}
	return best.Name + "," + rest.String()
}
