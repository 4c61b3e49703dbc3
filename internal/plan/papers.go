package plan

import (
	"encoding/json"
	"fmt"

	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

// PaperEdit is something written down, altered or taken away.
type PaperEdit struct {
	Kind          estate.PaperKind
	Name          string
	Before, After string // ""; not there
	Number        int64  // of a new one that has a number
	Row           int64  // of one that is put back under its old row
	Edit          Edit   // how it is told of
}

func (e *PaperEdit) keep(t *estate.Tx) {
	if e.Row != 0 && e.After != "" {
		t.Put("papers", e.Row, []any{string(e.Kind), store.Key(e.Name), e.After})
	} else {
		t.SetPaper(e.Kind, e.Name, e.After)
	}
	if e.Number != 0 {
		t.Took(e.Kind, e.Number)
	}
}

// PapersAs reads all papers of a kind, oldest first.
func PapersAs[T any](t *estate.Tx, kind estate.PaperKind) (out []T, err error) {
	for _, x := range t.Papers(kind) {
		var one T
		if err := json.Unmarshal([]byte(x.Body), &one); err != nil {
			return nil, fmt.Errorf("%s can't be read: %w", PaperName(kind, x.Name), err)
		}
		out = append(out, one)
	}
	return out, t.Err()
}

// PaperAs reads one paper; nil where there is none.
func PaperAs[T any](t *estate.Tx, kind estate.PaperKind, name string) (*T, error) {
	body := t.Paper(kind, name)
	if body == "" {
		return nil, t.Err()
	}
	one := new(T)
	if err := json.Unmarshal([]byte(body), one); err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", PaperName(kind, name), err)
	}
	return one, nil
}

// Paper writes something down with a plan.
func (p *Plan) Paper(kind estate.PaperKind, name, before string, after any, e Edit) error {
	x := PaperEdit{Kind: kind, Name: name, Before: before, Edit: e}
	if after != nil {
		js, err := json.Marshal(after)
		if err != nil {
			return err
		}
		x.After = string(js)
	}
	if x.Before != x.After {
		p.Work.Papers = append(p.Work.Papers, x)
	}
	return nil
}

// PaperName says which paper is meant.
func PaperName(kind estate.PaperKind, name string) string {
	if kind == estate.ParticularsPaper {
		return "particulars of " + name
	}
	return string(kind) + " " + name
}
