package intake

import (
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
)

// A POSIX system tells accounts by number and name. Who has both of somebody the estate
// knows is that one: the machine takes them from where the estate has them, or they were
// given the same ones on purpose. Everybody else is the machine's own, and nobody on any
// other machine, whoever may have the number or the name there.

// machine holds what a POSIX system tells to whom the estate knows.
type machine struct {
	d     *plan.Planner
	s     estate.Server
	realm plan.ID
	link  *estate.RealmLink
	// known are accounts that no machine has for itself, by number.
	known map[string][]acc.Account
	taken map[string]plan.ID // names, by whom they mean
}

func newMachine(d *plan.Planner, s estate.Server) *machine {
	m := &machine{d: d, s: s, realm: estate.ServerRealm(s), link: d.T.RealmLink(s), known: map[string][]acc.Account{}, taken: map[string]plan.ID{}}
	for _, a := range d.T.Accounts(0) {
		m.taken[plan.NameKey(a.Name, a.Kind)] = a.ID
		if _, _, own := a.ID.Machine(); !own && a.POSIX != acc.NoPOSIX {
			key := numberKey(a.POSIX, a.Kind)
			m.known[key] = append(m.known[key], a)
		}
	}
	return m
}

// who finds the account that a row means, if the estate knows one.
func (m *machine) who(r *format.AccountRow) (a acc.Account, ok bool) {
	for _, a := range m.known[numberKey(r.POSIX, r.Kind)] {
		if m.link != nil && m.d.T.MetadataOf(a.ID).Directory != m.link.With {
			continue
		}
		if plan.SameKey(a.Name, r.Name) || plan.SameKey(m.d.T.MetadataOf(a.ID).Called, r.Name) || m.link != nil && m.link.By == estate.ByNumber {
			return a, true
		}
	}
	return a, false
}

// own makes the machine's own account of a row; it keeps the name it has here as long as
// the machine calls it so.
func (m *machine) own(r *format.AccountRow) acc.Account {
	number := acc.UID(uint32(r.POSIX))
	if r.Kind == acc.Group {
		number = acc.GID(uint32(r.POSIX))
	}
	id, _ := number.On(m.realm)
	a := acc.Account{ID: id, Kind: r.Kind, POSIX: r.POSIX}
	if was, ok := m.d.T.Account(id); ok {
		a = was
		if estate.Called(was) == r.Name {
			return a
		}
	}
	a.Name = r.Name + "@" + m.s.Name
	for i := 0; ; i++ { // of two that differ in case alone, or where a domain is called so
		of, taken := m.taken[plan.NameKey(a.Name, a.Kind)]
		if !taken || of == id {
			break
		}
		a.Name = fmt.Sprintf("%s@%d@%s", r.Name, r.POSIX, m.s.Name)
		if i > 0 {
			a.Name = fmt.Sprintf("%s@%d@%s-%d", r.Name, r.POSIX, m.s.Name, i+1)
		}
	}
	m.taken[plan.NameKey(a.Name, a.Kind)] = id
	return a
}

// told is what a machine tells, each row with the account it means.
type told struct {
	people.AccountFile
	// differs are memberships of a directory's groups that are otherwise on the machine.
	differs []string
}

// read gives every row the identifier and the name of the account it means. What a machine
// tells of a directory's groups is left out: the directory has the say on them.
func (m *machine) read(f people.AccountFile) told {
	out := told{AccountFile: f}
	out.Machine = m.realm
	out.Accounts = slices.Clone(f.Accounts)
	called := map[string]string{}
	groups := map[int64]plan.ID{}
	byID := map[plan.ID]string{}
	kept := map[string]acc.Account{} // groups of directories
	var firsts format.Memberships
	for _, kind := range []acc.Kind{acc.Group, acc.User} {
		for i := range out.Accounts {
			r := &out.Accounts[i]
			if r.Kind != kind {
				continue
			}
			was := r.Kind.String() + ":" + r.Name
			if a, ok := m.who(r); ok {
				r.Name, r.ID = a.Name, a.ID
				if first, ok := groups[r.PrimaryGID]; kind == acc.User && ok {
					if _, _, own := first.Machine(); own { // their first group on this machine alone
						firsts.Add(format.MemberRow{Group: "group:" + byID[first], Member: "user:" + a.Name})
						r.PrimaryGID = acc.NoPOSIX
					}
				}
				if m.d.T.MetadataOf(a.ID).Directory != "" || !a.Primary.IsZero() {
					r.PrimaryGID = acc.NoPOSIX
				}
				if m.d.T.MetadataOf(a.ID).Directory != "" {
					if kind == acc.Group {
						kept[kind.String()+":"+a.Name] = a
					}
				}
			} else {
				a := m.own(r)
				r.ID, r.Name = a.ID, a.Name
				if kind == acc.User && r.PrimaryGID != acc.NoPOSIX {
					first, told := groups[r.PrimaryGID]
					if !told {
						first = acc.GID(uint32(r.PrimaryGID))
					}
					r.Primary, r.PrimaryGID = first, acc.NoPOSIX
				}
			}
			if kind == acc.Group {
				if _, twice := groups[r.POSIX]; !twice {
					groups[r.POSIX], byID[r.ID] = r.ID, r.Name
				}
			}
			if _, twice := called[was]; !twice {
				called[was] = kind.String() + ":" + r.Name
			}
		}
	}
	out.Members = firsts
	for _, x := range f.Members.All() {
		x.Group, x.Member = called[x.Group], called[x.Member]
		g, directorys := kept[x.Group]
		if !directorys {
			out.Members.Add(x)
			continue
		}
		a, err := m.d.T.Named(x.Member, 0)
		if _, is := m.d.T.Member(g.ID, a.ID); err != nil || !is {
			out.differs = append(out.differs, fmt.Sprintf("%s is in group %s", strings.Replace(x.Member, ":", " ", 1), g.Name))
		}
	}
	return out
}

// numbersFound makes a plan of accounts of a POSIX system, which have numbers alone.
func numbersFound(d *plan.Planner, s estate.Server, f people.AccountFile) (*plan.Plan, *people.Loaded, error) {
	t := newMachine(d, s).read(f)
	p, loaded, err := people.LoadAccounts(d, []people.AccountFile{t.AccountFile})
	if err == nil {
		p.IsSo, p.Theirs = true, nil // the server has it so itself
	}
	return p, loaded, err
}

// DiffersThere tells of memberships of a directory's groups that are otherwise on a server
// than the directory has them.
func DiffersThere(d *plan.Planner, s estate.Server, f people.AccountFile) []string {
	if !f.POSIX {
		return nil
	}
	return newMachine(d, s).read(f).differs
}

// NoteDiffering remembers what DiffersThere told, for whoever looks for what is wrong.
func NoteDiffering(t *estate.Tx, s estate.Server, told []string) {
	var list []string
	for _, x := range told {
		list = append(list, x+" there, and not in the directory, which has the say")
	}
	t.SetOtherwise(s, estate.MembershipOtherwise, list)
}

// OwnRenamed makes a plan of a machine's own accounts that it calls otherwise now.
func OwnRenamed(d *plan.Planner, s estate.Server, f people.AccountFile) (*plan.Plan, error) {
	p := foundPlan(d)
	p.Nothing = "its own accounts are called as they were"
	if f.POSIX && d.T.Machines()[estate.ServerRealm(s)] {
		for _, r := range newMachine(d, s).read(f).Accounts {
			before, ok := d.T.Account(r.ID)
			if _, _, own := r.ID.Machine(); !own || !ok || before.Name == r.Name {
				continue
			}
			after := before
			after.Name = r.Name
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &before, After: &after})
		}
	}
	p.Change = fmt.Sprintf("scan of %s: %s renamed", s.Name, format.Count(int64(len(p.Work.Accounts)), "account"))
	return d.Evaluate(p)
}

// OwnGone makes a plan of a machine's own accounts that it hasn't any more and nothing but
// memberships names: they were taken out there, or turned out to be somebody whom the
// estate has from elsewhere.
func OwnGone(d *plan.Planner, s estate.Server, f people.AccountFile) (*plan.Plan, error) {
	p := foundPlan(d)
	p.Nothing = "its own accounts are as they were"
	if f.POSIX && d.T.Machines()[estate.ServerRealm(s)] {
		m := newMachine(d, s)
		there := map[plan.ID]bool{}
		for _, r := range m.read(f).Accounts {
			there[r.ID] = true
		}
		ended := map[[2]plan.ID]bool{}
		for _, a := range d.T.Accounts(0) {
			if realm, _, own := a.ID.Machine(); !own || realm != m.realm || there[a.ID] || people.NamedBeside(d, a) != nil {
				continue
			}
			before := a
			for _, e := range membershipsOf(d, a) {
				if pair := [2]plan.ID{e.Group.ID, e.Member.ID}; !ended[pair] {
					ended[pair] = true
					p.Work.Members = append(p.Work.Members, e)
				}
			}
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &before})
		}
	}
	p.Change = fmt.Sprintf("scan of %s: %s gone", s.Name, format.Count(int64(len(p.Work.Accounts)), "account"))
	return d.Evaluate(p)
}

// membershipsOf are the ends of all memberships of an account and in it.
func membershipsOf(d *plan.Planner, a acc.Account) (out []edit.Membership) {
	leave := func(g, m plan.ID) {
		group, ok := d.T.Account(g)
		member, also := d.T.Account(m)
		if was, is := d.T.Member(g, m); ok && also && is {
			out = append(out, edit.Membership{Group: &group, Member: &member, Was: &was})
		}
	}
	for _, g := range d.T.GroupsOf(a.ID) {
		leave(g, a.ID)
	}
	for _, m := range d.T.MembersOf(a.ID) {
		leave(a.ID, m)
	}
	return out
}
