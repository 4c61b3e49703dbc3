// Package csvfile reads accounts, members, shares and trees as CSV (RFC 4180)
// with a header row that names the columns, in any order:
//
//	accounts: kind, name, sid, id, [purpose], [primary]
//	members:  group, member, [until]
//	shares:   share, folder, read_only, sddl
//	trees:    path, kind, sddl
//	POSIX trees: path, kind, owner, group, mode, [access_acl], [default_acl]
//	askings:  user, where
//	trials:   user, act, where, [to]
//	outfits:  folder, name
//	tries:    at, user, act, where, result
//	entries:  who, level, where, [kind], [scope], [until], [why], [share]
//
// Columns in brackets may be missing. A sheet of a workbook with such a header row is read
// as well. Text is UTF-8; a byte order mark is
// passed over.
package csvfile

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/posix/acltext"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
	"tarnwold/internal/format"
	"tarnwold/internal/format/trail"
	"tarnwold/internal/format/workbook"
)

// Kind is what a sheet holds.
type Kind uint8

const (
	Accounts Kind = iota
	Members
	Shares
	Tree
	PosixTree
	Askings
	Trials
	Outfits
	Tries
	Claims
	Entries
)

var kinds = [...]struct {
	name             string
	needed, optional []string
}{
	Accounts:  {"accounts", []string{"kind", "name", "sid", "id"}, append([]string{"purpose", "primary"}, detailColumns()...)},
	Members:   {"members", []string{"group", "member"}, []string{"until"}},
	Shares:    {"shares", []string{"share", "folder", "read_only", "sddl"}, nil},
	Tree:      {"a tree", []string{"path", "kind", "sddl"}, nil},
	PosixTree: {"a POSIX tree", []string{"path", "kind", "owner", "group", "mode"}, []string{"access_acl", "default_acl"}},
	Askings:   {"questions", []string{"user", "where"}, nil},
	Trials:    {"acts", []string{"user", "act", "where"}, []string{"to"}},
	Outfits:   {"folders to fit out", []string{"folder", "name"}, nil},
	Claims:    {"claims", []string{"user", "claim", "kind", "value"}, nil},
	Entries:   {"entries", []string{"who", "level", "where"}, []string{"kind", "scope", "until", "why", "share"}},
	Tries:     {"what was tried", []string{"at", "user", "act", "where", "result"}, nil},
}

// Reader reads one sheet row by row.
type Reader struct {
	Kind   Kind
	file   string
	csv    source
	cells  bool // it is a sheet of a workbook
	column map[string]int
	row    []string
	rows   int
	left   rationed
	beside []beside // of accounts
	// Further is the columns of accounts that nothing is known of, kept as they are.
	Further []string
}

// source gives rows, and says where their fields are.
type source interface {
	Read() ([]string, error)
	FieldPos(field int) (line, column int)
}

// rows are those of a workbook's sheet; the position of a field is its cell's.
type rows struct {
	left [][]string
	at   int
	head int // how many columns there are
}

func (r *rows) Read() ([]string, error) {
	for len(r.left) > 0 {
		row := r.left[0]
		r.left, r.at = r.left[1:], r.at+1
		if r.head == 0 {
			r.head = len(row)
		}
		if len(row) > 0 {
			if len(row) < r.head { // empty cells at its end
				row = append(slices.Clone(row), make([]string, r.head-len(row))...)
			}
			return row, nil
		}
	}
	return nil, io.EOF
}

func (r *rows) FieldPos(i int) (line, column int) { return r.at, i + 1 }

// The most that is taken of a file: bytes of one row, and rows.
const (
	mostRow  = 1 << 20
	mostRows = 100_000_000
	mostName = 4096 // of an item
	// mostAskings is how many questions are taken at once: their answers are
	// one moment's, and kept until the last is known.
	mostAskings = 5_000_000
)

// rationed ends what never ends a row.
type rationed struct {
	r     io.Reader
	since int // bytes read since the last row ended
}

var errRow = fmt.Errorf("a row is longer than %d bytes", mostRow)

func (l *rationed) Read(b []byte) (int, error) {
	if l.since > mostRow+1<<16 {
		return 0, errRow
	}
	n, err := l.r.Read(b)
	l.since += n
	return n, err
}

// Open reads the header row and tells what the sheet holds, which must be one
// of the kinds given.
func Open(r io.Reader, file string, allowed ...Kind) (*Reader, error) {
	in := bufio.NewReaderSize(r, 1<<16)
	if bom, _ := in.Peek(3); string(bom) == "\ufeff" {
		_, _ = in.Discard(3)
	}
	s := &Reader{file: file}
	s.left.r = in
	c := csv.NewReader(&s.left)
	c.ReuseRecord = true
	s.csv = c
	return s, s.begin(allowed)
}

// OpenRows is Open for a sheet of a workbook.
func OpenRows(sheet [][]string, file string, allowed ...Kind) (*Reader, error) {
	s := &Reader{file: file, csv: &rows{left: sheet}, cells: true}
	return s, s.begin(allowed)
}

func (s *Reader) begin(allowed []Kind) error {
	s.column = map[string]int{}
	file := s.file
	head, err := s.csv.Read()
	if err != nil && !errors.Is(err, io.EOF) {
		return s.broken(err)
	}
	for i, name := range head {
		name = strings.ToLower(strings.TrimSpace(name))
		if _, ok := s.column[name]; ok {
			return &format.Error{File: file, Line: 1, What: fmt.Sprintf("the header row %q: the column %q is named twice", format.Clip(strings.Join(head, ",")), format.Clip(name))}
		}
		s.column[name] = i
	}
	var wanted []string
	for _, k := range allowed {
		if s.fits(k) {
			s.Kind = k
			if k == Accounts {
				return s.besides(head)
			}
			return nil
		}
		w := fmt.Sprintf("%s (%s", kinds[k].name, strings.Join(kinds[k].needed, ","))
		if o := kinds[k].optional; len(o) > 0 {
			w += "; maybe " + strings.Join(o, ",")
		}
		if k == Accounts {
			w += ", and what else is known of users"
		}
		wanted = append(wanted, w+")")
	}
	return &format.Error{File: file, Line: 1, What: fmt.Sprintf("the header row %q is not that of %s", format.Clip(strings.Join(head, ",")), strings.Join(wanted, " or "))}
}

func (s *Reader) fits(k Kind) bool {
	for _, n := range kinds[k].needed {
		if _, ok := s.column[n]; !ok {
			return false
		}
	}
	if k == Accounts { // what else a list has is kept of its users
		return true
	}
	for n := range s.column {
		if !slices.Contains(kinds[k].needed, n) && !slices.Contains(kinds[k].optional, n) {
			return false
		}
	}
	return true
}

func (s *Reader) broken(err error) error {
	var pe *csv.ParseError
	if errors.As(err, &pe) {
		return &format.Error{File: s.file, Line: pe.Line, Column: pe.Column, What: pe.Err.Error()}
	}
	return fmt.Errorf("%s: %w", s.file, err)
}

// next reads a row; false at the end.
func (s *Reader) next() (bool, error) {
	row, err := s.csv.Read()
	if errors.Is(err, io.EOF) {
		return false, nil
	}
	s.left.since = 0
	if s.rows++; s.rows > mostRows {
		return false, &format.Error{File: s.file, Line: s.line(), What: fmt.Sprintf("more than %d rows", mostRows)}
	}
	if err != nil {
		return false, s.broken(err)
	}
	s.row = row
	for i, v := range row {
		if !utf8.ValidString(v) {
			return false, s.at(i, 0, "the text is not UTF-8")
		}
	}
	return true, nil
}

func (s *Reader) get(name string) string {
	if i, ok := s.column[name]; ok {
		return s.row[i]
	}
	return ""
}

func (s *Reader) line() int { l, _ := s.csv.FieldPos(0); return l }

// at makes an error at a byte of a field.
func (s *Reader) at(i, offset int, what string, args ...any) error {
	l, c := s.csv.FieldPos(i)
	if s.cells {
		return &format.Error{File: s.file, Line: l, Cell: workbook.Cell(l-1, i), What: format.Clip(fmt.Sprintf(what, args...))}
	}
	return &format.Error{File: s.file, Line: l, Column: c + offset, What: format.Clip(fmt.Sprintf(what, args...))}
}

func (s *Reader) in(column string, what string, args ...any) error {
	return s.at(s.column[column], 0, what, args...)
}

func (s *Reader) descriptor() (*rule.Descriptor, error) {
	if strings.TrimSpace(s.get("sddl")) == "" { // it would stand for absent rules, which are open to everyone
		return nil, s.in("sddl", "the descriptor is missing; rules that are absent, and so open to everyone, are written D:NO_ACCESS_CONTROL")
	}
	d, err := sddl.Parse(s.get("sddl"), account.ID{})
	var se *sddl.Error
	if errors.As(err, &se) {
		return nil, s.at(s.column["sddl"], se.Column-1, "%s", se.What)
	}
	return d, err
}

// ReadShares reads the rows of a sheet of shares.
func (s *Reader) ReadShares() ([]format.ShareRow, error) {
	var out []format.ShareRow
	for {
		ok, err := s.next()
		if !ok {
			return out, err
		}
		r := format.ShareRow{Line: s.line(), Name: strings.Clone(s.get("share")), Folder: strings.Clone(s.get("folder"))}
		switch s.get("read_only") {
		case "yes":
			r.ReadOnly = true
		case "no":
		default:
			return nil, s.in("read_only", "%q is neither yes nor no", s.get("read_only"))
		}
		if r.Descriptor, err = s.descriptor(); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
}

// ReadTree reads the rows of a tree; step is called now and then with the
// number of rows read, and may be nil.
func (s *Reader) ReadTree(step func(int)) (*format.Tree, error) {
	return s.readTree(step, func() string { return s.get("sddl") }, func() (rule.Any, error) { return s.descriptor() })
}

// ReadPosixTree is ReadTree for a tree of a POSIX system; names finds the
// accounts it names.
func (s *Reader) ReadPosixTree(names acltext.Names, step func(int)) (*format.Tree, error) {
	var key []byte
	return s.readTree(step, func() string {
		key = key[:0]
		for _, c := range []string{"kind", "owner", "group", "mode", "access_acl", "default_acl"} {
			key = append(append(key, s.get(c)...), 0)
		}
		return string(key)
	}, func() (rule.Any, error) { return s.posixRules(names) })
}

// posixRules reads the rules of a row of a POSIX tree.
func (s *Reader) posixRules(names acltext.Names) (rule.Any, error) {
	mode, err := acltext.ParseMode(s.get("mode"))
	if err != nil {
		return nil, s.in("mode", "%v", err)
	}
	r := &posix.Rules{Folder: s.get("kind") == "folder", Special: mode & 0o7000, Access: posix.Of(mode)}
	if r.Owner, err = names.User(s.get("owner")); err != nil {
		return nil, s.in("owner", "%v", err)
	}
	if r.Group, err = names.Group(s.get("group")); err != nil {
		return nil, s.in("group", "%v", err)
	}
	if text := s.get("access_acl"); text != "" {
		access, dflt, err := acltext.Parse(text, names)
		switch {
		case err != nil:
			return nil, s.in("access_acl", "%v", err)
		case dflt != nil:
			return nil, s.in("access_acl", "an entry of the default list stands in the access list")
		case access.Bits() != mode&0o777:
			return nil, s.in("access_acl", "the list stands for the mode %s, and the mode is %s", acltext.Octal(access.Bits()), acltext.Octal(mode&0o777))
		}
		r.Access = access
	}
	if text := s.get("default_acl"); text != "" {
		access, dflt, err := acltext.Parse(text, names)
		switch {
		case err != nil:
			return nil, s.in("default_acl", "%v", err)
		case !r.Folder:
			return nil, s.in("default_acl", "a file has no default list")
		case access != nil && dflt != nil:
			return nil, s.in("default_acl", "some of its entries begin with default:, and some don't")
		case dflt == nil:
			dflt = access
		}
		r.Default = dflt
	}
	return r, nil
}

// readTree reads rows; rules with the same key are the same.
func (s *Reader) readTree(step func(int), key func() string, rules func() (rule.Any, error)) (*format.Tree, error) {
	t := &format.Tree{}
	known := map[string]int32{}
	for {
		ok, err := s.next()
		if !ok {
			return t, err
		}
		r := format.TreeRow{Line: int32(s.line()), Path: s.get("path")}
		switch s.get("kind") {
		case "folder":
			r.Folder = true
		case "file":
		default:
			return nil, s.in("kind", "%q is neither folder nor file", s.get("kind"))
		}
		if why := badPath(r.Path); why != "" {
			if len(r.Path) > 100 { // what is wrong is told first
				return nil, s.in("path", "%s: %q", why, r.Path)
			}
			return nil, s.in("path", "%q: %s", r.Path, why)
		}
		text := key()
		body, ok := known[text]
		if !ok {
			d, err := rules()
			if err != nil {
				return nil, err
			}
			body = int32(len(t.Bodies))
			t.Bodies = append(t.Bodies, d)
			known[strings.Clone(text)] = body
		}
		r.Body = body
		if err := t.Add(r); err != nil {
			return nil, err
		}
		if step != nil && t.Len()%4096 == 0 {
			step(t.Len())
		}
	}
}

func badPath(path string) string {
	if path == "" {
		return ""
	}
	if strings.ContainsRune(path, 0) {
		return "a name holds a zero byte"
	}
	for rest := path; ; {
		name, more, found := strings.Cut(rest, "/")
		switch name {
		case "":
			return "a name is empty; paths are parts joined by / with none before or behind"
		case ".", "..":
			return "a name is . or .."
		}
		if len(name) > mostName {
			return fmt.Sprintf("a name of %d bytes; at most %d are taken", len(name), mostName)
		}
		if !found {
			return ""
		}
		rest = more
	}
}

// Asking is one row of a sheet of questions or acts.
type Asking struct {
	User, Act, Where, To string
	Line                 int
	Err                  error // what is wrong with the row, so that it can't be asked
}

// ReadAskings reads the rows of a sheet of questions or acts. A row that is
// wrong is one of them, with its error: the others are asked all the same.
func (s *Reader) ReadAskings() ([]Asking, error) {
	var out []Asking
	if c, ok := s.csv.(*csv.Reader); ok {
		c.FieldsPerRecord = -1
	}
	for {
		ok, err := s.next()
		var wrong *format.Error
		if !ok && !errors.As(err, &wrong) || s.rows > mostAskings {
			if s.rows > mostAskings {
				err = &format.Error{File: s.file, Line: s.line(), What: fmt.Sprintf("more than %d rows", mostAskings)}
			}
			return out, err
		}
		if wrong != nil {
			out = append(out, Asking{Line: wrong.Line, Err: wrong})
			continue
		}
		a := Asking{Line: s.line()}
		if n := len(s.row); n != len(s.column) {
			a.Err = &format.Error{File: s.file, Line: a.Line, What: fmt.Sprintf("the row has %d columns, the header row %d", n, len(s.column))}
		}
		for name, to := range map[string]*string{"user": &a.User, "act": &a.Act, "where": &a.Where, "to": &a.To, "folder": &a.Where, "name": &a.User} {
			if i, ok := s.column[name]; ok && i < len(s.row) {
				*to = strings.Clone(s.row[i])
			}
		}
		out = append(out, a)
	}
}

// ReadTries reads what was tried, a row at a time. Times are RFC 3339, or as
// 2026-11-25 22:20:09 by this machine's clock; results granted or refused.
func (s *Reader) ReadTries(acts []string, each func(trail.Record) error) error {
	for {
		ok, err := s.next()
		if !ok {
			return err
		}
		cell := func(name string) string { return strings.Clone(s.row[s.column[name]]) }
		r := trail.Record{User: cell("user"), Act: cell("act"), Path: cell("where"), Whole: true}
		text := cell("at")
		if r.At, err = time.Parse(time.RFC3339, text); err != nil {
			if r.At, err = time.ParseInLocation(time.DateTime, text, time.Local); err != nil {
				return s.in("at", "%q is not a time; wanted 2026-11-25T22:20:09Z or 2026-11-25 22:20:09", format.Clip(text))
			}
		}
		switch res := cell("result"); res {
		case "granted":
		case "refused":
			r.Result = trail.Refused
		default:
			return s.in("result", "%q is neither granted nor refused", format.Clip(res))
		}
		switch {
		case r.User == "":
			return s.in("user", "the user is empty")
		case !slices.Contains(acts, r.Act):
			return s.in("act", "%q is not an act: %s", format.Clip(r.Act), strings.Join(acts, ", "))
		}
		r.Raw = strings.Join([]string{r.At.UTC().Format(time.RFC3339Nano), r.User, r.Act, r.Path, cell("result")}, "\x00")
		if err := each(r); err != nil {
			var e *format.Error
			if errors.As(err, &e) {
				return err
			}
			return s.in("where", "%v", err)
		}
	}
}
