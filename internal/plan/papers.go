package plan

import (
	"encoding/json"
	"fmt"
	"slices"

	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

// paperEdit is something written down, altered or taken away.
type paperEdit struct {
	kind          estate.PaperKind
	name          string
	before, after string // ""; not there
	number        int64  // of a new one that has a number
	row           int64  // of one that is put back under its old row
	edit          Edit   // how it is told of
}

func (e *paperEdit) keep(t *estate.Tx) {
	if e.row != 0 && e.after != "" {
		t.Put("papers", e.row, []any{string(e.kind), store.Key(e.name), e.after})
	} else {
		t.SetPaper(e.kind, e.name, e.after)
	}
	if e.number != 0 {
		t.Took(e.kind, e.number)
	}
}

// papersAs reads all papers of a kind, oldest first.
func papersAs[T any](t *estate.Tx, kind estate.PaperKind) (out []T, err error) {
	for _, x := range t.Papers(kind) {
		var one T
		if err := json.Unmarshal([]byte(x.Body), &one); err != nil {
			return nil, fmt.Errorf("%s can't be read: %w", paperName(kind, x.Name), err)
		}
		out = append(out, one)
	}
	return out, t.Err()
}

// paperAs reads one paper; nil where there is none.
func paperAs[T any](t *estate.Tx, kind estate.PaperKind, name string) (*T, error) {
	body := t.Paper(kind, name)
	if body == "" {
		return nil, t.Err()
	}
	one := new(T)
	if err := json.Unmarshal([]byte(body), one); err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", paperName(kind, name), err)
	}
	return one, nil
}

// paper writes something down with a plan.
func (p *Plan) paper(kind estate.PaperKind, name, before string, after any, e Edit) error {
	x := paperEdit{kind: kind, name: name, before: before, edit: e}
	if after != nil {
		js, err := json.Marshal(after)
		if err != nil {
			return err
		}
		x.after = string(js)
	}
	if x.before != x.after {
		p.work.papers = append(p.work.papers, x)
	}
	return nil
}

// SavedPaper is something written down in a saved change set.
type SavedPaper struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Was    string `json:"before,omitempty"`
	Is     string `json:"after,omitempty"`
	Number int64  `json:"number,omitempty"`
	Edit   Edit   `json:"told-as"`
}

func (p *Plan) savedPapers() (out []SavedPaper) {
	for _, e := range p.work.papers {
		out = append(out, SavedPaper{string(e.kind), e.name, e.before, e.after, e.number, e.edit})
	}
	return out
}

// rebuildPapers takes the papers of a saved change set into a plan.
func (d *Desk) rebuildPapers(p *Plan, s *Saved) error {
	for _, x := range s.Papers {
		kind := estate.PaperKind(x.Kind)
		if !slices.Contains([]estate.PaperKind{estate.PolicyPaper, estate.RequestPaper, estate.KeeperPaper, estate.DirectoryPaper, estate.ParticularsPaper}, kind) {
			return &estate.Refused{Why: "the change set writes down something of a kind this program doesn't know: " + x.Kind}
		}
		if d.t.Paper(kind, x.Name) != x.Was || x.Number != 0 && d.t.NextNumber(kind) != x.Number {
			return moved(x.Edit.Where)
		}
		p.work.papers = append(p.work.papers, paperEdit{kind: kind, name: x.Name, before: x.Was, after: x.Is, number: x.Number, edit: x.Edit})
	}
	return nil
}

// paperName says which paper is meant.
func paperName(kind estate.PaperKind, name string) string {
	if kind == estate.ParticularsPaper {
		return "particulars of " + name
	}
	return string(kind) + " " + name
}

// papers takes back what a change wrote down.
func (u *undoing) papers() error {
	for _, n := range u.of("papers") {
		v := either(n)
		kind, name := estate.PaperKind(store.Text(v, 0)), store.Text(v, 1)
		e := paperEdit{kind: kind, name: name, edit: Edit{Kind: string(kind), Where: paperName(kind, name)}}
		now, there := u.d.t.PaperNow(n.id)
		sign := "changes"
		if n.after != nil {
			if !there || now.Body != store.Text(n.after, 2) {
				if err := u.later("papers", n.id, "it was altered since"); err != nil {
					return err
				}
				if !there {
					continue
				}
			}
			e.before = now.Body
			if sign = "goes"; n.before != nil {
				sign, e.after = "changes", store.Text(n.before, 2)
			}
		} else {
			if u.d.t.Paper(kind, name) != "" {
				return u.never("there is a %s again", e.edit.Where)
			}
			sign, e.after, e.row = "comes", store.Text(n.before, 2), n.id
		}
		if kind == estate.ParticularsPaper {
			e.edit.Where = u.d.particularsOf(name)
		}
		e.edit.Lines = []Line{{Sign: sign, What: string(kind)}}
		if e.before != e.after {
			u.p.work.papers = append(u.p.work.papers, e)
			if _, differs := e.former(); differs {
				u.p.work.everywhere = true
			}
		}
	}
	return nil
}
