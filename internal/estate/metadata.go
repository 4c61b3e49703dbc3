package estate

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"strings"

	"tarnwold/core/account"
	"tarnwold/internal/format"
)

// Details are what is known of a user beside their name.
type Details = format.Details

// Metadata is what is written down of an account: what it is for, whether it is
// shut, where it is kept, and which identifiers it had elsewhere. Only those may
// decide anything: where a server's traits say that they count.
type Metadata struct {
	About string `json:"about,omitempty"`
	Shut  bool   `json:"shut,omitempty"` // nobody can sign on as it any more
	Why   string `json:"why,omitempty"`  // why a directory says so: disabled, expired; empty: it was said by hand
	// Limits is how a directory says that signing on is limited beside: at certain hours.
	Limits string `json:"limits,omitempty"`
	Details
	// Directory it is kept in, and its name there.
	Directory string `json:"directory,omitempty"`
	Entry     string `json:"entry,omitempty"`
	// Called is the name a directory has, of one that is called otherwise here
	// since another has it.
	Called string `json:"called,omitempty"`
	// Former is the identifiers it had elsewhere, as a directory tells them.
	Former account.Former `json:"former,omitempty"`
	// Claims is what else is known of a user, that conditions of entries ask for.
	Claims account.Claims `json:"claims,omitempty"`
}

// deciding is what is written down of an account that may decide something.
type deciding struct {
	former account.Former
	claims account.Claims
}

// formerMark is remembered once any account had identifiers elsewhere, or claims, so that
// nobody looks for them who has none.
const formerMark = "formers"

// tellsFormer remembers that a record tells of identifiers an account had, or of claims.
func (t *Tx) tellsFormer(kind RecordKind, body string) {
	if kind == MetadataRecord && (strings.Contains(body, `"former":`) || strings.Contains(body, `"claims":`)) {
		t.Mark(formerMark, 1)
		t.forget()
	}
}

// formers gives the identifiers that accounts had elsewhere, and claims; nil: nobody has any.
func (t *Tx) formers() map[account.ID]deciding {
	if t.formerRead {
		return t.former
	}
	t.formerRead = true
	if t.Marked(formerMark) == 0 || !t.Knows("papers") {
		return nil
	}
	t.former = map[account.ID]deciding{}
	t.Each(`SELECT key, body FROM papers WHERE kind=? AND (body LIKE '%"former":%' OR body LIKE '%"claims":%')`, []any{MetadataRecord}, func(r *sql.Rows) error {
		var key string
		var body []byte
		if err := r.Scan(&key, &body); err != nil {
			return err
		}
		var p Metadata
		if id, err := account.ParseID(key); err == nil && json.Unmarshal(body, &p) == nil {
			t.former[id] = deciding{p.Former, p.Claims}
		}
		return nil
	})
	return t.former
}

// Particular is the particulars of one account, and how they are written down.
type Particular struct {
	ID   account.ID
	Body string
	Metadata
	Err error // why they can't be read
}

// MetadataOf gives what is written down of an account.
func (t *Tx) MetadataOf(id account.ID) (p Metadata) {
	if body := t.Record(MetadataRecord, id.String()); body != "" {
		_ = json.Unmarshal([]byte(body), &p)
	}
	return p
}

// EachParticular calls fn with what is written down of every account, oldest first.
func (t *Tx) EachParticular(fn func(p *Particular)) {
	for _, x := range t.Records(MetadataRecord) {
		if id, err := account.ParseID(x.Name); err == nil {
			p := Particular{ID: id, Body: x.Body}
			p.Err = json.Unmarshal([]byte(x.Body), &p.Metadata)
			fn(&p)
		}
	}
}

// SignOn is what is known of a user's signing on; empty: nothing stands against it.
type SignOn struct{ Shut, Limits string }

// SignOns lists the users nobody can sign on as, and why, where a directory said so, and
// those of whom it is limited.
func (t *Tx) SignOns() map[account.ID]SignOn {
	out := map[account.ID]SignOn{}
	t.EachParticular(func(p *Particular) {
		s := SignOn{Limits: p.Limits}
		if p.Shut {
			s.Shut = cmp.Or(p.Why, "shut")
		}
		if s != (SignOn{}) {
			out[p.ID] = s
		}
	})
	return out
}
