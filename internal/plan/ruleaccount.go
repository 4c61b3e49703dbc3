package plan

import (
	"fmt"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
)

// RuleAccount finds whom rules are to name, at and below some places; none: anywhere.
//
// A machine's built-in group is named there as it is everywhere, and means that machine's
// own: one that was said with its machine could be taken for that machine's elsewhere. A
// machine's own account is named by its number, which is somebody else elsewhere.
func (d *Planner) RuleAccount(word string, where ...string) (ID, error) {
	if a, ok := d.T.Builtin(word); ok {
		name := d.T.Name(a.ID.Named())
		return ID{}, &estate.Refused{Why: fmt.Sprintf("rules name no machine's %s: it is each machine's own there", name), Do: fmt.Sprintf("say '%s'", name)}
	}
	if len(d.T.Machines()) == 0 {
		return d.T.Who(word)
	}
	servers := d.serversOf(where)
	if id, ok := d.ownThere(word, servers); ok {
		return id, nil
	}
	id, err := d.T.Who(word)
	of, own := d.T.MachineOf(id)
	if err != nil || !own {
		return id, err
	}
	for _, s := range servers {
		if s.ID != of.ID {
			return ID{}, &estate.Refused{Why: fmt.Sprintf("%s is %s's own account, and rules name it by its number, which is somebody else's on %s", word, of.Name, s.Name),
				Do: "name an account that both know, or places of " + of.Name + " alone"}
		}
	}
	return id.Named(), nil
}

// serversOf lists the servers that places are on, all where none is said. What can't be
// read is refused where the places are looked for.
func (d *Planner) serversOf(where []string) (out []estate.Server) {
	if len(where) == 0 {
		return d.T.Servers()
	}
	seen := map[int64]bool{}
	for _, w := range where {
		p, err := parse(w, false)
		if err != nil {
			continue
		}
		if s, ok := d.T.FindServer(p.Base.Server); ok && !seen[s.ID] {
			seen[s.ID] = true
			out = append(out, s)
		}
	}
	return out
}

// ownThere finds a bare name among a server's own accounts, where just that server is
// meant and nobody else is called so.
func (d *Planner) ownThere(word string, servers []estate.Server) (id ID, ok bool) {
	if len(servers) != 1 {
		return id, false
	}
	name, kind := d.T.KindOf(word)
	for _, a := range d.T.OwnNamed(name, kind) {
		if realm, named, _ := a.ID.Machine(); realm == estate.ServerRealm(servers[0]) && !d.T.IsName(name) {
			return named, true
		}
	}
	return id, false
}

// Own refuses to touch a machine's own account everywhere where other machines' rules
// name its number too, which is somebody else's there.
func (d *Planner) Own(a acc.Account, under string) error {
	of, own := d.T.MachineOf(a.ID)
	if !own {
		return nil
	}
	if under != "" {
		for _, s := range d.serversOf([]string{under}) {
			if s.ID != of.ID {
				return &estate.Refused{Why: fmt.Sprintf("%s is %s's own account, and nobody on %s", d.T.Name(a.ID), of.Name, s.Name), Do: "name a place of " + of.Name}
			}
		}
		return nil
	}
	if where, ok := d.T.NumberElsewhere(a.ID); ok {
		return &estate.Refused{Why: fmt.Sprintf("%s is %s's own account; its number is named on %s too, and there it is somebody else's", d.T.Name(a.ID), of.Name, where),
			Do: "name a place of " + of.Name + " with --under"}
	}
	return nil
}
