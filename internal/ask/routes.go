package ask

import (
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// Connection is what the share's connection lets through.
type Connection struct {
	Open     bool   `json:"open"` // it isn't refused
	ReadOnly bool   `json:"read-only"`
	Why      string `json:"because,omitempty"` // no-data, no-reading, rules-absent, switched, no-writing
	// By is the entry of the share that refuses what the connection needs,
	// where one does; for not-listed, barred and read-listed the configuration:
	// Entry is the name it has, SetOn the file.
	By *Reason `json:"by,omitempty"`
}

var doors = [...]string{verdict.NoData: "no-data", verdict.NoReading: "no-reading", verdict.RulesGone: "rules-absent",
	verdict.Switched: "switched", verdict.NotWriting: "no-writing", verdict.NotListed: "not-listed", verdict.Barred: "barred", verdict.ReadListed: "read-listed", verdict.Nowhere: "no-machine", verdict.NoAccount: "no-account"}

func ConnectionOf(d verdict.Connection) Connection {
	return Connection{Open: !d.Refused, ReadOnly: !d.Refused && d.ReadOnly, Why: doors[d.Why]}
}

// Routes lists the ways to a place: the share it was asked for through, or else
// every share that comes there and, last, the server itself, which is nil.
func (k *Asker) Routes(p estate.Place) (out []*estate.Share) {
	if p.Share != nil {
		return []*estate.Share{p.Share}
	}
	for _, sh := range k.Through(p) {
		out = append(out, &sh)
	}
	return append(out, nil)
}

func Mask(s right.Set) string { return fmt.Sprintf("0x%x", uint32(s&right.Access)) }

func RulesAre(r *rule.Rules) string {
	switch {
	case r.Absent:
		return "absent"
	case len(r.Entries) == 0:
		return "empty"
	}
	return "present"
}

// Adding puts together what core is asked where something is added to a folder.
func (k *Asker) Adding(user account.ID, p estate.Place, sh *estate.Share) *verdict.Question {
	q := k.Question(user, p, sh)
	if _, ok := k.T.Of(p.Strand).(*posix.Rules); q.Traits.AsksFoldersAbove && !ok { // there adding takes execute by itself
		q.Above = append([]*rule.List{q.Item}, q.Above...)
	}
	q.Item = k.Read(k.T.Of(p.Strand), q.Traits.AddReading())
	return q
}

// Unfit is a question that doesn't fit what is there.
func Unfit(do, why string, args ...any) error {
	return &estate.Refused{Why: fmt.Sprintf(why, args...), Do: do}
}

// ActNames lists the acts.
func ActNames() (out []string) {
	for _, a := range verdict.Acts {
		out = append(out, a.Name)
	}
	return out
}

// Kernel gives a question as the kernel alone would be asked it, where an SMB
// server decides before it; nil elsewhere. Above are rules of the folder above.
func (k *Asker) Kernel(q *verdict.Question, item, above rule.Any) *verdict.Question {
	if _, posixTree := item.(*posix.Rules); !posixTree || q.Item.Beneath == nil || above == nil {
		return nil
	}
	x, how := *q, q.Traits.AboveReading()
	x.Administrator, x.Share, x.Self = q.Passes(), nil, nil
	x.Item, x.Parent = k.Read(item, how), k.Read(above, how)
	return &x
}

// Shown gives the question whether the kernel shows somebody the names in a
// folder, of which q asks whether they may add to it.
func (k *Asker) Shown(q *verdict.Question, folder rule.Any) *verdict.Question {
	x := *q
	x.Administrator, x.Share, x.Self, x.Parent = q.Passes(), nil, nil, nil
	x.Item = k.Read(folder, q.Traits.AboveReading())
	return &x
}

// Above gives the rules of the folder above a place; nil where there is none.
func (k *Asker) Above(p estate.Place) rule.Any {
	if len(p.Trail) > 1 {
		return k.T.Of(p.Trail[1])
	}
	return nil
}
