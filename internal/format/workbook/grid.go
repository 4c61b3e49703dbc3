package workbook

import (
	"fmt"
	"strings"

	"tarnwold/internal/format"
)

// A grid's workbook has a sheet behind the one that is seen, with the grid as it was and who
// its columns are, so that what somebody changes in it can be told when it is given back.
const (
	BehindName = "As it was"
	behindIs   = "tarnwold grid"
	behindForm = "1"
)

// MostGiven is how many cells a grid has at most that can be given back.
const MostGiven = 1_000_000

// The columns of a grid beside its accounts'.
const (
	gridWhere  = "where"
	gridKind   = "kind"
	gridSealed = "sealed"
	gridOthers = "who else"
)

func notLevels(head string) bool {
	return head == gridWhere || head == gridKind || head == gridSealed || head == gridOthers
}

// Behind gives the rows of the sheet behind a grid: ids are of whom its columns are, "" where
// a column isn't anybody's.
func Behind(ids, heads []string, rows [][]string) [][]string {
	return append([][]string{{behindIs, behindForm}, ids, heads}, rows...)
}

// Changed is a cell of a grid that says something else than it did.
type Changed struct {
	Where   string // the place of its row
	Who     string // the head of its column
	ID      string // whom that names; "" where the column wasn't there
	Was, Is string // Was is "" where it wasn't there
	Wrong   func(what string, args ...any) error
	// NoPlace and Nobody say that of the heads of its row and column.
	NoPlace, Nobody func(error) error
}

// Differences gives the cells of a grid that were changed in its workbook. Rows and columns
// may be sorted, left out or added; each is known by its head.
func Differences(sheets []Sheet, file string) ([]Changed, error) {
	b, seen := behind(sheets, BehindName, behindIs)
	switch {
	case b == nil:
		return nil, &format.Error{File: file, What: "it is not a grid that tarnwold wrote: the sheet \"" + BehindName + "\" isn't in it"}
	case text(b.Rows[0], 1) != behindForm:
		return nil, &format.Error{File: file, What: "the grid is of a form that this tarnwold doesn't read; write it again"}
	case seen == nil:
		return nil, &format.Error{File: file, What: "it holds no sheet that is seen"}
	}
	ids, heads := b.Rows[1], b.Rows[2]
	column := map[string]int{}
	for i, h := range heads {
		if _, twice := column[h]; twice && !notLevels(h) {
			return nil, &format.Error{File: file, What: fmt.Sprintf("two columns are called %q: a grid of one of them can be given back", format.Clip(h))}
		}
		column[h] = i
	}
	row := map[string][]string{}
	for _, r := range b.Rows[3:] {
		if len(r) > 0 {
			row[r[0]] = r
		}
	}
	at := func(r, c int) func(string, ...any) error {
		return func(what string, args ...any) error {
			return &format.Error{File: file, Line: r + 1, Cell: Cell(r, c), What: format.Clip(fmt.Sprintf(what, args...))}
		}
	}
	now := seen.Rows[0]
	where, given := -1, map[string]bool{}
	for i, h := range now {
		h = strings.TrimSpace(h)
		if given[h] && h != "" {
			return nil, at(0, i)("the column %q is there twice", h)
		}
		if given[h] = true; h == gridWhere {
			where = i
		}
	}
	if where < 0 {
		return nil, &format.Error{File: file, What: `its first row names no column "where"`}
	}
	var out []Changed
	places := map[string]bool{}
	for r := 1; r < len(seen.Rows); r++ {
		line := seen.Rows[r]
		place := text(line, where)
		if place == "" {
			for c := range line {
				if text(line, c) != "" {
					return nil, at(r, where)("the row has no place")
				}
			}
			continue
		}
		if places[place] {
			return nil, at(r, where)("the place %s is there twice", place)
		}
		places[place] = true
		was, known := row[place]
		for c, head := range now {
			head = strings.TrimSpace(head)
			i, before := column[head]
			is, old := text(line, c), ""
			if known && before {
				old = text(was, i)
			}
			if c == where || is == old || head == "" && is == "" || !known && notLevels(head) {
				continue
			}
			switch {
			case head == "":
				return nil, at(0, c)("the column has no account at its head")
			case notLevels(head):
				return nil, at(r, c)("the column %q tells, and can't be changed here; it was %q", head, old)
			case is == "":
				return nil, at(r, c)("it is empty, and was %q; write nothing where nothing is to be had", old)
			}
			x := Changed{Where: place, Who: head, Was: old, Is: is, Wrong: at(r, c),
				NoPlace: func(err error) error { return at(r, where)("%v", err) },
				Nobody:  func(err error) error { return at(0, c)("%v", err) }}
			if before {
				x.ID = text(ids, i)
			}
			out = append(out, x)
		}
	}
	return out, nil
}
