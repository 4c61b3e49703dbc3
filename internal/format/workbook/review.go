package workbook

import (
	"fmt"
	"strings"

	"tarnwold/internal/format"
)

// A part of a review stands behind its workbook, as a grid does.
const (
	reviewName = "Which review"
	reviewIs   = "tarnwold review"
	reviewForm = "1"
)

// BehindReview gives the name and the rows of the sheet behind a part of a review.
func BehindReview(review, part string) (name string, rows [][]string) {
	return reviewName, [][]string{{reviewIs, reviewForm}, {"review", review}, {"part", part}}
}

// Answers is what a workbook says of the rows of a part.
type Answers struct {
	Review, Part string
	Rows         []AnswerRow
	Wrong        func(row int, column, what string, args ...any) error
}

// AnswerRow is what is said of one row.
type AnswerRow struct {
	Key, Answer, Note string
	At                int // the row of the sheet, from 0
}

// Reviewed reads the answers in the workbook of a part. Rows may be sorted and left out.
func Reviewed(sheets []Sheet, file string) (*Answers, error) {
	b, seen := behind(sheets, reviewName, reviewIs)
	switch {
	case b == nil:
		return nil, &format.Error{File: file, What: "it is not a part of a review that tarnwold wrote: the sheet \"" + reviewName + "\" isn't in it"}
	case text(b.Rows[0], 1) != reviewForm:
		return nil, &format.Error{File: file, What: "the part is of a form that this tarnwold doesn't read; write it again"}
	case seen == nil:
		return nil, &format.Error{File: file, What: "it holds no sheet that is seen"}
	}
	column := map[string]int{}
	for i, h := range seen.Rows[0] {
		column[strings.ToLower(strings.TrimSpace(h))] = i
	}
	at := func(name string) int {
		if i, ok := column[name]; ok {
			return i
		}
		return -1
	}
	for _, name := range []string{"answer", "row"} {
		if at(name) < 0 {
			return nil, &format.Error{File: file, What: fmt.Sprintf("its first row names no column %q", name)}
		}
	}
	a := &Answers{Review: text(b.Rows[1], 1), Part: text(b.Rows[2], 1), Wrong: func(row int, name, what string, args ...any) error {
		return &format.Error{File: file, Line: row + 1, Cell: Cell(row, max(at(name), 0)), What: format.Clip(fmt.Sprintf(what, args...))}
	}}
	first := map[string]int{}
	for i, r := range seen.Rows[1:] {
		x := AnswerRow{Key: text(r, at("row")), Answer: text(r, at("answer")), Note: text(r, at("note")), At: i + 1}
		if x.Key == "" {
			if x.Answer != "" {
				return nil, a.Wrong(x.At, "row", "the answer is to no row: its number is missing")
			}
			continue
		}
		if was, ok := first[x.Key]; ok {
			return nil, a.Wrong(x.At, "row", "the row is there twice: it is %s too", Cell(was, at("row")))
		}
		first[x.Key] = x.At
		a.Rows = append(a.Rows, x)
	}
	return a, nil
}
