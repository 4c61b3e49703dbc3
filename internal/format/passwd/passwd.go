// Package passwd reads the POSIX account files: passwd(5), seven fields
// name:password:uid:gid:comment:home:shell, and group(5), four fields
// name:password:gid:member,member.
package passwd

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"tarnwold/core/account"
	"tarnwold/internal/format"
)

// Users reads a passwd file. Their identifiers are left out: a user is known
// by uid.
func Users(r io.Reader, file string) ([]format.AccountRow, error) {
	var out []format.AccountRow
	err := lines(r, file, 7, "name:password:uid:gid:comment:home:shell", func(line int, f []string, at func(i int, format string, args ...any) error) error {
		uid, err := account.ParsePOSIX(f[2])
		if err != nil {
			return at(2, "%q is not a uid", f[2])
		}
		gid, err := account.ParsePOSIX(f[3])
		if err != nil {
			return at(3, "%q is not a gid", f[3])
		}
		out = append(out, format.AccountRow{Line: line, PrimaryGID: gid,
			Account: account.Account{Kind: account.User, Name: f[0], POSIX: uid}})
		return nil
	})
	return out, err
}

// Homes reads a passwd file for the folder each user has; of two lines for a name the
// first counts.
func Homes(r io.Reader, file string) (map[string]string, error) {
	out := map[string]string{}
	err := lines(r, file, 7, "name:password:uid:gid:comment:home:shell", func(_ int, f []string, _ func(i int, format string, args ...any) error) error {
		if _, twice := out[f[0]]; !twice {
			out[f[0]] = f[5]
		}
		return nil
	})
	return out, err
}

// Groups reads a group file.
func Groups(r io.Reader, file string) ([]format.AccountRow, format.Memberships, error) {
	var out []format.AccountRow
	var members format.Memberships
	err := lines(r, file, 4, "name:password:gid:members", func(line int, f []string, at func(i int, format string, args ...any) error) error {
		gid, err := account.ParsePOSIX(f[2])
		if err != nil {
			return at(2, "%q is not a gid", f[2])
		}
		out = append(out, format.AccountRow{Line: line, PrimaryGID: account.NoPOSIX,
			Account: account.Account{Kind: account.Group, Name: f[0], POSIX: gid}})
		if f[3] == "" {
			return nil
		}
		for _, m := range strings.Split(f[3], ",") {
			if m == "" {
				return at(3, "a member's name is empty")
			}
			members.Add(format.MemberRow{Group: "group:" + f[0], Member: "user:" + m, Line: line})
		}
		return nil
	})
	return out, members, err
}

// mostLines is how many lines of a file are taken.
const mostLines = 50_000_000

func lines(r io.Reader, file string, fields int, wanted string, row func(int, []string, func(int, string, ...any) error) error) error {
	s := bufio.NewScanner(r)
	s.Buffer(nil, 1<<20)
	n := 0
	for s.Scan() {
		n++
		text := s.Text()
		if n == 1 {
			text = strings.TrimPrefix(text, "\ufeff") // a byte order mark
		}
		if n > mostLines {
			return &format.Error{File: file, Line: n, What: fmt.Sprintf("more than %d lines", mostLines)}
		}
		if text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		if !utf8.ValidString(text) {
			return &format.Error{File: file, Line: n, What: "the line is not UTF-8 text"}
		}
		f := strings.Split(text, ":")
		if len(f) != fields {
			return &format.Error{File: file, Line: n, What: fmt.Sprintf("%d fields, wanted %d: %s", len(f), fields, wanted)}
		}
		at := func(i int, what string, args ...any) error {
			column := 1
			for _, v := range f[:i] {
				column += len(v) + 1
			}
			return &format.Error{File: file, Line: n, Column: column, What: fmt.Sprintf(what, args...)}
		}
		if f[0] == "" {
			return at(0, "the name is empty")
		}
		if err := row(n, f, at); err != nil {
			return err
		}
	}
	if err := s.Err(); err != nil {
		return &format.Error{File: file, Line: n + 1, What: err.Error()}
	}
	return nil
}
