package entry

import (
	"fmt"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
)

// Ended is an entry or a membership whose last day is past.
type Ended struct {
	What  string `json:"what"` // the entry as written, or the membership
	Where string `json:"where"`
	Until string `json:"until"`
}

// Expire takes away what was to end before a day. Of what is past today
// keepers have no say; a day to come is only to be looked at.
func Expire(d *plan.Planner, day estate.Day) (*plan.Plan, []Ended, error) {
	t := d.T
	p := d.NewPlan("")
	p.Ends = day <= d.Today
	p.Nothing = "nothing is over on " + string(day)
	bearers, members := t.Overdue(day)
	lang := ask.Language(t)
	ended := []Ended{}
	gone := func(b *rule.Descriptor, dated estate.Dated) *rule.Descriptor {
		var out []rule.Entry
		for e, u := range dated {
			if u < day {
				out = append(out, e)
			}
		}
		return b.Without(out)
	}
	var targets []estate.Target
	for _, b := range bearers {
		if b.Item != 0 {
			r, ok := t.ItemRow(b.Item)
			if !ok {
				continue
			}
			x := estate.Target{Item: b.Item, Strand: r.Strand, Folder: r.Folder}
			n := len(ended)
			for e, u := range t.Dated(b, t.Of(x.Strand)) {
				if u < day {
					ended = append(ended, Ended{lang.Write(e, x.Folder), t.Where(x.Item), string(u)})
				}
			}
			if len(ended) > n {
				targets = append(targets, x)
			}
			continue
		}
		sh, ok := t.ShareByRow(b.Share)
		if !ok {
			continue
		}
		dated := t.Dated(b, sh.Descriptor)
		after := sh
		after.Descriptor = gone(sh.Descriptor, dated)
		if after.Descriptor == sh.Descriptor {
			continue
		}
		for e, u := range dated {
			if u < day {
				ended = append(ended, Ended{ask.ShareEntry(lang, e), "share " + sh.Address(), string(u)})
			}
		}
		s, err := t.Server(sh.Server)
		if err != nil {
			return nil, nil, err
		}
		p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: &sh, After: &after})
		p.Work.Dates = append(p.Work.Dates, edit.LastDays{Of: b, Before: dated, After: plan.Still(dated, after.Descriptor)})
	}
	for _, m := range members {
		p.Work.Members = append(p.Work.Members, edit.Membership{Group: &m.Group, Member: &m.Member, Was: &m.Is, Is: nil})
		ended = append(ended, Ended{t.Name(m.Member.ID) + " in " + t.Name(m.Group.ID), "group " + t.Name(m.Group.ID), string(m.Is.Until)})
	}
	p.Change = fmt.Sprintf("expire %d on %s", len(ended), day)
	p.Work.Everywhere = len(members) > 0 && (len(targets) > 0 || len(p.Work.Shares) > 0)
	var err error
	if len(targets) > 0 {
		for _, e := range p.Work.Shares { // what the shares stand over is looked at too
			if at, err := t.At(e.Server, e.Before.Folder); err == nil {
				targets = append(targets, at.Target())
			}
		}
		err = d.OnItems(p, targets, plan.ItemEdit{Make: func(b, _ *rule.Descriptor, _ bool, dated estate.Dated) (*rule.Descriptor, error) {
			return gone(b, dated), nil
		}, Posix: func(r, _ *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
			for e, u := range dated {
				if u < day {
					r = withoutListed(r, e)
				}
			}
			return r, nil
		}, Hands: true}, false)
	} else if len(p.Work.Shares) > 0 {
		err = d.Below(p)
	}
	if err != nil {
		return nil, nil, err
	}
	p, err = d.Evaluate(p)
	if err == nil && day > d.Today && p.Changes() {
		p.Warnings = append(p.Warnings, plan.Warning{Guard: "ends-early", Where: string(day)})
	}
	return p, ended, err
}
