package crowd

import (
	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// Fits gives whom a step is about: who holds the identifier it names, and of whom what it
// asks for is so.
func (p *Population) Fits(s *rule.Step, local bool) Bits {
	h := p.Holders(s.Who, local)
	if s.If == nil {
		return h
	}
	out := p.Empty()
	f := &facts{p: p, local: local}
	h.Each(func(i int) bool {
		if f.at = i; s.If.Counts(f, s.Refuses) {
			out.Set(i)
		}
		return true
	})
	return out
}

// facts are what is known of one of a population, as whom files are opened.
type facts struct {
	p     *Population
	local bool
	at    int
}

func (f *facts) Has(id account.ID) bool { return f.p.Holders(id, f.local).Has(f.at) }

func (f *facts) Claim(name string) (account.Claim, bool) {
	switch {
	case f.p.to != nil && f.p.squashed.Has(f.at):
		return f.p.to.Claim(name)
	case f.p.as != nil:
		return f.p.as.Claim(name)
	}
	a, _ := f.p.dir.Account(f.p.Users[f.at].ID)
	return a.Claims.Get(name)
}
