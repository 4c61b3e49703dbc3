package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
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
func (d *Desk) Strip(who []string, under, ownerTo string) (*Plan, error) {
	said := "everything"
	if under != "" {
		said = "everything at and below " + under
	}
	p := d.begin("%s stripped off %s", many(who), said)
	p.Nothing = "nothing there names " + many(who)
	w := rule.Rewriting{Names: map[ID]bool{}}
	if ownerTo != "" {
		id, err := d.t.Who(ownerTo)
		if err != nil {
			return nil, err
		}
		w.Owner = id
		p.Change += ", what they owned to " + ownerTo
	}
	names := map[ID]bool{}
	for _, word := range who {
		id, err := d.named(word, &w)
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
			if a, ok := d.t.Account(id); ok {
				d.stripPeople(p, a)
			}
		}
		for _, s := range d.t.Servers() {
			for _, id := range d.t.Administrators(s) {
				if a, ok := d.t.Account(id); ok && names[id] {
					p.work.admins = append(p.work.admins, adminEdit{s, a, false})
				}
			}
		}
	}
	return d.rewrite(p, w, under)
}

// named reads an account, which may be one the estate doesn't know, and all
// the identifiers it goes by.
func (d *Desk) named(word string, w *rule.Rewriting) (ID, error) {
	id, err := d.t.Who(word)
	if err != nil {
		return id, err
	}
	if _, special := acc.SpecialName(id); special {
		return id, &estate.Refused{Why: fmt.Sprintf("%s is no account, but stands for whoever it fits", word), Do: "revoke its entries where they are: tarnwold uses " + word}
	}
	w.Names[id] = true
	if a, ok := d.t.Account(id); ok {
		for _, f := range d.t.Forms(a) {
			w.Names[f] = true
		}
	}
	return id, nil
}

// stripPeople ends an account's memberships, those of it and those in it.
func (d *Desk) stripPeople(p *Plan, a account) {
	dir := d.t.Directory()
	leave := func(g, m ID) {
		group, ok := d.t.Account(g)
		member, ok2 := d.t.Account(m)
		was, is := d.t.Member(g, m)
		if ok && ok2 && is && !slices.ContainsFunc(p.work.members, func(e memberEdit) bool { return e.group.ID == g && e.member.ID == m }) {
			p.work.members = append(p.work.members, memberEdit{group: &group, member: &member, was: &was, is: nil})
		}
	}
	for _, g := range dir.GroupsOf(a.ID) {
		leave(g, a.ID)
	}
	for _, m := range dir.MembersOf(a.ID) {
		leave(a.ID, m)
	}
	for _, form := range d.t.Forms(a) {
		for _, u := range d.t.PrimaryUsers(form) {
			before, after := u, u
			after.Primary = ID{}
			p.work.accounts = append(p.work.accounts, accountEdit{before: &before, after: &after})
		}
	}
}

// Swap puts one account in another's place, in everything that names it.
func (d *Desk) Swap(from, to, under string) (*Plan, error) {
	said := ""
	if under != "" {
		said = " at and below " + under
	}
	p := d.begin("%s in the place of %s%s", to, from, said)
	p.Nothing = "nothing there names " + from
	w := rule.Rewriting{Names: map[ID]bool{}}
	old, err := d.named(from, &w)
	if err != nil {
		return nil, err
	}
	id, err := d.t.Who(to)
	if err != nil {
		return nil, err
	}
	if w.Names[id] {
		return nil, &estate.Refused{Why: fmt.Sprintf("%s and %s are one account", from, to)}
	}
	w.To, w.Owner = id, id
	before, known := d.t.Account(old)
	after, ok := d.t.Account(id)
	if under == "" && known {
		if !ok {
			return nil, &estate.Refused{Why: to + " is no account of the estate, so it can't be in groups", Do: "add it first, or swap below a place: --under"}
		}
		if err := d.swapPeople(p, before, after); err != nil {
			return nil, err
		}
		for _, s := range d.t.Servers() {
			admins := d.t.Administrators(s)
			if !slices.Contains(admins, old) {
				continue
			}
			p.work.admins = append(p.work.admins, adminEdit{s, before, false})
			if !slices.Contains(admins, id) {
				p.work.admins = append(p.work.admins, adminEdit{s, after, true})
			}
		}
	}
	return d.rewrite(p, w, under)
}

// swapPeople puts an account into the groups another leaves.
func (d *Desk) swapPeople(p *Plan, from, to account) error {
	dir := d.t.Directory().Clone()
	for _, g := range slices.Clone(dir.GroupsOf(from.ID)) {
		group, ok := d.t.Account(g)
		was, is := d.t.Member(g, from.ID)
		if !ok || !is {
			continue
		}
		p.work.members = append(p.work.members, memberEdit{group: &group, member: &from, was: &was, is: nil})
		dir.Leave(g, from.ID)
		if g == to.ID || dir.IsMember(g, to.ID) {
			continue
		}
		if to.Kind == acc.Group {
			if loop := dir.Loop(g, to.ID); loop != nil {
				return &Circle{d.t.Name(g), d.t.Name(to.ID), d.t.Names(loop)}
			}
		}
		dir.Join(g, to.ID)
		p.work.members = append(p.work.members, memberEdit{group: &group, member: &to, was: nil, is: &estate.Membership{Until: was.Until, Local: was.Local}})
	}
	if from.Kind != acc.Group {
		return nil
	}
	for _, form := range d.t.Forms(from) {
		for _, u := range d.t.PrimaryUsers(form) {
			if to.Kind != acc.Group {
				return &estate.Refused{Why: fmt.Sprintf("%s is the primary group of %s, which a user can't be", d.t.Name(from.ID), d.t.Name(u.ID)),
					Do: fmt.Sprintf("give the user another first: tarnwold user set %s --primary GROUP", u.Name)}
			}
			before, after := u, u
			after.Primary = to.ID
			p.work.accounts = append(p.work.accounts, accountEdit{before: &before, after: &after})
		}
	}
	return nil
}

// Like makes a user equal to another: in the same groups, first, and named by
// the same entries. What either owns stays.
func (d *Desk) Like(first, second string) (*Plan, error) {
	a, err := d.t.User(first)
	if err != nil {
		return nil, err
	}
	b, err := d.t.User(second)
	if err != nil {
		return nil, err
	}
	if a.ID == b.ID {
		return nil, &estate.Refused{Why: first + " and " + second + " are one account"}
	}
	p := d.begin("%s made like %s", d.t.Name(b.ID), d.t.Name(a.ID))
	p.Nothing = fmt.Sprintf("%s is like %s already", d.t.Name(b.ID), d.t.Name(a.ID))
	for _, s := range d.k.LikeMembers(a, b) {
		group, ok := d.t.Account(s.Group)
		if !ok {
			continue
		}
		was, is := d.t.Member(s.Group, b.ID)
		if s.Join && !is {
			p.work.members = append(p.work.members, memberEdit{group: &group, member: &b, was: nil, is: &estate.Membership{Until: s.Until}})
		} else if !s.Join && is {
			p.work.members = append(p.work.members, memberEdit{group: &group, member: &b, was: &was, is: nil})
		}
	}
	if a.Primary != b.Primary {
		before, after := b, b
		after.Primary = a.Primary
		p.work.accounts = append(p.work.accounts, accountEdit{before: &before, after: &after})
	}
	for _, s := range d.t.Servers() {
		admins := d.t.Administrators(s)
		if has := slices.Contains(admins, a.ID); has != slices.Contains(admins, b.ID) {
			p.work.admins = append(p.work.admins, adminEdit{s, b, has})
		}
	}
	beyond, err := d.k.BeyondRoles(a)
	if err != nil {
		return nil, err
	}
	for _, x := range beyond {
		text := x.Where
		switch x.As {
		case "member":
			text = "is in " + x.Where + " himself"
		case "entry":
			text = "is named on " + x.Where + ": " + x.What
		case "administrator":
			text = "administers " + strings.TrimPrefix(x.Where, "server ")
		}
		p.Advice = append(p.Advice, Advice{Kind: "beyond-roles", Who: d.t.Name(a.ID), Other: d.t.Name(b.ID), Text: text})
	}
	// Entries of the second go, and those of the first come for him too.
	away := rule.Rewriting{Names: map[ID]bool{}}
	beside := rule.Rewriting{Names: map[ID]bool{}, To: b.ID, Beside: true}
	for _, f := range d.t.Forms(b) {
		away.Names[f] = true
	}
	for _, f := range d.t.Forms(a) {
		beside.Names[f] = true
	}
	return d.rewriteAll(p, []rule.Rewriting{away, beside}, "", true)
}

func (d *Desk) rewrite(p *Plan, w rule.Rewriting, under string) (*Plan, error) {
	return d.rewriteAll(p, []rule.Rewriting{w}, under, false)
}

// rewriteAll rewrites every mention, one rewriting after the other, in the
// rules of items and of shares. With owners left owning is no mention.
func (d *Desk) rewriteAll(p *Plan, all []rule.Rewriting, under string, ownersStay bool) (*Plan, error) {
	var top *estate.Place
	if under != "" {
		at, err := d.k.Place(under)
		if err != nil {
			return nil, err
		}
		top = &at
	}
	if under == "" && len(p.work.members)+len(p.work.admins)+len(p.work.accounts) > 0 {
		p.work.everywhere = true
	}
	apply := func(x, parent *rule.Descriptor, folder bool) (*rule.Descriptor, map[rule.Entry]rule.Entry) {
		became := map[rule.Entry]rule.Entry{}
		gone := map[rule.Entry]bool{}
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
	edit := itemEdit{
		make: func(b, up *rule.Descriptor, folder bool, _ estate.Dated) (*rule.Descriptor, error) {
			after, _ := apply(b, up, folder)
			return after, nil
		},
		dates: func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
			out := still(dated, after)
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
	edit.posix = func(x, _ *posix.Rules, _ estate.Dated) (*posix.Rules, error) {
		for i := range all {
			var err error
			if x, err = d.rewritePosix(&all[i], x); err != nil {
				return nil, err
			}
		}
		return x, nil
	}
	if err := d.ownsStill(all[0], top, ownersStay); err != nil {
		return nil, err
	}
	strands := d.mentioning(all, ownersStay)
	var targets []estate.Target
	dated := map[int64]bool{}
	if d.t.HasDates() {
		for item := range d.t.WithDates() {
			dated[item] = true
		}
	}
	var whole []int64
	for _, s := range strands {
		if top == nil {
			whole = append(whole, s)
			continue
		}
		for _, x := range d.t.Targets(s) {
			if at := d.t.Place(x.Item); at.Server.ID == top.Server.ID && under != "" && d.covers(*top, at) {
				targets = append(targets, x)
			}
		}
		if err := d.ctx.Err(); err != nil {
			return nil, err
		}
	}
	if top == nil { // items with last days are looked at one by one
		at := map[int64]bool{}
		for _, s := range whole {
			at[s] = true
		}
		for item := range dated {
			if x := d.t.Place(item); at[x.Strand] {
				targets = append(targets, x.Target())
			}
		}
		slices.SortFunc(targets, func(a, b estate.Target) int { return int(a.Item - b.Item) })
	}
	for _, s := range d.t.Servers() {
		for _, sh := range d.t.Shares(s) {
			if top != nil && (s.ID != top.Server.ID || !d.covers(*top, estate.Place{Server: s, Path: sh.Folder})) {
				continue
			}
			after, became := apply(sh.Descriptor, nil, true)
			if after == sh.Descriptor {
				continue
			}
			before, then := sh, sh
			then.Descriptor = after
			of := estate.Bearer{Share: sh.ID}
			was := d.t.Dated(of, sh.Descriptor)
			is := still(was, after)
			for from, to := range became {
				if day, had := was[from]; had && slices.Contains(after.Rules.Entries, to) && !slices.Contains(before.Descriptor.Rules.Entries, to) {
					is[to] = day
				}
			}
			if !maps.Equal(was, is) {
				p.work.dates = append(p.work.dates, dateEdit{of: of, before: was, after: is})
			}
			p.work.shares = append(p.work.shares, shareEdit{s, &before, &then})
		}
	}
	if len(targets)+len(whole) > 0 {
		pieces := []piece{{targets: targets, strands: whole, edit: edit}}
		if look := d.overShares(p, targets, whole); len(look) > 0 { // what edited shares stand over is looked at too
			pieces = append(pieces, piece{targets: look})
		}
		if err := d.onPieces(p, pieces, false); err != nil {
			return nil, err
		}
	} else if len(p.work.shares) > 0 {
		if err := d.below(p); err != nil {
			return nil, err
		}
	}
	return d.finish(p)
}

// overShares gives the folders that the shares of a plan stand over, but those
// that are meant already.
func (d *Desk) overShares(p *Plan, targets []estate.Target, strands []int64) (out []estate.Target) {
	seen := map[int64]bool{}
	for _, x := range targets {
		seen[x.Item] = true
	}
	for _, e := range p.work.shares {
		for _, sh := range []*estate.Share{e.before, e.after} {
			if sh == nil || e.server.ID == 0 {
				continue
			}
			if at, err := d.t.At(e.server, sh.Folder); err == nil && !seen[at.Item] && !slices.Contains(strands, at.Strand) {
				seen[at.Item] = true
				out = append(out, at.Target())
			}
		}
	}
	return out
}

func (d *Desk) covers(top, at estate.Place) bool { return ask.Covers(top, at) }

// mentioning lists the strands whose own rules name one of the accounts, or
// whose inherited entries do though no folder above hands them down.
func (d *Desk) mentioning(all []rule.Rewriting, ownersStay bool) (out []int64) {
	t := d.t
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
	t.AllDescriptors(func(id int64, a rule.Any) {
		if !meant(a.Listed()) {
			return
		}
		for _, strand := range t.StrandsOf(id) {
			_, folder, items, ok := t.StrandNow(strand)
			if !ok || items == 0 {
				continue
			}
			changes := false
			up, _ := t.ParentOf(strand).(*rule.Descriptor)
			for i := range all {
				w := all[i]
				switch x := a.(type) {
				case *rule.Descriptor:
					after, _ := w.Of(x, up, folder)
					changes = changes || after != x
				case *posix.Rules:
					after, err := d.rewritePosix(&w, x)
					changes = changes || err != nil || after != x
				}
			}
			if changes {
				out = append(out, strand)
			}
		}
	})
	slices.Sort(out)
	return out
}

// ownsStill refuses where what somebody owns would have nobody to own it.
func (d *Desk) ownsStill(w rule.Rewriting, top *estate.Place, stay bool) error {
	if stay || !w.Owner.IsZero() {
		return nil
	}
	var ids []ID
	for id := range w.Names {
		ids = append(ids, id)
	}
	e := &OwnsStill{}
	err := d.t.Owned(ids, top, func(x estate.Target, where string) error {
		if e.Items++; e.Items == 1 {
			e.Where = where
			e.Account = d.t.Name(d.t.AccountOf(d.t.Of(x.Strand).Owned()))
		}
		return d.ctx.Err()
	})
	if err == nil && e.Items > 0 {
		return e
	}
	return err
}
