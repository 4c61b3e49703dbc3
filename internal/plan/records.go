package plan

import (
	"encoding/json"
	"fmt"

	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
)

// RecordsAs reads all records of a kind, oldest first.
func RecordsAs[T any](t *estate.Tx, kind estate.RecordKind) (out []T, err error) {
	for _, x := range t.Records(kind) {
		var one T
		if err := json.Unmarshal([]byte(x.Body), &one); err != nil {
			return nil, fmt.Errorf("%s can't be read: %w", RecordName(kind, x.Name), err)
		}
		out = append(out, one)
	}
	return out, t.Err()
}

// RecordAs reads one record; nil where there is none.
func RecordAs[T any](t *estate.Tx, kind estate.RecordKind, name string) (*T, error) {
	body := t.Record(kind, name)
	if body == "" {
		return nil, t.Err()
	}
	one := new(T)
	if err := json.Unmarshal([]byte(body), one); err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", RecordName(kind, name), err)
	}
	return one, nil
}

// SetRecord writes something down with a plan.
func (p *Plan) SetRecord(kind estate.RecordKind, name, before string, after any, e edit.Description) error {
	x := edit.Record{Kind: kind, Name: name, Before: before, Edit: e}
	if after != nil {
		js, err := json.Marshal(after)
		if err != nil {
			return err
		}
		x.After = string(js)
	}
	if x.Before != x.After {
		p.Work.Records = append(p.Work.Records, x)
	}
	return nil
}

// RecordName says which record is meant.
func RecordName(kind estate.RecordKind, name string) string {
	if kind == estate.MetadataRecord {
		return "particulars of " + name
	}
	return string(kind) + " " + name
}

// recordWords tell what comes or goes with a record of a kind that has words of its
// own.
var recordWords = map[estate.RecordKind]func(e *edit.Description, body string, sign edit.Sign){}

// AddRecordWords ties in how records of a kind are told of, from the init of the
// package that writes them.
func AddRecordWords(kind estate.RecordKind, words func(e *edit.Description, body string, sign edit.Sign)) {
	recordWords[kind] = words
}

// DescribeRecord tells of a record that comes, goes or changes; body is what it says
// then, or said.
func (d *Planner) DescribeRecord(kind estate.RecordKind, name, body string, sign edit.Sign) edit.Description {
	e := edit.Description{Kind: string(kind), Where: RecordName(kind, name), Lines: []edit.Line{{Sign: sign, What: string(kind)}}}
	if kind == estate.MetadataRecord {
		e.Where = d.MetadataOf(name)
	}
	if words := recordWords[kind]; words != nil {
		words(&e, body, sign)
	}
	return e
}
