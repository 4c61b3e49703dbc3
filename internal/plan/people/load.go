package people

import (
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/store"
)

// AccountFile is what one file of accounts and memberships held.
type AccountFile struct {
	File     string
	Accounts []format.AccountRow
	Members  format.Memberships
	POSIX    bool     // a group file: it lists each of its groups' users whole
	Further  []string // columns that nothing is known of here
	// Server: a server told its own lists of members, which hold nobody by its system's.
	Server bool
	// Machine is whose own accounts the file may tell of, by their identifiers.
	Machine plan.ID
}

// Loaded counts what a load of accounts brings.
type Loaded struct {
	Users     int        `json:"users"`
	Groups    int        `json:"groups"`
	Members   int        `json:"members"`
	Completed int        `json:"completed"`         // accounts that were there and lacked something
	Loops     [][]string `json:"circles,omitempty"` // of groups the files hold; each is followed once
	Shared    []string   `json:"shared,omitempty"`  // uids and gids that several accounts have
	Further   []string   `json:"further,omitempty"` // columns nothing is known of: they are kept of users as they are
}

// LoadAccounts makes accounts and memberships of files come, merged by name or
// number in whatever order the files are. An account that is there already is
// completed where it lacks something, and refused where it differs.
func LoadAccounts(d *plan.Planner, files []AccountFile) (*plan.Plan, *Loaded, error) {
	t := d.T
	p := d.NewPlan("")
	p.Work.FromFile = true
	x := &load{d: d, p: p, n: newNames(t), files: files}
	fresh := len(x.n.rows) == 0
	if err := x.accounts(); err != nil {
		return nil, nil, err
	}
	x.numbers()
	x.changed()
	if err := x.details(); err != nil {
		return nil, nil, err
	}
	for _, f := range files {
		x.c.Further = append(x.c.Further, f.Further...)
	}
	x.dir = t.Directory()
	x.lists()
	x.locals()
	if err := x.memberships(); err != nil {
		return nil, nil, err
	}
	c := &x.c
	p.Change = format.Count(int64(c.Users), "user") + ", " + format.Count(int64(c.Groups), "group") + " and " + format.Count(int64(c.Members), "membership") + " loaded"
	if c.Completed > 0 {
		p.Change += ", " + format.Count(int64(c.Completed), "account") + " completed"
	}
	p.Nothing = "all of that is in the estate already"
	p.Asks = !fresh && len(t.TopItems()) > 0 && (c.Members > 0 || c.Completed > 0 || c.Users > 0 || c.Groups > 0)
	p, err := d.Evaluate(p)
	return p, c, err
}

// load is a load of files under way.
type load struct {
	d     *plan.Planner
	p     *plan.Plan
	c     Loaded
	n     *names
	files []AccountFile
	rows  []pending
	dir   *acc.Directory
	// listed are whom POSIX group files list, by group: who else is in such a group
	// is so by the server's local groups.
	listed map[plan.ID]map[plan.ID]bool
	said   map[estate.Membership]*estate.Membership
}

// pending is a row of a file, and the account it tells of.
type pending struct {
	file *AccountFile
	row  *format.AccountRow
	at   *loading
}

func wrong(f AccountFile, line int, what string, args ...any) error {
	return &format.Error{File: f.File, Line: line, What: fmt.Sprintf(what, args...)}
}

// accounts takes the rows of accounts one by one. Those that say the identifier come
// first, so that those of POSIX files, which know a number alone, find theirs.
func (x *load) accounts() error {
	for _, posixOnly := range []bool{false, true} {
		for i := range x.files {
			f := &x.files[i]
			for j := range f.Accounts {
				r := &f.Accounts[j]
				if (r.ID.IsZero() && r.POSIX != acc.NoPOSIX) == posixOnly {
					x.rows = append(x.rows, pending{file: f, row: r})
				}
			}
		}
	}
	free := x.d.T.FreeIDs()
	for i := range x.rows {
		f, r := *x.rows[i].file, *x.rows[i].row
		if err := estate.GoodName(r.Kind.String(), r.Name); err != nil {
			return wrong(f, r.Line, "%v", err)
		}
		old, apart := x.n.meant(f.File, r)
		if old == nil {
			var err error
			if old, err = x.comes(f, r, apart, free.For); err != nil {
				return err
			}
		}
		x.rows[i].at = old
		x.n.spelt[nameAs(r.Name, r.Kind)] = old
		a := &old.after
		if !r.ID.IsZero() && r.ID != a.ID {
			return wrong(f, r.Line, "%s %q is in the estate with the identifier %s, not %s", r.Kind, r.Name, a.ID, r.ID)
		}
		if r.POSIX != acc.NoPOSIX && a.POSIX != acc.NoPOSIX && r.POSIX != a.POSIX {
			return wrong(f, r.Line, "%s %q is in the estate with the id %d, not %d", r.Kind, r.Name, a.POSIX, r.POSIX)
		}
		if r.POSIX != acc.NoPOSIX {
			a.POSIX = r.POSIX
		}
		if !r.Primary.IsZero() {
			a.Primary = r.Primary
		}
		if r.Purpose != acc.Unsaid {
			a.Purpose = r.Purpose
		}
	}
	return nil
}

// comes makes the account of a row that means nobody there is; apart is who has its name
// but for case or form.
func (x *load) comes(f AccountFile, r format.AccountRow, apart *loading, free func(acc.Account) (plan.ID, error)) (*loading, error) {
	made := r.Account
	if apart != nil {
		made.Name = x.n.apart(r)
		x.c.Shared = append(x.c.Shared, fmt.Sprintf("%s and %s have names that are told apart by case or form alone, and the second is called %s", apart.after.Name, r.Name, made.Name))
	}
	if made.ID.IsZero() {
		var err error
		made.ID, err = free(made)
		if other := x.n.ids[made.ID]; err == nil && other != nil && made.POSIX != acc.NoPOSIX {
			// Two accounts with one uid or gid: servers have them.
			made.ID, err = free(acc.Account{Kind: made.Kind, Name: made.Name, POSIX: acc.NoPOSIX})
		}
		if err != nil {
			return nil, wrong(f, r.Line, "%v", err)
		}
	} else if realm, _, own := made.ID.Machine(); own && realm == f.Machine {
		// the machine's own
	} else if err := estate.GoodID(made.ID); err != nil {
		return nil, wrong(f, r.Line, "%v", err)
	}
	if other := x.n.ids[made.ID]; other != nil {
		return nil, wrong(f, r.Line, "%s is the identifier of %s %q already", made.ID, other.after.Kind, other.after.Name)
	}
	old := x.n.add(nil, made)
	old.file = f.File
	if r.Kind == acc.User {
		x.c.Users++
	} else {
		x.c.Groups++
	}
	return old, nil
}

// numbers tells of uids and gids that several have, and gives users the first groups
// that files say by number.
func (x *load) numbers() {
	byGID, number := map[int64]plan.ID{}, map[string]string{}
	for _, r := range x.n.rows {
		if _, _, own := r.after.ID.Machine(); own || r.after.POSIX == acc.NoPOSIX { // what is a machine's own is nobody elsewhere
			continue
		}
		if r.after.Kind == acc.Group {
			if _, ok := byGID[r.after.POSIX]; !ok {
				byGID[r.after.POSIX] = r.after.ID
			}
		}
		key := fmt.Sprintf("%s %d", r.after.Kind, r.after.POSIX)
		if first, ok := number[key]; ok && r.before == nil {
			x.c.Shared = append(x.c.Shared, fmt.Sprintf("%s and %s have one %s: %d", first, r.after.Name, map[acc.Kind]string{acc.User: "uid", acc.Group: "gid"}[r.after.Kind], r.after.POSIX))
		} else if !ok {
			number[key] = r.after.Name
		}
	}
	for _, r := range x.rows {
		if r.row.Kind != acc.User || r.row.PrimaryGID == acc.NoPOSIX {
			continue
		}
		id, ok := byGID[r.row.PrimaryGID]
		if !ok {
			id = acc.GID(uint32(r.row.PrimaryGID))
		}
		r.at.after.Primary = id
	}
}

// changed puts the accounts that come, and those that are completed, into the plan.
func (x *load) changed() {
	for _, r := range x.n.rows {
		after := r.after
		switch {
		case r.before == nil:
			x.p.Work.Accounts = append(x.p.Work.Accounts, edit.Account{After: &after})
		case *r.before != r.after:
			x.p.Work.Accounts = append(x.p.Work.Accounts, edit.Account{Before: r.before, After: &after})
			x.c.Completed++
		}
	}
}

// details writes down what the files say of users beside. What a directory says of those it
// keeps stays, and what files don't say.
func (x *load) details() error {
	type written struct {
		body    string
		was, is plan.Metadata
	}
	of := map[*loading]*written{}
	var order []*loading
	var there map[plan.ID]*estate.Particular
	for _, r := range x.rows {
		if r.row.Details == nil {
			continue
		}
		w := of[r.at]
		if w == nil {
			w = &written{}
			if r.at.before != nil {
				if there == nil {
					there = map[plan.ID]*estate.Particular{}
					x.d.T.EachParticular(func(p *estate.Particular) { there[p.ID] = p })
				}
				if p := there[r.at.before.ID]; p != nil {
					if p.Err != nil {
						return fmt.Errorf("what is known of %s can't be read: %w", r.at.before.Name, p.Err)
					}
					w.body, w.was, w.is = p.Body, p.Metadata, p.Metadata
				}
			}
			of[r.at], order = w, append(order, r.at)
		}
		said := *r.row.Details
		if said.Manager != "" {
			boss, err := x.n.find(said.Manager, acc.User)
			if err != nil {
				return wrong(*r.file, r.row.Line, "the manager of %s: %v", r.row.Name, err)
			}
			if said.Manager = boss.after.ID.String(); boss.before == nil {
				x.d.T.Foresee(boss.after)
			}
		}
		for _, name := range format.DetailNames(said) {
			known := said.Of(name) != nil // what else is said no directory says
			if value := said.Get(name); value != "" && (!known || w.is.Details.Get(name) == "" || w.is.Directory == "") {
				w.is.Details.Set(name, value)
			}
		}
	}
	for _, at := range order {
		w := of[at]
		e := edit.Description{Kind: "account", Where: fmt.Sprintf("%s %s", at.after.Kind, at.after.Name)}
		if at.before != nil {
			e.Lines = plan.DetailLines(x.d, w.was.Details, w.is.Details)
			if w.is != w.was && *at.before == at.after {
				x.c.Completed++
			}
		}
		if err := x.p.SetMetadata(at.after.ID, w.body, w.was, w.is, e); err != nil {
			return err
		}
	}
	return nil
}

// lists finds whom POSIX group files list: what one says of a group is said there whole.
func (x *load) lists() {
	x.listed = map[plan.ID]map[plan.ID]bool{}
	for _, f := range x.files {
		if !f.POSIX {
			continue
		}
		for _, r := range f.Accounts {
			if g := x.n.exactly(r.Name, acc.Group); g != nil && x.listed[g.after.ID] == nil {
				x.listed[g.after.ID] = map[plan.ID]bool{}
			}
		}
		for _, m := range f.Members.All() {
			g, err := x.n.find(m.Group, acc.Group)
			a, err2 := x.n.find(m.Member, 0)
			if err == nil && err2 == nil && x.listed[g.after.ID] != nil {
				x.listed[g.after.ID][a.after.ID] = true
			}
		}
	}
}

// local tells whether a membership is one of the server's local groups alone.
func (x *load) local(g, a *acc.Account) bool {
	users, known := x.listed[g.ID]
	return known && a.Kind == acc.User && !users[a.ID]
}

// locals makes memberships there are local ones, or none any more, as the files list them.
func (x *load) locals() {
	for g := range x.listed {
		for _, m := range x.dir.MembersOf(g) {
			group, member := x.n.ids[g], x.n.ids[m]
			if group == nil || member == nil || member.after.Kind != acc.User || x.dir.Local(g, m) == x.local(&group.after, &member.after) {
				continue
			}
			was, _ := x.d.T.Member(g, m)
			is := estate.Membership{Until: was.Until, Local: !was.Local}
			x.p.Work.Members = append(x.p.Work.Members, edit.Membership{Group: &group.after, Member: &member.after, Was: &was, Is: &is})
			x.c.Completed++
		}
	}
}

// memberships makes those come that the files have and the estate hasn't. There may be
// millions: each name of a file is looked up once, and what groups somebody comes into is
// listed with them by numbers.
func (x *load) memberships() error {
	number := map[*loading]int32{} // of groups
	for _, f := range x.files {
		type found struct {
			group, member *loading
			number        int32
		}
		known := make([]found, f.Members.Names())
		i := 0
		for at, m := range f.Members.All() {
			if i++; i&1023 == 0 && x.d.Ctx.Err() != nil {
				return x.d.Ctx.Err()
			}
			until, err := estate.ParseDay(m.Until)
			if err != nil {
				return wrong(f, m.Line, "%v", err)
			}
			group, member := &known[at.Group], &known[at.Member]
			if group.group == nil {
				if group.group, err = x.n.find(m.Group, acc.Group); err != nil {
					return wrong(f, m.Line, "%v", err)
				}
				n, ok := number[group.group]
				if !ok {
					n = int32(len(number))
					number[group.group] = n
				}
				group.number = n
			}
			if member.member == nil {
				if member.member, err = x.n.find(m.Member, 0); err != nil {
					return wrong(f, m.Line, "%v", err)
				}
			}
			in := &member.member.in
			g, a := &group.group.after, &member.member.after // the same for all memberships of one
			if slices.Contains(*in, group.number) || x.dir.IsMember(g.ID, a.ID) {
				continue
			}
			*in = append(*in, group.number)
			if a.Kind == acc.Group {
				x.circle(g, a)
				x.dir.Join(g.ID, a.ID)
			}
			x.p.Work.Members = append(x.p.Work.Members, edit.Membership{Group: g, Member: a, Is: x.membership(until, x.local(g, a) || f.Server && g.POSIX != acc.NoPOSIX && a.Kind == acc.User)})
			x.c.Members++
		}
	}
	return nil
}

// membership gives one value for all memberships that say the same.
func (x *load) membership(until estate.Day, local bool) *estate.Membership {
	is := estate.Membership{Until: until, Local: local}
	one := x.said[is]
	if one == nil {
		if x.said == nil {
			x.said = map[estate.Membership]*estate.Membership{}
		}
		one = &is
		x.said[is] = one
	}
	return one
}

// circle tells of groups that hold themselves by a membership, which is taken all the same.
func (x *load) circle(g, a *acc.Account) {
	loop := x.dir.Loop(g.ID, a.ID)
	if loop == nil {
		return
	}
	names := make([]string, len(loop))
	for i, id := range loop {
		names[i] = x.n.ids[id].after.Name
	}
	x.c.Loops = append(x.c.Loops, names)
}

// loading is an account before and after a load.
type loading struct {
	before *acc.Account
	after  acc.Account
	file   string  // where a new one was read
	in     []int32 // the groups that files make it come into, by number
}

// names finds accounts by name without asking the file for each.
type names struct {
	rows []*loading
	by   map[string][]*loading
	ids  map[plan.ID]*loading
	// spelt are accounts by the very bytes files have them by, and their kind.
	spelt map[string]*loading
}

func nameAs(name string, kind acc.Kind) string { return kind.String() + ":" + name }

// meant finds whom a row of a file means: who is spelt just so, else who has the
// name in another case or form. That is somebody else, though, where both have a
// number and not the same, or where one file has both.
func (n *names) meant(file string, r format.AccountRow) (old, apart *loading) {
	if x := n.spelt[nameAs(r.Name, r.Kind)]; x != nil {
		return x, nil
	}
	x := n.exactly(r.Name, r.Kind)
	if x == nil || x.after.Name == r.Name || !r.ID.IsZero() && r.ID == x.after.ID {
		return x, nil
	}
	numbers := r.POSIX != acc.NoPOSIX && x.after.POSIX != acc.NoPOSIX
	if numbers && r.POSIX != x.after.POSIX || !numbers && x.before == nil && x.file == file {
		return nil, x
	}
	return x, nil
}

// apart gives a name that is free to who has another's but for case or form.
func (n *names) apart(r format.AccountRow) string {
	for i := 2; ; i++ {
		name := fmt.Sprintf("%s@%d", r.Name, i)
		if i == 2 && r.POSIX != acc.NoPOSIX {
			name = fmt.Sprintf("%s@%d", r.Name, r.POSIX)
		}
		if n.exactly(name, r.Kind) == nil {
			return name
		}
	}
}

func newNames(t *estate.Tx) *names {
	n := &names{by: map[string][]*loading{}, ids: map[plan.ID]*loading{}, spelt: map[string]*loading{}}
	for _, a := range t.Accounts(0) {
		n.add(&a, a)
	}
	for _, x := range n.rows { // who was named apart when loaded before
		if at := strings.LastIndexByte(x.after.Name, '@'); at > 0 {
			spelt, number := x.after.Name[:at], x.after.Name[at+1:]
			other := n.exactly(spelt, x.after.Kind)
			if other != nil && other.after.Name != spelt && (number == fmt.Sprint(x.after.POSIX) || x.after.POSIX == acc.NoPOSIX && number == "2") {
				n.spelt[nameAs(spelt, x.after.Kind)] = x
			}
		}
	}
	return n
}

func (n *names) add(before *acc.Account, a acc.Account) *loading {
	x := &loading{before: before, after: a}
	key := store.Key(a.Name)
	n.rows, n.by[key], n.ids[a.ID] = append(n.rows, x), append(n.by[key], x), x
	n.spelt[nameAs(a.Name, a.Kind)] = x
	return x
}

func (n *names) exactly(name string, kind acc.Kind) *loading {
	for _, a := range n.by[store.Key(name)] {
		if a.after.Kind == kind {
			return a
		}
	}
	return nil
}

// find looks an account up by name, with user: or group: before it; kind 0
// takes either, a user where both have the name.
func (n *names) find(word string, kind acc.Kind) (*loading, error) {
	name := word
	for _, k := range []acc.Kind{acc.User, acc.Group} {
		if rest, ok := strings.CutPrefix(word, k.String()+":"); ok && (kind == 0 || kind == k) {
			name, kind = rest, k
		}
	}
	for _, find := range []func(string, acc.Kind) *loading{func(name string, k acc.Kind) *loading { return n.spelt[nameAs(name, k)] }, n.exactly} {
		for _, k := range []acc.Kind{acc.User, acc.Group} {
			if kind == 0 || kind == k {
				if x := find(name, k); x != nil {
					return x, nil
				}
			}
		}
	}
	what := "account"
	if kind != 0 {
		what = kind.String()
	}
	var all []string
	for _, x := range n.rows {
		if kind == 0 || x.after.Kind == kind {
			all = append(all, x.after.Name)
		}
	}
	return nil, &estate.NotFound{What: what, Name: name, Near: estate.Nearest(name, all)}
}
