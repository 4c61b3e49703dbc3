// Package expectation reads and writes our own language of expectations: one a
// line, saying who can or cannot do what where. Its grammar is in
// docs/formats.md.
package expectation

import (
	"io"
	"strings"

	"tarnwold/core/place"
	"tarnwold/internal/format"
	"tarnwold/internal/format/lexer"
)

// Line is one expectation.
type Line struct {
	Number  int    // of the line, from 1
	Column  int    // where it begins, in bytes from 1
	Text    string // as it stands in the file
	Whose   Whose
	Names   []string // whom it is about, as Whose says
	Cannot  bool
	What    string // a level, rights joined by commas, or an act
	Where   string // whole, the at line counted in
	Below   bool   // everything below too
	Through string // narrowed to this share
	Local   bool   // narrowed to the server itself

	// where each part begins, for errors
	NamesAt                    []int
	WhatAt, WhereAt, ThroughAt int
}

// Whose says whom an expectation is about.
type Whose int

const (
	// Named are the accounts named, each: of a group every member.
	Named Whose = iota
	// Everyone is every user there is.
	Everyone
	// Only are the accounts named, and nobody else.
	Only
	// NobodyBut lets the accounts named, and asks of everybody else that they
	// cannot.
	NobodyBut
)

const most = 1_000_000

// Read reads a file of expectations. file names it in errors.
func Read(r io.Reader, file string) (out []Line, err error) {
	w := lexer.NewReader(r, file, own)
	at := ""
	for {
		l, err := w.Next()
		if err != nil || l == nil {
			return out, err
		}
		e, err := Parse(l, &at, true)
		if err != nil {
			return nil, err
		}
		if e == nil {
			continue
		}
		if out = append(out, *e); len(out) > most {
			return nil, w.Wrong(0, "more than %d expectations", most)
		}
	}
}

// own are the words of the language.
var own = lexer.Own{"at": true, "only": true, "nobody": true, "but": true, "everyone": true, "can": true, "cannot": true, "and": true, "below": true, "through": true}

// Parse reads one line: an expectation, or nil where the line says what the
// places after it are relative to. With whole a relative place needs such a
// line; without, it stays as it is where none was.
func Parse(p *lexer.Line, top *string, needsTop bool) (*Line, error) {
	if p.Take("at") {
		w, err := p.Name("a place, as //server/share or server:/folder")
		switch {
		case err != nil:
			return nil, err
		case !place.Whole(w.Text):
			return nil, p.Wrong(w.Column, "%q; wanted a whole address, as //server/share or server:/folder", format.Clip(w.Text))
		case len(p.List) > 0:
			return nil, p.Expected("the end of the line (a place with spaces is quoted)")
		}
		*top = w.Text
		return nil, nil
	}
	l := &Line{Number: p.Number, Column: p.List[0].Column, Text: p.Text()}
	var err error
	switch {
	case p.Take("everyone"):
		l.Whose = Everyone
	case p.Take("nobody"):
		l.Whose = NobodyBut
		if p.Take("but") {
			l.Names, l.NamesAt, err = p.Names("a user or group")
		}
	case p.Take("only"):
		l.Whose = Only
		l.Names, l.NamesAt, err = p.Names("a user or group")
	default:
		l.Names, l.NamesAt, err = p.Names("a user or group, everyone, only or nobody but")
	}
	if err != nil {
		return nil, err
	}
	switch {
	case p.Take("can"):
	case p.Is("cannot") && (l.Whose == Only || l.Whose == NobodyBut):
		return nil, p.Expected("can, for this line is about those who can")
	case p.Take("cannot"):
		l.Cannot = true
	default:
		return nil, p.Expected("can or cannot (a name with spaces is quoted)")
	}
	what, at, err := p.Names("a level, rights or an act")
	if err != nil {
		return nil, err
	}
	l.What, l.WhatAt = strings.Join(what, ","), at[0]
	w, err := p.Name("a place")
	if err != nil {
		return nil, err
	}
	l.Where, l.WhereAt = w.Text, w.Column
	if !place.Whole(l.Where) && (*top != "" || needsTop) {
		if *top == "" && needsTop {
			return nil, p.Wrong(w.Column, "%q; wanted a whole address, as //server/share or server:/folder, or a line before that says: at PLACE", format.Clip(w.Text))
		}
		l.Where = Join(*top, w.Text)
	}
	l.Below = p.Take("and", "below")
	switch {
	case p.Take("through"):
		w, err := p.Name("a share, as //server/share")
		if err != nil {
			return nil, err
		}
		if !strings.HasPrefix(slashed(w.Text), "//") {
			return nil, p.Wrong(w.Column, "%q; wanted a share, as //server/share", format.Clip(w.Text))
		}
		l.Through, l.ThroughAt = w.Text, w.Column
	case p.Take("at", "the", "server"):
		l.Local = true
	}
	if len(p.List) > 0 {
		return nil, p.Expected("and below, through //server/share, at the server, or the end of the line (a place with spaces or commas is quoted)")
	}
	return l, nil
}

func slashed(s string) string { return strings.ReplaceAll(s, `\`, "/") }

// Join gives the address of a place relative to another, "." for that itself;
// a whole address stays as it is.
func Join(top, where string) string {
	rest := strings.TrimPrefix(where, "./")
	switch {
	case top == "" || place.Whole(where):
		return where
	case where == "." || rest == "":
		return top
	case strings.HasSuffix(slashed(top), "/"):
		return top + rest
	}
	return top + "/" + rest
}

// Relative writes an address so that it is read after "at top".
func Relative(address, top string) string {
	rest := strings.TrimPrefix(strings.TrimPrefix(address, top), "/")
	switch {
	case rest == "":
		return "."
	case rest == "." || strings.HasPrefix(rest, "./") || place.Whole(rest):
		return "./" + rest
	}
	return rest
}

// Write writes an expectation as it is read. Where is written as it is.
func (l *Line) Write() string {
	var b strings.Builder
	quoted := make([]string, len(l.Names))
	for i, n := range l.Names {
		quoted[i] = Quote(n)
	}
	names := strings.Join(quoted, ", ")
	switch l.Whose {
	case Everyone:
		b.WriteString("everyone")
	case Only:
		b.WriteString("only " + names)
	case NobodyBut:
		b.WriteString("nobody")
		if names != "" {
			b.WriteString(" but " + names)
		}
	default:
		b.WriteString(names)
	}
	b.WriteString(map[bool]string{false: " can ", true: " cannot "}[l.Cannot])
	for i, w := range strings.Split(l.What, ",") {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(Quote(w))
	}
	b.WriteString(" " + Quote(l.Where))
	if l.Below {
		b.WriteString(" and below")
	}
	if l.Through != "" {
		b.WriteString(" through " + Quote(l.Through))
	}
	if l.Local {
		b.WriteString(" at the server")
	}
	return b.String()
}

// Quote writes a name so that it is read as one word.
func Quote(name string) string { return lexer.Quote(name, own) }
