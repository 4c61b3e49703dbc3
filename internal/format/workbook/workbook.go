// Package workbook reads the sheets of a workbook (ECMA-376) as text, as they were put in:
// numbers and days aren't drawn as a program would draw them.
package workbook

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"tarnwold/internal/format"
)

// The most that is taken of a workbook. All of it is held at once, packed and unpacked.
const (
	mostBytes    = 64 << 20
	mostUnpacked = 256 << 20
	mostCells    = 4_000_000
	mostCell     = 4 * 32_767 // bytes of the characters that a cell holds
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
	if err := whole(packed, file); err != nil {
		return nil, err
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
				switch {
				case !utf8.ValidString(c):
					return nil, &format.Error{File: file, Cell: Cell(len(s.Rows), i), What: "the text is not UTF-8"}
				case len(c) > mostCell:
					return nil, &format.Error{File: file, Cell: Cell(len(s.Rows), i), What: "it holds more than a cell can"}
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

// behind finds the sheet that stands behind a workbook of ours, known by its name and its
// first cell, and the one that is seen; nil where there is none.
func behind(sheets []Sheet, name, is string) (b, seen *Sheet) {
	for i := range sheets {
		s := &sheets[i]
		switch {
		case s.Name == name && len(s.Rows) >= 3 && text(s.Rows[0], 0) == is:
			b = s
		case s.Name != name && !s.Hidden && seen == nil && len(s.Rows) > 0:
			seen = s
		}
	}
	return b, seen
}

// text gives a cell of a row, which may end before it.
func text(row []string, column int) string {
	if column < 0 || column >= len(row) {
		return ""
	}
	return strings.TrimSpace(row[column])
}

// whole tells whether the sheets and texts of a workbook are whole: the library takes one that
// breaks off in the middle for one that ends there.
func whole(packed []byte, file string) error {
	broken := func(what string) error {
		return &format.Error{File: file, What: "it is not a workbook that can be read: " + format.Clip(what)}
	}
	z, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
	if err != nil {
		return broken(err.Error())
	}
	left := int64(mostUnpacked)
	for _, f := range z.File {
		if left -= int64(min(f.UncompressedSize64, mostUnpacked)); left < 0 {
			return broken(fmt.Sprintf("unpacked it has more than %d MiB", mostUnpacked>>20))
		}
		name := strings.ToLower(f.Name)
		if !strings.HasPrefix(name, "xl/worksheets/") && name != "xl/sharedstrings.xml" || !strings.HasSuffix(name, ".xml") {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return broken(f.Name + ": " + err.Error())
		}
		d := xml.NewDecoder(&runs{r: io.LimitReader(r, mostUnpacked)})
		for err == nil {
			_, err = d.RawToken()
		}
		r.Close()
		if !errors.Is(err, io.EOF) {
			return broken(f.Name + ": " + err.Error())
		}
	}
	return nil
}

// runs ends what never begins another element: it would be held as one piece.
type runs struct {
	r io.Reader
	n int // bytes since the last element began
}

const mostRun = 1 << 20

func (x *runs) Read(b []byte) (int, error) {
	n, err := x.r.Read(b)
	if i := bytes.LastIndexByte(b[:n], '<'); i >= 0 {
		x.n = n - i
	} else if x.n += n; x.n > mostRun {
		return 0, errors.New("it holds more than a cell can")
	}
	return n, err
}

// Day reads a cell that holds a day: as text it stays, and what a program of sheets made of
// one, a number of days (ECMA-376 part 1 §18.17.4.1), becomes 2006-01-02 again.
func Day(text string) string {
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || !(n >= 1 && n <= 2_958_465) { // 9999-12-31; NaN is neither
		return text
	}
	at, err := excelize.ExcelDateToTime(n, false)
	if err != nil {
		return text
	}
	return at.Format(time.DateOnly)
}
