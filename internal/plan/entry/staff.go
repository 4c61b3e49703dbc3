package entry

import (
	"fmt"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
)

// Joiner has somebody begin a job as a colleague does it: in the groups the colleague is in,
// and in no entry. Whom the estate doesn't know comes with that, as n says. until ends the
// memberships; "": as long as the colleague's.
func Joiner(d *plan.Planner, who, colleague string, n people.NewAccount, until estate.Day) (*plan.Plan, error) {
	a, err := elsewhere(d, colleague)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("%s joins, as %s", who, d.T.Name(a.ID))
	p.Nothing = fmt.Sprintf("%s is in all groups that %s is in already", who, d.T.Name(a.ID))
	var b acc.Account
	if people.Has(d, who, acc.User) {
		if n.SID != "" || n.POSIX != acc.NoPOSIX {
			return nil, &estate.Refused{Why: fmt.Sprintf("there is a user %q already, and --sid and --id are of somebody new", who)}
		}
		if b, err = elsewhere(d, who); err == nil && a.ID == b.ID {
			err = &estate.Refused{Why: fmt.Sprintf("%s and %s are one account", who, colleague)}
		}
	} else {
		if until == "" { // a primary group has no last day
			n.First = a.Primary
		}
		if b, err = newcomer(d, p, who, n); err == nil {
			p.Change = fmt.Sprintf("%s joins, new, as %s", b.Name, d.T.Name(a.ID))
		}
	}
	if err != nil {
		return nil, err
	}
	for _, s := range explain.LikeMembers(d.K, a, b) {
		group, ok := d.T.Account(s.Group)
		if !ok || !s.Join {
			continue
		}
		is := estate.Membership{Until: s.Until}
		if until != "" && (is.Until == "" || until < is.Until) {
			is.Until = until
		}
		p.Work.Members = append(p.Work.Members, edit.Membership{Group: &group, Member: &b, Is: &is})
	}
	if err := notGiven(d, p, a, b, nil); err != nil {
		return nil, err
	}
	p.Work.Everywhere = true
	return d.Evaluate(p)
}

// newcomer makes an account that the estate hasn't; where directories say who there is, it
// has to be made there.
func newcomer(d *plan.Planner, p *plan.Plan, who string, n people.NewAccount) (acc.Account, error) {
	kept, err := plan.Directories(d.T)
	if err != nil {
		return acc.Account{}, err
	}
	if len(kept) > 0 {
		_, err := d.T.User(who)
		return acc.Account{}, &estate.Refused{Why: err.Error(), Do: fmt.Sprintf("make the account in directory %s, take it in with: tarnwold directory sync %s", kept[0].Name, kept[0].Name)}
	}
	n.Kind = acc.User
	return people.Add(d, p, who, n)
}

// elsewhere finds a user who isn't a machine's own.
func elsewhere(d *plan.Planner, who string) (acc.Account, error) {
	a, err := d.T.User(who)
	if err != nil {
		return a, err
	}
	if of, own := d.T.MachineOf(a.ID); own {
		return a, &estate.Refused{Why: fmt.Sprintf("%s is %s's own account, and can't be one with anybody elsewhere", d.T.Name(a.ID), of.Name)}
	}
	return a, nil
}

// Mover has somebody change to the job a colleague does: out of the groups that the colleague
// isn't in, but for those that are kept, into those that they are in; entries that name the
// mover alone go, and servers' lists of administrators, but not what they have in their home.
func Mover(d *plan.Planner, who, colleague string, keep []string) (*plan.Plan, error) {
	a, err := elsewhere(d, colleague)
	if err != nil {
		return nil, err
	}
	b, err := elsewhere(d, who)
	if err != nil {
		return nil, err
	}
	if a.ID == b.ID {
		return nil, &estate.Refused{Why: fmt.Sprintf("%s and %s are one account", who, colleague)}
	}
	p := d.NewPlan("%s moves, to what %s does", d.T.Name(b.ID), d.T.Name(a.ID))
	p.Nothing = fmt.Sprintf("%s has what such a job gives already, and nothing else", d.T.Name(b.ID))
	kept := map[plan.ID]bool{}
	for _, name := range keep {
		g, err := d.T.Named(name, acc.Group)
		if err != nil {
			return nil, err
		}
		if _, is := d.T.Member(g.ID, b.ID); !is {
			return nil, &estate.Refused{Why: fmt.Sprintf("%s isn't in %s, and can't keep it", d.T.Name(b.ID), d.T.Name(g.ID))}
		}
		kept[g.ID] = true
	}
	likeMembers(d, p, a, b, kept)
	for _, s := range d.T.Servers() {
		admins := d.T.Administrators(s)
		if slices.Contains(admins, b.ID) && !slices.Contains(admins, a.ID) {
			p.Work.Admins = append(p.Work.Admins, edit.Administrator{Server: s, Who: b, On: false})
		}
	}
	own := func(server string) bool {
		s, err := d.T.Server(server)
		return err == nil && slices.Contains(d.T.Administrators(s), b.ID)
	}
	if err := notGiven(d, p, a, b, own); err != nil {
		return nil, err
	}
	away := rule.Rewriting{Names: map[plan.ID]bool{}}
	forms := d.T.Forms(b)
	for _, f := range forms {
		away.Names[f] = true
	}
	home := func(x *rule.Descriptor) bool {
		owner, ok := d.K.HomeOf(x)
		return ok && away.Names[owner]
	}
	owned, first := int64(0), ""
	if err := d.T.Owned(forms, nil, func(x estate.Target, where string) error {
		if !home(d.T.Of(x.Strand).Listed()) {
			if owned++; owned == 1 {
				first = where
			}
		}
		return d.Ctx.Err()
	}); err != nil {
		return nil, err
	}
	if owned > 0 {
		p.Advice = append(p.Advice, plan.Advice{Kind: "owns-still", Who: d.T.Name(b.ID), Where: first, Text: format.Count(owned, "item")})
	}
	return rewriteAll(d, p, []rule.Rewriting{away}, "", true, home)
}

// notGiven tells what a colleague has that comes with no group: it isn't given to whoever
// does the same job. has tells of servers whose administrator they are already.
func notGiven(d *plan.Planner, p *plan.Plan, a, b acc.Account, has func(server string) bool) error {
	beyond, err := census.BeyondRoles(d.K, a)
	if err != nil {
		return err
	}
	for _, x := range beyond {
		text := ""
		switch x.As {
		case "entry":
			if home(d, x.Where) {
				continue
			}
			text = "is named on " + x.Where + ": " + x.What
		case "administrator":
			if has != nil && has(serverOf(x.Where)) {
				continue
			}
			text = "administers " + serverOf(x.Where)
		default: // what groups give is given
			continue
		}
		p.Advice = append(p.Advice, plan.Advice{Kind: "not-given", Who: d.T.Name(a.ID), Other: d.T.Name(b.ID), Text: text})
	}
	return nil
}

// Leaver takes a user off everything, hands on what they own, and has nobody sign on as them.
func Leaver(d *plan.Planner, who, ownerTo string) (*plan.Plan, error) {
	a, err := d.T.User(who)
	if err != nil {
		return nil, err
	}
	return strip(d, []string{who}, "", ownerTo, func(p *plan.Plan) error {
		p.Change = fmt.Sprintf("%s leaves", d.T.Name(a.ID))
		if ownerTo != "" {
			p.Change += ", what they owned to " + ownerTo
		}
		p.Nothing = fmt.Sprintf("nothing names %s, and nobody can sign on as them", d.T.Name(a.ID))
		if in := d.T.MetadataOf(a.ID).Directory; in != "" {
			p.Advice = append(p.Advice, plan.Advice{Kind: "shut-there", Who: d.T.Name(a.ID), Where: in})
			return nil // which says who can sign on
		}
		shut := true
		return d.DescribeAccount(p, a, nil, &shut)
	})
}
