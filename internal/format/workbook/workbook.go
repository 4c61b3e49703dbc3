// Package workbook reads the sheets of a workbook (ECMA-376) as text, as they were put in:
// numbers and days aren't drawn as a program would draw them.
package workbook

import (
	"bytes"
	"fmt"
	"io"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"tarnwold/internal/format"
)

// The most that is taken of a workbook. All of it is held at once, packed and unpacked.
const (
	mostBytes    = 64 << 20
	mostUnpacked = 512 << 20
	mostCells    = 4_000_000
)

// Sheet is one sheet, row by row; a row ends with its last cell that holds something.
type Sheet struct {
	Name   string
	Hidden bool
	Rows   [][]string
}

// Is tells whether a file begins as a workbook does: it is a ZIP archive.
func Is(beginning []byte) bool { return bytes.HasPrefix(beginning, []byte("PK\x03\x04")) }

// Cell gives the address of a cell, both from 0: C7 is the third of the seventh row.
func Cell(row, column int) string {
	s, err := excelize.CoordinatesToCellName(column+1, row+1)
	if err != nil {
		return fmt.Sprintf("row %d, column %d", row+1, column+1)
	}
	return s
}

// Read reads all sheets of a workbook.
func Read(r io.Reader, file string) (sheets []Sheet, err error) {
	wrong := func(what string, args ...any) error {
		return &format.Error{File: file, What: fmt.Sprintf(what, args...)}
	}
	packed, err := io.ReadAll(io.LimitReader(r, mostBytes+1))
	if err != nil {
		return nil, err
	}
	if len(packed) > mostBytes {
		return nil, wrong("it is larger than a workbook that is read can be (%d MiB)", mostBytes>>20)
	}
	defer func() { // the library's: a file that means harm may find its mistakes
		if x := recover(); x != nil {
			sheets, err = nil, wrong("it is not a workbook that can be read")
		}
	}()
	f, err := excelize.OpenReader(bytes.NewReader(packed), excelize.Options{UnzipSizeLimit: mostUnpacked, UnzipXMLSizeLimit: mostUnpacked, RawCellValue: true})
	if err != nil {
		return nil, wrong("it is not a workbook that can be read: %s", format.Clip(err.Error()))
	}
	defer f.Close()
	cells := 0
	for _, name := range f.GetSheetList() {
		shown, err := f.GetSheetVisible(name)
		if err != nil {
			return nil, wrong("sheet %q: %s", format.Clip(name), format.Clip(err.Error()))
		}
		s := Sheet{Name: name, Hidden: !shown}
		rows, err := f.Rows(name)
		if err != nil {
			return nil, wrong("sheet %q: %s", format.Clip(name), format.Clip(err.Error()))
		}
		for rows.Next() {
			row, err := rows.Columns()
			if err != nil {
				return nil, wrong("sheet %q: %s", format.Clip(name), format.Clip(err.Error()))
			}
			for i, c := range row {
				if !utf8.ValidString(c) {
					return nil, &format.Error{File: file, Cell: Cell(len(s.Rows), i), What: "the text is not UTF-8"}
				}
			}
			if cells += len(row) + 1; cells > mostCells {
				return nil, wrong("it holds more than %d cells", mostCells)
			}
			s.Rows = append(s.Rows, row)
		}
		if err := rows.Error(); err != nil {
			return nil, wrong("sheet %q: %s", format.Clip(name), format.Clip(err.Error()))
		}
		if err := rows.Close(); err != nil {
			return nil, err
		}
		sheets = append(sheets, s)
	}
	return sheets, nil
}

// Day reads a cell that holds a day: as text it stays, and what a program of sheets made of
// one, a number of days (ECMA-376 part 1 §18.17.4.1), becomes 2006-01-02 again.
func Day(text string) string {
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || n < 1 || n > 2_958_465 { // 9999-12-31
		return text
	}
	at, err := excelize.ExcelDateToTime(n, false)
	if err != nil {
		return text
	}
	return at.Format(time.DateOnly)
}
