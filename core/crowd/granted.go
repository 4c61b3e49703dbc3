package crowd

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Granted gives the users granted one right by rules alone.
func (p *Population) Granted(l *rule.List, one right.Set, local bool) Bits {
	out := p.granted(l.Steps, one, local)
	if l.Beneath != nil {
		out = out.And(p.granted(l.Beneath, one, local))
	}
	return out
}

// granted decides one right. What rules say of single users is parted from the rest: that
// is the same for thousands of homes, and decided once; of the few who are named
// themselves each is decided alone.
func (p *Population) granted(steps []rule.Step, one right.Set, local bool) Bits {
	if p.as != nil || p.to != nil || len(p.beside) > 0 { // what is somebody's may be everybody's there
		return p.decided(steps, one, local, nil)
	}
	var room [8]int
	var kept [512]byte
	alone, key := room[:0], kept[:0] // steps that name one user, and what tells the others
	for i := range steps {
		s := &steps[i]
		if s.Rights&one == 0 {
			continue
		}
		if s.If != nil { // what it says hangs on more than whom it names
			return p.decided(steps, one, local, nil)
		}
		if p.alone(s.Who) {
			alone = append(alone, i)
			continue
		}
		key = append(key, 0) // what the step does, and whether somebody is named behind it
		if s.Refuses {
			key[len(key)-1] = 1
		}
		if s.Who.IsZero() {
			key[len(key)-1] |= 2
		}
		key = s.Who.AppendBinary(key)
	}
	if len(alone) == 0 {
		return p.decided(steps, one, local, nil)
	}
	out := slices.Clone(p.rest(key, steps, one, local))
	for _, i := range alone {
		at := p.place[steps[i].Who]
		out[at>>6] &^= 1 << (at & 63)
		if p.grants(at, steps, one, local) {
			out.Set(at)
		}
	}
	return out
}

// mostForms is how many forms are remembered at once.
const mostForms = 2048

// form is what rules are but for the single users they name, on one kind of route.
type form struct {
	key   string
	local bool
}

// rest gives who is granted one right by the steps of a form, which name no single user.
func (p *Population) rest(key []byte, steps []rule.Step, one right.Set, local bool) Bits {
	p.mu.RLock()
	b, ok := p.forms[form{string(key), local}]
	p.mu.RUnlock()
	if ok {
		return b
	}
	b = p.decided(steps, one, local, p.alone)
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.forms) >= mostForms || p.forms == nil {
		p.forms = map[form]Bits{}
	}
	p.forms[form{string(key), local}] = b
	return b
}

// alone tells whether an identifier is one user's and nobody else's.
func (p *Population) alone(id account.ID) bool {
	_, user := p.place[id]
	return user && len(p.primary[id]) == 0 && len(p.former[id]) == 0
}

// grants decides one right of one user.
func (p *Population) grants(at int, steps []rule.Step, one right.Set, local bool) bool {
	me := p.Users[at].ID
	for i := range steps {
		s := &steps[i]
		if s.Rights&one == 0 || s.Who != me && (p.alone(s.Who) || !p.Holders(s.Who, local).Has(at)) {
			continue
		}
		return !s.Refuses
	}
	return false
}

// decided decides one right for everybody, step by step; steps that are passed over name
// nobody.
func (p *Population) decided(steps []rule.Step, one right.Set, local bool, over func(account.ID) bool) Bits {
	out := p.Empty()
	undecided := slices.Clone(p.all)
	for i := range steps {
		s := &steps[i]
		if s.Rights&one == 0 || over != nil && over(s.Who) {
			continue
		}
		h := p.Fits(s, local)
		for k, word := range h {
			if hit := word & undecided[k]; hit != 0 {
				undecided[k] &^= hit
				if !s.Refuses {
					out[k] |= hit
				}
			}
		}
	}
	return out
}
