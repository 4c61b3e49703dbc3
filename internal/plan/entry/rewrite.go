package entry

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
)

// OwnsStill refuses to take an account off everything while it owns something.
type OwnsStill struct {
	Account string `json:"account"`
	Items   int64  `json:"items"`
	Where   string `json:"where"` // the first of them
}

func (e *OwnsStill) Error() string {
	return fmt.Sprintf("%s owns %s (the first is %s), which somebody has to own then; add --owner-to WHO", e.Account, format.Count(e.Items, "item"), e.Where)
}

// Strip takes accounts off everything that names them, at and below a place or
// everywhere; what they own is handed to an owner.
func Strip(d *plan.Planner, who []string, under, ownerTo string) (*plan.Plan, error) {
	return strip(d, who, under, ownerTo, func(*plan.Plan) error { return nil })
}

// strip is Strip with what else its plan does.
func strip(d *plan.Planner, who []string, under, ownerTo string, also func(*plan.Plan) error) (*plan.Plan, error) {
	said := "everything"
	if under != "" {
		said = "everything at and below " + under
	}
	p := d.NewPlan("%s stripped off %s", plan.Many(who), said)
	p.Nothing = "nothing there names " + plan.Many(who)
	w := rule.Rewriting{Names: map[plan.ID]bool{}}
	if ownerTo != "" {
		id, err := d.RuleAccount(ownerTo, below(under)...)
		if err != nil {
			return nil, err
		}
		w.Owner = id
		p.Change += ", what they owned to " + ownerTo
	}
	names := map[plan.ID]bool{}
	for _, word := range who {
		id, err := named(d, word, under, &w)
		if err != nil {
			return nil, err
		}
		names[id] = true
	}
	if w.Names[w.Owner] {
		return nil, &estate.Refused{Why: fmt.Sprintf("%s can't be handed what is taken off it", ownerTo), Do: "name another owner with --owner-to"}
	}
	if under == "" {
		for id := range names {
			if a, ok := d.T.Account(id); ok {
				StripPeople(d, p, a)
			}
		}
		for _, s := range d.T.Servers() {
			for _, id := range d.T.Administrators(s) {
				if a, ok := d.T.Account(id); ok && names[id] {
					p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: s, Who: a, On: false})
				}
			}
		}
	}
	if err := also(p); err != nil {
		return nil, err
	}
	return rewrite(d, p, w, under)
}

// below is a place that may not be said.
func below(under string) []string {
	if under == "" {
		return nil
	}
	return []string{under}
}

// named reads an account, which may be one the estate doesn't know, and all
// the identifiers it goes by.
func named(d *plan.Planner, word, under string, w *rule.Rewriting) (plan.ID, error) {
	id, err := d.T.Who(word)
	if err != nil {
		return id, err
	}
	if _, special := acc.SpecialName(id); special {
		return id, &estate.Refused{Why: fmt.Sprintf("%s is not an account, but stands for whoever it fits", word), Do: "revoke its entries where they are: tarnwold uses " + word}
	}
	w.Names[id] = true
	if a, ok := d.T.Account(id); ok {
		if err := d.Own(a, under); err != nil {
			return id, err
		}
		for _, f := range d.T.Forms(a) {
			w.Names[f] = true
		}
	}
	return id, nil
}

// StripPeople ends an account's memberships, those of it and those in it.
func StripPeople(d *plan.Planner, p *plan.Plan, a acc.Account) {
	leave := func(g, m plan.ID) {
		group, ok := d.T.Account(g)
		member, ok2 := d.T.Account(m)
		was, is := d.T.Member(g, m)
		if ok && ok2 && is && !slices.ContainsFunc(p.Work.Members, func(e edit.Membership) bool { return e.Group.ID == g && e.Member.ID == m }) {
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &group, Member: &member, Was: &was, Is: nil})
		}
	}
	for _, g := range d.T.GroupsOf(a.ID) {
		leave(g, a.ID)
	}
	for _, m := range d.T.MembersOf(a.ID) {
		leave(a.ID, m)
	}
	for _, form := range d.T.Forms(a) {
		for _, u := range d.T.PrimaryUsers(form) {
			before, after := u, u
			after.Primary = plan.ID{}
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &before, After: &after})
		}
	}
}

// Swap puts one account in another's place, in everything that names it.
func Swap(d *plan.Planner, from, to, under string) (*plan.Plan, error) {
	said := ""
	if under != "" {
		said = " at and below " + under
	}
	p := d.NewPlan("%s in the place of %s%s", to, from, said)
	p.Nothing = "nothing there names " + from
	w := rule.Rewriting{Names: map[plan.ID]bool{}}
	old, err := named(d, from, under, &w)
	if err != nil {
		return nil, err
	}
	id, err := d.T.Who(to)
	if err != nil {
		return nil, err
	}
	if a, ok := d.T.Account(id); ok {
		if err := d.Own(a, under); err != nil {
			return nil, err
		}
	}
	if w.Names[id] {
		return nil, &estate.Refused{Why: fmt.Sprintf("%s and %s are one account", from, to)}
	}
	w.To, w.Owner = id.Named(), id.Named()
	before, known := d.T.Account(old)
	after, ok := d.T.Account(id)
	if under == "" && known {
		if !ok {
			return nil, &estate.Refused{Why: to + " is not an account of the estate, so it can't be in groups", Do: "add it first, or swap below a place: --under"}
		}
		if err := swapPeople(d, p, before, after); err != nil {
			return nil, err
		}
		for _, s := range d.T.Servers() {
			admins := d.T.Administrators(s)
			if !slices.Contains(admins, old) {
				continue
			}
			p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: s, Who: before, On: false})
			if !slices.Contains(admins, id) {
				p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: s, Who: after, On: true})
			}
		}
	}
	return rewrite(d, p, w, under)
}

// swapPeople puts an account into the groups another leaves.
func swapPeople(d *plan.Planner, p *plan.Plan, from, to acc.Account) error {
	dir := d.T.Directory().Clone()
	for _, g := range slices.Clone(dir.GroupsOf(from.ID)) {
		group, ok := d.T.Account(g)
		was, is := d.T.Member(g, from.ID)
		if !ok || !is {
			continue
		}
		p.Work.Members = append(p.Work.Members, edit.Membership{Group: &group, Member: &from, Was: &was, Is: nil})
		dir.Leave(g, from.ID)
		if g == to.ID || dir.IsMember(g, to.ID) {
			continue
		}
		if to.Kind == acc.Group {
			if loop := dir.Loop(g, to.ID); loop != nil {
				return &people.Circle{Group: d.T.Name(g), Member: d.T.Name(to.ID), Loop: d.T.Names(loop)}
			}
		}
		dir.Join(g, to.ID)
		p.Work.Members = append(p.Work.Members, edit.Membership{Group: &group, Member: &to, Was: nil, Is: &estate.Membership{Until: was.Until, Local: was.Local}})
	}
	if from.Kind != acc.Group {
		return nil
	}
	for _, form := range d.T.Forms(from) {
		for _, u := range d.T.PrimaryUsers(form) {
			if to.Kind != acc.Group {
				return &estate.Refused{Why: fmt.Sprintf("%s is the primary group of %s, which a user can't be", d.T.Name(from.ID), d.T.Name(u.ID)),
					Do: fmt.Sprintf("give the user another first: tarnwold user set %s --primary GROUP", u.Name)}
			}
			before, after := u, u
			after.Primary = to.ID
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &before, After: &after})
		}
	}
	return nil
}

// LikeOptions say what of a user another one gets.
type LikeOptions struct {
	GroupsOnly bool // memberships, and no entries
	Homes      bool // what is set for either on their own home too
}

// Like makes a user equal to another: in the same groups, first, and named by
// the same entries. What either owns stays, and so does what they have on their own homes.
func Like(d *plan.Planner, first, second string, o LikeOptions) (*plan.Plan, error) {
	a, err := elsewhere(d, first)
	if err != nil {
		return nil, err
	}
	b, err := elsewhere(d, second)
	if err != nil {
		return nil, err
	}
	if a.ID == b.ID {
		return nil, &estate.Refused{Why: first + " and " + second + " are one account"}
	}
	p := d.NewPlan("%s made like %s", d.T.Name(b.ID), d.T.Name(a.ID))
	p.Nothing = fmt.Sprintf("%s is like %s already", d.T.Name(b.ID), d.T.Name(a.ID))
	likeMembers(d, p, a, b, nil)
	for _, s := range d.T.Servers() {
		admins := d.T.Administrators(s)
		if has := slices.Contains(admins, a.ID); has != slices.Contains(admins, b.ID) {
			p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: s, Who: b, On: has})
		}
	}
	beyond, err := census.BeyondRoles(d.K, a)
	if err != nil {
		return nil, err
	}
	for _, x := range beyond {
		text := x.Where
		switch x.As {
		case "member":
			text = "is in " + x.Where + " directly"
		case "entry":
			if o.GroupsOnly || !o.Homes && home(d, x.Where) {
				continue
			}
			text = "is named on " + x.Where + ": " + x.What
		case "administrator":
			text = "administers " + serverOf(x.Where)
		}
		p.Advice = append(p.Advice, plan.Advice{Kind: "beyond-roles", Who: d.T.Name(a.ID), Other: d.T.Name(b.ID), Text: text})
	}
	// Entries of the second go, and those of the first come for them too.
	away := rule.Rewriting{Names: map[plan.ID]bool{}}
	beside := rule.Rewriting{Names: map[plan.ID]bool{}, To: b.ID, Beside: true}
	for _, f := range d.T.Forms(b) {
		away.Names[f] = true
	}
	for _, f := range d.T.Forms(a) {
		beside.Names[f] = true
	}
	if o.GroupsOnly {
		p.Work.Everywhere = true
		return d.Evaluate(p)
	}
	stays := func(x *rule.Descriptor) bool {
		if o.Homes {
			return false
		}
		owner, ok := d.K.HomeOf(x)
		return ok && (away.Names[owner] || beside.Names[owner])
	}
	return rewriteAll(d, p, []rule.Rewriting{away, beside}, "", true, stays)
}

// likeMembers puts a user into the groups another is in, and takes them out of the rest but
// for those that are kept; the primary group likewise.
func likeMembers(d *plan.Planner, p *plan.Plan, a, b acc.Account, kept map[plan.ID]bool) {
	for _, s := range explain.LikeMembers(d.K, a, b) {
		group, ok := d.T.Account(s.Group)
		if !ok {
			continue
		}
		was, is := d.T.Member(s.Group, b.ID)
		if s.Join && !is {
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &group, Member: &b, Was: nil, Is: &estate.Membership{Until: s.Until}})
		} else if !s.Join && is && !kept[s.Group] {
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &group, Member: &b, Was: &was, Is: nil})
		}
	}
	if a.Primary != b.Primary {
		before, after := b, b
		after.Primary = a.Primary
		p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &before, After: &after})
	}
}

// serverOf is the server whose list of administrators a use is of.
func serverOf(where string) string { return strings.TrimPrefix(where, "server ") }

// home tells whether a place is somebody's home.
func home(d *plan.Planner, where string) bool {
	at, err := d.K.Place(where)
	if err != nil {
		return false
	}
	_, ok := d.K.HomeOf(d.T.Of(at.Strand).Listed())
	return ok
}

func rewrite(d *plan.Planner, p *plan.Plan, w rule.Rewriting, under string) (*plan.Plan, error) {
	return rewriteAll(d, p, []rule.Rewriting{w}, under, false, nil)
}

// rewriteAll rewrites every mention, one rewriting after the other, in the
// rules of items and of shares. With owners left owning is no mention. Where stays says so
// an item's rules are left as they are.
func rewriteAll(d *plan.Planner, p *plan.Plan, all []rule.Rewriting, under string, ownersStay bool, stays func(*rule.Descriptor) bool) (*plan.Plan, error) {
	var top *estate.Place
	if under != "" {
		at, err := d.K.Place(under)
		if err != nil {
			return nil, err
		}
		top = &at
	}
	if under == "" && len(p.Work.Members)+len(p.Work.Admins)+len(p.Work.Accounts) > 0 {
		p.Work.Everywhere = true
	}
	apply := func(x, parent *rule.Descriptor, folder bool) (*rule.Descriptor, map[rule.Entry]rule.Entry) {
		became := map[rule.Entry]rule.Entry{}
		gone := map[rule.Entry]bool{}
		if stays != nil && stays(x) {
			return x, became
		}
		for i := range all {
			after, moved := all[i].Of(x, parent, folder)
			for _, e := range x.Rules.Entries {
				if !slices.Contains(after.Rules.Entries, e) {
					gone[e] = true
				}
			}
			for from, to := range moved {
				became[from] = to
			}
			x = after
		}
		return x, became
	}
	rewriting := plan.ItemEdit{
		Make: func(b, up *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
			after, _ := apply(b, up, folder)
			return after, nil
		},
		Dates: func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
			out := plan.Still(dated, after)
			if before == nil {
				return out
			}
			_, became := apply(before, nil, folder)
			for from, to := range became {
				day, had := dated[from]
				if _, own := dated[to]; had && !own && after != nil && slices.Contains(after.Rules.Entries, to) && !slices.Contains(before.Rules.Entries, to) {
					out[to] = day
				}
			}
			return out
		},
	}
	rewriting.Posix = func(x, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		for i := range all {
			var err error
			if x, err = rewritePosix(d, &all[i], x); err != nil {
				return nil, err
			}
		}
		return x, nil
	}
	if err := ownsStill(d, all[0], top, ownersStay); err != nil {
		return nil, err
	}
	strands := mentioning(d, all, ownersStay)
	var targets []estate.Target
	dated := map[int64]bool{}
	if d.T.HasDates() {
		for item := range d.T.WithDates() {
			dated[item] = true
		}
	}
	var whole []int64
	for _, s := range strands {
		if top == nil {
			whole = append(whole, s)
			continue
		}
		for _, x := range d.T.Targets(s) {
			if at := d.T.Place(x.Item); at.Server.ID == top.Server.ID && under != "" && covers(d, *top, at) {
				targets = append(targets, x)
			}
		}
		if err := d.Ctx.Err(); err != nil {
			return nil, err
		}
	}
	if top == nil { // items with last days are looked at one by one
		at := map[int64]bool{}
		for _, s := range whole {
			at[s] = true
		}
		for item := range dated {
			if x := d.T.Place(item); at[x.Strand] {
				targets = append(targets, x.Target())
			}
		}
		slices.SortFunc(targets, func(a, b estate.Target) int { return int(a.Item - b.Item) })
	}
	for _, s := range d.T.Servers() {
		for _, sh := range d.T.Shares(s) {
			if top != nil && (s.ID != top.Server.ID || !covers(d, *top, estate.Place{Server: s, Path: sh.Folder})) {
				continue
			}
			after, became := apply(sh.Descriptor, nil, true)
			if after == sh.Descriptor {
				continue
			}
			before, then := sh, sh
			then.Descriptor = after
			of := estate.Bearer{Share: sh.ID}
			was := d.T.Dated(of, sh.Descriptor)
			is := plan.Still(was, after)
			for from, to := range became {
				if day, had := was[from]; had && slices.Contains(after.Rules.Entries, to) && !slices.Contains(before.Descriptor.Rules.Entries, to) {
					is[to] = day
				}
			}
			if !maps.Equal(was, is) {
				p.Work.Dates = append(p.Work.Dates, edit.LastDays{Of: of, Before: was, After: is})
			}
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &before, After: &then})
		}
	}
	var err error
	if len(targets)+len(whole) > 0 {
		err = d.OnPieces(p, []plan.Piece{{Targets: targets, Strands: whole, Edit: rewriting}}, false)
	} else if len(p.Work.Shares) > 0 {
		err = d.Below(p)
	}
	if err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

func covers(d *plan.Planner, top, at estate.Place) bool { return uses.Covers(top, at) }

// mentioning lists the strands whose own rules name one of the accounts, or
// whose inherited entries do though no folder above hands them down.
func mentioning(d *plan.Planner, all []rule.Rewriting, ownersStay bool) (out []int64) {
	t := d.T
	meant := func(x *rule.Descriptor) bool {
		for i := range all {
			w := &all[i]
			if !ownersStay && (w.Names[x.Owner] || w.Names[x.Group]) {
				return true
			}
			for _, list := range []*rule.Rules{&x.Rules, &x.Audit} {
				for _, e := range list.Entries {
					if w.Names[e.Who] {
						return true
					}
				}
			}
		}
		return false
	}
	var names []plan.ID
	for i := range all {
		names = append(names, slices.Collect(maps.Keys(all[i].Names))...)
	}
	var ids, above []int64
	t.Naming(names, func(id int64, a rule.Any) {
		if meant(a.Listed()) {
			ids = append(ids, id)
		}
	})
	strands := t.StrandsHaving(ids)
	for _, list := range strands {
		for _, s := range list {
			above = append(above, s.Parent)
		}
	}
	t.StrandsNow(above)
	for _, id := range ids {
		a := t.Descriptor(id)
		for _, s := range strands[id] {
			changes := false
			up, _ := t.ParentOf(s.ID).(*rule.Descriptor)
			for i := range all {
				w := all[i]
				switch x := a.(type) {
				case *rule.Descriptor:
					after, _ := w.Of(x, up, s.Folder)
					changes = changes || after != x
				case *posix.Rules:
					after, err := rewritePosix(d, &w, x)
					changes = changes || err != nil || after != x
				}
			}
			if changes {
				out = append(out, s.ID)
			}
		}
	}
	slices.Sort(out)
	return out
}

// ownsStill refuses where what somebody owns would have nobody to own it.
func ownsStill(d *plan.Planner, w rule.Rewriting, top *estate.Place, stay bool) error {
	if stay || !w.Owner.IsZero() {
		return nil
	}
	var ids []plan.ID
	for id := range w.Names {
		ids = append(ids, id)
	}
	e := &OwnsStill{}
	err := d.T.Owned(ids, top, func(x estate.Target, where string) error {
		if e.Items++; e.Items == 1 {
			e.Where = where
			e.Account = d.T.Name(d.T.AccountOf(d.T.Of(x.Strand).Owned()))
		}
		return d.Ctx.Err()
	})
	if err == nil && e.Items > 0 {
		return e
	}
	return err
}
