package plan

import (
	"encoding/json"
	"fmt"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// Metadata is what is written down of an account.
type Metadata = estate.Metadata

const longestAbout = 400

// DescribeAccount writes particulars down with a plan; nil leaves what is there.
func (d *Planner) DescribeAccount(p *Plan, a account, about *string, shut *bool) error {
	before := d.T.Record(estate.MetadataRecord, a.ID.String())
	was := d.T.MetadataOf(a.ID)
	is := was
	e := Edit{Kind: "account", Where: fmt.Sprintf("%s %s", a.Kind, a.Name)}
	if about != nil && *about != was.About {
		if len(*about) > longestAbout {
			return &estate.Refused{Why: fmt.Sprintf("what is said of %s is longer than %d bytes", a.Name, longestAbout)}
		}
		is.About = *about
		e.Lines = append(e.Lines, Line{Sign: Changes, What: "about", Text: quotedOr(is.About, "nothing") + ", was " + quotedOr(was.About, "nothing")})
	}
	if shut != nil && *shut != was.Shut {
		if a.Kind != acc.User && *shut {
			return &estate.Refused{Why: fmt.Sprintf("%s is a group; only users are shut", a.Name)}
		}
		is.Shut, is.Why = *shut, ""
		words := map[bool]string{true: "shut", false: "open"}
		e.Lines = append(e.Lines, Line{Sign: Changes, What: "sign-on", Text: words[is.Shut] + ", was " + words[was.Shut]})
	}
	return p.SetMetadata(a.ID, before, was, is, e)
}

// Particulars writes down what is so of an account from now on; nothing, where
// nothing is.
func (p *Plan) SetMetadata(id ID, before string, was, is Metadata, e Edit) error {
	if is == was {
		return nil
	}
	var after any
	if is != (Metadata{}) {
		after = is
	}
	return p.SetRecord(estate.MetadataRecord, id.String(), before, after, e)
}

// formerEdit is how a plan alters the identifiers that an account had elsewhere.
type formerEdit struct {
	id      ID
	was, is acc.Former
}

// Former tells what a record says otherwise of identifiers an account had.
func (e *RecordEdit) Former() (f formerEdit, differs bool) {
	const said = `"former":`
	if e.Kind != estate.MetadataRecord || !strings.Contains(e.Before, said) && !strings.Contains(e.After, said) {
		return f, false
	}
	read := func(body string) (p Metadata) {
		_ = json.Unmarshal([]byte(body), &p)
		return p
	}
	id, err := acc.ParseID(e.Name)
	f = formerEdit{id, read(e.Before).Former, read(e.After).Former}
	return f, err == nil && f.was != f.is
}

// Formers lists those that a plan alters.
func (w *work) Formers() (out []formerEdit) {
	for i := range w.Records {
		if f, ok := w.Records[i].Former(); ok {
			out = append(out, f)
		}
	}
	return out
}

func quotedOr(s, other string) string {
	if s == "" {
		return other
	}
	return fmt.Sprintf("%q", format.Clip(s))
}

func (d *Planner) MetadataOf(key string) string {
	if id, err := acc.ParseID(key); err == nil {
		return "particulars of " + d.T.Name(id)
	}
	return "particulars"
}
