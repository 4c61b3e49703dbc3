package estate

import (
	"encoding/json"

	"tarnwold/core/account"
)

// Particulars is what is written down of an account: what it is for, whether it is
// shut, and where it is kept. None of it decides anything.
type Particulars struct {
	About string `json:"about,omitempty"`
	Shut  bool   `json:"shut,omitempty"` // nobody can sign on as it any more
	Why   string `json:"why,omitempty"`  // why a directory says so: disabled, expired; empty: it was said by hand
	// Directory it is kept in, and its name there.
	Directory string `json:"directory,omitempty"`
	Entry     string `json:"entry,omitempty"`
	// Called is the name a directory has, of one that is called otherwise here
	// since another has it.
	Called string `json:"called,omitempty"`
}

// Particular is the particulars of one account, and how they are written down.
type Particular struct {
	ID   account.ID
	Body string
	Particulars
	Err error // why they can't be read
}

// ParticularsOf gives what is written down of an account.
func (t *Tx) ParticularsOf(id account.ID) (p Particulars) {
	if body := t.Paper(ParticularsPaper, id.String()); body != "" {
		_ = json.Unmarshal([]byte(body), &p)
	}
	return p
}

// EachParticular calls fn with what is written down of every account, oldest first.
func (t *Tx) EachParticular(fn func(p *Particular)) {
	for _, x := range t.Papers(ParticularsPaper) {
		if id, err := account.ParseID(x.Name); err == nil {
			p := Particular{ID: id, Body: x.Body}
			p.Err = json.Unmarshal([]byte(x.Body), &p.Particulars)
			fn(&p)
		}
	}
}

// Shut lists the users nobody can sign on as, and why, where a directory said so.
func (t *Tx) Shut() map[account.ID]string {
	out := map[account.ID]string{}
	t.EachParticular(func(p *Particular) {
		if !p.Shut {
			return
		}
		if out[p.ID] = p.Why; p.Why == "" {
			out[p.ID] = "shut"
		}
	})
	return out
}
