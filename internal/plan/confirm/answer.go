package confirm

import (
	"fmt"
	"strings"
	"time"

	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/keeper"
)

// Answered takes in what was said of a part.
func Answered(d *plan.Planner, s *workbook.Answers) (*plan.Plan, error) {
	r, err := Find(d.T, s.Review)
	if err != nil {
		return nil, err
	}
	if r.State != Open {
		return nil, &estate.Refused{Why: fmt.Sprintf("review %s is closed since %s", r.Name, estate.Moment(r.ClosedAt))}
	}
	before := d.T.Record(estate.PartRecord, partName(r.Name, s.Part))
	part, err := plan.RecordAs[Part](d.T, estate.PartRecord, partName(r.Name, s.Part))
	if err == nil && part == nil {
		err = &estate.Refused{Why: "review " + r.Name + " has no such part"}
	}
	if err != nil {
		return nil, err
	}
	had, now := part.answers(), Answer{By: d.Actor, At: time.Now().UTC().Format(time.RFC3339), Notes: map[string]string{}}
	actor, known := d.ActingUser()
	if known {
		now.ID = actor.ID.String()
	}
	for _, x := range s.Rows {
		key, err := parseKey(x.Key)
		if err != nil || !part.Rows.Has(key) {
			return nil, s.Wrong(x.At, "row", "%q is no row of this part of review %s", x.Key, r.Name)
		}
		var to *Keys
		switch strings.ToLower(x.Answer) {
		case "":
			continue
		case Keep, "k":
			to, x.Answer = &now.Keep, Keep
		case Take, "t", "take", "remove":
			to, x.Answer = &now.Take, Take
		case Ask, "a", "?":
			to, x.Answer = &now.Ask, Ask
		default:
			return nil, s.Wrong(x.At, "answer", "%q is no answer; wanted keep, take away or ask", x.Answer)
		}
		if len(x.Note) > longestNote {
			return nil, s.Wrong(x.At, "note", "it is longer than %d bytes", longestNote)
		}
		if old, ok := had[key]; ok && old.what == x.Answer && old.note == x.Note {
			continue
		}
		*to = append(*to, key)
		if x.Note != "" {
			now.Notes[fmt.Sprintf("%016x", key)] = x.Note
		}
	}
	n := len(now.Keep) + len(now.Take) + len(now.Ask)
	p := d.NewPlan("review %s: %s of %s answered (%d keep, %d take away, %d ask)", r.Name, format.Count(int64(n), "row"), part.Called(), len(now.Keep), len(now.Take), len(now.Ask))
	p.Asks = false
	p.Nothing = "no row says anything that wasn't said before"
	if n == 0 {
		return d.Evaluate(p)
	}
	for _, k := range []*Keys{&now.Keep, &now.Take, &now.Ask} {
		*k = k.sorted()
	}
	part.Said = append(part.Said, now)
	if err := p.SetRecord(estate.PartRecord, partName(r.Name, s.Part), before, part, edit.Description{Kind: "review", Where: "review " + r.Name,
		Lines: []edit.Line{{Sign: edit.Changes, What: "review", Text: fmt.Sprintf("part of %s: %d of %s answered", part.Called(), len(part.answers()), format.Count(int64(len(part.Rows)), "row"))}}}); err != nil {
		return nil, err
	}
	if p, err = d.Evaluate(p); err != nil {
		return nil, err
	}
	k, err := keeper.Of(d)
	if err != nil {
		return nil, err
	}
	if s.Part != "" && !k.Is(actor.ID, []keeper.Keeper{keeper.Written(d.T, s.Part)}) {
		p.Warnings = append(p.Warnings, plan.Warning{Guard: "kept", Users: []string{part.Called()}, Where: "their part of review " + r.Name})
	}
	return p, nil
}

// longestNote is how many bytes a note has.
const longestNote = 1000
