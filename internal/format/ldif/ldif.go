// Package ldif reads what directories hold as text (RFC 2849): entries, and
// changes of entries.
package ldif

import (
	"bufio"
	"encoding/base64"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"tarnwold/internal/format"
)

// Change is what a record does.
type Change uint8

const (
	None   Change = iota // it is an entry as it is
	Add                  // the entry comes
	Delete               // it goes
	Modify               // some of its attributes change
	Rename               // it gets another name, or another place (modrdn, moddn)
)

// Part is one attribute of a record, or of a change of one.
type Part struct {
	Do     Change // of a Modify: Add, Delete or Modify, which is replacing
	Name   string // in lower case, without options
	Values []string
}

// Record is an entry, or a change of one.
type Record struct {
	Line   int
	DN     string
	Change Change
	Parts  []Part
	// Of a Rename.
	NewRDN, NewSuperior string
	Moves               bool // NewSuperior was said
}

// Most that is taken: a line unfolded, an entry's values, and a name.
const (
	mostLine   = 16 << 20
	mostValues = 4_000_000
	mostName   = 16 << 10
)

// Reader reads records one by one.
type Reader struct {
	in   *bufio.Reader
	file string
	n    int    // the line last read
	next string // the line after, not yet unfolded
	have bool
	end  error
	want map[string]bool
	seen bool // a record was read: version stands before the first only
}

// NewReader reads from r, which file names in errors. want are the attributes
// that are kept, in lower case; none: all.
func NewReader(r io.Reader, file string, want ...string) *Reader {
	x := &Reader{in: bufio.NewReaderSize(r, 1<<16), file: file}
	if len(want) > 0 {
		x.want = map[string]bool{}
		for _, w := range want {
			x.want[strings.ToLower(w)] = true
		}
	}
	return x
}

func (r *Reader) wrong(line int, what string, args ...any) error {
	return &format.Error{File: r.file, Line: line, What: fmt.Sprintf(what, args...)}
}

// physical reads one line as it stands, without its end.
func (r *Reader) physical() (string, error) {
	if r.have {
		r.have = false
		return r.next, nil
	}
	if r.end != nil {
		return "", r.end
	}
	var b []byte
	for {
		part, err := r.in.ReadSlice('\n')
		b = append(b, part...)
		if len(b) > mostLine {
			return "", r.wrong(r.n+1, "a line of more than %d bytes", mostLine)
		}
		if err == bufio.ErrBufferFull {
			continue
		}
		if err != nil {
			r.end = err
			if len(b) == 0 {
				return "", err
			}
		}
		break
	}
	s := strings.TrimSuffix(strings.TrimSuffix(string(b), "\n"), "\r")
	return s, nil
}

// line reads a line with those that continue it, comments left out.
func (r *Reader) line() (string, int, error) {
	for {
		s, err := r.physical()
		if err != nil {
			return "", r.n, err
		}
		r.n++
		at := r.n
		if at == 1 {
			s = strings.TrimPrefix(s, "\ufeff")
		}
		var more []string
		size := len(s)
		for s != "" {
			next, err := r.physical()
			if err == io.EOF {
				break
			}
			if err != nil {
				return "", at, err
			}
			if !strings.HasPrefix(next, " ") {
				r.next, r.have = next, true
				break
			}
			r.n++
			if size += len(next); size > mostLine {
				return "", at, r.wrong(at, "a line of more than %d bytes, with those that continue it", mostLine)
			}
			more = append(more, next[1:])
		}
		if len(more) > 0 {
			s += strings.Join(more, "")
		}
		if strings.HasPrefix(s, "#") {
			continue
		}
		return s, at, nil
	}
}

// value parts a line into the attribute and its value.
func (r *Reader) value(s string, at int) (name, value string, err error) {
	name, rest, ok := strings.Cut(s, ":")
	if !ok {
		return "", "", r.wrong(at, "%q is no attribute with a value", format.Clip(s))
	}
	switch {
	case strings.HasPrefix(rest, ":"):
		b, err := base64.StdEncoding.DecodeString(strings.TrimLeft(rest[1:], " "))
		if err != nil {
			return "", "", r.wrong(at, "the value of %s is no base64: %v", format.Clip(name), err)
		}
		value = string(b)
	case strings.HasPrefix(rest, "<"):
		return "", "", r.wrong(at, "the value of %s stands elsewhere, at %s, which is not read", format.Clip(name), format.Clip(strings.TrimLeft(rest[1:], " ")))
	default:
		value = strings.TrimLeft(rest, " ")
	}
	name, _, _ = strings.Cut(name, ";") // options: a language, binary
	if name == "" || len(name) > mostName || strings.ContainsFunc(name, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '.')
	}) {
		return "", "", r.wrong(at, "%q is no name of an attribute", format.Clip(name))
	}
	return strings.ToLower(name), value, nil
}

// Next reads a record; io.EOF after the last.
func (r *Reader) Next() (*Record, error) {
	for {
		s, at, err := r.line()
		if err != nil {
			return nil, err
		}
		if s == "" {
			continue
		}
		name, v, err := r.value(s, at)
		if err != nil {
			return nil, err
		}
		if name == "version" && !r.seen {
			if v != "1" {
				return nil, r.wrong(at, "version %q, where 1 is known", format.Clip(v))
			}
			r.seen = true
			continue
		}
		r.seen = true
		if name != "dn" {
			return nil, r.wrong(at, "a record begins with dn:, not %s:", name)
		}
		x := &Record{Line: at, DN: v}
		if len(v) > mostName || !utf8.ValidString(v) {
			return nil, r.wrong(at, "a name that is too long, or no UTF-8")
		}
		return x, r.body(x)
	}
}

var changes = map[string]Change{"add": Add, "delete": Delete, "modify": Modify, "modrdn": Rename, "moddn": Rename}

// part reads a line within a record: an attribute with its value, or a - alone.
// io.EOF tells that the record ends there.
func (r *Reader) part() (name, value string, line int, err error) {
	s, line, err := r.line()
	switch {
	case err != nil:
	case s == "":
		err = io.EOF
	case s == "-":
		name = s
	default:
		name, value, err = r.value(s, line)
	}
	return name, value, line, err
}

// body reads what follows the name.
func (r *Reader) body(x *Record) error {
	values := 0
	at := map[string]int{} // where an attribute stands in Parts, of an entry
	first := true
	for {
		name, v, line, err := r.part()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if name == "-" {
			return r.wrong(line, "a - outside of a change")
		}
		if first && name == "control" {
			continue
		}
		if first && name == "changetype" {
			c, ok := changes[strings.ToLower(v)]
			if !ok {
				return r.wrong(line, "changetype %q is none of add, delete, modify, modrdn, moddn", format.Clip(v))
			}
			x.Change = c
			switch c {
			case Modify:
				return r.modify(x)
			case Rename:
				return r.rename(x)
			}
			first = false
			continue
		}
		first = false
		if x.Change == Delete {
			return r.wrong(line, "%s, where an entry is deleted", name)
		}
		if values++; values > mostValues {
			return r.wrong(line, "more than %d values", mostValues)
		}
		if r.want != nil && !r.want[name] {
			continue
		}
		i, ok := at[name]
		if !ok {
			i = len(x.Parts)
			at[name] = i
			x.Parts = append(x.Parts, Part{Name: name})
		}
		x.Parts[i].Values = append(x.Parts[i].Values, v)
	}
}

func (r *Reader) modify(x *Record) error {
	for {
		do, attr, line, err := r.part()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		p := Part{Name: strings.ToLower(attr)}
		p.Name, _, _ = strings.Cut(p.Name, ";")
		switch do {
		case "add":
			p.Do = Add
		case "delete":
			p.Do = Delete
		case "replace":
			p.Do = Modify
		default:
			return r.wrong(line, "%s, where add, delete or replace is due", do)
		}
		for {
			name, v, line, err := r.part()
			if err == io.EOF {
				r.keep(x, p)
				return nil
			}
			if err != nil {
				return err
			}
			if name == "-" {
				break
			}
			if name != p.Name {
				return r.wrong(line, "a value of %s in a change of %s", name, format.Clip(p.Name))
			}
			if p.Values = append(p.Values, v); len(p.Values) > mostValues {
				return r.wrong(line, "more than %d values", mostValues)
			}
		}
		r.keep(x, p)
	}
}

func (r *Reader) keep(x *Record, p Part) {
	if r.want == nil || r.want[p.Name] {
		x.Parts = append(x.Parts, p)
	}
}

func (r *Reader) rename(x *Record) error {
	for {
		name, v, line, err := r.part()
		if err == io.EOF {
			if x.NewRDN == "" {
				return r.wrong(x.Line, "a change of a name without newrdn")
			}
			return nil
		}
		if err != nil {
			return err
		}
		switch name {
		case "newrdn":
			x.NewRDN = v
		case "newsuperior":
			x.NewSuperior, x.Moves = v, true
		case "deleteoldrdn":
		default:
			return r.wrong(line, "%s, where a name is changed", name)
		}
	}
}
