// Package format holds what the packages below it share: the rows that files
// of accounts and trees are read into, and the error that says where in a
// file something is wrong. Each format has a package of its own below.
package format

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/dustin/go-humanize"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// Error is something wrong in a file.
type Error struct {
	File   string `json:"file"`
	Line   int    `json:"line"`           // from 1; 0: not known
	Column int    `json:"column"`         // in bytes, from 1; 0: not known
	Cell   string `json:"cell,omitempty"` // of a workbook, as C7
	What   string `json:"what"`
}

func (e *Error) Error() string {
	s := e.What
	if e.Column > 0 {
		s = fmt.Sprintf("column %d: %s", e.Column, s)
	}
	if e.Line > 0 {
		s = fmt.Sprintf("line %d, %s", e.Line, s)
		if e.Column == 0 {
			s = fmt.Sprintf("line %d: %s", e.Line, e.What)
		}
	}
	if e.Cell != "" {
		s = "cell " + e.Cell + ": " + e.What
	}
	if e.File != "" {
		s = e.File + ": " + s
	}
	return s
}

// Clip keeps what is echoed to a line.
func Clip(s string) string {
	const most = 200
	if len(s) <= most {
		return s
	}
	n := most
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return s[:n] + "…"
}

// AccountRow is one account of a file.
type AccountRow struct {
	account.Account
	PrimaryGID int64    // of a user from a POSIX file; account.NoPOSIX otherwise
	Details    *Details // of a user; nil: nothing is said beside. The manager is said by name
	Line       int
}

// ShareRow is one share of a file.
type ShareRow struct {
	Name, Folder string
	ReadOnly     bool
	Descriptor   *rule.Descriptor
	Line         int
}

// Number writes a number, its thousands told apart.
func Number(n int64) string { return humanize.Comma(n) }

// Count writes a number with its noun: 1 item, 2,000 items.
func Count(n int64, noun string) string {
	s := humanize.Comma(n)
	switch {
	case n == 1:
		return s + " " + noun
	case strings.HasSuffix(noun, "y"):
		return s + " " + strings.TrimSuffix(noun, "y") + "ies"
	case noun == "person":
		return s + " people"
	}
	return s + " " + noun + "s"
}
