package plan

import (
	"fmt"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Ended is an entry or a membership whose last day is past.
type Ended struct {
	What  string `json:"what"` // the entry as written, or the membership
	Where string `json:"where"`
	Until string `json:"until"`
}

// Expire takes away what was to end before a day. Of what is past today
// keepers have no say; a day to come is only to be looked at.
func (d *Desk) Expire(day estate.Day) (*Plan, []Ended, error) {
	t := d.t
	p := d.begin("")
	p.ends = day <= d.Today
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
		p.work.shares = append(p.work.shares, shareEdit{s, &sh, &after})
		p.work.dates = append(p.work.dates, dateEdit{of: b, before: dated, after: still(dated, after.Descriptor)})
	}
	for _, m := range members {
		p.work.members = append(p.work.members, memberEdit{group: &m.Group, member: &m.Member, was: &m.Is, is: nil})
		ended = append(ended, Ended{t.Name(m.Member.ID) + " in " + t.Name(m.Group.ID), "group " + t.Name(m.Group.ID), string(m.Is.Until)})
	}
	p.Change = fmt.Sprintf("expire %d on %s", len(ended), day)
	p.work.everywhere = len(members) > 0 && (len(targets) > 0 || len(p.work.shares) > 0)
	var err error
	if len(targets) > 0 {
		for _, e := range p.work.shares { // what the shares stand over is looked at too
			if at, err := t.At(e.server, e.before.Folder); err == nil {
				targets = append(targets, at.Target())
			}
		}
		err = d.onItems(p, targets, itemEdit{make: func(b, _ *rule.Descriptor, _ bool, dated estate.Dated) (*rule.Descriptor, error) {
			return gone(b, dated), nil
		}, posix: func(r, _ *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
			for e, u := range dated {
				if u < day {
					r = withoutListed(r, e)
				}
			}
			return r, nil
		}, hands: true}, false)
	} else if len(p.work.shares) > 0 {
		err = d.below(p)
	}
	if err != nil {
		return nil, nil, err
	}
	p, err = d.finish(p)
	if err == nil && day > d.Today && p.Changes() {
		p.Warnings = append(p.Warnings, Warning{Guard: "ends-early", Where: string(day)})
	}
	return p, ended, err
}
