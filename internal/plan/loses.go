package plan

import (
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// usualLoss is how much of something may be gone at once, in hundredths: more
// is sooner a mistake where it is kept (a wrong base, an emptied folder, a
// server that shows half) than what somebody meant.
const usualLoss = 10

// FewLost is how few may go in any case.
const FewLost = 2

// MayLose says how many hundredths of the people, groups, memberships, shares or
// items may be gone at once when something is taken in.
func (d *Planner) MayLose(percent int) { d.mayLose = &percent }

// LosesMuch warns where more of something is gone than may be.
func (d *Planner) LosesMuch(p *Plan, what string, lost, of int64) {
	most := int64(usualLoss)
	if d.mayLose != nil {
		most = int64(*d.mayLose)
	}
	if lost > FewLost && lost*100 > of*most {
		p.Warnings = append(p.Warnings, Warning{Guard: "loses-much", Who: format.Number(lost) + " of " + format.Count(of, what)})
	}
}

// ItemsOf counts what the estate has of a server.
func (d *Planner) ItemsOf(s estate.Server) (n int64) {
	for _, path := range d.T.Tops(s) {
		if at, err := d.T.At(s, path); err == nil {
			n += d.T.CountUnder(at.Strand)
		}
	}
	return n
}
