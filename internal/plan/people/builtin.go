package people

import (
	"fmt"

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
		for _, m := range known(d, p, b.Members) {
			holds[m.ID] = true
			if _, is := t.Member(g.ID, m.ID); !is {
				p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &m, Is: &estate.Membership{Local: true}})
				joined++
			}
		}
		if !there {
			if len(holds) > 0 { // it comes with the first who is in it
				come(d, p, g)
			}
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

// known finds the accounts of some identifiers that the estate has, each once; special
// ones come where they are named.
func known(d *plan.Planner, p *plan.Plan, ids []plan.ID) (out []acc.Account) {
	seen := map[plan.ID]bool{}
	for _, id := range ids {
		if seen[id] {
			continue
		}
		seen[id] = true
		m, ok := d.T.Account(id)
		if !ok {
			if m, ok = estate.SpecialMember(id); !ok {
				continue
			}
			come(d, p, m)
		}
		out = append(out, m)
	}
	return out
}
