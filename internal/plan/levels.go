package plan

import (
	"errors"
	"fmt"

	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// Level reads levels and rights joined by commas.
func (d *Planner) Level(what string) (right.What, error) { return Level(d.T, what) }

// Level reads levels and rights joined by commas.
func Level(t *estate.Tx, what string) (right.What, error) {
	levels := t.Levels()
	w, err := levels.Parse(what)
	var unknown *right.NameError
	if errors.As(err, &unknown) {
		return w, estate.NoLevel(unknown.Name, levels)
	}
	if err != nil {
		return w, &estate.Refused{Why: err.Error()}
	}
	return w, nil
}

// Future refuses a day that is past.
func (d *Planner) Future(u estate.Day) error {
	if u != "" && u < d.Today {
		return &estate.Refused{Why: fmt.Sprintf("%s is past: today is %s", u, d.Today), Do: "say a day that is still to come"}
	}
	return nil
}

func EntryRefused(err error) error {
	if errors.Is(err, rule.ErrAbsent) {
		return &estate.Refused{Why: err.Error(), Do: "seal it with entries of its own first"}
	}
	return &estate.Refused{Why: err.Error()}
}
