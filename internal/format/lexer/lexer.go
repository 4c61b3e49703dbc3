// Package lexer takes lines of our own languages apart: words with blanks
// between, commas, names in quotes, comments behind #. What the words mean is
// the languages' affair. The form is in docs/formats.md.
package lexer

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"tarnwold/internal/format"
)

// Longest is how many bytes a line has at most.
const Longest = 64 << 10

// Word is one word of a line; quoted, it is never one of the language's own.
type Word struct {
	Text   string
	Quoted bool
	Comma  bool
	Column int // where it begins, in bytes from 1
}

// Own are the words of a language that are no names unless they are quoted.
type Own map[string]bool

// Reader reads a file line by line.
type Reader struct {
	File string
	Line int // of the last line read, from 1
	own  Own
	s    *bufio.Scanner
}

// NewReader reads a file of a language. file names it in errors.
func NewReader(r io.Reader, file string, own Own) *Reader {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 4096), Longest)
	return &Reader{File: file, own: own, s: s}
}

// Next gives the next line that holds a word; nil at the end.
func (r *Reader) Next() (*Line, error) {
	for r.s.Scan() {
		r.Line++
		text := r.s.Text()
		if r.Line == 1 {
			text = strings.TrimPrefix(text, "\ufeff")
		}
		l, err := r.split(text)
		if err != nil || len(l.List) > 0 {
			return l, err
		}
	}
	if errors.Is(r.s.Err(), bufio.ErrTooLong) {
		r.Line++
		return nil, r.Wrong(0, "the line is longer than %d bytes", Longest)
	}
	return nil, r.s.Err()
}

// Wrong is an error in the line read last; column 0: nowhere in particular.
func (r *Reader) Wrong(column int, what string, args ...any) error {
	return &format.Error{File: r.File, Line: r.Line, Column: column, What: fmt.Sprintf(what, args...)}
}

// Line is what is left of a line to be read.
type Line struct {
	Number int
	Raw    string // the whole line as it stands
	List   []Word
	End    int // the column behind the last word
	r      *Reader
}

// Text is the line from its first word on, without what is behind it.
func (l *Line) Text() string {
	if len(l.List) == 0 {
		return ""
	}
	return strings.TrimSpace(l.Raw[l.List[0].Column-1 : l.End-1])
}

// Wrong is an error in the line.
func (l *Line) Wrong(column int, what string, args ...any) error {
	return &format.Error{File: l.r.File, Line: l.Number, Column: column, What: fmt.Sprintf(what, args...)}
}

func (r *Reader) split(text string) (*Line, error) {
	l := &Line{Number: r.Line, Raw: text, r: r}
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == ' ' || c == '\t' || c == '\r':
			i++
		case c == '#':
			l.End = i + 1
			return l, nil
		case c == ',':
			l.List = append(l.List, Word{Text: ",", Comma: true, Column: i + 1})
			i++
		case c == '"':
			s, n, err := l.unquote(text[i:], i+1)
			if err != nil {
				return nil, err
			}
			l.List = append(l.List, Word{Text: s, Quoted: true, Column: i + 1})
			if i += n; i < len(text) && !strings.ContainsRune(" \t\r,#", rune(text[i])) {
				return nil, r.Wrong(i+1, "wanted a space after the closing quote")
			}
		default:
			n := strings.IndexAny(text[i:], " \t\r,\"")
			if n < 0 {
				n = len(text) - i
			}
			w := text[i : i+n]
			if !utf8.ValidString(w) {
				return nil, r.Wrong(i+1, "the word is not UTF-8")
			}
			l.List = append(l.List, Word{Text: w, Column: i + 1})
			if i += n; i < len(text) && text[i] == '"' {
				return nil, r.Wrong(i+1, `a quote in the middle of a word; wanted the whole of it in quotes, with \" for a quote`)
			}
		}
	}
	l.End = len(text) + 1
	return l, nil
}

// unquote reads what is in quotes at the beginning of a text, and tells how
// long it is there.
func (l *Line) unquote(text string, column int) (string, int, error) {
	var b strings.Builder
	for i := 1; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"' && i+1 < len(text) && text[i+1] == '"' && b.Len() > 0:
			i++ // doubled, as entries are written elsewhere
			b.WriteByte('"')
		case c == '"':
			s := b.String()
			switch {
			case s == "":
				return "", 0, l.Wrong(column, "the quotes are empty")
			case !utf8.ValidString(s):
				return "", 0, l.Wrong(column, "what is in the quotes is not UTF-8")
			}
			return s, i + 1, nil
		case c == '\\' && i+1 < len(text) && (text[i+1] == '"' || text[i+1] == '\\'):
			i++
			b.WriteByte(text[i])
		case c == '\\' && i+1 < len(text) && text[i+1] == 'n':
			i++
			b.WriteByte('\n')
		case c == '\\' && i+1 < len(text) && unicode.IsUpper(rune(text[i+1])): // as BUILTIN\Backup Operators is written elsewhere
			b.WriteByte(c)
		case c == '\\':
			return "", 0, l.Wrong(column+i, `after \ in quotes wanted another \, a quote or n`)
		default:
			b.WriteByte(c)
		}
	}
	return "", 0, l.Wrong(column, "the quote is not closed")
}

// Is tells whether the next words are these words of the language.
func (l *Line) Is(words ...string) bool {
	if len(l.List) < len(words) {
		return false
	}
	for i, w := range words {
		if x := l.List[i]; x.Quoted || x.Comma || x.Text != w {
			return false
		}
	}
	return true
}

// Take passes over these words of the language, where they come next.
func (l *Line) Take(words ...string) bool {
	ok := l.Is(words...)
	if ok {
		l.List = l.List[len(words):]
	}
	return ok
}

// Expected is the error where something else stands.
func (l *Line) Expected(what string, args ...any) error {
	what = fmt.Sprintf(what, args...)
	if len(l.List) == 0 {
		return l.Wrong(l.End, "the line ends; wanted %s", what)
	}
	w := l.List[0]
	return l.Wrong(w.Column, "%q; wanted %s", format.Clip(w.Text), what)
}

// Ends is an error where anything is left of the line.
func (l *Line) Ends(hint string) error {
	if len(l.List) > 0 {
		return l.Expected("the end of the line" + hint)
	}
	return nil
}

// Name takes a word that isn't the language's own.
func (l *Line) Name(what string) (Word, error) {
	if len(l.List) == 0 || l.List[0].Comma {
		return Word{}, l.Expected("%s", what)
	}
	w := l.List[0]
	if !w.Quoted && l.r.own[w.Text] {
		return Word{}, l.Wrong(w.Column, `%q; wanted %s (in quotes, if it is called so)`, w.Text, what)
	}
	l.List = l.List[1:]
	return w, nil
}

// Names takes names with commas between.
func (l *Line) Names(what string) (texts []string, at []int, err error) {
	for {
		w, err := l.Name(what)
		if err != nil {
			return nil, nil, err
		}
		texts, at = append(texts, w.Text), append(at, w.Column)
		if len(l.List) == 0 || !l.List[0].Comma {
			return texts, at, nil
		}
		l.List = l.List[1:]
	}
}

// Day takes a day, as 2027-03-31.
func (l *Line) Day() (Word, error) {
	w, err := l.Name("a day, as 2027-03-31")
	if err == nil {
		if _, err := time.Parse(time.DateOnly, w.Text); err != nil {
			return w, l.Wrong(w.Column, "%q; wanted a day, as 2027-03-31", format.Clip(w.Text))
		}
	}
	return w, err
}

// Rest takes what is left of the line as it stands.
func (l *Line) Rest() string {
	s := l.Text()
	l.List = nil
	return s
}

// Quote writes a name so that it is read as one word.
func Quote(name string, own Own) string {
	plain := name != "" && !own[name] && !slices.ContainsFunc([]rune(name), func(r rune) bool {
		return unicode.IsSpace(r) || r == 0xfeff || strings.ContainsRune(`",#\`, r)
	})
	if plain {
		return name
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(name) + `"`
}
