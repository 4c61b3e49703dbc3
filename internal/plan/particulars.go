package plan

import (
	"encoding/json"
	"fmt"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// Particulars is what is written down of an account: what it is for, and
// whether it is shut. Neither decides anything.
type Particulars struct {
	About string `json:"about,omitempty"`
	Shut  bool   `json:"shut,omitempty"` // nobody can sign on as it any more
	Why   string `json:"why,omitempty"`  // why a directory says so: disabled, expired; empty: it was said by hand
	// Directory it is kept in, and its name there.
	Directory string `json:"directory,omitempty"`
	Entry     string `json:"entry,omitempty"`
}

// ParticularsOf gives what is written down of an account.
func ParticularsOf(t *estate.Tx, id ID) (p Particulars) {
	if body := t.Paper(estate.ParticularsPaper, id.String()); body != "" {
		_ = json.Unmarshal([]byte(body), &p)
	}
	return p
}

// shut lists the users nobody can sign on as any more.
func shut(t *estate.Tx) map[ID]bool {
	out := map[ID]bool{}
	for _, x := range t.Papers(estate.ParticularsPaper) {
		var p Particulars
		if id, err := acc.ParseID(x.Name); err == nil && json.Unmarshal([]byte(x.Body), &p) == nil && p.Shut {
			out[id] = true
		}
	}
	return out
}

const longestAbout = 400

// describeAccount writes particulars down with a plan; nil leaves what is there.
func (d *Desk) describeAccount(p *Plan, a account, about *string, shut *bool) error {
	before := d.t.Paper(estate.ParticularsPaper, a.ID.String())
	was := ParticularsOf(d.t, a.ID)
	is := was
	e := Edit{Kind: "account", Where: fmt.Sprintf("%s %s", a.Kind, a.Name)}
	if about != nil && *about != was.About {
		if len(*about) > longestAbout {
			return &estate.Refused{Why: fmt.Sprintf("what is said of %s is longer than %d bytes", a.Name, longestAbout)}
		}
		is.About = *about
		e.Lines = append(e.Lines, Line{Sign: "changes", What: "about", Text: quotedOr(is.About, "nothing") + ", was " + quotedOr(was.About, "nothing")})
	}
	if shut != nil && *shut != was.Shut {
		if a.Kind != acc.User && *shut {
			return &estate.Refused{Why: fmt.Sprintf("%s is a group; only users are shut", a.Name)}
		}
		is.Shut, is.Why = *shut, ""
		words := map[bool]string{true: "shut", false: "open"}
		e.Lines = append(e.Lines, Line{Sign: "changes", What: "sign-on", Text: words[is.Shut] + ", was " + words[was.Shut]})
	}
	if is == was {
		return nil
	}
	var after any
	if is != (Particulars{}) {
		after = is
	}
	return p.paper(estate.ParticularsPaper, a.ID.String(), before, after, e)
}

func quotedOr(s, other string) string {
	if s == "" {
		return other
	}
	return fmt.Sprintf("%q", format.Clip(s))
}

func (d *Desk) particularsOf(key string) string {
	if id, err := acc.ParseID(key); err == nil {
		return "particulars of " + d.t.Name(id)
	}
	return "particulars"
}
