package census

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/uses"
)

// Job is what being in a group opens, place by place, beyond what anybody has.
type Job struct {
	ask.Account
	Purpose string    `json:"purpose,omitempty"`
	About   string    `json:"about,omitempty"`
	People  []string  `json:"people"` // users in it, at any depth
	Opens   []Opening `json:"opens"`
	More    int64     `json:"more,omitempty"` // lines beyond the limit
}

// Opening is where a job opens something; what is below has the same until
// another line says otherwise.
type Opening struct {
	Where string `json:"where"`
	Kind  string `json:"kind"`
	Route string `json:"route"`
	Level string `json:"level"`
	// Entry is the entry that says so there, and By the way from the group to
	// the account it names.
	Entry string   `json:"entry,omitempty"`
	By    []string `json:"by,omitempty"`

	parts []string
}

// Jobs is a group's job, or those of a user.
type Jobs struct {
	User *ask.Account `json:"user,omitempty"` // nil: a group was asked for
	Jobs []Job        `json:"jobs"`
	// Beyond is what a user has beside their roles: entries of their own, groups
	// that are no roles.
	Beyond []Beyond `json:"beyond-the-roles"`
}

// Beyond is one thing somebody has that no role gives: an entry, a membership,
// an administrators' list.
type Beyond struct {
	As    string `json:"as"` // entry, member, administrator, owner
	Where string `json:"where"`
	What  string `json:"what,omitempty"`
}

// Nobodys is an identifier that no account has ([MS-DTYP] §2.4.2.4: NULL).
var Nobodys = account.NewID(0, 0)

// Role shows what a group opens, or the roles of a user and what each opens;
// limit lines each, 0 for all. about gives what is written down of a group.
func Role(k *ask.Asker, word string, limit int, about func(account.ID) string) (*Jobs, error) {
	a, err := k.T.User(word)
	if err != nil {
		return nil, err
	}
	groups := []account.Account{a}
	out := &Jobs{Jobs: []Job{}, Beyond: []Beyond{}}
	if a.Kind == account.User {
		u := k.Account(a.ID)
		out.User, groups = &u, nil
		tok := account.NewToken(k.T, a.ID, account.Traits{})
		for _, g := range k.T.Accounts(account.Group) {
			if g.Purpose == account.Role && tok.Has(g.ID) && !slices.ContainsFunc(groups, func(o account.Account) bool { return o.ID == g.ID }) {
				groups = append(groups, g)
			}
		}
		if out.Beyond, err = BeyondRoles(k, a); err != nil {
			return nil, err
		}
	}
	g, err := k.Everything()
	if err != nil {
		return nil, err
	}
	dir := k.Directory()
	for _, x := range groups {
		j := Job{Account: k.Account(x.ID), Purpose: string(x.Purpose), About: about(x.ID), People: []string{}, Opens: []Opening{}}
		for _, m := range dir.MembersBelow(x.ID) {
			if u, ok := dir.Account(m.ID); ok && u.Kind == account.User {
				j.People = append(j.People, k.T.Name(m.ID))
			}
		}
		slices.Sort(j.People)
		for _, w := range g.Ways {
			if err := opens(g, x.ID, w, &j, limit); err != nil {
				return nil, err
			}
		}
		out.Jobs = append(out.Jobs, j)
	}
	return out, k.T.Err()
}

// opens adds where a group opens something by one route.
func opens(g *ask.Scope, group account.ID, w *ask.Route, j *Job, limit int) error {
	k := g.K
	base, s := g.See(Nobodys, w, nil), g.See(group, w, nil)
	tok := account.NewToken(k.T, group, account.Traits{})
	nodes := g.F.Nodes
	extra := make([]right.Set, len(nodes))
	var lines []Opening
	for i := range nodes {
		if !s.On[i] {
			continue
		}
		n := &nodes[i]
		extra[i] = s.Granted[i] &^ base.Granted[i] & right.Access
		_, begins := w.Begins[i]
		if ask.NothingOn(n.Before, extra[i]) || !begins && !ask.NothingOn(n.Before, extra[n.Parent]) && alike(g, s, i) {
			continue
		}
		o := Opening{Kind: ask.Kind(n.Folder), Route: w.Name, Level: g.Level(n.Before, s.Granted[i], n.Folder)}
		if d := k.AsEntries(n.Before); d != nil {
			for _, e := range d.Rules.Entries {
				if e.Kind == rule.Allow && e.Rights.Map()&extra[i] != 0 && e.Counts() && tok.Has(e.Who) {
					o.Entry = k.Write(n.Before, e, n.Folder)
					for _, l := range tok.Chain(e.Who) {
						o.By = append(o.By, k.T.Name(l.ID))
					}
					break
				}
			}
		}
		room := n.Items
		if limit > 0 {
			room = min(room, int64(max(0, limit-len(lines))))
		}
		for _, item := range g.F.Some(k.T, i, int(room)) {
			o.Where = g.Named(w, item)
			o.parts = parts(o.Where)
			lines = append(lines, o)
		}
		j.More += n.Items - room
		if err := k.T.Context().Err(); err != nil {
			return err
		}
	}
	slices.SortFunc(lines, func(a, b Opening) int { return slices.Compare(a.parts, b.parts) })
	j.Opens = append(j.Opens, lines...)
	return nil
}

// mostBeyond is how many things beyond somebody's roles are told of.
const mostBeyond = 40

// BeyondRoles lists what a user has that no role of theirs gives: entries that
// name them, groups that are no roles and that they are in themselves,
// administrators' lists.
func BeyondRoles(k *ask.Asker, a account.Account) ([]Beyond, error) {
	out := []Beyond{}
	for _, g := range k.T.GroupsOf(a.ID) {
		if x, ok := k.T.Account(g); ok && x.Purpose != account.Role && x.Purpose != account.Mail {
			out = append(out, Beyond{As: "member", Where: "group " + k.T.Name(g)})
		}
	}
	uses, _, err := uses.Uses(k, []account.Account{a}, mostBeyond)
	if err != nil {
		return nil, err
	}
	for _, u := range uses {
		switch u.As {
		case "entry", "administrator":
			out = append(out, Beyond{As: u.As, Where: u.Where, What: u.What})
		}
	}
	return out, k.T.Err()
}
