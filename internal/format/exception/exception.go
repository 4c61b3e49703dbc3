// Package exception reads our own language of exceptions: what a check finds
// and is meant so, with a reason, for good or until a day. Its grammar is in
// docs/formats.md.
package exception

import (
	"io"
	"path"
	"strings"

	"tarnwold/core/place"
	"tarnwold/internal/format"
	"tarnwold/internal/format/lexer"
)

// Exception is one line.
type Exception struct {
	Line    int
	Kind    string   // of what is found; * for any
	Of      []string // accounts and places it is about, all of them
	Until   string   // the last day, YYYY-MM-DD; "": for good
	Because string
	Text    string

	used bool
}

// List is a file of exceptions.
type List []*Exception

const most = 100_000

var own = lexer.Own{"except": true, "until": true, "because": true}

// Read reads a file of exceptions. file names it in errors.
func Read(r io.Reader, file string) (List, error) {
	w := lexer.NewReader(r, file, own)
	var out List
	for {
		l, err := w.Next()
		if err != nil || l == nil {
			return out, err
		}
		e := &Exception{Line: l.Number, Text: l.Text()}
		if !l.Take("except") {
			return nil, l.Expected("except, as in: except KIND WHO because REASON")
		}
		kind, err := l.Name("the kind of what is found, or *")
		if err != nil {
			return nil, err
		}
		e.Kind = kind.Text
		for len(l.List) > 0 && !l.Is("until") && !l.Is("because") {
			of, err := l.Name("whom or what place it is about, until or because")
			if err != nil {
				return nil, err
			}
			if _, err := path.Match(of.Text, ""); err != nil {
				return nil, l.Wrong(of.Column, "%q is not a pattern: a [ is not closed, or nothing follows a \\; a \\[ is a [ of the name itself", format.Clip(of.Text))
			}
			e.Of = append(e.Of, of.Text)
		}
		if l.Take("until") {
			day, err := l.Day()
			if err != nil {
				return nil, err
			}
			e.Until = day.Text
		}
		if !l.Take("because") {
			return nil, l.Expected("because, and the reason why it is meant so")
		}
		if e.Because = l.Rest(); e.Because == "" {
			return nil, l.Expected("the reason why it is meant so")
		}
		if out = append(out, e); len(out) > most {
			return nil, l.Wrong(0, "more than %d exceptions", most)
		}
	}
}

// Fits tells whether something found is meant so, on a day: every word of an
// exception is one of what it is about, or a place at or above one.
func (l List) Fits(kind, today string, about ...string) bool {
	fits := false
	for _, e := range l {
		if e.Kind != "*" && e.Kind != kind || e.Until != "" && e.Until < today {
			continue
		}
		all := true
		for _, of := range e.Of {
			one := false
			for _, a := range about {
				one = one || a != "" && covers(of, a)
			}
			all = all && one
		}
		if all {
			e.used, fits = true, true
		}
	}
	return fits
}

func covers(of, about string) bool {
	if strings.EqualFold(of, about) {
		return true
	}
	if strings.ContainsAny(of, "*?[") { // * and ? stand for anything within one name
		pattern, name := strings.ToLower(of), strings.ToLower(strings.TrimPrefix(about, "share "))
		for cut := len(name); cut >= 0; cut = strings.LastIndexByte(name, '/') {
			name = name[:cut] // what is below a place that fits is meant too
			if fits, _ := path.Match(pattern, name); fits {
				return true
			}
		}
	}
	a, err := place.ParsePlain(of)
	b, err2 := place.ParsePlain(strings.TrimPrefix(about, "share "))
	if err != nil || err2 != nil || !strings.EqualFold(a.Server, b.Server) || !strings.EqualFold(a.Share, b.Share) {
		return false
	}
	return a.Path == "" || place.Under(strings.ToLower(b.Path), strings.ToLower(a.Path))
}

// Split parts what was found: what is left, and how many are meant so.
func Split[T any](l List, found []T, today string, about func(*T) (kind string, of []string)) (left []T, meant int) {
	left = []T{}
	for i := range found {
		kind, of := about(&found[i])
		if l.Fits(kind, today, of...) {
			meant++
			continue
		}
		left = append(left, found[i])
	}
	return left, meant
}

// Unused lists the exceptions that fitted nothing: over, or no longer needed.
func (l List) Unused() []string {
	out := []string{}
	for _, e := range l {
		if !e.used {
			out = append(out, e.Text)
		}
	}
	return out
}
