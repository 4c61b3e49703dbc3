// Package policy reads our own language of policies: rules wanted on places,
// with a reason and what is expected once they are laid. Its grammar is in
// docs/formats.md.
package policy

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"

	"tarnwold/core/rule"
	"tarnwold/internal/format"
	"tarnwold/internal/format/expectation"
	"tarnwold/internal/format/lexer"
)

// Policy is one file.
type Policy struct {
	File    string
	Name    string
	Because string
	Blocks  []Block
	Expect  []expectation.Line // a relative Where is relative to where it is laid
	Text    string             // the file as it stands
}

// Block is what is wanted on some places.
type Block struct {
	Line    int
	Where   []string // relative to where the policy is laid, or whole addresses
	WhereAt []int    // columns
	Seal    string   // keep, clear or ""
	Owner   string   // "": whoever it is
	OwnerAt [2]int   // line and column
	Entries []Entry
}

// Entry is one entry that is wanted.
type Entry struct {
	Line    int
	Only    bool // the only entries of that account
	Kind    rule.Kind
	Who     string
	What    string
	Scope   rule.Scope // 0: the tree
	On      rule.Flags // of an audit entry
	Until   string     // the last day, YYYY-MM-DD
	WhoAt   int
	WhatAt  int
	UntilAt int
	said    string
}

// Text is the entry as it was written, without only and its day.
func (e *Entry) Text() string { return e.said }

// most is how many bytes a policy has at most.
const most = 16 << 20

// own are the words of the language that are no names.
var own = lexer.Own{"policy": true, "because": true, "at": true, "sealed": true, "owner": true, "allow": true, "deny": true, "audit": true, "only": true, "until": true, "expect": true}

// Quote writes a name so that it is read as one word.
func Quote(name string) string { return lexer.Quote(name, own) }

// Read reads a policy. file names it in errors.
func Read(r io.Reader, file string) (*Policy, error) {
	text, err := io.ReadAll(io.LimitReader(r, most+1))
	if err != nil {
		return nil, err
	}
	if len(text) > most {
		return nil, &format.Error{File: file, What: fmt.Sprintf("it is larger than a policy can be (%d bytes)", most)}
	}
	p := &Policy{File: file, Text: string(text)}
	w := lexer.NewReader(bytes.NewReader(text), file, own)
	expects, top := false, ""
	seen := map[string]int{}
	for {
		l, err := w.Next()
		if err != nil {
			return nil, err
		}
		if l == nil {
			break
		}
		switch {
		case p.Name == "" && !l.Is("policy"):
			return nil, l.Expected("policy NAME, on the first line")
		case expects:
			e, err := expectation.Parse(l, &top, false)
			if err != nil {
				return nil, err
			}
			if e != nil {
				p.Expect = append(p.Expect, *e)
			}
		case l.Take("policy"):
			if p.Name != "" {
				return nil, l.Wrong(1, "a file holds one policy, and this is the second; wanted at, because or expect")
			}
			n, err := l.Name("the policy's name")
			if err == nil {
				err = l.Ends(" (a name with spaces is quoted)")
			}
			if err != nil {
				return nil, err
			}
			p.Name = n.Text
		case l.Take("because"):
			if p.Because != "" {
				return nil, l.Wrong(1, "the reason is given a second time")
			}
			if p.Because = l.Rest(); p.Because == "" {
				return nil, l.Expected("the reason")
			}
		case l.Take("at"):
			b := Block{Line: l.Number}
			if b.Where, b.WhereAt, err = l.Names(`a place, relative to where the policy is laid ("." is that itself), or a whole address`); err == nil {
				err = l.Ends(" or a comma (a place with spaces is quoted)")
			}
			if err != nil {
				return nil, err
			}
			for i, at := range b.Where {
				key := strings.TrimPrefix(strings.Trim(strings.ReplaceAll(at, `\`, "/"), "/"), "./")
				if line, twice := seen[key]; twice {
					return nil, l.Wrong(b.WhereAt[i], "%q is on line %d already; wanted everything about a place once", format.Clip(at), line)
				}
				seen[key] = l.Number
			}
			p.Blocks = append(p.Blocks, b)
		case l.Take("expect"):
			if err := l.Ends("; expectations stand on lines of their own below it"); err != nil {
				return nil, err
			}
			expects = true
		default:
			if err := p.want(l); err != nil {
				return nil, err
			}
		}
	}
	missing := func(what string) error {
		return &format.Error{File: file, Line: w.Line, What: "the file ends; wanted " + what}
	}
	switch {
	case p.Name == "":
		return nil, missing("policy NAME")
	case p.Because == "":
		return nil, missing("because, and the reason for the policy")
	case len(p.Blocks) == 0:
		return nil, missing("at PLACE, and what is wanted there")
	}
	for i := range p.Blocks {
		if b := &p.Blocks[i]; b.Seal == "" && b.Owner == "" && len(b.Entries) == 0 {
			return nil, &format.Error{File: file, Line: b.Line, Column: 1, What: "nothing is wanted at these places; wanted sealed, owner, allow or deny on the lines below"}
		}
	}
	return p, nil
}

const wanted = "sealed keep, sealed clear, owner, allow, deny, audit, only, at or expect"

// want reads one thing that is wanted.
func (p *Policy) want(l *lexer.Line) (err error) {
	if !l.Is("sealed") && !l.Is("owner") && !l.Is("allow") && !l.Is("deny") && !l.Is("audit") && !l.Is("only") {
		return l.Expected("%s", wanted)
	}
	if len(p.Blocks) == 0 {
		return l.Expected("at PLACE before what is wanted there")
	}
	b := &p.Blocks[len(p.Blocks)-1]
	first := l.List[0].Column
	switch {
	case l.Take("sealed"):
		if b.Seal != "" {
			return l.Wrong(first, "sealed is said a second time")
		}
		switch {
		case l.Take("keep"):
			b.Seal = "keep"
		case l.Take("clear"):
			b.Seal = "clear"
		default:
			return l.Expected("keep (what came from above becomes its own) or clear (it goes)")
		}
		return l.Ends("")
	case l.Take("owner"):
		if b.Owner != "" {
			return l.Wrong(first, "an owner is named a second time")
		}
		n, err := l.Name("the owner")
		if err != nil {
			return err
		}
		b.Owner, b.OwnerAt = n.Text, [2]int{l.Number, n.Column}
		return l.Ends(" (a name with spaces is quoted)")
	}
	e := Entry{Line: l.Number, Only: l.Take("only")}
	switch {
	case l.Take("allow"):
		e.Kind = rule.Allow
	case l.Take("deny"):
		e.Kind = rule.Deny
	case l.Take("audit"):
		e.Kind = rule.Audit
	default:
		return l.Expected("allow, deny or audit")
	}
	who, err := l.Name("a user or group")
	if err != nil {
		return err
	}
	e.Who, e.WhoAt = who.Text, who.Column
	what, at, err := l.Names("a level, or rights joined by commas")
	if err != nil {
		return err
	}
	e.What, e.WhatAt = strings.Join(what, ","), at[0]
	e.said = strings.Join([]string{e.Kind.String(), Quote(e.Who), e.What}, " ")
	if len(l.List) > 0 && !l.Is("until") && !l.Is("on") {
		scope, column := l.List[0].Text, l.List[0].Column
		l.List = l.List[1:]
		if l.Take("once") {
			scope += " once"
		}
		if e.Scope, err = rule.ParseScope(scope); err != nil {
			return l.Wrong(column, "%v", err)
		}
		e.said += " " + scope
	}
	if l.Take("on") {
		on, at, err := l.Names("success, failure or both joined by a comma")
		if err != nil {
			return err
		}
		if e.On, err = rule.ParseOn(strings.Join(on, ",")); err != nil {
			return l.Wrong(at[0], "%v", err)
		}
		e.said += " on " + strings.Join(on, ",")
	}
	if (e.Kind == rule.Audit) != (e.On != 0) {
		return l.Wrong(first, "an audit entry, and only that, says on success, on failure or both")
	}
	if l.Take("until") {
		day, err := l.Day()
		if err != nil {
			return err
		}
		e.Until, e.UntilAt = day.Text, day.Column
		if e.Kind == rule.Audit {
			return l.Wrong(day.Column, "audit entries have no last day")
		}
	}
	if slices.ContainsFunc(b.Entries, func(o Entry) bool { return o.said == e.said }) {
		return l.Wrong(first, "the same entry is given above")
	}
	b.Entries = append(b.Entries, e)
	return l.Ends(" (a name with spaces is quoted)")
}

// Join gives the address of a relative place; a whole one stays as it is.
func Join(top, where string) string { return expectation.Join(top, where) }
