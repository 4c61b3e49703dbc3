// Package servers makes plans of what a server is: its traits, administrators,
// shares and levels, from commands and from files of its own.
package servers

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tarnwold/core/right"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
)

// AddServer makes a server come, and administrators of it; link is how the real
// one is reached, nil for a model alone.
func AddServer(d *plan.Planner, name, set string, single []string, admins []string, link *estate.Link) (*plan.Plan, error) {
	if _, ok := d.T.FindServer(name); ok {
		return nil, &estate.Refused{Why: fmt.Sprintf("there is a server %q already", name)}
	}
	if err := estate.GoodName("server", name); err != nil {
		return nil, err
	}
	tr, err := verdict.NamedTraits(set)
	if err != nil {
		return nil, &estate.Refused{Why: err.Error()}
	}
	for _, s := range single {
		n, value, ok := strings.Cut(s, "=")
		if !ok {
			return nil, &estate.Refused{Why: fmt.Sprintf("%q is not NAME=VALUE", format.Clip(s))}
		}
		if tr, err = SetTrait(tr, n, value); err != nil {
			return nil, err
		}
	}
	s := estate.Server{Name: name, Traits: tr}
	p := d.NewPlan("server %s added, traits %s", name, tr.Name)
	p.Asks = false
	p.Work.Servers = append(p.Work.Servers, edit.Server{After: &s, Link: link})
	if err := administrators(d, p, s, admins, true); err != nil {
		return nil, err
	}
	if len(admins) > 0 {
		p.Change += ", " + plan.Many(admins) + " made administrator"
	}
	return d.Evaluate(p)
}

// Administrators puts accounts on a server's list of administrators, or takes
// them off.
func Administrators(d *plan.Planner, server string, names []string, on bool) (*plan.Plan, error) {
	s, err := d.T.Server(server)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("%s made administrator of server %s", plan.Many(names), s.Name)
	if !on {
		p.Change = fmt.Sprintf("%s no administrator of server %s any more", plan.Many(names), s.Name)
	}
	if err := administrators(d, p, s, names, on); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

func administrators(d *plan.Planner, p *plan.Plan, s estate.Server, names []string, on bool) error {
	have := map[plan.ID]bool{}
	if s.ID != 0 {
		for _, id := range d.T.Administrators(s) {
			have[id] = true
		}
	}
	for _, name := range names {
		a, err := d.T.Named(name, 0)
		if err != nil {
			return err
		}
		if have[a.ID] == on {
			if on {
				return &estate.Refused{Why: fmt.Sprintf("%s is an administrator of %s already", d.T.Name(a.ID), s.Name)}
			}
			return &estate.Refused{Why: fmt.Sprintf("%s is not an administrator of %s", d.T.Name(a.ID), s.Name)}
		}
		have[a.ID] = on
		p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: s, Who: a, On: on})
	}
	return nil
}

// Privileges gives accounts a privilege on a server, or takes it from them.
func Privileges(d *plan.Planner, server, privilege string, names []string, on bool) (*plan.Plan, error) {
	before, err := d.T.Server(server)
	if err != nil {
		return nil, err
	}
	what, err := privilegeNamed(privilege)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("%s given %s on server %s", plan.Many(names), what, before.Name)
	if !on {
		p.Change = fmt.Sprintf("%s taken from %s on server %s", what, plan.Many(names), before.Name)
	}
	held := before.Traits.Held().Held()
	for _, name := range names {
		id, err := d.T.Who(name)
		if err != nil {
			return nil, err
		}
		id = id.Named()
		has := slices.Contains(held[what], id)
		switch {
		case has && on:
			return nil, &estate.Refused{Why: fmt.Sprintf("%s has %s on %s already", d.T.Name(id), what, before.Name)}
		case !has && !on:
			return nil, &estate.Refused{Why: fmt.Sprintf("%s hasn't %s on %s", d.T.Name(id), what, before.Name)}
		case on:
			held[what] = append(held[what], id)
		default:
			held[what] = slices.DeleteFunc(held[what], func(o plan.ID) bool { return o == id })
		}
	}
	return privileged(d, p, before, held)
}

// privileged makes a plan give a server other privileges.
func privileged(d *plan.Planner, p *plan.Plan, before estate.Server, held map[verdict.Privilege][]plan.ID) (*plan.Plan, error) {
	after := before
	if after.Traits.Powers = verdict.NewPowers(held); before.Traits.DefaultPrivileges { // else those would count again
		after.Traits.Powers = verdict.ToldPowers(held)
	}
	if after.Traits != before.Traits {
		p.Work.Servers = append(p.Work.Servers, edit.Server{Before: &before, After: &after})
	}
	return d.Evaluate(p)
}

// TakePrivileges makes a server's privileges those that it tells. One that it tells
// nothing of stays as it is.
func TakePrivileges(d *plan.Planner, s estate.Server, told map[verdict.Privilege][]plan.ID) (*plan.Plan, error) {
	p := d.NewPlan("scan of %s: who has privileges", s.Name)
	p.IsSo, p.Nothing = true, "its privileges are as they were"
	p.Asks = len(d.T.TopItems()) > 0 // else nobody's access to anything can change
	before, err := d.T.Server(s.Name)
	if err != nil {
		return nil, err
	}
	if len(told) == 0 {
		return d.Evaluate(p)
	}
	held := before.Traits.Powers.Held()
	for what, who := range told {
		held[what] = who
	}
	return privileged(d, p, before, held)
}

// privilegeNamed finds a privilege by its name, in whatever case.
func privilegeNamed(word string) (verdict.Privilege, error) {
	var names []string
	for _, p := range verdict.Privileges() {
		if strings.EqualFold(string(p), word) {
			return p, nil
		}
		names = append(names, string(p))
	}
	return "", &estate.NotFound{What: "privilege that counts", Name: word, Near: names}
}

// SetTraits gives a server another named set of traits, or one trait another value.
func SetTraits(d *plan.Planner, server, name, value string, one bool) (*plan.Plan, error) {
	before, err := d.T.Server(server)
	if err != nil {
		return nil, err
	}
	after := before
	var p *plan.Plan
	if one {
		after.Traits, err = SetTrait(before.Traits, name, value)
		p = d.NewPlan("server %s: trait %s %s", before.Name, name, value)
	} else {
		if after.Traits, err = verdict.NamedTraits(name); err != nil {
			err = &estate.Refused{Why: err.Error()}
		}
		p = d.NewPlan("server %s: traits %s", before.Name, name)
	}
	if err != nil {
		return nil, err
	}
	p.Nothing = "it is so already"
	after.Traits.Realm, after.Traits.Machine, after.Traits.Powers = before.Traits.Realm, before.Traits.Machine, before.Traits.Powers // those are the server's own
	if after.Traits != before.Traits {
		p.Work.Servers = append(p.Work.Servers, edit.Server{Before: &before, After: &after})
	}
	return d.Evaluate(p)
}

// SetTrait changes a single trait by the name it has where traits are shown.
func SetTrait(t verdict.Traits, name, value string) (verdict.Traits, error) {
	known := false
	for _, x := range verdict.TraitList {
		known = known || x.Name == name
	}
	if !known {
		return t, &estate.NotFound{What: "trait", Name: name, In: "a server's traits; see: tarnwold server traits NAME", Near: estate.Nearest(name, plan.TraitNames())}
	}
	bad := &estate.Refused{Why: fmt.Sprintf("trait %s: %q is not a valid value", name, format.Clip(value))}
	var raw any
	switch {
	case name == "group-layers" && value == "any":
		raw = 0
	case name == "group-layers":
		n, err := strconv.Atoi(value)
		if err != nil || n < 0 || n > 1000 {
			return t, bad
		}
		raw = n
	case name == "read-only-takes":
		var s right.Set
		if value != "nothing" && value != "" {
			for _, w := range strings.Split(value, ",") {
				r, err := right.Parse(strings.TrimSpace(w))
				if err != nil {
					return t, bad
				}
				s |= r
			}
		}
		raw = s
	case name == "umask":
		n, err := strconv.ParseUint(value, 8, 16)
		if err != nil || n > 0o777 {
			return t, bad
		}
		raw = n
	case name == "administrator-makes":
		raw = value
	case name == "shares-describe":
		if value == "no" {
			value = ""
		}
		if _, ok := verdict.Describing[value]; !ok {
			return t, &estate.Refused{Why: bad.Why, Do: "it is lists, kept, or no"}
		}
		raw = value
	default:
		switch value {
		case "true", "yes":
			raw = true
		case "false", "no":
			raw = false
		default:
			return t, bad
		}
	}
	js, err := json.Marshal(map[string]any{name: raw})
	if err != nil {
		return t, bad
	}
	if err := json.Unmarshal(js, &t); err != nil {
		return t, bad
	}
	return t, nil
}

// AddLevel makes a level of the estate's own come. Nobody's access changes.
func AddLevel(d *plan.Planner, name, folder, file, about string) (*plan.Plan, error) {
	p := d.NewPlan("level %s added", name)
	p.Asks = false
	l := right.Level{Name: name, About: about}
	on, err := d.Level(folder)
	if err != nil {
		return nil, err
	}
	l.Folder = on.Folder
	if file != "" {
		if on, err = d.Level(file); err != nil {
			return nil, err
		}
		l.File = on.File
	}
	if err := estate.GoodName("level", name); err != nil {
		return nil, err
	}
	if _, ok := d.T.Levels().Lookup(name); ok {
		return nil, &estate.Refused{Why: fmt.Sprintf("there is a level %q already", name)}
	}
	if _, err := right.Parse(name); err == nil {
		return nil, &estate.Refused{Why: fmt.Sprintf("%q is the name of a right", name)}
	}
	p.Work.Levels = append(p.Work.Levels, edit.Level{Level: l, Add: true})
	return d.Evaluate(p)
}

// RemoveLevel makes a level of the estate's own go. Entries keep their rights.
func RemoveLevel(d *plan.Planner, name string) (*plan.Plan, error) {
	p := d.NewPlan("level %s removed", name)
	p.Asks = false
	if right.IsBuiltin(name) {
		return nil, &estate.Refused{Why: name + " is built in"}
	}
	var own []string
	for _, l := range d.T.OwnLevels() {
		if strings.EqualFold(l.Name, name) {
			p.Work.Levels = append(p.Work.Levels, edit.Level{Level: l, Add: false})
		}
		own = append(own, l.Name)
	}
	if len(p.Work.Levels) == 0 {
		return nil, &estate.NotFound{What: "level", Name: name, Near: estate.Nearest(name, own)}
	}
	return d.Evaluate(p)
}

// RemoveServer takes a server out of the estate, with its shares and all the
// estate has of its folders. Nothing is changed on a real server.
func RemoveServer(d *plan.Planner, name string) (*plan.Plan, error) {
	s, err := d.T.Server(name)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("server %s removed from the estate", s.Name)
	p.IsSo = true // what is there stays as it is; nobody at all here knows of it any more
	var tops []estate.Target
	for _, path := range d.T.Tops(s) {
		at, err := d.T.At(s, path)
		if err != nil {
			return nil, err
		}
		tops = append(tops, at.Target())
	}
	shares := d.T.Shares(s)
	for i := range shares {
		p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &shares[i], After: nil})
	}
	for _, id := range d.T.Administrators(s) {
		if a, ok := d.T.Account(id); ok {
			p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: s, Who: a, On: false})
		}
	}
	for _, row := range d.T.TreeRows(s) {
		p.Work.Rows = append(p.Work.Rows, edit.Gone("trees", row, row))
	}
	if row := d.T.LinkRow(s); row != 0 {
		p.Work.Rows = append(p.Work.Rows, edit.Gone("links", row, row))
	}
	p.Work.Goes = append(p.Work.Goes, s)
	p.Edits = append(p.Edits, edit.Description{Kind: "server", Where: "server " + s.Name, Lines: []edit.Line{{Sign: edit.Goes, What: "server"}}})
	if err := d.Went(p, tops); err != nil {
		return nil, err
	}
	ownGroupsGo(d, p, s)
	return d.Evaluate(p)
}

// ownGroupsGo makes a server's own built-in groups go with it, and who is in them leave.
func ownGroupsGo(d *plan.Planner, p *plan.Plan, s estate.Server) {
	for _, g := range d.T.Builtins() {
		if realm, _, _ := g.ID.Realm(); realm != estate.ServerRealm(s) {
			continue
		}
		for _, id := range d.T.MembersOf(g.ID) {
			m, _ := d.T.Account(id)
			was, _ := d.T.Member(g.ID, id)
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &m, Was: &was})
		}
		for _, id := range d.T.GroupsOf(g.ID) {
			in, _ := d.T.Account(id)
			was, _ := d.T.Member(id, g.ID)
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &in, Member: &g, Was: &was})
		}
		for _, other := range d.T.Servers() {
			if other.ID != s.ID && slices.Contains(d.T.Administrators(other), g.ID) {
				p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: other, Who: g})
			}
		}
		p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &g})
	}
}

// LinkServer links a server to another real one, or a model to one.
func LinkServer(d *plan.Planner, name string, link *estate.Link) (*plan.Plan, error) {
	s, err := d.T.Server(name)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("server %s linked to a real one", s.Name)
	p.Asks = false // nobody's access hangs on it
	p.Nothing = "it is linked so already"
	sign := edit.Comes
	if was, ok := d.T.Link(s); ok {
		if was == *link {
			return d.Evaluate(p)
		}
		sign = edit.Changes
	}
	p.Work.Links = append(p.Work.Links, edit.Link{Server: s, Link: link})
	p.Edits = append(p.Edits, edit.Description{Kind: "server", Where: "server " + s.Name, Lines: []edit.Line{{Sign: sign, What: "link"}}})
	return d.Evaluate(p)
}
