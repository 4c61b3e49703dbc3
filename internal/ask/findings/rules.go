package findings

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// absent: rules that aren't there at all let everybody do everything.
func (x *finding) absent() error {
	for _, d := range x.by.order {
		if !d.Rules.Absent {
			continue
		}
		f := x.place(x.by.nodes[d])
		f.Commands = [][]string{plainly([]string{"tarnwold", "seal", f.Where})}
		if up, _ := x.g.F.Over(x.by.nodes[d][0], false).(*rule.Descriptor); up != nil {
			f.Commands = [][]string{plainly([]string{"tarnwold", "unseal", f.Where, "--clear"})}
		}
		x.add(f)
	}
	for _, w := range x.shares() {
		if w.Share.Descriptor.Rules.Absent {
			x.add(Finding{Where: "share " + w.Share.Address(), Commands: [][]string{{"tarnwold", "grant", "WHO", "LEVEL", w.Share.Address(), "--share"}}})
		}
	}
	return nil
}

// unowned: an owner nobody knows.
func (x *finding) unowned() error {
	return x.owners(func(id account.ID, nodes []int) []int {
		if id.IsZero() {
			return nodes
		}
		return x.strange(id, nodes)
	}, "nobody the estate knows")
}

// ownersLeft: an owner nobody can sign on as any more.
func (x *finding) ownersLeft() error {
	return x.owners(func(id account.ID, nodes []int) []int {
		if x.k.ShutOut()[id] == "" {
			return nil
		}
		return nodes
	}, "")
}

func (x *finding) owners(meant func(account.ID, []int) []int, what string) error {
	var owned grouped[account.ID]
	for _, d := range x.by.order {
		if nodes := meant(d.Owner, x.by.nodes[d]); len(nodes) > 0 {
			owned.add(d.Owner, nodes...)
		}
	}
	for _, id := range owned.order {
		f := x.place(owned.nodes[id])
		f.Who, f.What = x.k.T.Name(id), what
		to := "WHO"
		if s, _, ok := x.k.T.Stands(x.first(owned.nodes[id])); ok {
			for _, a := range x.k.T.Administrators(s) {
				to = x.k.T.Name(a.Named())
				break
			}
		}
		if !id.IsZero() {
			w := []string{"tarnwold", "owner", "--owned-by", f.Who, "--to", to}
			if x.o.Where != "" {
				w = []string{"tarnwold", "owner", x.o.Where, "--owned-by", f.Who, "--to", to}
			}
			f.Commands = [][]string{w}
		} else {
			f.Commands = [][]string{plainly([]string{"tarnwold", "owner", f.Where, "--to", to})}
		}
		x.add(f)
	}
	return nil
}

func (x *finding) first(nodes []int) int64 {
	for _, i := range nodes {
		for _, item := range x.g.F.Some(x.k.T, i, 1) {
			return item
		}
	}
	return 0
}

// ungrouped: an owning group of a POSIX tree that nobody knows.
func (x *finding) ungrouped() error {
	var of grouped[account.ID]
	for _, d := range x.by.order {
		if x.posix[d] == nil || d.Group == account.GID(0) { // which every system has
			continue
		}
		if nodes := x.strange(d.Group, x.by.nodes[d]); len(nodes) > 0 {
			of.add(d.Group, nodes...)
		}
	}
	for _, id := range of.order {
		f := x.place(of.nodes[id])
		f.Who = x.k.T.Name(id)
		x.add(f)
	}
	return nil
}

// stale: entries from above that the folder above doesn't hand down.
func (x *finding) stale() error {
	type pair struct{ d, up *rule.Descriptor }
	strays := map[pair]bool{}
	known := map[pair]bool{}
	var old grouped[*rule.Descriptor]
	for i := range x.g.F.Nodes {
		n := &x.g.F.Nodes[i]
		d, _ := n.Before.(*rule.Descriptor)
		up, _ := x.g.F.Over(i, false).(*rule.Descriptor)
		if d == nil || up == nil {
			continue
		}
		p := pair{d, up}
		if !known[p] {
			known[p] = true
			strays[p] = d.Stale(up, n.Folder)
		}
		if strays[p] {
			old.add(d, i)
		}
	}
	for _, d := range old.order {
		f := x.place(old.nodes[d])
		f.Commands = [][]string{plainly([]string{"tarnwold", "reflow", f.Where})}
		if f.More > 0 {
			f.Commands = [][]string{mended("stale", x.o.Where, accessToo)}
		}
		f.Repair = Repair{Renew: true, Targets: x.targets(old.nodes[d])}
		x.add(f)
	}
	return nil
}

// disorder: entries out of canonical order ([MS-DTYP] §2.4.5).
func (x *finding) disorder() error {
	for _, d := range x.by.order {
		at := d.Rules.Misplaced()
		if at < 0 {
			continue
		}
		nodes := x.by.nodes[d]
		f := x.place(nodes)
		f.What = x.k.Lang.Write(d.Rules.Entries[at], x.folder(nodes))
		f.Commands = [][]string{mended("out-of-order", f.Where, accessToo)}
		f.Repair = Repair{Order: true, Targets: x.targets(nodes)}
		x.add(f)
	}
	return nil
}

// each calls fn with every own entry of every descriptor, and the nodes that
// have it, folders apart from files.
func (x *finding) each(fn func(d *rule.Descriptor, e rule.Entry, nodes []int)) {
	if x.owns == nil {
		x.owns = x.ownEntries()
	}
	for _, o := range x.owns {
		for _, e := range o.entries {
			fn(o.d, e, o.nodes)
		}
	}
}

// owning is the own entries of a descriptor, and the folders or the files that have it.
type owning struct {
	d       *rule.Descriptor
	entries []rule.Entry
	nodes   []int
}

func (x *finding) ownEntries() []owning {
	out := []owning{}
	for _, d := range x.by.order {
		own := d.Rules.Own()
		if r := x.posix[d]; r != nil { // an owner, a group and the others are always there
			own = r.Named()
			for i := range own { // who a number is, where the estate knows
				own[i].Who = x.k.T.AccountOf(own[i].Who)
			}
		}
		if len(own) == 0 {
			continue
		}
		for _, nodes := range x.kinds(x.by.nodes[d]) {
			out = append(out, owning{d, own, nodes})
		}
	}
	return out
}

// entry is a finding about one own entry.
func (x *finding) write(d *rule.Descriptor, e rule.Entry, nodes []int) string {
	if r := x.posix[d]; r != nil {
		return x.k.Write(r, e, x.folder(nodes))
	}
	return x.k.Lang.Write(e, x.folder(nodes))
}

func (x *finding) entry(d *rule.Descriptor, e rule.Entry, nodes []int, kind string) Finding {
	f := x.place(nodes)
	f.Who, f.What = x.k.T.Name(e.Who), x.write(d, e, nodes)
	f.Repair = Repair{Gone: []rule.Entry{e}, Targets: x.targets(nodes)}
	if x.posix[d] != nil {
		f.Repair = Repair{}
	}
	if f.More > 0 && x.posix[d] == nil {
		f.Commands = [][]string{mended(kind, x.o.Where)}
	} else {
		f.Commands = [][]string{x.revoking(f.Where, f.Who, d, e, false)}
	}
	return f
}

// eachShare calls fn with every entry of every share's own rules.
func (x *finding) eachShare(fn func(sh *estate.Share, e rule.Entry)) {
	for _, w := range x.shares() {
		for _, e := range w.Share.Descriptor.Rules.Entries {
			fn(w.Share, e)
		}
	}
}

func (x *finding) shareEntry(sh *estate.Share, e rule.Entry) Finding {
	f := Finding{Where: "share " + sh.Address(), Who: x.k.T.Name(e.Who), What: ask.ShareEntry(x.k.Lang, e)}
	f.Repair = Repair{Share: sh, Gone: []rule.Entry{e}}
	f.Commands = [][]string{x.revoking(sh.Address(), f.Who, sh.Descriptor, e, true)}
	return f
}

// dead: entries that name an identifier nobody has.
func (x *finding) dead() error {
	type one struct {
		nodes []int
		gone  []rule.Entry
	}
	found := map[account.ID]*one{}
	var order []account.ID
	x.each(func(_ *rule.Descriptor, e rule.Entry, nodes []int) {
		if nodes = x.strange(e.Who, nodes); len(nodes) == 0 {
			return
		}
		o := found[e.Who]
		if o == nil {
			o = &one{}
			found[e.Who] = o
			order = append(order, e.Who)
		}
		for _, i := range nodes {
			if len(o.nodes) == 0 || o.nodes[len(o.nodes)-1] != i {
				o.nodes = append(o.nodes, i)
			}
		}
		if !slices.Contains(o.gone, e) {
			o.gone = append(o.gone, e)
		}
	})
	for _, id := range order {
		o := found[id]
		slices.Sort(o.nodes)
		o.nodes = slices.Compact(o.nodes)
		f := x.place(o.nodes)
		f.Who, f.What = id.String(), "1 entry"
		if n := len(o.gone); n > 1 {
			f.What = fmt.Sprintf("%d different entries", n)
		}
		f.Repair = Repair{Gone: o.gone, Targets: x.targets(o.nodes)}
		if slices.ContainsFunc(o.nodes, func(i int) bool { _, sec := x.g.F.Nodes[i].Before.(*rule.Descriptor); return !sec }) {
			f.Repair = Repair{}
		}
		w := []string{"tarnwold", "strip", id.String()}
		if x.o.Where != "" {
			w = append(w, "--under", x.o.Where)
		}
		f.Commands = [][]string{w}
		x.add(f)
	}
	x.eachShare(func(sh *estate.Share, e rule.Entry) {
		if !x.known(e.Who) {
			x.add(x.shareEntry(sh, e))
		}
	})
	return nil
}

// mail: entries for groups that can't carry access.
func (x *finding) mail() error {
	mail := func(id account.ID) bool {
		a, ok := x.dir.Account(id)
		return ok && a.Purpose == account.Mail
	}
	x.each(func(d *rule.Descriptor, e rule.Entry, nodes []int) {
		if mail(e.Who) {
			x.add(x.entry(d, e, nodes, "mail-group"))
		}
	})
	for _, d := range x.by.order { // one that owns lets its members in by the mode
		r := x.posix[d]
		if r == nil || r.Access.Bits()&0o070 == 0 {
			continue
		}
		if id := x.k.T.AccountOf(d.Group); mail(id) {
			f := x.place(x.by.nodes[d])
			f.Who, f.What = x.k.T.Name(id), "it is the owning group"
			x.add(f)
		}
	}
	x.eachShare(func(sh *estate.Share, e rule.Entry) {
		if mail(e.Who) {
			x.add(x.shareEntry(sh, e))
		}
	})
	return nil
}

// single: entries for single users; Other is a group that holds the same.
func (x *finding) single() error {
	x.each(func(d *rule.Descriptor, e rule.Entry, nodes []int) {
		a, ok := x.dir.Account(e.Who)
		if !ok || a.Kind != account.User {
			return
		}
		if x.atHome(d, e, nodes) || x.stranger(d, e, nodes) { // the first is as it should be, the second told as such
			return
		}
		f := x.entry(d, e, nodes, "single-user")
		f.Users = 1
		for _, o := range d.Rules.Entries {
			if o.Who != e.Who && o.Kind == e.Kind && x.covers(o, e) && x.within(e.Who, o.Who) {
				f.Other = x.k.T.Name(o.Who)
				break
			}
		}
		if f.Other == "" { // it takes a group of its own
			f.Repair = Repair{}
			what := x.k.Lang.Levels.Write(e.Rights, right.OnBoth)
			give := []string{"tarnwold", "grant", "GROUP", what, f.Where}
			if e.Kind == rule.Deny {
				give[1] = "deny"
			}
			if x.folder(nodes) && e.Scope() != rule.Tree {
				give = append(give, "--scope", e.Scope().String())
			}
			if x.posix[d] != nil { // the very permissions, which a level may not be
				entry, _, _ := strings.Cut(f.What, ",") // what the mask leaves of it is said behind
				give = []string{"tarnwold", "mode", f.Where, "--entry", strings.Replace(entry, "user:"+f.Who, "group:GROUP", 1)}
			}
			f.Commands = [][]string{plainly(give), x.revoking(f.Where, f.Who, d, e, false)}
		}
		x.add(f)
	})
	return nil
}

// covers is rule.Entry.Covers, where generic rights say nothing on a server that doesn't map
// them.
func (x *finding) covers(o, e rule.Entry) bool {
	if o.Rights&right.Generic != 0 && slices.ContainsFunc(x.local(), func(w *ask.Route) bool { return w.Traits.BareGenerics }) {
		return false
	}
	return o.Covers(e)
}

// idle: entries that change nothing: one before decides the same rights for
// everybody it names, or one behind gives as much and nothing refuses between.
func (x *finding) idle() error {
	type one struct {
		d      *rule.Descriptor
		e      rule.Entry
		folder bool
	}
	told := map[one]bool{}
	x.each(func(d *rule.Descriptor, e rule.Entry, nodes []int) {
		if x.posix[d] != nil { // whose classes exclude each other
			return
		}
		k := one{d, e, x.folder(nodes)}
		if told[k] {
			return
		}
		told[k] = true
		if other, ok := x.needless(d, e); ok && (other == e || !x.atHome(d, e, nodes)) { // that says whose home it is
			f := x.entry(d, e, nodes, "idle-entry")
			f.Other = x.k.Lang.Write(other, x.folder(nodes))
			if other == e { // it stands there twice, and one of them stays
				f.Repair.Twice = true
				f.Commands = [][]string{mended("idle-entry", f.Where)}
			}
			x.add(f)
		}
	})
	return nil
}

func (x *finding) needless(d *rule.Descriptor, e rule.Entry) (other rule.Entry, ok bool) {
	if _, special := account.SpecialName(e.Who); special && e.Who != account.Everyone {
		return other, false
	}
	if e.Kind.HasObject() || e.Kind == rule.Audit {
		return other, false
	}
	at := slices.Index(d.Rules.Entries, e)
	for i, o := range d.Rules.Entries {
		if i == at || o.Kind.HasObject() || o.Kind == rule.Audit || !x.covers(o, e) || !x.within(e.Who, o.Who) {
			continue
		}
		if e.Who == account.Everyone && o.Who != account.Everyone {
			continue
		}
		if i < at {
			return o, true
		}
		if o.Kind != e.Kind || i == at {
			continue
		}
		between := slices.ContainsFunc(d.Rules.Entries[at+1:i], func(b rule.Entry) bool {
			return b.Kind != e.Kind && b.Kind != rule.Audit && (b.Kind.HasObject() || b.Rights.Map()&e.Rights.Map() != 0)
		})
		if !between {
			return o, true
		}
	}
	return other, false
}

// over: last days that are past.
func (x *finding) over() error {
	bearers, members := x.k.T.Overdue(x.o.Today)
	cmd := [][]string{{"tarnwold", "expire"}}
	for _, b := range bearers {
		f := Finding{Commands: cmd, Items: 1}
		var d rule.Any
		folder := false
		if b.Item != 0 {
			r, ok := x.k.T.ItemRow(b.Item)
			if !ok {
				continue
			}
			d, folder, f.Where = x.k.T.Of(r.Strand), r.Folder, x.k.T.Where(b.Item)
		} else if sh, ok := x.k.T.ShareByRow(b.Share); ok {
			d, f.Where = sh.Descriptor, "share "+sh.Address()
		} else {
			continue
		}
		for e, u := range x.k.Dated(b, d) {
			if u < x.o.Today {
				f.Who, f.What = x.k.T.Name(e.Who), x.k.Write(d, e, folder)+" until "+string(u)
				x.add(f)
			}
		}
	}
	for _, m := range members {
		x.add(Finding{Where: "group " + x.k.T.Name(m.Group.ID), Who: x.k.T.Name(m.Member.ID), What: "member until " + string(m.Is.Until), Users: 1, Commands: cmd})
	}
	return nil
}

// levels: levels of the estate's own that no entry has.
func (x *finding) levels() error {
	own := x.k.T.OwnLevels()
	if len(own) == 0 {
		return nil
	}
	masks := map[right.Set]bool{}
	x.k.T.AllDescriptors(func(_ int64, a rule.Any) {
		for _, e := range a.Listed().Rules.Entries {
			masks[e.Rights.Map()] = true
		}
	})
	for _, s := range x.k.T.Servers() {
		for _, sh := range x.k.T.Shares(s) {
			for _, e := range sh.Descriptor.Rules.Entries {
				masks[e.Rights.Map()] = true
			}
		}
	}
	for _, l := range own {
		if (l.Folder == 0 || !masks[l.Folder]) && (l.File == 0 || !masks[l.File]) {
			x.add(Finding{Where: "level " + l.Name, What: l.About, Commands: [][]string{{"tarnwold", "level", "remove", l.Name}}, Repair: Repair{Level: l.Name}})
		}
	}
	return nil
}
