package people

import (
	"fmt"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
)

// Builtin is one of a machine's built-in groups as the machine tells it, whole.
type Builtin struct {
	Group   plan.ID // as rules name it
	Members []plan.ID
}

// TakeBuiltin makes a machine's built-in groups hold those whom it says they hold, and
// nobody else. Members of whom the estate knows nothing are left out: nobody it has is
// in the group by them.
func TakeBuiltin(d *plan.Planner, s estate.Server, told []Builtin) (*plan.Plan, error) {
	p := d.NewPlan("")
	p.IsSo, p.Nothing = true, "its built-in groups are as they were"
	t := d.T
	realm := estate.ServerRealm(s)
	joined, left := 0, 0
	for _, b := range told {
		g, ok := t.BuiltinGroup(b.Group, realm, s.Name)
		if !ok {
			continue
		}
		was, there := t.Account(g.ID)
		if there {
			g = was
		}
		holds := map[plan.ID]bool{}
		for _, id := range b.Members {
			m, known := t.Account(id)
			if !known {
				m, ok = estate.SpecialMember(id)
				if !ok {
					continue
				}
				come(d, p, m)
			}
			if holds[m.ID] = true; there {
				if _, is := t.Member(g.ID, m.ID); is {
					continue
				}
			} else {
				there = true
				come(d, p, g)
			}
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &m, Is: &estate.Membership{Local: true}})
			joined++
		}
		if was.ID.IsZero() {
			continue
		}
		for _, id := range t.MembersOf(g.ID) {
			if holds[id] {
				continue
			}
			m, _ := t.Account(id)
			had, _ := t.Member(g.ID, id)
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &m, Was: &had})
			left++
		}
	}
	p.Change = fmt.Sprintf("scan of %s: built-in groups: %s more, %d less", s.Name, format.Count(int64(joined), "membership"), left)
	p.Asks = len(t.TopItems()) > 0 // else nobody's access to anything can change
	return d.Evaluate(p)
}

// OfRealm gives what a directory tells of built-in groups to the domain whose they are:
// there each is called by what it is everywhere, with the domain behind. Others stay as
// they are; nothing is known of a domain, and they are left out.
func OfRealm(d *plan.Planner, realm plan.ID, called string, id plan.ID) (acc.Account, bool) {
	for _, g := range d.T.Builtins() {
		if of, named, _ := g.ID.Realm(); of == realm && named == id {
			return g, true
		}
	}
	return d.T.BuiltinGroup(id, realm, called)
}

// RealmOfMost is the domain that most of some accounts are of; zero: none is of any.
func RealmOfMost(ids []plan.ID) (most plan.ID) {
	count := map[plan.ID]int{}
	for _, id := range ids {
		if domain, _, ok := id.Domain(); ok {
			count[domain]++
		}
	}
	domains := make([]plan.ID, 0, len(count))
	for domain := range count {
		domains = append(domains, domain)
	}
	slices.SortFunc(domains, acc.Compare)
	for _, domain := range domains {
		if count[domain] > count[most] {
			most = domain
		}
	}
	return most
}
