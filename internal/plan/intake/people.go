package intake

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/plan/people"
)

// PeopleFrom says where people come from.
type PeopleFrom struct {
	Directory   string // its name in the estate; empty: a file
	File        string // that errors name
	Domain      string // what newcomers whose name is taken are told apart by; empty: the directory's name
	Types       bool   // the directory says of groups whether they are for mail alone
	At          int64  // when a directory was read: seconds since 1970
	Whole       bool   // everybody the directory has is there, so that who isn't has gone
	Fingerprint *plan.Fingerprint
}

// named is where people come from with what newcomers are told apart by.
func (w PeopleFrom) named() PeopleFrom {
	if w.Domain == "" {
		w.Domain = w.Directory
	}
	return w
}

const takenAlready = "all of that is in the estate already"

// Taken counts what people of a directory bring.
type Taken struct {
	Came    int            `json:"came"`
	Went    int            `json:"went"`
	Stayed  int            `json:"gone-but-still-named"`
	Renamed int            `json:"renamed"`
	Changed int            `json:"changed"`
	Shut    int            `json:"shut"`
	Opened  int            `json:"opened"`
	Joined  int            `json:"joined"`
	Known   int            `json:"known-there-now"` // accounts the estate had already
	Left    int            `json:"left"`
	LeftOut map[string]int `json:"left-out"`
	Apart   []string       `json:"told-apart"` // newcomers whose names were taken, as they are called now
}

// one is an account as it is and as the directory has it.
type personRow struct {
	before  *acc.Account // nil: it comes
	after   acc.Account
	written string // its particulars as they are written down
	was     plan.Metadata
	is      plan.Metadata
}

// TakePeople makes the people of a directory, or of a file of one, come, change
// and, where everybody is there, go. An account is known again by its
// identifier, or its number; its name is what the directory calls it.
func TakePeople(d *plan.Planner, found *shape.People, w PeopleFrom) (*plan.Plan, *Taken, error) {
	t := d.T
	p := d.NewPlan("")
	c := &Taken{LeftOut: found.Left, Apart: []string{}}
	w = w.named()
	found = ofRealm(d, found, w)
	x := &taking{d: d, w: w, c: c, byID: map[plan.ID]*personRow{}, byName: map[string]*personRow{}, byNumber: map[string][]*personRow{}, first: -1, ended: map[[2]plan.ID]bool{}, had: map[acc.Kind]int64{}, lost: map[acc.Kind]int64{}}
	written := map[plan.ID]*estate.Particular{}
	t.EachParticular(func(p *estate.Particular) { written[p.ID] = p })
	fresh := true
	for _, a := range t.Accounts(0) {
		fresh = false
		row := &personRow{before: &a, after: a}
		if p := written[a.ID]; p != nil {
			if p.Err != nil {
				return nil, nil, fmt.Errorf("what is known of %s can't be read: %w", a.Name, p.Err)
			}
			row.written, row.was, row.is = p.Body, p.Metadata, p.Metadata
		}
		x.put(row)
	}
	if w.Whole && len(found.People) == 0 && slices.ContainsFunc(x.all, func(r *personRow) bool { return r.is.Directory == w.Directory }) {
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("directory %s returned nobody at all, and it had people before", w.Directory),
			Do: "check that its base and its user are still right: tarnwold directory test " + w.Directory}
	}
	free := sync.OnceValue(t.FreeIDs) // what has been given is looked for where somebody comes without one
	rows := make([]*personRow, len(found.People))
	met := map[*personRow]bool{}
	for i := range found.People {
		person := &found.People[i]
		if i&1023 == 0 && d.Ctx.Err() != nil {
			return nil, nil, d.Ctx.Err()
		}
		if person.Known {
			if rows[i] = x.known(person.ID); rows[i] == nil {
				c.LeftOut["members of domains the estate doesn't know"]++
			}
			continue
		}
		if !people.Machines(person.Account) {
			if estate.GoodName(person.Kind.String(), person.Name) != nil {
				c.LeftOut["names no estate can keep"]++
				continue
			}
			if !person.ID.IsZero() && estate.GoodID(person.ID) != nil {
				c.LeftOut["special accounts"]++
				continue
			}
		}
		row := x.find(person)
		if row != nil && met[row] {
			return nil, nil, &format.Error{File: w.File, Line: person.Line, What: fmt.Sprintf("%s and another are one account: %s", format.Clip(person.DN), row.after.ID)}
		}
		if row == nil {
			a := person.Account
			if a.ID.IsZero() {
				var err error
				if a.ID, err = free().For(a); err == nil && x.byID[a.ID] != nil { // two with one number: directories have them
					a.ID, err = free().For(acc.Account{Kind: a.Kind, Name: a.Name, POSIX: acc.NoPOSIX})
				}
				if err != nil {
					return nil, nil, err
				}
			}
			a.Name = x.free(a.Name, a.Kind, nil)
			if a.Name != person.Name {
				c.Apart = append(c.Apart, a.Name)
			}
			row = &personRow{after: a}
			x.put(row)
			c.Came++
		} else {
			x.change(row, person)
		}
		x.learn(row, person, found)
		met[row], rows[i] = true, row
	}
	byGID := map[int64]plan.ID{}
	for _, r := range x.all {
		if _, _, own := r.after.ID.Machine(); !own && r.after.Kind == acc.Group && r.after.POSIX != acc.NoPOSIX {
			if _, ok := byGID[r.after.POSIX]; !ok || met[r] {
				byGID[r.after.POSIX] = r.after.ID
			}
		}
	}
	for i, r := range rows {
		if found.People[i].Known {
			continue
		}
		if first := found.People[i].First; r != nil && r.after.Kind == acc.User && first != acc.NoPOSIX {
			id, ok := byGID[first]
			if !ok {
				id = acc.GID(uint32(first))
			}
			r.after.Primary = id
		}
	}
	for i, r := range rows {
		if boss := found.People[i].Manager; r != nil && !found.People[i].Known && boss >= 0 && rows[boss] != nil {
			r.is.Manager = rows[boss].after.ID.String()
		}
	}
	if err := x.memberships(p, found, rows); err != nil {
		return nil, nil, err
	}
	if w.Whole {
		if err := x.gone(p, met); err != nil {
			return nil, nil, err
		}
	}
	x.rename()
	for i, r := range rows {
		if p := &found.People[i]; r != nil && !p.Known {
			r.call(p)
		}
	}
	order, first := slices.Clone(x.renamed), map[*personRow]bool{}
	for _, r := range order {
		first[r] = true
	}
	for _, r := range x.all {
		if !first[r] {
			order = append(order, r)
		}
	}
	for _, r := range order {
		if r.before == nil || *r.before != r.after {
			after := r.after
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: r.before, After: &after})
			if r.before != nil && r.before.Name == r.after.Name {
				c.Changed++
			}
		}
		if err := x.particulars(p, r); err != nil {
			return nil, nil, err
		}
	}
	if x.first >= 0 {
		p.Work.Records[x.first].Edit.Lines[0].Text = format.Count(int64(c.Known), "account") + " the estate has are kept there"
	}
	p.Change = c.said(w)
	p.Work.FromDirectory = true
	if w.Directory != "" {
		p.Work.Cursor = readingOf(d, found, w, p)
	}
	if w.Fingerprint != nil {
		p.Work.Fingerprint = w.Fingerprint
		p.Work.Fingerprint.Until, p.Work.Fingerprint.Head = found.Until, p.Head
	}
	p.Nothing = takenAlready
	p.Asks = !fresh && len(t.TopItems()) > 0 && p.Work.People()
	p, err := d.Evaluate(p)
	if err == nil {
		d.LosesMuch(p, "user", x.lost[acc.User], x.had[acc.User])
		d.LosesMuch(p, "group", x.lost[acc.Group], x.had[acc.Group])
		d.LosesMuch(p, "membership", int64(c.Left), d.T.CountMembers())
	}
	return p, c, err
}

func (c *Taken) said(w PeopleFrom) string {
	from := "people from a directory's file"
	if w.Directory != "" {
		from = "people from directory " + w.Directory
	}
	var parts []string
	for _, x := range []struct {
		n    int
		what string
	}{{c.Came, "came"}, {c.Went, "went"}, {c.Renamed, "renamed"}, {c.Changed, "changed"}, {c.Known, "known already"}, {c.Shut, "shut"}, {c.Opened, "open again"}, {c.Joined, "more"}, {c.Left, "less"}} {
		switch {
		case x.n == 0:
		case x.what == "more" || x.what == "less":
			parts = append(parts, format.Count(int64(x.n), "membership")+" "+x.what)
		default:
			parts = append(parts, format.Number(int64(x.n))+" "+x.what)
		}
	}
	if len(parts) == 0 {
		parts = append(parts, "nothing new")
	}
	return from + ": " + strings.Join(parts, ", ")
}

type taking struct {
	d        *plan.Planner
	w        PeopleFrom
	c        *Taken
	all      []*personRow
	byID     map[plan.ID]*personRow
	byName   map[string]*personRow // by kind and key, as names are before renaming
	byNumber map[string][]*personRow
	renamed  []*personRow // in an order that keeps names free
	ended    map[[2]plan.ID]bool
	first    int // where among the records it is told how many are known there now
	// had and lost count who was kept there, and who is gone, by kind.
	had, lost map[acc.Kind]int64
}

func numberKey(n int64, kind acc.Kind) string { return fmt.Sprintf("%d %d", kind, n) }

func (x *taking) put(r *personRow) {
	x.all = append(x.all, r)
	x.byID[r.after.ID] = r
	x.byName[plan.NameKey(r.after.Name, r.after.Kind)] = r
	if _, _, own := r.after.ID.Machine(); !own && r.after.POSIX != acc.NoPOSIX { // of a machine's own no directory knows
		k := numberKey(r.after.POSIX, r.after.Kind)
		x.byNumber[k] = append(x.byNumber[k], r)
	}
}

// known finds who is named as a member by an identifier alone; a special account comes
// where a group lists it.
func (x *taking) known(id plan.ID) *personRow {
	if r := x.byID[id]; r != nil {
		return r
	}
	a, ok := estate.SpecialMember(id)
	if !ok {
		return nil
	}
	r := &personRow{after: a}
	x.put(r)
	return r
}

// find finds the account that somebody is: by identifier, else by the number or
// name of one that nothing says is another's.
func (x *taking) find(p *shape.Person) *personRow {
	if !p.ID.IsZero() {
		if r := x.byID[p.ID]; r != nil && r.after.Kind == p.Kind {
			return r
		}
		return nil
	}
	mine := func(r *personRow) bool {
		return r.before != nil && (r.is.Directory == x.w.Directory || r.is.Directory == "" || x.w.Directory == "")
	}
	if p.POSIX != acc.NoPOSIX {
		var fit []*personRow
		for _, r := range x.byNumber[numberKey(p.POSIX, p.Kind)] {
			if mine(r) {
				fit = append(fit, r)
			}
		}
		if len(fit) == 1 {
			return fit[0]
		}
		for _, r := range fit {
			if plan.SameKey(r.after.Name, p.Name) {
				return r
			}
		}
		return nil
	}
	if r := x.byName[plan.NameKey(p.Name, p.Kind)]; r != nil && mine(r) {
		return r
	}
	return nil
}

// free gives a name that nobody else of its kind has.
func (x *taking) free(name string, kind acc.Kind, me *personRow) string {
	taken := func(n string) bool { r := x.byName[plan.NameKey(n, kind)]; return r != nil && r != me }
	if !taken(name) {
		return name
	}
	apart := name + "@" + x.w.Domain
	for n := 2; taken(apart); n++ {
		apart = fmt.Sprintf("%s@%s-%d", name, x.w.Domain, n)
	}
	return apart
}

// change gives an account what the directory says of it.
func (x *taking) change(r *personRow, p *shape.Person) {
	a := &r.after
	if p.POSIX != acc.NoPOSIX {
		a.POSIX = p.POSIX
	}
	switch {
	case p.Purpose != acc.Unsaid:
		a.Purpose = p.Purpose
	case a.Purpose == acc.Mail && x.w.Types && r.is.Directory == x.w.Directory && x.w.Directory != "":
		a.Purpose = acc.Unsaid // it was made one for security
	}
	if !p.Primary.IsZero() {
		a.Primary = p.Primary
	}
	if a.Name != p.Name && a.Name != p.Name+"@"+x.w.Domain {
		a.Name = p.Name
	}
}

// learn gives an account what is written down of it beside.
func (x *taking) learn(r *personRow, p *shape.Person, found *shape.People) {
	if x.w.Directory != "" {
		r.is.Directory, r.is.Entry = x.w.Directory, p.DN
	}
	if found.Former {
		r.is.Former = p.Former
	}
	if p.Kind == acc.User && len(found.Claims) > 0 {
		r.is.Claims = claimed(r.is.Claims, p.Has, found.Claims)
	}
	for _, name := range found.Details {
		if p.Kind != acc.User || name == "manager" && x.works(r.is.Manager, p) {
			continue
		}
		*r.is.Details.Of(name) = *p.Details.Of(name)
	}
	if p.Kind == acc.User {
		x.signOn(r, p.Shut)
		r.is.Limits = p.Limits
	}
}

// works tells whether somebody's manager is known, and is who the directory names in a part
// of it that wasn't read now.
func (x *taking) works(manager string, p *shape.Person) bool {
	id, err := acc.ParseID(manager)
	if err != nil || p.Manager >= 0 || p.Details.Manager == "" {
		return false
	}
	a, ok := x.d.T.Account(id)
	return ok && (plan.SameKey(a.Name, p.Details.Manager) || plan.SameKey(x.d.T.MetadataOf(id).FullName, p.Details.Manager))
}

// call writes down what the directory calls an account that is called otherwise here.
func (r *personRow) call(p *shape.Person) {
	r.is.Called = ""
	if r.after.Name != p.Name {
		r.is.Called = p.Name
	}
}

// signOn marks whether a user can sign on, by what the directory says; what was
// said by hand stays.
func (x *taking) signOn(r *personRow, why string) {
	is := &r.is
	switch {
	case why != "" && !is.Shut:
		is.Shut, is.Why = true, why
		if r.before != nil {
			x.c.Shut++
		}
	case why != "" && is.Why != "":
		is.Why = why
	case why == "" && is.Shut && is.Why != "":
		is.Shut, is.Why = false, ""
		x.c.Opened++
	}
}

// memberships makes those come that the directory has, and those end that it
// hasn't, where everybody is there.
func (x *taking) memberships(p *plan.Plan, found *shape.People, rows []*personRow) error {
	dir := x.d.T.Directory()
	p.Work.Members = slices.Grow(p.Work.Members, len(found.Members))
	forGood := &estate.Membership{}
	have := map[*personRow]map[plan.ID]bool{}
	for i, pair := range found.Members {
		if i&1023 == 0 && x.d.Ctx.Err() != nil {
			return x.d.Ctx.Err()
		}
		g, m := rows[pair[0]], rows[pair[1]]
		if g == nil || m == nil {
			continue
		}
		if x.w.Directory != "" {
			if have[g] == nil {
				have[g] = map[plan.ID]bool{}
			}
			have[g][m.after.ID] = true
		}
		if g.before != nil && m.before != nil && dir.IsMember(g.after.ID, m.after.ID) {
			continue
		}
		p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g.after, Member: &m.after, Was: nil, Is: forGood})
		x.c.Joined++
	}
	if x.w.Directory == "" {
		return nil
	}
	for i, g := range rows {
		if g == nil || found.People[i].Known || g.before == nil || g.after.Kind != acc.Group {
			continue
		}
		for _, id := range dir.MembersOf(g.after.ID) {
			m := x.byID[id]
			if m == nil || have[g][id] || m.is.Directory != x.w.Directory && !acc.Open(id) || dir.Local(g.after.ID, id) {
				continue
			}
			x.end(p, g, m)
		}
	}
	return nil
}

// end ends a membership, once.
func (x *taking) end(p *plan.Plan, g, m *personRow) {
	if g == nil || m == nil || x.ended[[2]plan.ID{g.after.ID, m.after.ID}] {
		return
	}
	x.ended[[2]plan.ID{g.after.ID, m.after.ID}] = true
	was, _ := x.d.T.Member(g.after.ID, m.after.ID)
	p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g.after, Member: &m.after, Was: &was, Is: nil})
	x.c.Left++
}

// gone makes accounts go that the directory hasn't any more; what something
// still names stays, shut, and in none of the directory's groups.
func (x *taking) gone(p *plan.Plan, met map[*personRow]bool) error {
	dir := x.d.T.Directory()
	named := people.NamedByRules(x.d)
	keepers, err := keeper.Keepers(x.d.T)
	if err != nil {
		return err
	}
	for _, k := range keepers {
		named[k.ID()] = true
		if under, ok := k.Under(); ok {
			named[under] = true
		}
	}
	went := map[*personRow]bool{}
	first := map[plan.ID]*personRow{}                      // by primary group: a user who stays
	for _, kind := range []acc.Kind{acc.User, acc.Group} { // a group stays with whose first one it is
		if kind == acc.Group {
			for _, r := range x.all {
				if !r.after.Primary.IsZero() && !went[r] {
					first[r.after.Primary] = r
				}
			}
		}
		for _, r := range x.all {
			if r.after.Kind != kind || r.before == nil || r.is.Directory != x.w.Directory || r.was.Why == plan.GoneWhy {
				continue
			}
			x.had[kind]++
			if met[r] {
				continue
			}
			x.lost[kind]++
			if err := x.d.Ctx.Err(); err != nil {
				return err
			}
			a := *r.before
			for _, g := range dir.GroupsOf(a.ID) {
				if group := x.byID[g]; group != nil && group.is.Directory == x.w.Directory {
					x.end(p, group, r)
				}
			}
			why := ""
			for _, form := range estate.Forms(a) {
				switch {
				case named[form]:
					err := people.Unnamed(x.d, a)
					var still *people.StillNamed
					var no *estate.Refused
					switch {
					case errors.As(err, &still), errors.As(err, &no):
						why = err.Error()
					case err != nil:
						return err
					}
				case first[form] != nil:
					why = fmt.Sprintf("it is the primary group of %s", first[form].after.Name)
				}
			}
			if why != "" {
				x.c.Stayed++
				p.Advice = append(p.Advice, plan.Advice{Kind: "gone-still-named", Who: a.Name, Text: why})
				if a.Kind == acc.User {
					x.signOn(r, plan.GoneWhy)
				}
				continue
			}
			went[r] = true
			for _, g := range dir.GroupsOf(a.ID) {
				x.end(p, x.byID[g], r)
			}
			for _, m := range dir.MembersOf(a.ID) {
				x.end(p, r, x.byID[m])
			}
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &a})
			if r.written != "" {
				p.Work.Records = append(p.Work.Records, edit.Record{Kind: estate.MetadataRecord, Name: a.ID.String(), Before: r.written})
			}
			r.was, r.is = plan.Metadata{}, plan.Metadata{}
			delete(x.byName, plan.NameKey(a.Name, a.Kind))
			x.c.Went++
		}
	}
	return nil
}

// rename gives names that are free, one after the other; where two would have
// to change places, or another has the name, the old one stays.
func (x *taking) rename() {
	var left []*personRow
	for _, r := range x.all {
		if r.before != nil && r.before.Name != r.after.Name {
			left = append(left, r)
		}
	}
	for {
		some := false
		for i, r := range left {
			if r == nil {
				continue
			}
			to := r.after.Name
			if x.free(to, r.after.Kind, r) != to {
				continue
			}
			delete(x.byName, plan.NameKey(r.before.Name, r.after.Kind))
			x.byName[plan.NameKey(to, r.after.Kind)] = r
			x.c.Renamed++
			left[i], some = nil, true
			x.renamed = append(x.renamed, r)
		}
		if !some {
			break
		}
	}
	for _, r := range left {
		if r != nil {
			x.c.LeftOut["new names that another has"]++
			r.after.Name = r.before.Name
		}
	}
}

// formerLines tells which identifiers that an account had are known now.
func formerLines(was, is acc.Former) (out []edit.Line) {
	old, now := strings.Fields(string(was)), strings.Fields(string(is))
	for _, id := range old {
		if !slices.Contains(now, id) {
			out = append(out, edit.Line{Sign: edit.Goes, What: "former-identifier", Text: id})
		}
	}
	for _, id := range now {
		if !slices.Contains(old, id) {
			out = append(out, edit.Line{Sign: edit.Comes, What: "former-identifier", Text: id})
		}
	}
	return out
}

// particulars writes down what was learnt of an account beside.
func (x *taking) particulars(p *plan.Plan, r *personRow) error {
	was := r.was
	if was == r.is {
		return nil
	}
	e := edit.Description{Kind: "account", Where: fmt.Sprintf("%s %s", r.after.Kind, r.after.Name)}
	if was.Shut != r.is.Shut {
		words := map[bool]string{true: "shut", false: "open"}
		text := words[r.is.Shut] + ", was " + words[was.Shut]
		if r.is.Why != "" {
			text = "shut: " + r.is.Why
		}
		e.Lines = append(e.Lines, edit.Line{Sign: edit.Changes, What: "sign-on", Text: text})
	}
	if was.Limits != r.is.Limits {
		text := "without limits"
		if r.is.Limits != "" {
			text = "only " + r.is.Limits
		}
		e.Lines = append(e.Lines, edit.Line{Sign: edit.Changes, What: "sign-on", Text: text})
		if r.before != nil {
			x.c.Changed++
		}
	}
	if was.Claims != r.is.Claims {
		e.Lines = append(e.Lines, claimLines(was.Claims, r.is.Claims)...)
		if r.before != nil {
			x.c.Changed++
		}
	}
	if lines := plan.DetailLines(x.d, was.Details, r.is.Details); len(lines) > 0 && r.before != nil {
		e.Lines = append(e.Lines, lines...)
		if was.Claims == r.is.Claims && was.Limits == r.is.Limits && *r.before == r.after { // else it was counted
			x.c.Changed++
		}
	}
	if was.Former != r.is.Former {
		e.Lines = append(e.Lines, formerLines(was.Former, r.is.Former)...)
		if r.before != nil && *r.before == r.after && was.Directory == r.is.Directory && was.Entry == r.is.Entry {
			x.c.Changed++
		}
	}
	switch {
	case r.before == nil:
	case was.Directory != r.is.Directory: // one of many, mostly
		x.c.Known++
		if len(e.Lines) == 0 && x.c.Known == 1 {
			e = edit.Description{Kind: "directory", Where: "directory " + x.w.Directory, Lines: []edit.Line{{Sign: edit.Comes, What: "known"}}}
			x.first = len(p.Work.Records)
		}
	case was.Entry != r.is.Entry:
		e.Lines = append(e.Lines, edit.Line{Sign: edit.Changes, What: "known", Text: "in the directory it is " + r.is.Entry})
		if *r.before == r.after { // or it is counted
			x.c.Changed++
		}
	}
	return p.SetMetadata(r.after.ID, r.written, was, r.is, e)
}
