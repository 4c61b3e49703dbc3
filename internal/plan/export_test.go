package plan

// PhaseOf tells when a membership has its turn, and whether rules give the group something
// and refuse it something too.
func (d *Planner) PhaseOf(p *Plan, group ID, comes bool) (Phase, bool) {
	refused, given := d.namedAs(p, d.upFrom(group))
	return d.memberPhase(p, group, comes), refused && given
}
