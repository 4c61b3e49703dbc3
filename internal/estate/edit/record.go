package edit

import (
	"encoding/json"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

// Record is something written down, altered or taken away.
type Record struct {
	Kind          estate.RecordKind
	Name          string
	Before, After string // ""; not there
	Number        int64  // of a new one that has a number
	Row           int64  // of one that is put back under its old row
	Edit          Description
}

// Describe implements Edit: who writes it down knows how it is told of.
func (e *Record) Describe(Words) Description { return e.Edit }

// Touches implements Edit: whose identifiers from elsewhere or claims it alters.
func (e *Record) Touches() (t Touch) {
	if f, ok := e.Former(); ok {
		t.Accounts = []acc.ID{f.ID}
	}
	return t
}

// Former is how an edit alters the identifiers that an account had elsewhere, and its claims.
type Former struct {
	ID                  acc.ID
	Was, Is             acc.Former
	WasClaims, IsClaims acc.Claims
}

// Former tells what the record says otherwise of identifiers an account had and of claims.
func (e *Record) Former() (f Former, differs bool) {
	says := func(body string) bool {
		return strings.Contains(body, `"former":`) || strings.Contains(body, `"claims":`)
	}
	if e.Kind != estate.MetadataRecord || !says(e.Before) && !says(e.After) {
		return f, false
	}
	read := func(body string) (p estate.Metadata) {
		_ = json.Unmarshal([]byte(body), &p)
		return p
	}
	id, err := acc.ParseID(e.Name)
	was, is := read(e.Before), read(e.After)
	f = Former{id, was.Former, is.Former, was.Claims, is.Claims}
	return f, err == nil && (f.Was != f.Is || f.WasClaims != f.IsClaims)
}

// Formers lists those that a set alters.
func (s *Set) Formers() (out []Former) {
	for i := range s.Records {
		if f, ok := s.Records[i].Former(); ok {
			out = append(out, f)
		}
	}
	return out
}

// fresh tells whether the record is a new one, like any other.
func (e *Record) fresh() bool {
	return e.Before == "" && e.Row == 0 && e.Number == 0 && e.After != ""
}

func (e *Record) apply(t *estate.Tx) {
	if e.Row != 0 && e.After != "" {
		t.Put("papers", e.Row, []any{string(e.Kind), store.Key(e.Name), e.After})
	} else {
		t.SetRecord(e.Kind, e.Name, e.After)
	}
	if e.Number != 0 {
		t.Took(e.Kind, e.Number)
	}
}

func applyRecords(t *estate.Tx, list []Record) {
	var fresh []estate.Record
	for i := range list {
		if e := &list[i]; e.fresh() {
			fresh = append(fresh, estate.Record{Kind: e.Kind, Name: e.Name, Body: e.After})
		}
	}
	bulk := len(fresh) >= Enough
	for i := range list {
		if e := &list[i]; !bulk || !e.fresh() {
			e.apply(t)
		}
	}
	if bulk {
		t.AddRecords(fresh)
	}
}
