package crowd

import (
	"slices"

	"tarnwold/core/right"
	"tarnwold/core/verdict"
)

// Refused gives whom the share refuses the connection; nil for nobody.
func (d *Decider) Refused() Bits { return d.refused }

// ReadOnly gives whose connection is read-only; nil for nobody.
func (d *Decider) ReadOnly() Bits { return d.limited }

// Through gives whom the share lets all of some rights through; synchronize
// counts.
func (d *Decider) Through(want right.Set) Bits {
	if d.Share == nil {
		return slices.Clone(d.People.All())
	}
	known, ok := d.passed.Load(want)
	if !ok {
		known, _ = d.passed.LoadOrStore(want, d.passing(want))
	}
	return slices.Clone(known.(Bits))
}

func (d *Decider) passing(want right.Set) Bits {
	out := slices.Clone(d.People.All())
	open := d.Share.Rules == nil || d.Share.Rules.Absent()
	for i := range right.Count {
		one := right.At(i)
		if want&one == 0 {
			continue
		}
		before := slices.Clone(out)
		switch {
		case open && d.Traits.AbsentShareRefuses:
			out = d.People.Empty()
		case !open:
			connects := &Decider{Route: Route{Local: d.Local, Traits: d.Traits, People: d.self()}}
			out = out.And(connects.One(d.Share.Rules, one)).without(d.nothing)
		}
		if one&d.Traits.ReadOnlyTakes != 0 {
			out = out.without(d.limited)
		}
		for _, p := range d.connecting {
			if p.Share&one != 0 {
				out.Or(d.lets(before.And(p.who), one))
			}
		}
	}
	return out.without(d.refused)
}

// connect is verdict.Connect for everybody.
func (d *Decider) connect() {
	s, tr, all := d.Share, d.Traits, d.People.All()
	words := make([]int, len(all))
	for k := range words {
		words[k] = k
	}
	open := s.Rules == nil || s.Rules.Absent()
	cuts := []right.Set{right.DeleteChild, right.ReadData, right.WriteData, tr.ReadOnlyTakes, verdict.SwitchKeeps}
	if !open {
		for i := range s.Rules.Steps {
			cuts = append(cuts, s.Rules.Steps[i].Rights)
		}
	}
	d.connecting = d.held(d.self())
	for _, p := range d.connecting {
		cuts = append(cuts, p.Share)
	}
	var sc Scratch
	d.through = cut(cuts, len(words), &sc.after)
	gone := open && tr.AbsentShareRefuses
	switch {
	case gone:
	case open:
		for i := range d.through {
			copy(d.through[i].Users, all)
		}
	default:
		connects := &Decider{Route: Route{Local: d.Local, Traits: d.Traits, People: d.self()}}
		connects.scan(d.through, s.Rules.Steps, words, &sc)
		d.wholeForTakers(connects)
	}
	reads, writes := make(Bits, len(all)), make(Bits, len(all))
	for _, a := range d.through {
		if a.Rights&right.ReadData != 0 {
			reads.Or(a.Users)
		}
		if a.Rights&right.WriteData != 0 {
			writes.Or(a.Users)
		}
	}
	for _, p := range d.connecting {
		if p.Share&right.ReadData != 0 {
			reads.Or(p.who)
		}
		if p.Share&right.WriteData != 0 {
			writes.Or(p.who)
		}
	}
	refused, readOnly, bySwitch := make(Bits, len(all)), make(Bits, len(all)), make(Bits, len(all))
	barred, switched := d.lists()
	for k, word := range all {
		for _, c := range []struct {
			who   uint64
			gives right.Set
		}{
			{word & reads[k] & writes[k], right.ReadData | right.WriteData}, {word & reads[k] &^ writes[k], right.ReadData},
			{word & writes[k] &^ reads[k], right.WriteData}, {word &^ reads[k] &^ writes[k], 0},
		} {
			for _, on := range [2]bool{false, true} {
				who := c.who & switched.Word(k)
				if !on {
					who = c.who &^ switched.Word(k)
				}
				door := verdict.ConnectionOf(on, c.gives, tr)
				if door.Refused {
					refused[k] |= who
				}
				if door.ReadOnly {
					readOnly[k] |= who
					if on {
						bySwitch[k] |= who
					}
				}
			}
		}
		refused[k] |= word & barred.Word(k)
		if gone {
			refused[k] |= word &^ (reads[k] | writes[k])
		}
		readOnly[k] &^= refused[k]
	}
	if refused.Len() > 0 {
		d.refused = refused
	}
	if readOnly.Len() > 0 {
		d.limited, d.switched = readOnly, bySwitch
	}
	for _, a := range d.through {
		for k := range a.Users {
			a.Users[k] &^= refused[k]
			if a.Rights&tr.ReadOnlyTakes != 0 {
				a.Users[k] &^= readOnly[k]
			}
		}
		for _, p := range d.connecting {
			if p.Share&a.Rights == 0 {
				continue
			}
			for k, word := range d.lets(p.who, a.Rights) {
				a.Users[k] |= word &^ refused[k]
			}
		}
	}
}

// lets leaves out of those whom a privilege lets rights through the share, whom its switch
// keeps from them all the same.
func (d *Decider) lets(who Bits, rights right.Set) Bits {
	if rights&verdict.SwitchKeeps == 0 || d.switched == nil {
		return who
	}
	return who.Minus(d.switched)
}

// wholeForTakers finds to whom the share's rules give nothing (verdict.Traits,
// ShareWholeForTakers), and takes from them what they were given.
func (d *Decider) wholeForTakers(connects *Decider) {
	if !d.Traits.ShareWholeForTakers {
		return
	}
	takers := d.People.Empty()
	for _, p := range d.connecting {
		if p.Takes() {
			takers.Or(p.who)
		}
	}
	if takers.Len() == 0 {
		return
	}
	whole := connects.One(d.Share.Rules, right.Synchronize) // which through leaves out
	for _, a := range d.through {
		if a.Rights != right.WriteOwner {
			whole = whole.And(a.Users)
		}
	}
	d.nothing = takers.Minus(whole)
	for _, a := range d.through {
		Bits(a.Users).without(d.nothing)
	}
}

// lists gives whom the server's configuration keeps from connecting, and whose
// connection is switched to read-only.
func (d *Decider) lists() (barred, switched Bits) {
	s, all := d.Share, d.People.All()
	if s.ReadOnly {
		switched = slices.Clone(all)
	}
	l := s.Lists
	if l == nil {
		return nil, switched
	}
	if switched == nil {
		switched = d.People.Empty()
	}
	switched.Or(d.listed(l.Reading))
	switched = switched.without(d.listed(l.Writing))
	if l.NoMachine {
		return slices.Clone(all), switched
	}
	barred = d.listed(l.Never)
	if l.Limited {
		barred.Or(slices.Clone(all).without(d.listed(l.Only)))
	}
	return barred, switched
}
