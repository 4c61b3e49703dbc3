// Package intake makes plans of what was seen elsewhere: scans of servers,
// directories, files of people, the trail of what servers let be done.
package intake

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/item"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/server"
)

// Lay gives items of a server just these rules, nothing following below them.
func Lay(d *plan.Planner, server string, items []Found) (*plan.Plan, error) {
	s, err := d.T.Server(server)
	if err != nil {
		return nil, err
	}
	p, _, err := Now(d, s, items)
	if err != nil {
		return nil, err
	}
	p.IsSo = false
	p.Change = fmt.Sprintf("rules laid on %s of %s", format.Count(int64(len(items)), "item"), s.Name)
	p.Nothing = "they have these rules already"
	return d.Evaluate(p)
}

// ScannedTree is a folder of a real server, and all below it, as a scan found it.
type ScannedTree struct {
	Share  string // by which it was read
	Folder string // the server's own path
	Tree   *format.Tree
	Unread []string // paths below it whose rules, or what is in them, couldn't be read
	// FoldersOnly and Depth say what wasn't looked for.
	FoldersOnly bool
	Depth       int // layers below the folder; 0: all
}

// looked tells whether a scan would have met what is directly in a folder of
// the tree.
func (x *ScannedTree) looked(folder string) bool {
	depth := 0
	if folder != "" {
		depth = strings.Count(folder, "/") + 1
	}
	if x.Depth > 0 && depth >= x.Depth {
		return false
	}
	return !slices.ContainsFunc(x.Unread, func(p string) bool { return p == "" || folder == p || strings.HasPrefix(folder, p+"/") })
}

// compared is how an item on the server stands to the estate.
type compared struct {
	known  *estate.Target
	facts  format.Facts     // what the estate knows of it beside its rules
	row    *format.Arranged // nil: it is gone from the server
	in     int64            // what came: the estate's folder it is in; 0: that is new too
	folder bool
	// Its path below the tree's folder, in parts, for few are asked for it.
	tree *format.Tree
	dir  int32 // the tree's folder it is in; -1: it is the top
	name string
}

func (c *compared) path() string {
	if c.dir < 0 {
		return ""
	}
	return strings.TrimPrefix(c.tree.Path(c.dir)+"/"+c.name, "/")
}

// mostInsides is how many folders' insides are held at once: as many as may be
// told of in turns, and some.
const mostInsides = 64

// insides gives what the estate has in folders, and holds a few of them.
type insides struct {
	t    *estate.Tx
	held map[int64]map[string]estate.Listed
	came []int64 // the oldest first
}

func (c *insides) of(folder int64) map[string]estate.Listed {
	in, ok := c.held[folder]
	if ok {
		return in
	}
	if len(c.came) == mostInsides {
		delete(c.held, c.came[0])
		c.came = append(c.came[:0], c.came[1:]...)
	}
	all := c.t.WithinListed(folder)
	in = make(map[string]estate.Listed, len(all))
	for _, x := range all {
		in[x.Name] = x
	}
	c.held[folder], c.came = in, append(c.came, folder)
	return in
}

// compare walks a scanned tree beside the estate: fn is called for each item the
// server has, folders before what is in them, and for each topmost item that
// is gone from it. It holds two numbers a folder, a bit an item, and what is in
// a few folders.
func compare(d *plan.Planner, s estate.Server, x *ScannedTree, fn func(c compared) error) error {
	at, err := d.T.At(s, x.Folder)
	if err != nil {
		return err
	}
	if err := x.Tree.Arrange(); err != nil {
		return err
	}
	items := make([]int64, x.Tree.Dirs()) // by the tree's folders; 0: not in the estate
	left := make([]int32, x.Tree.Dirs())  // how many of the estate's items in them weren't met; -1: it wasn't asked
	for i := range left {
		left[i] = -1
	}
	met := make([]uint64, d.T.Last("items")/64+1) // a bit an item of the estate
	known := insides{t: d.T, held: map[int64]map[string]estate.Listed{}}
	within := func(dir int32) map[string]estate.Listed {
		in := known.of(items[dir])
		if left[dir] < 0 {
			left[dir] = int32(len(in))
		}
		return in
	}
	n := 0
	if werr := x.Tree.Each(func(_ int, r *format.Arranged) bool {
		if n++; n&1023 == 0 && d.Ctx.Err() != nil {
			err = d.Ctx.Err()
			return false
		}
		c := compared{row: r, folder: r.Folder, tree: x.Tree, dir: r.In, name: r.Name}
		switch {
		case r.In < 0:
			target := at.Target()
			c.known = &target
			c.facts, _ = d.T.Facts(at.Item)
			if at.Folder != r.Folder {
				err = &estate.Refused{Why: fmt.Sprintf("%s is a folder in one of the two, the estate and the server, and a file in the other", at)}
				return false
			}
		case items[r.In] != 0:
			if k, ok := within(r.In)[r.Name]; ok && k.Folder == r.Folder {
				left[r.In]--
				met[k.Item/64] |= 1 << (k.Item % 64)
				c.known, c.facts = &estate.Target{Item: k.Item, Strand: k.Strand, Folder: k.Folder}, k.Facts
			} else {
				c.in = items[r.In]
			}
		}
		if r.Folder && c.known != nil {
			items[r.Self] = c.known.Item
		}
		err = fn(c)
		return err == nil
	}); err == nil {
		err = werr
	}
	if err != nil {
		return err
	}
	for dir := range items {
		if items[dir] == 0 || left[dir] == 0 || !x.looked(x.Tree.Path(int32(dir))) {
			continue
		}
		path := x.Tree.Path(int32(dir))
		var gone []estate.Listed
		for _, k := range within(int32(dir)) {
			if met[k.Item/64]>>(k.Item%64)&1 == 0 && (k.Folder || !x.FoldersOnly) && !slices.Contains(x.Unread, strings.TrimPrefix(path+"/"+k.Name, "/")) {
				gone = append(gone, k)
			}
		}
		slices.SortFunc(gone, func(a, b estate.Listed) int { return strings.Compare(a.Name, b.Name) })
		for _, k := range gone {
			c := compared{known: &estate.Target{Item: k.Item, Strand: k.Strand, Folder: k.Folder}, facts: k.Facts, folder: k.Folder, tree: x.Tree, dir: int32(dir), name: k.Name}
			if err := fn(c); err != nil {
				return err
			}
		}
	}
	return d.T.Err()
}

// as gives the estate's descriptor as it is once what the server has is taken
// in: audit entries, which a scan doesn't read, stay. It gives the estate's own
// where nothing differs.
func as(from, to rule.Any) rule.Any {
	have, now := plan.Desc(from), plan.Desc(to)
	if have == nil || now == nil {
		if to.Same(from) {
			return from
		}
		return to
	}
	then := *now
	then.Audit = have.Audit
	then.Control = now.Control&^auditBits | have.Control&auditBits
	if then.Equal(have) {
		return have
	}
	return &then
}

// ChangedRules makes a plan of what a scan found otherwise on items the estate
// knows: their rules and owners, just as they are there. Nothing follows below,
// for what is below was looked at too.
func ChangedRules(d *plan.Planner, s estate.Server, trees []*ScannedTree) (*plan.Plan, error) {
	p := foundPlan(d)
	p.Nothing = "the rules of all that the estate has are as they were"
	after := map[rule.Any]*estate.Group{}
	known := map[[2]rule.Any]rule.Any{}
	var order []*estate.Group
	items := 0
	for _, x := range trees {
		d.Doing("comparing " + x.Share)
		if !hasTree(d, s, x) {
			continue
		}
		err := compare(d, s, x, func(c compared) error {
			if c.known == nil || c.row == nil {
				return nil
			}
			have, now := d.T.Of(c.known.Strand), x.Tree.Bodies[c.row.Body]
			then, ok := known[[2]rule.Any{have, now}]
			if !ok {
				then = as(have, now)
				known[[2]rule.Any{have, now}] = then
			}
			if then == have {
				return nil
			}
			items++
			g := after[then]
			if g == nil {
				g = &estate.Group{Edit: func(rule.Any, rule.Any, bool) (rule.Any, error) { return then, nil }}
				after[then] = g
				order = append(order, g)
			}
			g.Targets = append(g.Targets, *c.known)
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	p.Change = fmt.Sprintf("scan of %s: %s changed rules%s", s.Name, format.Count(int64(items), "item"), byWhom(d, s))
	if items == 0 {
		return d.Evaluate(p)
	}
	var groups []estate.Group
	for _, g := range order {
		groups = append(groups, *g)
	}
	if err := just(d, p, groups); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// foundPlan begins a plan of what a scan found.
func foundPlan(d *plan.Planner) *plan.Plan {
	p := d.NewPlan("")
	p.IsSo = true
	return p
}

// byWhom says that what a scan found was changed by somebody else, where it
// was: what Tarnwold wrote the estate has already, but for what was changed in
// the estate alone.
func byWhom(d *plan.Planner, s estate.Server) string {
	since := d.T.Scanned(s)
	if since.IsZero() {
		return ""
	}
	for _, r := range d.T.Log() {
		at, err := time.Parse(time.RFC3339, r.At)
		if err != nil || at.Before(since) {
			break
		}
		if strings.Contains(r.Command, "--model-only") {
			return ", some of which may be changes of the estate alone"
		}
	}
	return ", none by Tarnwold"
}

// just makes a plan give items the very rules their groups say, nothing
// following below them.
func just(d *plan.Planner, p *plan.Plan, groups []estate.Group) error {
	f, err := d.T.Partition(groups)
	if err != nil {
		return err
	}
	f.Still = true
	p.Work.Partition = f
	if err := f.Work(d.Ctx); err != nil {
		return err
	}
	dated := map[int64]bool{}
	if d.T.HasDates() {
		dated = d.T.WithDates()
	}
	for _, g := range groups {
		for _, x := range g.Targets {
			n := f.NodeFor(x.Item, x.Strand)
			if n < 0 {
				continue
			}
			p.Work.Name(n)
			if node := &f.Nodes[n]; dated[x.Item] { // last days of entries that are gone there are gone here
				was := d.T.Dated(estate.Bearer{Item: x.Item}, d.T.Of(x.Strand))
				if is := plan.Still(was, node.After.Listed()); !maps.Equal(was, is) {
					p.Work.Dates = append(p.Work.Dates, edit.LastDays{Of: estate.Bearer{Item: x.Item}, Before: was, After: is, Folder: node.Folder, Node: n})
				}
			}
		}
	}
	return nil
}

// hasTract tells whether the estate has a tree's folder.
func hasTree(d *plan.Planner, s estate.Server, x *ScannedTree) bool {
	_, err := d.T.At(s, x.Folder)
	return err == nil && x.Tree.Len() > 0
}

// NewAndGone makes a plan of the items that came to a server, and went from it,
// since the estate has it.
func NewAndGone(d *plan.Planner, s estate.Server, trees []*ScannedTree) (*plan.Plan, error) {
	p := foundPlan(d)
	p.Nothing = "no items came or went"
	var tops []estate.Target
	var gone []string
	came := 0
	for _, x := range trees {
		if !hasTree(d, s, x) {
			continue
		}
		d.Doing("comparing " + x.Share)
		made := map[int32]int{} // the tree's folders that are new → their place in made
		nodes := map[int32]int{}
		names := map[string]bool{}
		err := compare(d, s, x, func(c compared) error {
			switch {
			case c.row == nil:
				tops = append(tops, *c.known)
				gone = append(gone, place.Address{Server: s.Name, Path: place.Join(x.Folder, c.path())}.String())
			case c.known == nil:
				r, path := *c.row, place.Join(x.Folder, c.path())
				if err := estate.GoodItemName(r.Name); err != nil {
					return err
				}
				came++
				m := edit.MadeItem{InMade: -1, Name: r.Name, Folder: r.Folder, D: x.Tree.Bodies[r.Body], Facts: r.Facts}
				var node int
				if c.in != 0 {
					m.In = d.T.Place(c.in)
					node = item.Comes(d, p, m.In, path, r.Folder, 1, m.D)
					if len(names) < 64 && !names[path] { // told of; the rest is counted
						names[path] = true
						p.Edits = append(p.Edits, edit.Description{Kind: "item", Where: place.Address{Server: s.Name, Path: path}.String(), Items: 1, Lines: []edit.Line{{Sign: edit.Comes, What: ask.Kind(r.Folder)}}})
					}
				} else {
					m.InMade = made[r.In]
					node = p.Work.Partition.Add(nodes[r.In], r.Folder, 1, nil, m.D)
					if r.Folder {
						p.Work.AddedAt[plan.AddedKey(s, path)] = node
					}
				}
				if r.Folder {
					made[r.Self], nodes[r.Self] = len(p.Work.Made), node
				}
				p.Work.Made = append(p.Work.Made, m)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	p.Change = fmt.Sprintf("scan of %s: %s came, %d went", s.Name, format.Count(int64(came), "item"), len(gone))
	if err := d.Went(p, tops); err != nil {
		return nil, err
	}
	lost := int64(len(p.Work.Removed))
	p, err := d.Evaluate(p)
	if err == nil && lost > plan.FewLost {
		d.LosesMuch(p, "item", lost, d.ItemsOf(s))
	}
	return p, err
}

// SharesFound makes a plan of the shares a scan found: those that came, went,
// stand over another folder, or have other rules.
func SharesFound(d *plan.Planner, s estate.Server, found []server.Share, whole bool) (*plan.Plan, error) {
	p := foundPlan(d)
	p.Nothing = "the shares are as they were"
	have := d.T.Shares(s)
	n := 0
	for _, x := range found {
		if err := estate.GoodName("share", x.Name); err != nil {
			return nil, err
		}
		i := slices.IndexFunc(have, func(o estate.Share) bool { return plan.SameKey(o.Name, x.Name) })
		if i < 0 {
			sh := estate.Share{Server: s.Name, ServerID: s.ID, Name: x.Name, Folder: x.Folder, ReadOnly: x.ReadOnly, Descriptor: x.Rules}
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: nil, After: &sh})
			n++
			continue
		}
		before, after := have[i], have[i]
		if switched := x.Told && x.ReadOnly != before.ReadOnly; switched || before.Folder != x.Folder {
			then := before
			then.ID, then.Folder, then.Descriptor = 0, x.Folder, x.Rules
			if switched {
				then.ReadOnly = x.ReadOnly
			}
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &before, After: nil}, edit.Share{Server: s, Before: nil, After: &then})
			n++
			continue
		}
		if after.Descriptor = as(before.Descriptor, x.Rules).Listed(); after.Descriptor != before.Descriptor {
			of := estate.Bearer{Share: before.ID}
			was := d.T.Dated(of, before.Descriptor)
			if is := plan.Still(was, after.Descriptor); !maps.Equal(was, is) {
				p.Work.Dates = append(p.Work.Dates, edit.LastDays{Of: of, Before: was, After: is})
			}
			p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &before, After: &after})
			n++
		}
	}
	lost := int64(0)
	if whole {
		for i := range have {
			if a := have[i].Admission; a != nil && a.Home != "" { // which only the one whose home it is is told of
				continue
			}
			if !slices.ContainsFunc(found, func(x server.Share) bool { return plan.SameKey(x.Name, have[i].Name) }) {
				p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &have[i], After: nil})
				n++
				lost++
			}
		}
	}
	came := 0
	for _, e := range p.Work.Shares {
		if e.Before == nil {
			came++
		}
	}
	p.Change = fmt.Sprintf("scan of %s: %s changed", s.Name, format.Count(int64(n), "share"))
	if came == n {
		p.Change = fmt.Sprintf("scan of %s: %s came", s.Name, format.Count(int64(n), "share"))
	}
	p.Asks = len(have) > 0 || len(d.T.Tops(s)) > 0
	if err := d.Below(p); err != nil {
		return nil, err
	}
	p, err := d.Evaluate(p)
	if err == nil {
		d.LosesMuch(p, "share", lost, int64(len(have)))
	}
	return p, err
}

// AccountsFound makes a plan of accounts and memberships that came to a
// server. One the estate has by its identifier keeps the name it has here.
func AccountsFound(d *plan.Planner, s estate.Server, f people.AccountFile) (*plan.Plan, *people.Loaded, error) {
	if f.POSIX {
		return numbersFound(d, s, f)
	}
	named := map[string]string{}
	rows := slices.Clone(f.Accounts)
	for i := range rows {
		was := rows[i].Kind.String() + ":" + rows[i].Name
		if a, ok := d.T.Account(rows[i].ID); ok && a.Kind == rows[i].Kind {
			rows[i].Name = a.Name
		}
		named[was] = rows[i].Kind.String() + ":" + rows[i].Name
	}
	var members format.Memberships
	for _, m := range f.Members.All() {
		m.Group, m.Member = named[m.Group], named[m.Member]
		members.Add(m)
	}
	p, loaded, err := people.LoadAccounts(d, []people.AccountFile{{File: f.File, Accounts: rows, Members: members, Server: true}})
	if err == nil {
		p.IsSo, p.Theirs = true, nil // the server has it so itself
	}
	return p, loaded, err
}

// MembersGone makes a plan of memberships that ended on a server: those the
// estate has in a group whose members the server tells, and the server hasn't.
// A group the server tells nobody of is left as it is: servers keep members
// elsewhere too.
func MembersGone(d *plan.Planner, s estate.Server, f people.AccountFile) (*plan.Plan, error) {
	p := foundPlan(d)
	p.Nothing = "nobody left a group"
	if f.POSIX {
		f = newMachine(d, s).read(f).AccountFile
	}
	ids := map[string]plan.ID{}
	for _, r := range f.Accounts {
		ids[r.Kind.String()+":"+r.Name] = r.ID
	}
	there := map[plan.ID]map[plan.ID]bool{}
	for _, m := range f.Members.All() {
		g := ids[m.Group]
		if there[g] == nil {
			there[g] = map[plan.ID]bool{}
		}
		there[g][ids[m.Member]] = true
	}
	dir := d.T.Directory()
	had := int64(0)
	for _, r := range f.Accounts {
		id := ids[r.Kind.String()+":"+r.Name]
		if there[id] == nil {
			continue
		}
		group, ok := d.T.Account(id)
		if !ok {
			continue
		}
		for _, m := range dir.MembersOf(id) {
			member, ok := d.T.Account(m)
			was, is := d.T.Member(id, m)
			// What a POSIX group file said the protocol doesn't tell.
			told := was.Local || group.POSIX == acc.NoPOSIX || f.POSIX
			if ok && is && told {
				had++
			}
			if ok && is && told && !there[id][m] {
				p.Work.Members = append(p.Work.Members, edit.Membership{Group: &group, Member: &member, Was: &was, Is: nil})
			}
		}
	}
	p.Change = fmt.Sprintf("scan of %s: %s ended", s.Name, format.Count(int64(len(p.Work.Members)), "membership"))
	return d.Evaluate(p)
}

// EachFact calls fn with what a scan told of sizes and times that the estate
// has otherwise.
func EachFact(d *plan.Planner, s estate.Server, trees []*ScannedTree, fn func(item int64, f format.Facts)) error {
	for _, x := range trees {
		if !hasTree(d, s, x) || !x.Tree.Told() {
			continue
		}
		if err := compare(d, s, x, func(c compared) error {
			if c.known != nil && c.row != nil && c.facts != c.row.Facts {
				fn(c.known.Item, c.row.Facts)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return d.T.Err()
}

// Changes is what a scan found otherwise.
type Changes struct {
	Rules bool // on items the estate knows
	Items bool // came or went
	Facts bool // sizes or times of items the estate knows
}

// HasChanges tells, in one walk, what a scan found otherwise.
func HasChanges(d *plan.Planner, s estate.Server, trees []*ScannedTree) (st Changes, err error) {
	known := map[[2]rule.Any]bool{}
	for _, x := range trees {
		d.Doing("comparing " + x.Share)
		if !hasTree(d, s, x) {
			continue
		}
		if err := compare(d, s, x, func(c compared) error {
			if c.known == nil || c.row == nil {
				st.Items = true
				return nil
			}
			st.Facts = st.Facts || x.Tree.Told() && c.facts != c.row.Facts
			pair := [2]rule.Any{d.T.Of(c.known.Strand), x.Tree.Bodies[c.row.Body]}
			other, ok := known[pair]
			if !ok {
				other = as(pair[0], pair[1]) != pair[0]
				known[pair] = other
			}
			st.Rules = st.Rules || other
			return nil
		}); err != nil {
			return Changes{}, err
		}
	}
	return st, d.T.Err()
}

// Found is one item as a server has it now.
type Found struct {
	Path   string // the server's own
	Folder bool
	Rules  rule.Any
}

// Now makes a plan of a few items as a server has them now, folders before what
// is in them, and tells where the estate has something else.
func Now(d *plan.Planner, s estate.Server, items []Found) (*plan.Plan, []DriftLine, error) {
	p := foundPlan(d)
	p.Change = "as " + s.Name + " has it now"
	var lines []DriftLine
	var groups []estate.Group
	made := map[string]int{}
	for _, x := range items {
		where := place.Address{Server: s.Name, Path: x.Path}.String()
		at, err := d.T.At(s, x.Path)
		if err == nil && at.Folder != x.Folder {
			return nil, nil, &estate.Refused{Why: where + " is a folder in one of the two, the estate and the server, and a file in the other", Do: "tarnwold scan " + s.Name + " takes it in"}
		}
		if err == nil {
			have := d.T.Of(at.Strand)
			if then := as(have, x.Rules); then != have {
				groups = append(groups, estate.Group{Targets: []estate.Target{at.Target()}, Edit: func(rule.Any, rule.Any, bool) (rule.Any, error) { return then, nil }})
				lines = append(lines, DriftLine{Where: where, What: "rules", Lines: d.Diff(have, then, x.Folder, nil, nil)})
			}
			continue
		}
		m := edit.MadeItem{InMade: -1, Name: place.Name(x.Path), Folder: x.Folder, D: x.Rules}
		if i, ok := made[place.Dir(x.Path)]; ok {
			m.InMade = i
		} else if m.In, err = d.T.At(s, place.Dir(x.Path)); err != nil {
			return nil, nil, &estate.Refused{Why: where + " isn't in the estate, nor is the folder it is in", Do: "tarnwold scan " + s.Name + " takes it in"}
		}
		made[x.Path] = len(p.Work.Made)
		p.Work.Made = append(p.Work.Made, m)
		lines = append(lines, DriftLine{Where: where, What: "came"})
	}
	if len(groups) > 0 {
		if err := just(d, p, groups); err != nil {
			return nil, nil, err
		}
	}
	return p, lines, d.T.Err()
}
