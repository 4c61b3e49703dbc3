package plan

import (
	"fmt"

	"tarnwold/internal/estate"
)

// RuleAccount finds whom rules are to name. A machine's built-in group is named there as
// it is everywhere, and means that machine's own: one that was said with its machine could
// be taken for that machine's elsewhere.
func (d *Planner) RuleAccount(word string) (ID, error) {
	if a, ok := d.T.Builtin(word); ok {
		name := d.T.Name(a.ID.Named())
		return ID{}, &estate.Refused{Why: fmt.Sprintf("rules name no machine's %s: it is each machine's own there", name), Do: fmt.Sprintf("say '%s'", name)}
	}
	return d.T.Who(word)
}
