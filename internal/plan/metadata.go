package plan

import (
	"fmt"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
)

// Metadata is what is written down of an account.
type Metadata = estate.Metadata

const longestAbout = 400

// DescribeAccount writes particulars down with a plan; nil leaves what is there.
func (d *Planner) DescribeAccount(p *Plan, a account, about *string, shut *bool) error {
	return d.WriteDown(p, a, about, shut, nil)
}

// WriteDown is DescribeAccount with details of a user, by their names.
func (d *Planner) WriteDown(p *Plan, a account, about *string, shut *bool, details map[string]string) error {
	before := d.T.Record(estate.MetadataRecord, a.ID.String())
	was := d.T.MetadataOf(a.ID)
	is := was
	e := edit.Description{Kind: "account", Where: fmt.Sprintf("%s %s", a.Kind, a.Name)}
	if about != nil && *about != was.About {
		if len(*about) > longestAbout {
			return &estate.Refused{Why: fmt.Sprintf("what is said of %s is longer than %d bytes", a.Name, longestAbout)}
		}
		is.About = *about
		e.Lines = append(e.Lines, edit.Line{Sign: edit.Changes, What: "about", Text: quotedOr(is.About, "nothing") + ", was " + quotedOr(was.About, "nothing")})
	}
	if shut != nil && *shut != was.Shut {
		if a.Kind != acc.User && *shut {
			return &estate.Refused{Why: fmt.Sprintf("%s is a group; only users are shut", a.Name)}
		}
		is.Shut, is.Why = *shut, ""
		words := map[bool]string{true: "shut", false: "open"}
		e.Lines = append(e.Lines, edit.Line{Sign: edit.Changes, What: "sign-on", Text: words[is.Shut] + ", was " + words[was.Shut]})
	}
	for name, value := range details {
		if a.Kind != acc.User {
			return &estate.Refused{Why: fmt.Sprintf("%s is a group, and has no %s", a.Name, name)}
		}
		err := format.GoodDetail(name, value)
		if is.Details.Of(name) == nil && err == nil {
			err = format.GoodDetailName(name)
		}
		if err != nil {
			return &estate.Refused{Why: fmt.Sprintf("%s: %v", a.Name, err)}
		}
		if name == "manager" && value != "" {
			boss, err := d.T.Named(value, acc.User)
			if err != nil {
				return err
			}
			value = boss.ID.String()
		}
		is.Details.Set(name, value)
	}
	known := was.Details
	known.Further = is.Further // that no directory says
	if in := is.Directory; in != "" && is.Details != known {
		return &estate.Refused{Why: fmt.Sprintf("%s is kept in directory %s, which says that", a.Name, in), Do: "change it there, and take it in with: tarnwold directory sync " + in}
	}
	e.Lines = append(e.Lines, DetailLines(d, was.Details, is.Details)...)
	return p.SetMetadata(a.ID, before, was, is, e)
}

// DetailLines tells which details change.
func DetailLines(d *Planner, was, is format.Details) (lines []edit.Line) {
	for _, name := range format.DetailNames(was, is) {
		before, after := was.Get(name), is.Get(name)
		if before == after {
			continue
		}
		if name == "manager" {
			before, after = d.K.Manager(before), d.K.Manager(after)
		}
		lines = append(lines, edit.Line{Sign: edit.Changes, What: name, Text: quotedOr(after, "nothing") + ", was " + quotedOr(before, "nothing")})
	}
	return lines
}

// Particulars writes down what is so of an account from now on; nothing, where
// nothing is.
func (p *Plan) SetMetadata(id ID, before string, was, is Metadata, e edit.Description) error {
	if is == was {
		return nil
	}
	var after any
	if is != (Metadata{}) {
		after = is
	}
	return p.SetRecord(estate.MetadataRecord, id.String(), before, after, e)
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
