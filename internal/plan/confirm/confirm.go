// Package confirm has keepers confirm what is set on what they keep, or take it away: a
// review is begun, answered part by part, and closed by one plan of what is to go.
package confirm

import (
	"cmp"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/keeper"
)

// Review is what keepers are asked to confirm.
type Review struct {
	Name      string   `json:"review"`
	State     string   `json:"state"`         // open or closed
	Of        []string `json:"of"`            // places and group:PATTERN; none: all that is kept
	By        string   `json:"by,omitempty"`  // one account that all of it goes to; else to keepers
	Due       string   `json:"due,omitempty"` // a day
	Since     string   `json:"only-new-since,omitempty"`
	StartedBy string   `json:"started-by"`
	StartedAt string   `json:"started-at"` // RFC 3339, UTC
	Parts     []string `json:"parts"`      // who has one: an account, "" whoever keeps nothing, manager-of:…
	ClosedBy  string   `json:"closed-by,omitempty"`
	ClosedAt  string   `json:"closed-at,omitempty"`
	// Kept is what was confirmed when it was closed, so that the next one needn't ask again.
	Kept Keys `json:"kept,omitempty"`
	// Covers is what it asked of those who keep it, as keepers are written down.
	Covers []string `json:"covers"`
}

// States of a review.
const (
	Open   = "open"
	Closed = "closed"
)

// Part is what one keeper is asked.
type Part struct {
	Review string   `json:"review"`
	Who    string   `json:"who"`
	Name   string   `json:"name"` // as it was when it was begun; "" where nobody keeps it
	Rows   Keys     `json:"rows"`
	Said   []Answer `json:"said,omitempty"` // in order; what is said later counts
}

// Answer is what somebody said of some rows at once.
type Answer struct {
	By    string            `json:"by"`
	ID    string            `json:"identifier,omitempty"`
	At    string            `json:"at"` // RFC 3339, UTC
	Keep  Keys              `json:"keep,omitempty"`
	Take  Keys              `json:"take-away,omitempty"`
	Ask   Keys              `json:"ask,omitempty"`
	Notes map[string]string `json:"notes,omitempty"`
}

// What is said of a row.
const (
	Keep = "keep"
	Take = "take away"
	Ask  = "ask"
)

// Keys are rows, in order; as JSON eight bytes each in base64.
type Keys []uint64

func (k Keys) MarshalJSON() ([]byte, error) {
	b := make([]byte, 0, 8*len(k))
	for _, x := range k {
		b = binary.BigEndian.AppendUint64(b, x)
	}
	return json.Marshal(base64.StdEncoding.EncodeToString(b))
}

func (k *Keys) UnmarshalJSON(text []byte) error {
	var s string
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	b, err := base64.StdEncoding.DecodeString(s)
	if err != nil || len(b)%8 != 0 {
		return fmt.Errorf("rows of a review are eight bytes each, in base64")
	}
	*k = make(Keys, 0, len(b)/8)
	for ; len(b) > 0; b = b[8:] {
		*k = append(*k, binary.BigEndian.Uint64(b))
	}
	slices.Sort(*k) // they are looked for by halves
	return nil
}

// Has tells whether a row is one of them.
func (k Keys) Has(x uint64) bool { _, ok := slices.BinarySearch(k, x); return ok }

func (k Keys) sorted() Keys { slices.Sort(k); return slices.Compact(k) }

func parseKey(s string) (uint64, error) { return strconv.ParseUint(s, 16, 64) }

func init() {
	plan.AddRecordWords(estate.ReviewRecord, func(e *edit.Description, body string, _ edit.Sign) {
		var r Review
		if json.Unmarshal([]byte(body), &r) == nil {
			e.Where, e.Lines[0].What, e.Lines[0].Text = "review "+r.Name, "review", r.State+": "+r.Says()
		}
	})
	plan.AddRecordWords(estate.PartRecord, func(e *edit.Description, body string, _ edit.Sign) {
		var p Part
		if json.Unmarshal([]byte(body), &p) == nil {
			e.Where, e.Lines[0].What = "review "+p.Review, "review"
			e.Lines[0].Text = fmt.Sprintf("part of %s: %s, %d answered", p.Called(), format.Count(int64(len(p.Rows)), "row"), len(p.answers()))
		}
	})
}

// Says says what a review is of.
func (r *Review) Says() string {
	s := "all that is kept"
	if len(r.Of) > 0 {
		s = strings.Join(r.Of, ", ")
	}
	if r.Due != "" {
		s += ", due " + r.Due
	}
	return s
}

// Overdue tells whether its day is past.
func (r *Review) Overdue(today estate.Day) bool {
	return r.State == Open && r.Due != "" && r.Due < string(today)
}

// Called is whose part it is.
func (p *Part) Called() string {
	return cmp.Or(p.Name, "nobody")
}

// said is the last that was said of a row.
type said struct {
	what, by, id, note string
}

func (p *Part) answers() map[uint64]said {
	out := map[uint64]said{}
	for i := range p.Said {
		a := &p.Said[i]
		for what, keys := range map[string]Keys{Keep: a.Keep, Take: a.Take, Ask: a.Ask} {
			for _, k := range keys {
				out[k] = said{what, a.By, a.ID, a.Notes[fmt.Sprintf("%016x", k)]}
			}
		}
	}
	return out
}

func partName(review, who string) string { return review + "/" + cmp.Or(who, "-") }

// Reviews lists all reviews, oldest first.
func Reviews(t *estate.Tx) ([]Review, error) {
	return plan.RecordsAs[Review](t, estate.ReviewRecord)
}

// Find finds a review.
func Find(t *estate.Tx, name string) (*Review, error) {
	r, err := plan.RecordAs[Review](t, estate.ReviewRecord, name)
	if r != nil || err != nil {
		return r, err
	}
	all, err := Reviews(t)
	var names []string
	for i := range all {
		names = append(names, all[i].Name)
	}
	if err == nil {
		err = &estate.NotFound{What: "review", Name: name, Near: estate.Nearest(name, names), In: "the estate; see: tarnwold review list"}
	}
	return nil, err
}

// parts reads the parts of a review.
func parts(t *estate.Tx, r *Review) (out []Part, err error) {
	for _, who := range r.Parts {
		p, err := plan.RecordAs[Part](t, estate.PartRecord, partName(r.Name, who))
		if err != nil {
			return nil, err
		}
		if p == nil {
			return nil, fmt.Errorf("a part of review %s is missing", r.Name)
		}
		if p.Who != "" { // as they are called now
			if k := keeper.Written(t, p.Who); k.Name != "" {
				p.Name = k.Name
			}
		}
		out = append(out, *p)
	}
	return out, nil
}
