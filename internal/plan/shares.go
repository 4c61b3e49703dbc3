package plan

import (
	"fmt"
	"maps"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// onShares makes a plan edit shares' own rules.
func (d *Desk) onShares(p *Plan, where []string, e itemEdit) (*Plan, error) {
	servers, shares, err := d.shares(where)
	if err != nil {
		return nil, err
	}
	for i := range shares {
		if err := d.editShare(p, servers[i], shares[i], e); err != nil {
			return nil, err
		}
	}
	if err := d.below(p); err != nil {
		return nil, err
	}
	return d.finish(p)
}

// editShare makes a plan edit one share's own rules.
func (d *Desk) editShare(p *Plan, s estate.Server, before estate.Share, e itemEdit) error {
	of := estate.Bearer{Share: before.ID}
	dated := d.t.Dated(of, before.Descriptor)
	after := before
	var err error
	if after.Descriptor, err = e.make(before.Descriptor, nil, true, dated); err != nil {
		return err
	}
	is := still(dated, after.Descriptor)
	if e.dates != nil {
		is = e.dates(before.Descriptor, after.Descriptor, true, dated)
	}
	if !maps.Equal(dated, is) {
		p.work.dates = append(p.work.dates, dateEdit{of: of, before: dated, after: is})
	}
	if after.Descriptor != before.Descriptor || !maps.Equal(dated, is) {
		p.work.shares = append(p.work.shares, shareEdit{s, &before, &after})
	}
	return nil
}

// below takes into a plan's forest what the shares it edits stand over.
func (d *Desk) below(p *Plan) error {
	if p.work.forest != nil {
		return nil
	}
	var g estate.Group
	for _, e := range p.work.shares {
		for _, sh := range []*estate.Share{e.before, e.after} {
			if sh == nil || e.server.ID == 0 {
				continue
			}
			if at, err := d.t.At(e.server, sh.Folder); err == nil {
				g.Targets = append(g.Targets, at.Target())
			}
		}
	}
	carve := d.t.Carve
	if p.work.everywhere {
		carve = d.t.CarveAll
	}
	f, err := carve([]estate.Group{g})
	p.work.forest = f
	return err
}

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
func (d *Desk) AddShares(list []NewShare) (*Plan, error) {
	p := d.begin("")
	var names []string
	news := map[string]*estate.Server{}
	empty := true
	for _, n := range list {
		a, err := ShareAddress(n.Address)
		if err != nil {
			return nil, err
		}
		if err := estate.GoodName("share", a.Share); err != nil {
			return nil, err
		}
		folder, err := place.Clean(n.Folder)
		if err != nil {
			return nil, &estate.Refused{Why: fmt.Sprintf("%q is no path on a server: it begins with /, and steps up nowhere", format.Clip(n.Folder))}
		}
		s, err := d.server(p, news, a.Server)
		if err != nil {
			return nil, err
		}
		if s.ID != 0 {
			if _, err := d.t.Share(s, a.Share); err == nil {
				return nil, &estate.Refused{Why: fmt.Sprintf("server %s has a share %q already", s.Name, a.Share)}
			}
			if at, err := d.t.At(s, folder); err == nil {
				folder = at.Path // as the folder itself is written
			}
			empty = empty && len(d.t.Shares(s)) == 0 && len(d.t.Tops(s)) == 0
		}
		for _, o := range p.work.shares {
			if o.server.Name == s.Name && sameKey(o.after.Name, a.Share) {
				return nil, &estate.Refused{Why: fmt.Sprintf("share %q of server %s stands a second time", a.Share, s.Name)}
			}
		}
		rules := n.Exact
		if rules == nil {
			if rules, err = d.shareRules(n.Rules); err != nil {
				return nil, err
			}
		}
		sh := estate.Share{Server: s.Name, ServerID: s.ID, Name: a.Share, Folder: folder, ReadOnly: n.ReadOnly, Descriptor: rules}
		p.work.shares = append(p.work.shares, shareEdit{s, nil, &sh})
		names = append(names, sh.Address())
	}
	p.Change = fmt.Sprintf("share %s added", many(names))
	if len(list) == 1 {
		p.Change += fmt.Sprintf(" over %s:%s", p.work.shares[0].after.Server, p.work.shares[0].after.Folder)
	}
	p.Asks = !empty
	if err := d.below(p); err != nil {
		return nil, err
	}
	return d.finish(p)
}

// server finds a server, or makes it come with the measured traits.
func (d *Desk) server(p *Plan, news map[string]*estate.Server, name string) (estate.Server, error) {
	if s, ok := d.t.FindServer(name); ok {
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
	p.work.servers = append(p.work.servers, serverEdit{after: &s})
	news[name] = &s
	return s, nil
}

func (d *Desk) shareRules(lines []string) (*rule.Descriptor, error) {
	if len(lines) == 0 {
		lines = []string{"allow everyone@ full"}
	}
	x := &rule.Descriptor{Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
	for _, text := range lines {
		l, err := ask.Language(d.t).ParseLine(text)
		if err != nil {
			return nil, &estate.Refused{Why: fmt.Sprintf("%q: %v", format.Clip(text), err)}
		}
		l.Scope = rule.Here
		es, err := l.Entries(true)
		if err != nil {
			return nil, entryRefused(err)
		}
		if x, _, err = x.Give(es, rule.Giving{}); err != nil {
			return nil, entryRefused(err)
		}
	}
	return x, nil
}

// RemoveShares makes shares go.
func (d *Desk) RemoveShares(where []string) (*Plan, error) {
	p := d.begin("share %s removed", many(where))
	servers, shares, err := d.shares(where)
	if err != nil {
		return nil, err
	}
	for i := range shares {
		p.work.shares = append(p.work.shares, shareEdit{servers[i], &shares[i], nil})
	}
	if err := d.below(p); err != nil {
		return nil, err
	}
	return d.finish(p)
}

// LoadShares makes the shares of a file come.
func (d *Desk) LoadShares(server, file string, rows []format.ShareRow) (*Plan, error) {
	var list []NewShare
	for _, r := range rows {
		n := NewShare{Address: place.Address{Server: server, Share: r.Name}.String(), Folder: r.Folder, ReadOnly: r.ReadOnly, Exact: r.Descriptor}
		if err := estate.GoodName("share", r.Name); err != nil {
			return nil, &format.Error{File: file, Line: r.Line, What: err.Error()}
		}
		if _, err := place.Clean(r.Folder); err != nil {
			return nil, &format.Error{File: file, Line: r.Line, What: err.Error()}
		}
		if s, ok := d.t.FindServer(server); ok {
			if _, err := d.t.Share(s, r.Name); err == nil {
				return nil, &format.Error{File: file, Line: r.Line, What: fmt.Sprintf("server %s has a share %q already", s.Name, r.Name)}
			}
		}
		list = append(list, n)
	}
	p, err := d.AddShares(list)
	if err != nil {
		return nil, err
	}
	p.Change = fmt.Sprintf("%s of server %s loaded", format.Count(int64(len(rows)), "share"), server)
	return p, nil
}
