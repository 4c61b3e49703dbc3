package servers

import (
	"fmt"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
)

// NewShare is a share that is to be made.
type NewShare struct {
	Address  string // //SERVER/SHARE
	Folder   string // the server's own path
	ReadOnly bool
	Rules    []string         // entries; none: allow everyone@ full
	Exact    *rule.Descriptor // the rules themselves, where they are known
}

// AddShares makes shares come. Where their server and folders are new to the
// estate nobody's access changes yet.
func AddShares(d *plan.Planner, list []NewShare) (*plan.Plan, error) {
	p := d.NewPlan("")
	var names []string
	news := map[string]*estate.Server{}
	empty := true
	for _, n := range list {
		a, err := plan.ShareAddress(n.Address)
		if err != nil {
			return nil, err
		}
		if err := estate.GoodName("share", a.Share); err != nil {
			return nil, err
		}
		folder, err := place.Clean(n.Folder)
		if err != nil {
			return nil, &estate.Refused{Why: fmt.Sprintf("%q is not a path on a server: it begins with /, and steps up nowhere", format.Clip(n.Folder))}
		}
		s, err := server(d, p, news, a.Server)
		if err != nil {
			return nil, err
		}
		if s.ID != 0 {
			if _, err := d.T.Share(s, a.Share); err == nil {
				return nil, &estate.Refused{Why: fmt.Sprintf("server %s has a share %q already", s.Name, a.Share)}
			}
			if at, err := d.T.At(s, folder); err == nil {
				folder = at.Path // as the folder itself is written
			}
			empty = empty && len(d.T.Shares(s)) == 0 && len(d.T.Tops(s)) == 0
		}
		for _, o := range p.Work.Shares {
			if o.Server.Name == s.Name && plan.SameKey(o.After.Name, a.Share) {
				return nil, &estate.Refused{Why: fmt.Sprintf("share %q of server %s appears twice", a.Share, s.Name)}
			}
		}
		rules := n.Exact
		if rules == nil {
			if rules, err = shareRules(d, n.Rules); err != nil {
				return nil, err
			}
		}
		sh := estate.Share{Server: s.Name, ServerID: s.ID, Name: a.Share, Folder: folder, ReadOnly: n.ReadOnly, Descriptor: rules}
		p.Work.Shares = append(p.Work.Shares, edit.Share{Server: s, Before: nil, After: &sh})
		names = append(names, sh.Address())
	}
	p.Change = fmt.Sprintf("share %s added", plan.Many(names))
	if len(list) == 1 {
		p.Change += fmt.Sprintf(" over %s:%s", p.Work.Shares[0].After.Server, p.Work.Shares[0].After.Folder)
	}
	p.Asks = !empty
	if err := d.Below(p); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// server finds a server, or makes it come with the measured traits.
func server(d *plan.Planner, p *plan.Plan, news map[string]*estate.Server, name string) (estate.Server, error) {
	if s, ok := d.T.FindServer(name); ok {
		return s, nil
	}
	if s := news[name]; s != nil {
		return *s, nil
	}
	if err := estate.GoodName("server", name); err != nil {
		return estate.Server{}, err
	}
	tr, err := verdict.NamedTraits("smb")
	if err != nil {
		return estate.Server{}, err
	}
	s := estate.Server{Name: name, Traits: tr}
	p.Work.Servers = append(p.Work.Servers, edit.Server{After: &s})
	news[name] = &s
	return s, nil
}

func shareRules(d *plan.Planner, lines []string) (*rule.Descriptor, error) {
	if len(lines) == 0 {
		lines = []string{"allow everyone@ full"}
	}
	x := &rule.Descriptor{Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
	for _, text := range lines {
		l, err := ask.Language(d.T).ParseLine(text)
		if err != nil {
			return nil, &estate.Refused{Why: fmt.Sprintf("%q: %v", format.Clip(text), err)}
		}
		l.Scope = rule.Here
		es, err := l.Entries(true)
		if err != nil {
			return nil, plan.EntryRefused(err)
		}
		if x, _, err = x.Give(es, rule.Giving{}); err != nil {
			return nil, plan.EntryRefused(err)
		}
	}
	return x, nil
}

// RemoveShares makes shares go.
func RemoveShares(d *plan.Planner, where []string) (*plan.Plan, error) {
	p := d.NewPlan("share %s removed", plan.Many(where))
	servers, shares, err := d.Shares(where)
	if err != nil {
		return nil, err
	}
	for i := range shares {
		p.Work.Shares = append(p.Work.Shares, edit.Share{Server: servers[i], Before: &shares[i], After: nil})
	}
	if err := d.Below(p); err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// LoadShares makes the shares of a file come.
func LoadShares(d *plan.Planner, server, file string, rows []format.ShareRow) (*plan.Plan, error) {
	var list []NewShare
	for _, r := range rows {
		n := NewShare{Address: place.Address{Server: server, Share: r.Name}.String(), Folder: r.Folder, ReadOnly: r.ReadOnly, Exact: r.Descriptor}
		if err := estate.GoodName("share", r.Name); err != nil {
			return nil, &format.Error{File: file, Line: r.Line, What: err.Error()}
		}
		if _, err := place.Clean(r.Folder); err != nil {
			return nil, &format.Error{File: file, Line: r.Line, What: err.Error()}
		}
		if s, ok := d.T.FindServer(server); ok {
			if _, err := d.T.Share(s, r.Name); err == nil {
				return nil, &format.Error{File: file, Line: r.Line, What: fmt.Sprintf("server %s has a share %q already", s.Name, r.Name)}
			}
		}
		list = append(list, n)
	}
	p, err := AddShares(d, list)
	if err != nil {
		return nil, err
	}
	p.Change = fmt.Sprintf("%s of server %s loaded", format.Count(int64(len(rows)), "share"), server)
	return p, nil
}
