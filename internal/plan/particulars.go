package plan

import (
	"fmt"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// Particulars is what is written down of an account.
type Particulars = estate.Particulars

const longestAbout = 400

// describeAccount writes particulars down with a plan; nil leaves what is there.
func (d *Desk) describeAccount(p *Plan, a account, about *string, shut *bool) error {
	before := d.t.Paper(estate.ParticularsPaper, a.ID.String())
	was := d.t.ParticularsOf(a.ID)
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
	return p.particulars(a.ID, before, was, is, e)
}

// particulars writes down what is so of an account from now on; nothing, where
// nothing is.
func (p *Plan) particulars(id ID, before string, was, is Particulars, e Edit) error {
	if is == was {
		return nil
	}
	var after any
	if is != (Particulars{}) {
		after = is
	}
	return p.paper(estate.ParticularsPaper, id.String(), before, after, e)
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
