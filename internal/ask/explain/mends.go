package explain

import (
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Step is one change that a mend may be made of.
type Step struct {
	// Do is join, leave, grant, revoke, share-grant or share-revoke.
	Do    string `json:"do"`
	Who   string `json:"account"`
	Group string `json:"group,omitempty"`
	Level string `json:"level,omitempty"`
	Scope string `json:"scope,omitempty"`
	Where string `json:"where,omitempty"`
	Until string `json:"until,omitempty"`
}

// Words writes the step as the command that does it.
func (s Step) Words() []string {
	var w []string
	switch s.Do {
	case "join", "leave":
		w = []string{"tarnwold", "group", s.Do, s.Group, s.Who}
	case "grant", "share-grant":
		w = []string{"tarnwold", "grant", s.Who, s.Level, s.Where}
		if s.Scope != "" {
			w = append(w, "--scope", s.Scope)
		}
	default:
		w = []string{"tarnwold", "revoke", s.Who, s.Where, "--entries", "deny"}
		if s.Level != "" {
			w = append(w, "--level", s.Level)
		}
	}
	if s.Until != "" {
		w = append(w, "--until", s.Until)
	}
	switch s.Do {
	case "share-grant", "share-revoke":
		w = append(w, "--share")
	case "grant", "revoke":
		w = append(w, s.plain()...)
	}
	return w
}

// plain says that a name is meant as it stands, where a sign in it would be
// special.
func (s Step) plain() []string {
	if strings.ContainsAny(s.Where, `*?[]{}\`) {
		return []string{"--plain"}
	}
	return nil
}

// Lacking is what of a level a user lacks in a place by one route, and what
// might give it; plan.Mends tries each.
type Lacking struct {
	Where  string
	Route  string
	Want   right.Level
	File   bool // the files' side lacks something
	Share  bool // the share's side does
	Switch bool // the share is switched to read-only, which no entry mends
	// Marks of the item take what is wanted, which no entry mends either: names of
	// posix.Marks, joined by commas; empty: the read-only mark.
	Marks []string
	// FileWays and ShareWays are steps that may mend the one side and the other.
	FileWays, ShareWays [][]Step
}

// mostGroups is how many groups are thought of for a mend at most.
const mostGroups = 12

// LackingFor tells what a user lacks of a level in a place, by each route asked
// for; nothing where they have it.
func LackingFor(k *ask.Asker, who, where, want string) ([]Lacking, error) {
	user, p, err := userAt(k, who, where)
	if err != nil {
		return nil, err
	}
	if p.Server.Traits.Elsewhere(user.ID) {
		of, _ := k.T.MachineOf(user.ID)
		return nil, ask.Unfit("ask for an account that "+p.Server.Name+" knows", "%s is %s's own account, and nobody on %s", k.T.Name(user.ID), of.Name, p.Server.Name)
	}
	level, err := k.Level(want)
	if err != nil {
		return nil, err
	}
	wanted := ask.AskedOf(level, k.T.Of(p.Strand), p.Folder)
	if wanted&right.Access == 0 {
		return nil, ask.Unfit("", "%s doesn't apply to a %s", want, ask.Kind(p.Folder))
	}
	var out []Lacking
	for _, sh := range k.Routes(p) {
		if l := lacking(k, user, p, sh, level, wanted&right.Access); l != nil {
			out = append(out, *l)
		}
	}
	return out, k.T.Err()
}

func lacking(k *ask.Asker, user account.Account, p estate.Place, sh *estate.Share, level right.Level, wanted right.Set) *Lacking {
	q := k.Question(user.ID, p, sh)
	v := verdict.Decide(q)
	if v.Granted.Has(wanted) {
		return nil
	}
	l := &Lacking{Where: p.By(sh).String(), Route: "local", Want: level}
	if sh != nil {
		l.Route = sh.Address()
		l.Switch = sh.ReadOnly && wanted&q.Traits.ReadOnlyTakes != 0
	}
	d, above := k.T.Of(p.Strand), k.T.Above(p)
	name := k.T.Name(user.ID)
	at := p.By(nil).String()
	var own [][]Step
	denied := map[string]bool{}
	for _, f := range v.Findings {
		if f.Right&wanted == 0 || f.Granted {
			continue
		}
		if !f.FileOK {
			l.File = true
			r := k.FileReason(q, p, d, above, f, sh)
			switch {
			case r.Kept: // nothing here takes it away
			case r.By == "mark":
				if !slices.Contains(l.Marks, r.Entry) {
					l.Marks = append(l.Marks, r.Entry)
				}
			case r.Deny && r.SetOn != "" && !denied[r.Entry]:
				denied[r.Entry] = true
				e := k.AsEntries(d).Rules.Entries[f.File.Entry]
				entry := k.T.Name(e.Who)
				own = append(own, []Step{{Do: "revoke", Who: entry, Where: r.SetOn, Level: level.Name}}, []Step{{Do: "revoke", Who: entry, Where: r.SetOn}})
				own = append(own, leaving(k, user, e.Who)...)
			case r.By == "traverse":
				own = append(own, []Step{{Do: "grant", Who: name, Level: "pass", Scope: "here", Where: r.SetOn}})
			}
		}
		if sh != nil && !f.ShareOK {
			l.Share = true
		}
	}
	if door, _ := q.Connect(); door.Refused {
		l.Share = true
		got, _ := fileSide(q)
		l.File = !got.Has(wanted)
	}
	if l.Share && q.Share.Rules != nil { // what its rules refuse, also where that closes the connection
		for i := range q.Share.Rules.Steps {
			step := &q.Share.Rules.Steps[i]
			if !step.Refuses || !q.Token.Has(step.Who) || step.Rights&(wanted|right.ReadData|right.WriteData) == 0 || step.Entry < 0 {
				continue
			}
			who := sh.Descriptor.Rules.Entries[step.Entry].Who
			entry := k.T.Name(who)
			l.ShareWays = append(l.ShareWays, []Step{{Do: "share-revoke", Who: entry, Where: sh.Address(), Level: level.Name}}, []Step{{Do: "share-revoke", Who: entry, Where: sh.Address()}})
			l.ShareWays = append(l.ShareWays, leaving(k, user, who)...)
		}
	}
	if l.File {
		for _, g := range givers(k, q, user, wanted) {
			l.FileWays = append(l.FileWays, []Step{{Do: "join", Who: name, Group: k.T.Name(g)}})
		}
		l.FileWays = append(l.FileWays, own...)
		for _, g := range nearGroups(k, user) {
			l.FileWays = append(l.FileWays, []Step{{Do: "grant", Who: g, Level: level.Name, Where: at}})
		}
		l.FileWays = append(l.FileWays, []Step{{Do: "grant", Who: name, Level: level.Name, Where: at}})
	}
	if l.Share {
		for _, g := range shareGivers(k, sh, user, wanted, q) {
			l.ShareWays = append(l.ShareWays, []Step{{Do: "join", Who: name, Group: k.T.Name(g)}})
		}
		for _, g := range nearGroups(k, user) {
			l.ShareWays = append(l.ShareWays, []Step{{Do: "share-grant", Who: g, Level: level.Name, Where: sh.Address()}})
		}
		l.ShareWays = append(l.ShareWays, []Step{{Do: "share-grant", Who: name, Level: level.Name, Where: sh.Address()}})
	}
	return l
}

// leaving gives the step of leaving a group that lists a user itself.
func leaving(k *ask.Asker, user account.Account, group account.ID) (out [][]Step) {
	if g, ok := k.T.Account(group); ok && g.Kind == account.Group {
		if _, ok := k.T.Member(group, user.ID); ok {
			out = append(out, []Step{{Do: "leave", Who: k.T.Name(user.ID), Group: k.T.Name(group)}})
		}
	}
	return out
}

// fileSide decides by the files' rules alone.
func fileSide(q *verdict.Question) (right.Set, *verdict.Question) {
	alone := *q
	alone.Share = nil
	return verdict.Granted(&alone), &alone
}

// givers lists the groups that would give a user the wanted rights by an allow
// entry if they were in them: those the entries name, and the groups within those.
func givers(k *ask.Asker, q *verdict.Question, user account.Account, wanted right.Set) []account.ID {
	named := map[account.ID]bool{}
	for _, l := range []*rule.List{q.Item, q.Parent} {
		if l == nil {
			continue
		}
		for i := range l.Steps {
			if s := &l.Steps[i]; !s.Refuses && s.Rights&(wanted|right.DeleteChild|right.WriteData) != 0 {
				named[k.T.AccountOf(s.Who)] = true
			}
		}
	}
	_, alone := fileSide(q)
	return groupsThat(k, named, user, func(tok *account.Token) bool {
		alone.Token = tok
		return verdict.Granted(alone).Has(wanted)
	}, q)
}

// shareGivers is givers for what a share lets through.
func shareGivers(k *ask.Asker, sh *estate.Share, user account.Account, wanted right.Set, q *verdict.Question) []account.ID {
	named := map[account.ID]bool{}
	if q.Share.Rules != nil {
		for i := range q.Share.Rules.Steps {
			if s := &q.Share.Rules.Steps[i]; !s.Refuses && s.Rights&wanted != 0 {
				named[s.Who] = true
			}
		}
	}
	return groupsThat(k, named, user, func(tok *account.Token) bool {
		as := *q
		if as.Token = tok; as.Self != nil {
			as.Self = tok
		}
		_, got := as.Connect()
		return got.Has(wanted)
	}, q)
}

// joined is a book with one membership more.
type joined struct {
	account.Book
	user, group account.ID
}

func (b joined) GroupsOf(id account.ID) []account.ID {
	out := b.Book.GroupsOf(id)
	if id == b.user {
		out = append(slices.Clone(out), b.group)
	}
	return out
}

// groupsThat tries groups, those that hold a role before the others, and the
// smallest first.
func groupsThat(k *ask.Asker, named map[account.ID]bool, user account.Account, gives func(*account.Token) bool, q *verdict.Question) (out []account.ID) {
	var queue []account.ID
	for id := range named {
		queue = append(queue, id)
	}
	d := k.T.Holders(append(slices.Clone(queue), user.ID), nil) // all who may be in one of them, and what they are in
	slices.SortFunc(queue, func(a, b account.ID) int { return ask.CmpText(a.String(), b.String()) })
	seen := map[account.ID]bool{}
	type found struct {
		id    account.ID
		role  bool
		users int
	}
	var all []found
	local := q.Share == nil
	for len(queue) > 0 && len(seen) < 400 {
		id := queue[0]
		queue = queue[1:]
		if seen[id] {
			continue
		}
		seen[id] = true
		a, ok := d.Account(id)
		if !ok || a.Kind != account.Group {
			continue
		}
		queue = append(queue, d.MembersOf(id)...)
		if q.Token.Has(id) || a.Purpose == account.Mail {
			continue
		}
		tok := account.NewToken(joined{d, user.ID, id}, user.ID, q.Traits.Traits, verdict.Special(local)...)
		if gives(tok) {
			all = append(all, found{id, a.Purpose == account.Role, len(d.MembersBelow(id))})
		}
	}
	slices.SortStableFunc(all, func(a, b found) int {
		if a.role != b.role {
			if a.role {
				return -1
			}
			return 1
		}
		return a.users - b.users
	})
	for _, f := range all[:min(len(all), mostGroups)] {
		out = append(out, f.id)
	}
	return out
}

// nearGroups lists the groups a user is directly in, the smallest first.
func nearGroups(k *ask.Asker, user account.Account) (out []string) {
	groups := slices.Clone(k.T.GroupsOf(user.ID))
	if !user.Primary.IsZero() && !slices.Contains(groups, user.Primary) {
		groups = append(groups, user.Primary)
	}
	groups = slices.DeleteFunc(groups, func(id account.ID) bool {
		a, ok := k.T.Account(id)
		return !ok || a.Purpose == account.Mail
	})
	size := map[account.ID]int{}
	for _, g := range groups {
		size[g] = len(k.T.Below(g).MembersBelow(g))
	}
	slices.SortStableFunc(groups, func(a, b account.ID) int { return size[a] - size[b] })
	for _, g := range groups[:min(len(groups), 4)] {
		out = append(out, k.T.Name(g))
	}
	return out
}

// Holds tells whether a user has a level in a place by a route, as things are.
func Holds(k *ask.Asker, who, where string, level right.Level) (bool, error) {
	user, p, err := userAt(k, who, where)
	if err != nil {
		return false, err
	}
	want := ask.AskedOf(level, k.T.Of(p.Strand), p.Folder)
	return verdict.Granted(k.Question(user.ID, p, p.Share)).Has(want & right.Access), k.T.Err()
}

// Said writes a step as people would, for a list of mends.
func (s Step) Said() string {
	switch s.Do {
	case "join":
		return s.Who + " joins " + s.Group
	case "leave":
		return s.Who + " leaves " + s.Group
	}
	return strings.Join(s.Words()[1:], " ")
}
