// Package expectation reads and writes our own language of expectations: one a
// line, saying who can or cannot do what where. Its grammar is in
// docs/formats.md.
package expectation

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"tarnwold/internal/format"
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
	NamesAt         []int
	WhatAt, WhereAt int
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

const (
	longest = 64 << 10
	most    = 1_000_000
)

// Read reads a file of expectations. file names it in errors.
func Read(r io.Reader, file string) (out []Line, err error) {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 4096), longest)
	p := parser{file: file}
	for s.Scan() {
		p.line++
		text := s.Text()
		if p.line == 1 {
			text = strings.TrimPrefix(text, "\ufeff")
		}
		l, err := p.read(text)
		if err != nil {
			return nil, err
		}
		if l == nil {
			continue
		}
		if out = append(out, *l); len(out) > most {
			return nil, p.wrong(0, "more than %d expectations", most)
		}
	}
	if errors.Is(s.Err(), bufio.ErrTooLong) {
		p.line++
		return nil, p.wrong(0, "the line is longer than %d bytes", longest)
	}
	return out, s.Err()
}

type parser struct {
	file string
	line int
	at   string
	word []word
	end  int // the column behind the last word
}

// word is one word of a line; quoted, it is never one of the language's own.
type word struct {
	text   string
	quoted bool
	comma  bool
	column int
}

func (p *parser) wrong(column int, what string, args ...any) error {
	return &format.Error{File: p.file, Line: p.line, Column: column, What: fmt.Sprintf(what, args...)}
}

// split takes a line apart into words.
func (p *parser) split(text string) error {
	p.word = p.word[:0]
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == ' ' || c == '\t' || c == '\r':
			i++
		case c == '#':
			p.end = i + 1
			return nil
		case c == ',':
			p.word = append(p.word, word{text: ",", comma: true, column: i + 1})
			i++
		case c == '"':
			s, n, err := p.unquote(text[i:], i+1)
			if err != nil {
				return err
			}
			p.word = append(p.word, word{text: s, quoted: true, column: i + 1})
			if i += n; i < len(text) && !strings.ContainsRune(" \t\r,#", rune(text[i])) {
				return p.wrong(i+1, "wanted a blank after what is in quotes")
			}
		default:
			n := strings.IndexAny(text[i:], " \t\r,\"")
			if n < 0 {
				n = len(text) - i
			}
			w := text[i : i+n]
			if !utf8.ValidString(w) {
				return p.wrong(i+1, "the word is not UTF-8")
			}
			p.word = append(p.word, word{text: w, column: i + 1})
			if i += n; i < len(text) && text[i] == '"' {
				return p.wrong(i+1, `a quote in the middle of a word; wanted the whole of it in quotes, with \" for a quote`)
			}
		}
	}
	p.end = len(text) + 1
	return nil
}

// unquote reads what is in quotes at the beginning of a text, and tells how
// long it is there.
func (p *parser) unquote(text string, column int) (string, int, error) {
	var b strings.Builder
	for i := 1; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			s := b.String()
			switch {
			case s == "":
				return "", 0, p.wrong(column, "nothing is in the quotes")
			case !utf8.ValidString(s):
				return "", 0, p.wrong(column, "what is in the quotes is not UTF-8")
			}
			return s, i + 1, nil
		case c == '\\' && i+1 < len(text) && (text[i+1] == '"' || text[i+1] == '\\'):
			i++
			b.WriteByte(text[i])
		case c == '\\' && i+1 < len(text) && text[i+1] == 'n':
			i++
			b.WriteByte('\n')
		case c == '\\':
			return "", 0, p.wrong(column+i, `after \ in quotes wanted another \, a quote or n`)
		default:
			b.WriteByte(c)
		}
	}
	return "", 0, p.wrong(column, "the quote is not closed")
}

// is tells whether the next words are these words of the language.
func (p *parser) is(words ...string) bool {
	if len(p.word) < len(words) {
		return false
	}
	for i, w := range words {
		if x := p.word[i]; x.quoted || x.comma || x.text != w {
			return false
		}
	}
	return true
}

func (p *parser) take(words ...string) bool {
	ok := p.is(words...)
	if ok {
		p.word = p.word[len(words):]
	}
	return ok
}

// expected is the error where something else stands.
func (p *parser) expected(what string) error {
	if len(p.word) == 0 {
		return p.wrong(p.end, "the line ends; wanted %s", what)
	}
	w := p.word[0]
	return p.wrong(w.column, "%q; wanted %s", format.Clip(w.text), what)
}

// name takes a word that isn't the language's own.
func (p *parser) name(what string) (word, error) {
	if len(p.word) == 0 || p.word[0].comma {
		return word{}, p.expected(what)
	}
	if w := p.word[0]; !w.quoted && own[w.text] {
		return word{}, p.wrong(w.column, `%q; wanted %s (in quotes, if it is called so)`, w.text, what)
	}
	w := p.word[0]
	p.word = p.word[1:]
	return w, nil
}

// names takes words with commas between.
func (p *parser) names(what string) (texts []string, at []int, err error) {
	for {
		w, err := p.name(what)
		if err != nil {
			return nil, nil, err
		}
		texts, at = append(texts, w.text), append(at, w.column)
		if len(p.word) == 0 || !p.word[0].comma {
			return texts, at, nil
		}
		p.word = p.word[1:]
	}
}

// own are the words of the language.
var own = map[string]bool{"at": true, "only": true, "nobody": true, "but": true, "everyone": true, "can": true, "cannot": true, "and": true, "below": true, "through": true}

func (p *parser) read(text string) (*Line, error) {
	if err := p.split(text); err != nil || len(p.word) == 0 {
		return nil, err
	}
	if p.take("at") {
		w, err := p.name("a place, as //server/share or server:/folder")
		switch {
		case err != nil:
			return nil, err
		case !whole(w.text):
			return nil, p.wrong(w.column, "%q; wanted a whole address, as //server/share or server:/folder", format.Clip(w.text))
		case len(p.word) > 0:
			return nil, p.expected("the end of the line (a place with blanks in it stands in quotes)")
		}
		p.at = w.text
		return nil, nil
	}
	l := &Line{Number: p.line, Column: p.word[0].column, Text: strings.TrimSpace(text[p.word[0].column-1 : p.end-1])}
	var err error
	switch {
	case p.take("everyone"):
		l.Whose = Everyone
	case p.take("nobody"):
		l.Whose = NobodyBut
		if p.take("but") {
			l.Names, l.NamesAt, err = p.names("a user or group")
		}
	case p.take("only"):
		l.Whose = Only
		l.Names, l.NamesAt, err = p.names("a user or group")
	default:
		l.Names, l.NamesAt, err = p.names("a user or group, everyone, only or nobody but")
	}
	if err != nil {
		return nil, err
	}
	switch {
	case p.take("can"):
	case p.is("cannot") && (l.Whose == Only || l.Whose == NobodyBut):
		return nil, p.expected("can, for this line is about those who can")
	case p.take("cannot"):
		l.Cannot = true
	default:
		return nil, p.expected("can or cannot (a name with blanks in it stands in quotes)")
	}
	what, at, err := p.names("a level, rights or an act")
	if err != nil {
		return nil, err
	}
	l.What, l.WhatAt = strings.Join(what, ","), at[0]
	w, err := p.name("a place")
	if err != nil {
		return nil, err
	}
	l.Where, l.WhereAt = w.text, w.column
	if !whole(l.Where) {
		if p.at == "" {
			return nil, p.wrong(w.column, "%q; wanted a whole address, as //server/share or server:/folder, or a line before that says: at PLACE", format.Clip(w.text))
		}
		rest := strings.TrimPrefix(l.Where, "./")
		l.Where = p.at
		if w.text != "." && rest != "" {
			if l.Where += "/"; strings.HasSuffix(slashed(p.at), "/") {
				l.Where = p.at
			}
			l.Where += rest
		}
	}
	l.Below = p.take("and", "below")
	switch {
	case p.take("through"):
		w, err := p.name("a share, as //server/share")
		if err != nil {
			return nil, err
		}
		if !strings.HasPrefix(slashed(w.text), "//") {
			return nil, p.wrong(w.column, "%q; wanted a share, as //server/share", format.Clip(w.text))
		}
		l.Through = w.text
	case p.take("at", "the", "server"):
		l.Local = true
	}
	if len(p.word) > 0 {
		return nil, p.expected("and below, through //server/share, at the server, or the end of the line (a place with blanks or commas in it stands in quotes)")
	}
	return l, nil
}

func slashed(s string) string { return strings.ReplaceAll(s, `\`, "/") }

// whole tells whether a place is an address, and not relative to another.
func whole(s string) bool {
	s = slashed(s)
	colon := strings.Index(s, ":/")
	return strings.HasPrefix(s, "//") || colon > 0 && !strings.Contains(s[:colon], "/")
}

// Relative writes an address so that it is read after "at top".
func Relative(address, top string) string {
	rest := strings.TrimPrefix(strings.TrimPrefix(address, top), "/")
	switch {
	case rest == "":
		return "."
	case rest == "." || strings.HasPrefix(rest, "./") || whole(rest):
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
func Quote(name string) string {
	plain := name != "" && !own[name] && !slices.ContainsFunc([]rune(name), func(r rune) bool {
		return unicode.IsSpace(r) || r == 0xfeff || strings.ContainsRune(`",#\`, r)
	})
	if plain {
		return name
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(name) + `"`
}
