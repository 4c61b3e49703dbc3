package estate

import (
	"database/sql"

	"tarnwold/internal/store"
)

// RecordKind says what a record is.
type RecordKind string

const (
	PolicyRecord    RecordKind = "policy"
	RequestRecord   RecordKind = "request"
	KeeperRecord    RecordKind = "keeper"
	DirectoryRecord RecordKind = "directory"
	MetadataRecord  RecordKind = "particulars" // of an account: what it is for, whether it is shut
	RealmRecord     RecordKind = "realm"       // where a machine takes its accounts from
	ReviewRecord    RecordKind = "review"      // that keepers confirm what is set
	PartRecord      RecordKind = "review-part" // what one of them has to, and said
)

// RecordKinds lists all there are: what is saved, checked and described knows them
// from here.
var RecordKinds = [...]RecordKind{PolicyRecord, RequestRecord, KeeperRecord, DirectoryRecord, MetadataRecord, RealmRecord, ReviewRecord, PartRecord}

// Record is something kept in writing beside the rules. It decides nothing by
// itself; whoever wrote it reads Body.
type Record struct {
	Kind RecordKind
	Name string // how it is found, in whatever case
	Body string // JSON
}

// Records lists the records of a kind, oldest first. Name is the key they are
// found by.
func (t *Tx) Records(kind RecordKind) (out []Record) {
	if !t.Knows("papers") {
		return nil
	}
	t.Each("SELECT key, body FROM papers WHERE kind=? ORDER BY id", []any{kind}, func(r *sql.Rows) error {
		p := Record{Kind: kind}
		err := r.Scan(&p.Name, &p.Body)
		out = append(out, p)
		return err
	})
	return out
}

// Record gives what a record says; "": there is none.
func (t *Tx) Record(kind RecordKind, name string) (body string) {
	if t.Knows("papers") {
		t.One("SELECT body FROM papers WHERE kind=? AND key=?", []any{kind, store.Key(name)}, &body)
	}
	return body
}

// AddRecords writes down what isn't there, many at a time.
func (t *Tx) AddRecords(list []Record) {
	for i := range list {
		t.tellsFormer(list[i].Kind, list[i].Body)
	}
	defer t.forget()
	t.InsertMany("papers", len(list), func(i int) []any {
		return []any{string(list[i].Kind), store.Key(list[i].Name), list[i].Body}
	})
}

// SetRecord makes a record say something; "" takes it away.
func (t *Tx) SetRecord(kind RecordKind, name, body string) {
	key := store.Key(name)
	t.tellsFormer(kind, body)
	if t.former != nil {
		t.forget()
	}
	switch {
	case body == "":
		t.Exec("DELETE FROM papers WHERE kind=? AND key=?", kind, key)
	case t.Int("SELECT count(*) FROM papers WHERE kind=? AND key=?", kind, key) == 0:
		t.Exec("INSERT INTO papers(kind, key, body) VALUES(?,?,?)", kind, key, body)
	default:
		t.Exec("UPDATE papers SET body=? WHERE kind=? AND key=?", body, kind, key)
	}
}

// RecordNow tells what a row of records says; ok is false where it is gone.
func (t *Tx) RecordNow(id int64) (p Record, ok bool) {
	ok = t.Knows("papers") && t.One("SELECT kind, key, body FROM papers WHERE id=?", []any{id}, &p.Kind, &p.Name, &p.Body)
	return p, ok
}

// RecordChanges lists the changes that altered a record, oldest first.
func (t *Tx) RecordChanges(kind RecordKind, name string) []int64 {
	if !t.Knows("papers") {
		return nil
	}
	id := t.Int("SELECT coalesce(max(id),0) FROM papers WHERE kind=? AND key=?", kind, store.Key(name))
	return t.ChangesOf("papers", id)
}

// NextNumber gives a number that no record of a kind ever had. It is taken for
// good with Took, within a change.
func (t *Tx) NextNumber(kind RecordKind) int64 {
	return 1 + t.Int("SELECT coalesce(max(last),0) FROM numbers WHERE domain=?", "paper "+string(kind))
}

// Took takes a number for good.
func (t *Tx) Took(kind RecordKind, n int64) {
	t.Exec("INSERT INTO numbers(domain, last) VALUES(?,?) ON CONFLICT(domain) DO UPDATE SET last=max(last, excluded.last)", "paper "+string(kind), n)
}
