package estate

import (
	"encoding/json"
	"fmt"
	"reflect"

	"tarnwold/internal/store"
)

// Admission is what a server's own configuration says of a share beside its
// rules: who may connect, who reads only, who passes, as whom files are opened.
// Names are as the configuration has them; a group's begins with @.
type Admission struct {
	File           string   `json:"file"` // where it was read
	Limited        bool     `json:"limited,omitempty"`
	Only           []string `json:"only,omitempty"`
	Never          []string `json:"never,omitempty"`
	Reading        []string `json:"readers,omitempty"`
	Writing        []string `json:"writers,omitempty"`
	Administrators []string `json:"administrators,omitempty"`
	Passes         bool     `json:"lists-administrators,omitempty"` // Administrators stands in the place of the server's list
	As             string   `json:"opened-as,omitempty"`
	Group          string   `json:"opened-with-group,omitempty"`
	GroupOfMembers bool     `json:"of-members-only,omitempty"` // Group counts for its members alone
	Hides          bool     `json:"hides-what-cant-be-read,omitempty"`
	NoMachine      bool     `json:"from-no-machine,omitempty"` // nobody connects from anywhere
	Runs           bool     `json:"runs-whatever,omitempty"`   // running a file isn't asked for execute
	// Home is the user whose own share it is, as the configuration makes one for each.
	Home string `json:"home-of,omitempty"`
	// Uncounted are parameters that change an answer and aren't counted, as written.
	Uncounted []string `json:"not-counted,omitempty"`
	// Exported: it is an export (exports(5)). Squash is whose files are opened as
	// nobody: root, all or none; Anon are that one's uid and gid; Hosts who may
	// mount it, which no answer counts.
	Exported bool      `json:"exported,omitempty"`
	Squash   string    `json:"squash,omitempty"`
	Anon     [2]uint32 `json:"anonymous,omitzero"`
	Hosts    []string  `json:"hosts,omitempty"`
}

// Says tells whether the admission says anything that changes an answer.
func (a *Admission) Says() bool {
	if a == nil {
		return false
	}
	plain := Admission{File: a.File}
	return !reflect.DeepEqual(*a, plain)
}

// Same tells whether two admissions say the same.
func (a *Admission) Same(o *Admission) bool {
	if !a.Says() || !o.Says() {
		return a.Says() == o.Says()
	}
	x, y := *a, *o
	x.File, y.File = "", ""
	return reflect.DeepEqual(x, y)
}

func (t *Tx) admission(share int64) *Admission {
	var body string
	if !t.One("SELECT body FROM admissions WHERE share=?", []any{share}, &body) {
		return nil
	}
	a, err := ParseAdmission(body)
	t.Fail(err)
	return a
}

// ParseAdmission reads a stored admission.
func ParseAdmission(body string) (*Admission, error) {
	a := &Admission{}
	if err := json.Unmarshal([]byte(body), a); err != nil {
		return nil, fmt.Errorf("%w: what a configuration says of a share", store.ErrDamaged)
	}
	return a, nil
}

// SetAdmission keeps what a configuration says of a share; nil: nothing.
func (t *Tx) SetAdmission(share int64, a *Admission) {
	if !t.Knows("admissions") {
		return
	}
	js, err := json.Marshal(a)
	t.Fail(err)
	row := t.Int("SELECT id FROM admissions WHERE share=?", share)
	switch {
	case !a.Says() && row != 0:
		t.Delete("admissions", row)
	case !a.Says():
	case row != 0:
		t.Set("admissions", row, "body", string(js))
	default:
		row = t.Exec("INSERT INTO admissions(share, body) VALUES(?,?)", share, string(js))
		t.Made("admissions", row, row)
	}
}
