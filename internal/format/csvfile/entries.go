package csvfile

import (
	"fmt"
	"strings"

	"tarnwold/core/rule"
	"tarnwold/internal/format"
	"tarnwold/internal/format/workbook"
)

// Entry is one row of a sheet of entries: whom to give which level where.
type Entry struct {
	Who, Level, Where string
	Deny, Share       bool
	Scope             rule.Scope // 0: not said
	Until, Why        string
	wrong             func(column, what string) error
}

// Wrong says of an error in which row it is, and of which column.
func (e *Entry) Wrong(column string, err error) error { return e.wrong(column, err.Error()) }

// mostEntries is how many entries are given at once: all of them are one plan.
const mostEntries = 200_000

// ReadEntries reads the rows of a sheet of entries. What isn't said to be allow or deny is
// what deny says.
func (s *Reader) ReadEntries(deny bool) (out []Entry, err error) {
	for {
		ok, err := s.next()
		if !ok {
			return out, err
		}
		if len(out) == mostEntries {
			return nil, &format.Error{File: s.file, Line: s.line(), What: fmt.Sprintf("more than %d rows", mostEntries)}
		}
		get := func(c string) string { return strings.Clone(strings.TrimSpace(s.get(c))) }
		e := Entry{Who: get("who"), Level: get("level"), Where: get("where"), Until: get("until"), Why: get("why"), Deny: deny}
		line := s.line()
		e.wrong = func(column, what string) error {
			if i, named := s.column[column]; named && s.cells {
				return &format.Error{File: s.file, Line: line, Cell: workbook.Cell(line-1, i), What: format.Clip(what)}
			}
			return &format.Error{File: s.file, Line: line, What: format.Clip(what)}
		}
		for _, c := range []string{"who", "level", "where"} {
			if get(c) == "" {
				return nil, s.in(c, "it is empty; wanted the %s of the entry", map[string]string{"who": "account", "level": "level", "where": "place"}[c])
			}
		}
		if s.cells {
			e.Until = workbook.Day(e.Until)
		}
		switch strings.ToLower(get("kind")) {
		case "":
		case "allow", "grant":
			e.Deny = false
		case "deny":
			e.Deny = true
		default:
			return nil, s.in("kind", "%q is neither allow nor deny", get("kind"))
		}
		switch strings.ToLower(get("share")) {
		case "", "no":
		case "yes":
			e.Share = true
		default:
			return nil, s.in("share", "%q is neither yes nor no", get("share"))
		}
		if text := get("scope"); text != "" {
			if e.Scope, err = rule.ParseScope(text); err != nil {
				return nil, s.in("scope", "%v", err)
			}
			if e.Share {
				return nil, s.in("scope", "entries of a share have no scope")
			}
		}
		out = append(out, e)
	}
}
