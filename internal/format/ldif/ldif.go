// Package ldif reads what directories hold as text (RFC 2849): entries, and
// changes of entries.
package ldif

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"slices"
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
	in    *bufio.Reader
	file  string
	n     int    // the line last read
	buf   []byte // it, unfolded
	plain []byte // a value that was written in base64
	text  []byte // the values of an entry, one behind the other
	told  []told
	want  map[string]bool
	seen  bool // a record was read: version stands before the first only

	words   map[string]string // names of attributes as they are written → in lower case
	classes map[string]string // the one string of each
}

// mostWords is how many names are remembered.
const mostWords = 4096

// NewReader reads from r, which file names in errors. want are the attributes
// that are kept, in lower case; none: all.
func NewReader(r io.Reader, file string, want ...string) *Reader {
	x := &Reader{in: bufio.NewReaderSize(r, 1<<16), file: file, words: map[string]string{}, classes: map[string]string{}}
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

// physical adds one line as it stands, without its end.
func (r *Reader) physical(at int, what string) error {
	began := len(r.buf)
	for {
		part, err := r.in.ReadSlice('\n')
		r.buf = append(r.buf, part...)
		if len(r.buf) > mostLine {
			return r.wrong(at, "a line of more than %d bytes%s", mostLine, what)
		}
		if err == bufio.ErrBufferFull {
			continue
		}
		if err != nil && len(r.buf) == began {
			return err
		}
		break
	}
	end := len(r.buf)
	if end > began && r.buf[end-1] == '\n' {
		end--
	}
	if end > began && r.buf[end-1] == '\r' {
		end--
	}
	r.buf = r.buf[:end]
	r.n++
	return nil
}

// line reads a line with those that continue it, comments left out. It is good
// until the next is read.
func (r *Reader) line() ([]byte, int, error) {
	for {
		r.buf = r.buf[:0]
		if err := r.physical(r.n+1, ""); err != nil {
			return nil, r.n, err
		}
		at := r.n
		if at == 1 {
			r.buf = bytes.TrimPrefix(r.buf, []byte("\ufeff"))
		}
		for len(r.buf) > 0 {
			next, err := r.in.Peek(1)
			if err != nil && err != io.EOF {
				return nil, at, err
			}
			if len(next) == 0 || next[0] != ' ' {
				break
			}
			_, _ = r.in.Discard(1)
			if err := r.physical(at, ", with those that continue it"); err == io.EOF {
				break // a space alone
			} else if err != nil {
				return nil, at, err
			}
		}
		if len(r.buf) > 0 && r.buf[0] == '#' {
			continue
		}
		return r.buf, at, nil
	}
}

// word gives a name of an attribute in lower case.
func (r *Reader) word(b []byte) string {
	if w, ok := r.words[string(b)]; ok {
		return w
	}
	w := string(b)
	low := strings.ToLower(w)
	if len(r.words) < mostWords {
		r.words[w] = low
	}
	return low
}

// class gives the name of an object class, of which there are few.
func (r *Reader) class(b []byte) string {
	if w, ok := r.classes[string(b)]; ok {
		return w
	}
	w := string(b)
	if len(r.classes) < mostWords {
		r.classes[w] = w
	}
	return w
}

// value parts a line into the attribute and its value, which is good until the
// next line is read.
func (r *Reader) value(s []byte, at int) (name string, value []byte, err error) {
	word, rest, ok := bytes.Cut(s, []byte(":"))
	if !ok {
		return "", nil, r.wrong(at, "%q is not an attribute with a value", format.Clip(string(s)))
	}
	switch {
	case len(rest) > 0 && rest[0] == ':':
		text := bytes.TrimLeft(rest[1:], " ")
		r.plain = slices.Grow(r.plain[:0], base64.StdEncoding.DecodedLen(len(text)))
		n, err := base64.StdEncoding.Decode(r.plain[:cap(r.plain)], text)
		if err != nil {
			return "", nil, r.wrong(at, "the value of %s is not valid base64: %v", format.Clip(string(word)), err)
		}
		value = r.plain[:n]
	case len(rest) > 0 && rest[0] == '<':
		return "", nil, r.wrong(at, "the value of %s stands elsewhere, at %s, which is not read", format.Clip(string(word)), format.Clip(string(bytes.TrimLeft(rest[1:], " "))))
	default:
		value = bytes.TrimLeft(rest, " ")
	}
	word, _, _ = bytes.Cut(word, []byte(";")) // options: a language, binary
	if len(word) == 0 || len(word) > mostName || bytes.ContainsFunc(word, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '.')
	}) {
		return "", nil, r.wrong(at, "%q is not a name of an attribute", format.Clip(string(word)))
	}
	return r.word(word), value, nil
}

// batch is how many records are read ahead together.
const batch = 256

// Each calls fn with every record. Records are read ahead, by another goroutine,
// which has ended when Each returns.
func (r *Reader) Each(fn func(*Record) error) error {
	type some struct {
		records []*Record
		err     error
	}
	ahead, stop := make(chan some, 4), make(chan struct{})
	go func() {
		defer close(ahead)
		for {
			s := some{records: make([]*Record, 0, batch)}
			for len(s.records) < batch && s.err == nil {
				var x *Record
				if x, s.err = r.Next(); s.err == nil {
					s.records = append(s.records, x)
				}
			}
			select {
			case ahead <- s:
			case <-stop:
				return
			}
			if s.err != nil {
				return
			}
		}
	}()
	err := func() error {
		for s := range ahead {
			for _, x := range s.records {
				if err := fn(x); err != nil {
					return err
				}
			}
			if s.err != nil && s.err != io.EOF {
				return s.err
			}
		}
		return nil
	}()
	close(stop)
	for range ahead { // until it has ended
	}
	return err
}

// Next reads a record; io.EOF after the last.
func (r *Reader) Next() (*Record, error) {
	for {
		s, at, err := r.line()
		if err != nil {
			return nil, err
		}
		if len(s) == 0 {
			continue
		}
		name, value, err := r.value(s, at)
		if err != nil {
			return nil, err
		}
		v := string(value)
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
			return nil, r.wrong(at, "a name that is too long, or not UTF-8")
		}
		return x, r.body(x)
	}
}

var changes = map[string]Change{"add": Add, "delete": Delete, "modify": Modify, "modrdn": Rename, "moddn": Rename}

// part reads a line within a record: an attribute with its value, or a - alone.
// io.EOF tells that the record ends there.
func (r *Reader) part() (name string, value []byte, line int, err error) {
	s, line, err := r.line()
	switch {
	case err != nil:
	case len(s) == 0:
		err = io.EOF
	case string(s) == "-":
		name = "-"
	default:
		name, value, err = r.value(s, line)
	}
	return name, value, line, err
}

// few is how many attributes are looked through one by one.
const few = 32

// body reads what follows the name.
func (r *Reader) body(x *Record) error {
	values := 0
	var at map[string]int // where an attribute stands in Parts, of one that has many
	first := true
	for {
		name, value, line, err := r.part()
		if err == io.EOF {
			r.values(x)
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
			c, ok := changes[strings.ToLower(string(value))]
			if !ok {
				return r.wrong(line, "changetype %q is none of add, delete, modify, modrdn, moddn", format.Clip(string(value)))
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
		if at == nil {
			i = slices.IndexFunc(x.Parts, func(p Part) bool { return p.Name == name })
			ok = i >= 0
		}
		if !ok {
			i = len(x.Parts)
			x.Parts = append(x.Parts, Part{Name: name})
			if at != nil {
				at[name] = i
			} else if i == few {
				at = map[string]int{}
				for i, p := range x.Parts {
					at[p.Name] = i
				}
			}
		}
		v := told{part: i}
		if name == "objectclass" {
			v.class = r.class(value)
		} else {
			v.from = len(r.text)
			r.text = append(r.text, value...)
			v.to = len(r.text)
		}
		r.told = append(r.told, v)
	}
}

// told is a value of an entry while it is read: a class, or a piece of the text
// of all of them.
type told struct {
	part     int
	class    string
	from, to int
}

// values gives the parts of an entry their values, all in one string and one
// list.
func (r *Reader) values(x *Record) {
	text, all := string(r.text), make([]string, len(r.told))
	counts := make([]int, len(x.Parts))
	for _, v := range r.told {
		counts[v.part]++
	}
	n := 0
	for i := range x.Parts {
		x.Parts[i].Values = all[n : n : n+counts[i]]
		n += counts[i]
	}
	for _, v := range r.told {
		p := &x.Parts[v.part]
		if v.class == "" {
			v.class = text[v.from:v.to]
		}
		p.Values = append(p.Values, v.class)
	}
	r.text, r.told = r.text[:0], r.told[:0]
	if cap(r.text) > 1<<20 { // one that is so large is the only one
		r.text, r.told = nil, nil
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
		p := Part{Name: strings.ToLower(string(attr))}
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
			if p.Values = append(p.Values, string(v)); len(p.Values) > mostValues {
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
			x.NewRDN = string(v)
		case "newsuperior":
			x.NewSuperior, x.Moves = string(v), true
		case "deleteoldrdn":
		default:
			return r.wrong(line, "%s, where a name is changed", name)
		}
	}
}
