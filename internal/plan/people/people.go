// Package people makes plans of accounts and memberships, from commands and from
// files of accounts.
package people

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/store"
)

// Circle refuses a membership that would put a group inside itself.
type Circle struct {
	Group  string   `json:"group"`
	Member string   `json:"member"`
	Loop   []string `json:"loop"`
}

func (e *Circle) Error() string {
	return fmt.Sprintf("%s can't join %s, for then it would hold itself: %s", e.Member, e.Group, strings.Join(e.Loop, " in "))
}

// Join makes accounts members of a group, until a day or for good.
func Join(d *plan.Planner, group string, members []string, until estate.Day) (*plan.Plan, error) {
	if err := d.Future(until); err != nil {
		return nil, err
	}
	p := d.NewPlan("%s joined %s", plan.Many(members), group)
	if until != "" {
		p.Change += " until " + string(until)
	}
	g, err := joined(d, p, group)
	if err != nil {
		return nil, err
	}
	var above *acc.Directory // the group and all it is in, once a group joins
	seen := map[plan.ID]bool{}
	local := g.POSIX != acc.NoPOSIX && d.KeptByServer(g.ID)
	for _, name := range members {
		m, err := member(d, p, g, name)
		if err != nil {
			return nil, err
		}
		if had, ok := d.T.Member(g.ID, m.ID); ok {
			if had.Until == until {
				return nil, &estate.Refused{Why: fmt.Sprintf("%s is a member of %s already", d.T.Name(m.ID), d.T.Name(g.ID))}
			}
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &m, Was: &had, Is: &estate.Membership{Until: until, Local: had.Local}})
			continue
		}
		if m.Kind == acc.Group {
			if above == nil {
				above = d.T.Holders(nil, []plan.ID{g.ID})
			}
			if loop := above.Loop(g.ID, m.ID); loop != nil {
				return nil, &Circle{d.T.Name(g.ID), d.T.Name(m.ID), d.T.Names(loop)}
			}
		}
		if seen[m.ID] {
			continue // named twice
		}
		seen[m.ID] = true
		p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &m, Was: nil, Is: &estate.Membership{Until: until, Local: local && m.Kind == acc.User || Machines(g)}})
	}
	p, err = d.Evaluate(p)
	return fromSignOn(d, p, err)
}

// Machines tells whether a group is a machine's or a domain's own built-in one.
func Machines(g acc.Account) bool {
	_, _, ok := g.ID.Realm()
	return ok
}

// joined finds the group that somebody joins. Every machine has its built-in groups,
// whether the estate has met anybody in them or not: the group comes with the first.
func joined(d *plan.Planner, p *plan.Plan, group string) (acc.Account, error) {
	g, err := d.T.Named(group, acc.Group)
	if err == nil {
		return g, nil
	}
	made, ok := d.T.Builtin(group)
	if !ok {
		if id, special := acc.ParseSpecial(group); special {
			if _, builtin := id.Builtin(); builtin && errors.As(err, new(*estate.NotFound)) {
				return g, &estate.Refused{Why: fmt.Sprintf("every machine and domain has its own %s", d.T.Name(id)), Do: fmt.Sprintf("say whose: '%s@SERVER'", d.T.Name(id))}
			}
		}
		return g, err
	}
	come(d, p, made)
	return made, nil
}

// come makes an account come that a membership needs.
func come(d *plan.Planner, p *plan.Plan, a acc.Account) {
	p.Work.Accounts = append(p.Work.Accounts, edit.Account{After: &a})
	d.T.Foresee(a)
}

// member finds who joins a group; a machine's own groups may list special accounts too.
func member(d *plan.Planner, p *plan.Plan, g acc.Account, name string) (acc.Account, error) {
	id, special := acc.ParseSpecial(name)
	if !special {
		return d.T.Named(name, 0)
	}
	a, ok := estate.SpecialMember(id)
	if !ok || !Machines(g) {
		return a, &estate.Refused{Why: fmt.Sprintf("%s can't be a member of %s", d.T.Name(id), d.T.Name(g.ID)), Do: "only a machine's own built-in groups list special accounts, and of those only whoever signs on in some way"}
	}
	if _, there := d.T.Account(id); !there {
		come(d, p, a)
	}
	return a, nil
}

// fromSignOn says of memberships that count on POSIX systems that who is signed
// on there keeps the groups they signed on with.
func fromSignOn(d *plan.Planner, p *plan.Plan, err error) (*plan.Plan, error) {
	if err != nil || len(p.Impact) == 0 {
		return p, err
	}
	if slices.ContainsFunc(d.T.Servers(), func(s estate.Server) bool { return s.Traits.RootPasses }) {
		p.Advice = append(p.Advice, plan.Advice{Kind: "next-sign-on"})
	}
	return p, err
}

// Leave ends memberships of a group.
func Leave(d *plan.Planner, group string, members []string) (*plan.Plan, error) {
	p := d.NewPlan("%s left %s", plan.Many(members), group)
	g, err := d.T.Named(group, acc.Group)
	if err != nil {
		return nil, err
	}
	seen := map[plan.ID]bool{}
	for _, name := range members {
		m, err := d.T.Named(name, 0)
		if err != nil {
			return nil, err
		}
		had, ok := d.T.Member(g.ID, m.ID)
		if !ok {
			if m.Primary == g.ID {
				return nil, &estate.Refused{Why: fmt.Sprintf("%s is the primary group of %s", d.T.Name(g.ID), d.T.Name(m.ID)), Do: fmt.Sprintf("give the user another first: tarnwold user set %s --primary GROUP", m.Name)}
			}
			return nil, &estate.Refused{Why: fmt.Sprintf("%s is not a direct member of %s", d.T.Name(m.ID), d.T.Name(g.ID))}
		}
		if !seen[m.ID] {
			seen[m.ID] = true
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &m, Was: &had, Is: nil})
		}
	}
	p, err = d.Evaluate(p)
	return fromSignOn(d, p, err)
}

// NewAccount is an account that is to come, as it was typed.
type NewAccount struct {
	Kind    acc.Kind
	SID     string
	POSIX   int64
	Purpose string
	Primary string
	About   string  // what it is for
	First   plan.ID // the primary group, where it isn't named
}

// AddAccounts makes accounts come. Nobody's access changes by that.
func AddAccounts(d *plan.Planner, names []string, n NewAccount) (*plan.Plan, error) {
	p := d.NewPlan("%s %s added", n.Kind, plan.Many(names))
	p.Asks = false
	if n.POSIX < acc.NoPOSIX || n.POSIX > acc.MostPOSIX {
		return nil, &estate.Refused{Why: fmt.Sprintf("%d is not a uid or gid", n.POSIX), Do: fmt.Sprintf("one is 0 to %d", int64(acc.MostPOSIX))}
	}
	free := d.T.FreeIDs()
	seen := map[string]bool{}
	for _, name := range names {
		if seen[store.Key(name)] {
			return nil, &estate.Refused{Why: fmt.Sprintf("there is a %s %q already", n.Kind, name)}
		}
		seen[store.Key(name)] = true
		a, err := comes(d, free.For, name, n)
		if err != nil {
			return nil, err
		}
		p.Work.Accounts = append(p.Work.Accounts, edit.Account{After: &a})
		if n.About != "" {
			if err := d.DescribeAccount(p, a, &n.About, nil); err != nil {
				return nil, err
			}
		}
	}
	return d.Evaluate(p)
}

// Add has a new account come with a plan that does more with it.
func Add(d *plan.Planner, p *plan.Plan, name string, n NewAccount) (acc.Account, error) {
	a, err := comes(d, d.T.FreeIDs().For, name, n)
	if err == nil {
		come(d, p, a)
	}
	return a, err
}

// comes makes a new account of what is said of it; free gives it an identifier.
func comes(d *plan.Planner, free func(acc.Account) (plan.ID, error), name string, n NewAccount) (acc.Account, error) {
	a := acc.Account{Kind: n.Kind, Name: name, POSIX: n.POSIX, Primary: n.First}
	if err := estate.GoodName(n.Kind.String(), name); err != nil {
		return a, err
	}
	if Has(d, name, n.Kind) {
		return a, &estate.Refused{Why: fmt.Sprintf("there is a %s %q already", n.Kind, name)}
	}
	var err error
	if a.Purpose, err = acc.ParsePurpose(n.Purpose); err != nil {
		return a, &estate.Refused{Why: err.Error()}
	}
	if n.Primary != "" {
		g, err := d.T.Named(n.Primary, acc.Group)
		if err != nil {
			return a, err
		}
		a.Primary = g.ID
	}
	if n.SID != "" {
		if a.ID, err = acc.ParseID(n.SID); err != nil {
			return a, &estate.Refused{Why: format.Clip(err.Error())}
		}
	} else if a.ID, err = free(a); err != nil {
		return a, err
	}
	if err := estate.GoodID(a.ID); err != nil {
		return a, err
	}
	if old, ok := d.T.Account(a.ID); ok {
		return a, &estate.Refused{Why: fmt.Sprintf("%s is the identifier of %s %q already", a.ID, old.Kind, old.Name)}
	}
	return a, nil
}

func Has(d *plan.Planner, name string, kind acc.Kind) bool {
	_, err := d.T.Named(kind.String()+":"+name, kind)
	return err == nil
}

// AccountSetting is what accounts are to be given; nil leaves it.
type AccountSetting struct {
	Purpose, Primary, About *string
	Shut                    *bool
	Details                 map[string]string // of users, by their names (format.Details); the manager by name
}

// SetAccounts gives accounts of a kind other particulars.
func SetAccounts(d *plan.Planner, kind acc.Kind, names []string, set AccountSetting) (*plan.Plan, error) {
	purpose, primary := set.Purpose, set.Primary
	p := d.NewPlan("%s %s: ", kind, plan.Many(names))
	p.Nothing = "it is so already"
	var says []string
	if purpose != nil {
		says = append(says, "purpose "+*purpose)
	}
	if primary != nil {
		says = append(says, "primary group "+*primary)
	}
	if set.About != nil {
		says = append(says, "about it: "+format.Clip(*set.About))
	}
	if set.Shut != nil {
		says = append(says, map[bool]string{true: "shut", false: "open"}[*set.Shut])
	}
	for _, name := range slices.Sorted(maps.Keys(set.Details)) {
		says = append(says, name+" "+format.Clip(set.Details[name]))
	}
	p.Change += strings.Join(says, ", ")
	p.Asks = purpose != nil || primary != nil
	for _, name := range names {
		before, err := d.T.Named(name, kind)
		if err != nil {
			return nil, err
		}
		after := before
		if purpose != nil {
			if after.Purpose, err = acc.ParsePurpose(*purpose); err != nil {
				return nil, &estate.Refused{Why: err.Error()}
			}
		}
		if primary != nil {
			after.Primary = plan.ID{}
			if *primary != "" {
				g, err := d.T.Named(*primary, acc.Group)
				if err != nil {
					return nil, err
				}
				after.Primary = g.ID
			}
		}
		if after != before {
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &before, After: &after})
		}
		if err := d.WriteDown(p, before, set.About, set.Shut, set.Details); err != nil {
			return nil, err
		}
	}
	return d.Evaluate(p)
}

// StillNamed refuses to take an account out that something names.
type StillNamed struct {
	Account string     `json:"account"`
	Uses    []uses.Use `json:"named-by"`
	More    int64      `json:"more"`
}

func (e *StillNamed) Error() string {
	lines := make([]string, 0, len(e.Uses))
	for _, u := range e.Uses {
		s := u.Where
		switch u.As {
		case "entry", "inherited":
			s += ": " + u.What
			if u.As == "inherited" {
				s += " (from above)"
			}
		case "owner":
			s += " (owner)"
		case "group":
			s += " (its group)"
		case "administrator":
			s += " (administrator)"
		case "primary":
			s += " (its primary group)"
		case "holder":
			s += " (lists " + u.What + ")"
		case "member":
			s += " (lists it)"
		}
		if u.Items > 1 {
			s += fmt.Sprintf(" and %d like it", u.Items-1)
		}
		lines = append(lines, s)
	}
	s := strings.Join(lines, "\n  ")
	if e.More > 0 {
		s += fmt.Sprintf("\n  and %d more", e.More)
	}
	return fmt.Sprintf("%s is still named by\n  %s\nrevoke, hand on or leave those first", e.Account, s)
}

// RemoveAccounts makes accounts go that nothing names any more.
func RemoveAccounts(d *plan.Planner, kind acc.Kind, names []string) (*plan.Plan, error) {
	p := d.NewPlan("%s %s removed", kind, plan.Many(names))
	for _, name := range names {
		a, err := d.T.Named(name, kind)
		if err != nil {
			return nil, err
		}
		if err := Unnamed(d, a); err != nil {
			return nil, err
		}
		if body := d.T.Record(estate.MetadataRecord, a.ID.String()); body != "" {
			p.Work.Records = append(p.Work.Records, edit.Record{Kind: estate.MetadataRecord, Name: a.ID.String(), Before: body})
		}
		p.Work.Accounts = append(p.Work.Accounts, edit.Account{Before: &a})
	}
	return d.Evaluate(p)
}

// NamedBeside is Unnamed but for memberships, of it and in it.
func NamedBeside(d *plan.Planner, a acc.Account) error {
	return unnamed(d, a, func(u uses.Use) bool { return u.As == "member" || u.As == "holder" })
}

// Unnamed refuses where anything names an account.
func Unnamed(d *plan.Planner, a acc.Account) error {
	return unnamed(d, a, func(uses.Use) bool { return false })
}

func unnamed(d *plan.Planner, a acc.Account, passes func(uses.Use) bool) error {
	found, more, err := uses.Uses(d.K, []acc.Account{a}, 8+len(d.T.GroupsOf(a.ID))+len(d.T.MembersOf(a.ID)))
	if err != nil {
		return err
	}
	found = slices.DeleteFunc(found, passes)
	if n := len(found); n > 8 {
		found, more = found[:8], more+int64(n-8)
	}
	all, err := keeper.Keepers(d.T)
	if err != nil {
		return err
	}
	for _, o := range all {
		if who, ok := o.Hangs(a); ok {
			return &estate.Refused{Why: fmt.Sprintf("%s still keeps the %s", o.Name, o.Said()), Do: fmt.Sprintf("tarnwold keeper remove '%s' --of '%s'", who, o.Place)}
		}
	}
	if len(found) > 0 {
		return &StillNamed{fmt.Sprintf("%s %s", a.Kind, d.T.Name(a.ID)), found, more}
	}
	return nil
}

// NamedByRules gives the identifiers that rules name, as owners, groups or in
// entries, and those on lists of administrators.
func NamedByRules(d *plan.Planner) map[plan.ID]bool {
	out := map[plan.ID]bool{}
	note := func(x *rule.Descriptor) {
		out[x.Owner], out[x.Group] = true, true
		for _, l := range [][]rule.Entry{x.Rules.Entries, x.Audit.Entries} {
			for _, e := range l {
				out[e.Who] = true
			}
		}
	}
	d.T.AllDescriptors(func(_ int64, a rule.Any) { note(d.K.AsNamed(a)) })
	for _, s := range d.T.Servers() {
		for _, id := range d.T.Administrators(s) {
			out[id] = true
		}
		for _, sh := range d.T.Shares(s) {
			note(sh.Descriptor)
		}
	}
	return out
}
