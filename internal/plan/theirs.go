package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/server"
)

// TheirsAlone is whose memberships a plan changes that a real server keeps itself, and
// that aren't written there.
type TheirsAlone struct {
	Server string   `json:"server"`
	Groups []string `json:"groups"`
}

// keptThere is a membership that a plan changes and a real server keeps.
type keptThere struct {
	*edit.Membership
	server estate.Server
	// alone: it isn't written there: the server is this machine, whose groups are its
	// system's, or it is its system's on the server too, or the account itself comes or
	// goes in the estate, or what is said of it came from a file or a directory.
	alone bool
}

// there finds which of the memberships that a plan changes real servers keep themselves
// (of those that aren't written there, one a group):
// of groups of their machine, or of the domain that the machine answers for, and that no
// directory has. What a directory or a server told is so already.
func (d *Planner) there(p *Plan) (out []keptThere) {
	if p.IsSo || len(p.Work.Members) == 0 {
		return nil
	}
	type machine struct {
		estate.Server
		local bool
	}
	var linked []machine
	links := d.T.Links()
	if len(links) == 0 {
		return nil
	}
	for _, s := range d.T.Servers() {
		if l, ok := links[s.ID]; ok {
			linked = append(linked, machine{s, l.Kind == estate.LocalLink})
		}
	}
	slices.SortFunc(linked, func(a, b machine) int { return cmp.Compare(a.Name, b.Name) })
	comes := map[ID]bool{} // or goes
	for i := range p.Work.Accounts {
		if e := &p.Work.Accounts[i]; e.Before == nil || e.After == nil {
			comes[e.Either().ID] = true
		}
	}
	told := p.Work.FromDirectory || p.Work.FromFile || d.TookIn(p.Undoes, OriginDirectory, OriginPeople, OriginAccounts)
	of, said := map[ID]*machine{}, map[ID]bool{}
	for i := range p.Work.Members {
		e := &p.Work.Members[i]
		if e.Was != nil && e.Is != nil { // another last day
			continue
		}
		m, known := of[e.Group.ID]
		if !known {
			if d.T.MetadataOf(e.Group.ID).Directory == "" {
				at := slices.IndexFunc(linked, func(m machine) bool { return d.keeps(m.Server, e.Group.ID) })
				if at >= 0 {
					m = &linked[at]
				}
			}
			of[e.Group.ID] = m
		}
		if m == nil {
			continue
		}
		alone := told || m.local || byFile(e) || comes[e.Group.ID] || comes[e.Member.ID]
		if alone && said[e.Group.ID] { // a load brings them by the million
			continue
		}
		said[e.Group.ID] = said[e.Group.ID] || alone
		out = append(out, keptThere{e, m.Server, alone})
	}
	return out
}

// byFile tells whether a membership is a system's own, of a group with a number there: a
// server keeps it in no list of its own, and lets nobody change it.
func byFile(e *edit.Membership) bool {
	is := e.Is
	if is == nil {
		is = e.Was
	}
	return e.Group.POSIX != acc.NoPOSIX && e.Member.Kind == acc.User && !is.Local
}

// KeptByServer tells whether a membership that comes to a group goes into a list that a
// real server keeps itself.
func (d *Planner) KeptByServer(group ID) bool {
	if d.T.MetadataOf(group).Directory != "" {
		return false
	}
	return slices.ContainsFunc(d.T.Servers(), func(s estate.Server) bool {
		l, ok := d.T.Link(s)
		return ok && l.Kind != estate.LocalLink && d.keeps(s, group)
	})
}

// theirs tells of which groups of real servers a plan changes members in the estate alone.
func (d *Planner) theirs(p *Plan) (out []TheirsAlone) {
	by := map[string]map[string]bool{}
	for _, x := range d.there(p) {
		if !x.alone {
			continue
		}
		if by[x.server.Name] == nil {
			by[x.server.Name] = map[string]bool{}
		}
		by[x.server.Name][x.Group.Name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(by)) {
		out = append(out, TheirsAlone{name, slices.Sorted(maps.Keys(by[name]))})
	}
	return out
}

// membersThere gives the memberships that a plan writes to real servers.
func (d *Planner) membersThere(p *Plan, put func(estate.Server, Write)) error {
	for _, x := range d.there(p) {
		if x.alone {
			continue
		}
		group, member := d.T.Name(x.Group.ID), d.AccountName(*x.Member)
		if !d.knows(x.server, x.Member.ID) {
			return &estate.Refused{Why: fmt.Sprintf("%s is kept on the real server %s, which doesn't know %s", group, x.server.Name, member), Do: "change the estate alone with --model-only"}
		}
		put(x.server, Write{Where: fmt.Sprintf("%s in %s", member, group), Depth: membersDepth, Phase: d.memberPhase(p, x.Group.ID, x.Is != nil),
			Path:   strings.Join([]string{x.Group.ID.String(), x.Member.ID.String()}, " "),
			Member: &server.Member{Group: x.Group.ID, Member: x.Member.ID}, In: x.Is != nil})
	}
	return nil
}

// knows tells whether a real server can know an account: it is no other machine's, and no
// one's whom the estate itself gave an identifier.
func (d *Planner) knows(s estate.Server, id ID) bool {
	realm, _, ok := id.Realm()
	if !ok {
		realm, _, ok = id.Machine()
	}
	if ok {
		return realm == estate.ServerRealm(s) || realm == d.T.Answered(s)
	}
	return !estate.MadeUp(id)
}

// keeps tells whether a real server itself keeps who is in a group.
func (d *Planner) keeps(s estate.Server, group ID) bool {
	answers := d.T.Answered(s)
	if realm, _, ok := group.Realm(); ok {
		return realm == estate.ServerRealm(s) || realm == answers
	}
	if realm, _, ok := group.Machine(); ok {
		return realm == estate.ServerRealm(s)
	}
	domain, _, ok := group.Domain()
	return ok && !answers.IsZero() && domain == answers
}
