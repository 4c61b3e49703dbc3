package plan

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"tarnwold/core/right"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// AddServer makes a server come, and administrators of it; link is how the real
// one is reached, nil for a model alone.
func (d *Desk) AddServer(name, set string, single []string, admins []string, link *estate.Link) (*Plan, error) {
	if _, ok := d.t.FindServer(name); ok {
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
	p := d.begin("server %s added, traits %s", name, tr.Name)
	p.Asks = false
	p.work.servers = append(p.work.servers, serverEdit{after: &s, link: link})
	if err := d.administrators(p, s, admins, true); err != nil {
		return nil, err
	}
	if len(admins) > 0 {
		p.Change += ", " + many(admins) + " made administrator"
	}
	return d.finish(p)
}

// Administrators puts accounts on a server's list of administrators, or takes
// them off.
func (d *Desk) Administrators(server string, names []string, on bool) (*Plan, error) {
	s, err := d.t.Server(server)
	if err != nil {
		return nil, err
	}
	p := d.begin("%s made administrator of server %s", many(names), s.Name)
	if !on {
		p.Change = fmt.Sprintf("%s no administrator of server %s any more", many(names), s.Name)
	}
	if err := d.administrators(p, s, names, on); err != nil {
		return nil, err
	}
	return d.finish(p)
}

func (d *Desk) administrators(p *Plan, s estate.Server, names []string, on bool) error {
	have := map[ID]bool{}
	if s.ID != 0 {
		for _, id := range d.t.Administrators(s) {
			have[id] = true
		}
	}
	for _, name := range names {
		a, err := d.t.Named(name, 0)
		if err != nil {
			return err
		}
		if have[a.ID] == on {
			if on {
				return &estate.Refused{Why: fmt.Sprintf("%s is an administrator of %s already", d.t.Name(a.ID), s.Name)}
			}
			return &estate.Refused{Why: fmt.Sprintf("%s is no administrator of %s", d.t.Name(a.ID), s.Name)}
		}
		have[a.ID] = on
		p.work.admins = append(p.work.admins, adminEdit{s, a, on})
	}
	return nil
}

// SetTraits gives a server another named set of traits, or one trait another value.
func (d *Desk) SetTraits(server, name, value string, one bool) (*Plan, error) {
	before, err := d.t.Server(server)
	if err != nil {
		return nil, err
	}
	after := before
	var p *Plan
	if one {
		after.Traits, err = SetTrait(before.Traits, name, value)
		p = d.begin("server %s: trait %s %s", before.Name, name, value)
	} else {
		if after.Traits, err = verdict.NamedTraits(name); err != nil {
			err = &estate.Refused{Why: err.Error()}
		}
		p = d.begin("server %s: traits %s", before.Name, name)
	}
	if err != nil {
		return nil, err
	}
	p.Nothing = "it is so already"
	if after.Traits != before.Traits {
		p.work.servers = append(p.work.servers, serverEdit{before: &before, after: &after})
	}
	return d.finish(p)
}

// SetTrait changes a single trait by the name it has where traits are shown.
func SetTrait(t verdict.Traits, name, value string) (verdict.Traits, error) {
	known := false
	for _, x := range verdict.TraitList {
		known = known || x.Name == name
	}
	if !known {
		return t, &estate.NotFound{What: "trait", Name: name, In: "a server's traits; see: tarnwold server traits NAME", Near: estate.Nearest(name, traitNames())}
	}
	bad := &estate.Refused{Why: fmt.Sprintf("trait %s: %q is no value for it", name, format.Clip(value))}
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
func (d *Desk) AddLevel(name, folder, file, about string) (*Plan, error) {
	p := d.begin("level %s added", name)
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
	if _, ok := d.t.Levels().Lookup(name); ok {
		return nil, &estate.Refused{Why: fmt.Sprintf("there is a level %q already", name)}
	}
	if _, err := right.Parse(name); err == nil {
		return nil, &estate.Refused{Why: fmt.Sprintf("%q is the name of a right", name)}
	}
	p.work.levels = append(p.work.levels, levelEdit{level: l, add: true})
	return d.finish(p)
}

// RemoveLevel makes a level of the estate's own go. Entries keep their rights.
func (d *Desk) RemoveLevel(name string) (*Plan, error) {
	p := d.begin("level %s removed", name)
	p.Asks = false
	if right.IsBuiltin(name) {
		return nil, &estate.Refused{Why: name + " is built in"}
	}
	var own []string
	for _, l := range d.t.OwnLevels() {
		if strings.EqualFold(l.Name, name) {
			p.work.levels = append(p.work.levels, levelEdit{level: l, add: false})
		}
		own = append(own, l.Name)
	}
	if len(p.work.levels) == 0 {
		return nil, &estate.NotFound{What: "level", Name: name, Near: estate.Nearest(name, own)}
	}
	return d.finish(p)
}

func traitsOf(js string) (t verdict.Traits, err error) {
	err = json.Unmarshal([]byte(js), &t)
	return t, err
}

// RemoveServer takes a server out of the estate, with its shares and all the
// estate has of its folders. Nothing is changed on a real server.
func (d *Desk) RemoveServer(name string) (*Plan, error) {
	s, err := d.t.Server(name)
	if err != nil {
		return nil, err
	}
	p := d.begin("server %s removed from the estate", s.Name)
	p.IsSo = true // what is there stays as it is; only nobody here knows of it any more
	var tops []estate.Target
	for _, path := range d.t.Tops(s) {
		at, err := d.t.At(s, path)
		if err != nil {
			return nil, err
		}
		tops = append(tops, at.Target())
	}
	shares := d.t.Shares(s)
	for i := range shares {
		p.work.shares = append(p.work.shares, shareEdit{s, &shares[i], nil})
	}
	for _, id := range d.t.Administrators(s) {
		if a, ok := d.t.Account(id); ok {
			p.work.admins = append(p.work.admins, adminEdit{s, a, false})
		}
	}
	for _, row := range d.t.TreeRows(s) {
		p.work.deletes = append(p.work.deletes, deletion{"trees", row, row})
	}
	if row := d.t.LinkRow(s); row != 0 {
		p.work.deletes = append(p.work.deletes, deletion{"links", row, row})
	}
	p.work.goes = append(p.work.goes, s)
	p.Edits = append(p.Edits, Edit{Kind: "server", Where: "server " + s.Name, Lines: []Line{{Sign: "goes", What: "server"}}})
	if err := d.went(p, tops); err != nil {
		return nil, err
	}
	return d.finish(p)
}

// LinkServer links a server to another real one, or a model to one.
func (d *Desk) LinkServer(name string, link *estate.Link) (*Plan, error) {
	s, err := d.t.Server(name)
	if err != nil {
		return nil, err
	}
	p := d.begin("server %s linked to a real one", s.Name)
	p.Asks = false // nobody's access hangs on it
	p.Nothing = "it is linked so already"
	sign := "comes"
	if was, ok := d.t.Link(s); ok {
		if was == *link {
			return d.finish(p)
		}
		sign = "changes"
	}
	p.work.links = append(p.work.links, linkEdit{server: s, link: link})
	p.Edits = append(p.Edits, Edit{Kind: "server", Where: "server " + s.Name, Lines: []Line{{Sign: sign, What: "link"}}})
	return d.finish(p)
}
