// Package report prints answers: as tables for people, as JSON and CSV for
// programs. What is printed comes ready from cli; nothing is decided here.
//
// Names come from files and servers, so nothing reaches a terminal with
// control characters in it, nor a spreadsheet as a formula.
package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Format is how an answer is printed.
type Format string

const (
	Table Format = "table"
	JSON  Format = "json"
	CSV   Format = "csv"
)

// ParseFormat reads table, json or csv.
func ParseFormat(s string) (Format, error) {
	switch f := Format(s); f {
	case Table, JSON, CSV:
		return f, nil
	}
	return "", fmt.Errorf("%q is no format: table, json or csv", s)
}

// Printer prints to one place in one format.
type Printer struct {
	W      io.Writer
	Format Format
	Color  bool
	Screen bool // W is a terminal: nothing raw goes there, in no format
	Width  int  // of the terminal; 0: as wide as it gets
}

// Grid is rows under column heads.
type Grid struct {
	Heads []string
	Rows  [][]string
	Wrap  map[string]int // head → the widest its column may be
}

// Clean makes text safe for a terminal: control characters, and those that
// turn the direction of writing, are shown as escapes.
func Clean(s string) string {
	safe := func(r rune) bool {
		return r != unicode.ReplacementChar && (unicode.IsPrint(r) || r == ' ') &&
			!unicode.Is(unicode.Bidi_Control, r)
	}
	if strings.IndexFunc(s, func(r rune) bool { return !safe(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if safe(r) {
			b.WriteRune(r)
		} else {
			q := strconv.QuoteRuneToASCII(r)
			b.WriteString(q[1 : len(q)-1])
		}
	}
	return b.String()
}

// cell makes text safe for a spreadsheet: one that would be a formula gets an
// apostrophe before it.
func cell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// Line prints a line of text for people; it is left out of JSON and CSV.
func (p *Printer) Line(format string, args ...any) {
	if p.Format == Table {
		text := fmt.Sprintf(format, args...)
		if len(text) > 0 && strings.HasPrefix(text, "\n") {
			fmt.Fprintln(p.W)
			text = text[1:]
		}
		for _, l := range strings.Split(text, "\n") {
			fmt.Fprintln(p.W, p.paint(Clean(l)))
		}
	}
}

// The marks that Strong, Good, Bad and Faint put around a text.
const (
	markStrong = "\ue000"
	markGood   = "\ue001"
	markBad    = "\ue002"
	markFaint  = "\ue003"
	markEnd    = "\ue004"
)

// Strong, Good, Bad and Faint mark a text for a Printer to paint; a text that
// holds such marks of its own loses them.
func Strong(s string) string { return markStrong + unmark(s) + markEnd }

// Good marks what is granted.
func Good(s string) string { return markGood + unmark(s) + markEnd }

// Bad marks what is refused.
func Bad(s string) string { return markBad + unmark(s) + markEnd }

// Faint marks what matters less.
func Faint(s string) string { return markFaint + unmark(s) + markEnd }

var colors = map[string]string{markStrong: "\x1b[1m", markGood: "\x1b[32m", markBad: "\x1b[1;31m", markFaint: "\x1b[2m", markEnd: "\x1b[0m"}

func unmark(s string) string {
	if !strings.ContainsAny(s, markStrong+markGood+markBad+markFaint+markEnd) {
		return s
	}
	for m := range colors {
		s = strings.ReplaceAll(s, m, "?")
	}
	return s
}

// paint turns the marks, which Clean has shown as escapes, into colours.
func (p *Printer) paint(s string) string {
	for m, c := range colors {
		if !p.Color {
			c = ""
		}
		s = strings.ReplaceAll(s, strings.Trim(strconv.QuoteToASCII(m), `"`), c)
	}
	return s
}

// Grid prints rows. A table is laid out for reading, CSV has the heads as its
// first row, JSON is a list of objects named by the heads.
func (p *Printer) Grid(g Grid) error {
	switch p.Format {
	case JSON:
		rows := make([]json.RawMessage, 0, len(g.Rows))
		for _, r := range g.Rows {
			var b strings.Builder
			b.WriteByte('{')
			for i, v := range r {
				if i > 0 {
					b.WriteByte(',')
				}
				k, _ := json.Marshal(strings.ReplaceAll(g.Heads[i], " ", "-"))
				x, _ := json.Marshal(plainText(v))
				b.Write(k)
				b.WriteByte(':')
				b.Write(x)
			}
			b.WriteByte('}')
			rows = append(rows, json.RawMessage(b.String()))
		}
		return p.Value(rows)
	case CSV:
		return p.Sheet(g)
	}
	if len(g.Rows) == 0 {
		return nil
	}
	g = g.withoutEmpty()
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	if p.Color {
		style.Color.Header = text.Colors{text.Bold}
	}
	t.SetStyle(style)
	var configs []table.ColumnConfig
	for head, width := range g.Wrap {
		configs = append(configs, table.ColumnConfig{Name: head, WidthMax: width, WidthMaxEnforcer: wrap})
	}
	t.SetColumnConfigs(configs)
	row := func(cells []string) table.Row {
		out := make(table.Row, len(cells))
		for i, c := range cells {
			lines := strings.Split(c, "\n")
			for j := range lines {
				lines[j] = p.paint(Clean(lines[j]))
			}
			out[i] = strings.Join(lines, "\n")
		}
		return out
	}
	t.AppendHeader(row(g.Heads))
	for _, r := range g.Rows {
		t.AppendRow(row(r))
	}
	for _, line := range strings.Split(t.Render(), "\n") {
		if _, err := fmt.Fprintln(p.W, strings.TrimRight(line, " ")); err != nil {
			return err
		}
	}
	return nil
}

// wrap breaks each line of a cell between words.
func wrap(cell string, width int) string {
	lines := strings.Split(cell, "\n")
	for i, l := range lines {
		lines[i] = text.WrapSoft(l, width)
	}
	return strings.Join(lines, "\n")
}

// withoutEmpty leaves out columns that hold nothing.
func (g Grid) withoutEmpty() Grid {
	out := Grid{Wrap: g.Wrap, Rows: make([][]string, len(g.Rows))}
	for i, h := range g.Heads {
		if !slices.ContainsFunc(g.Rows, func(r []string) bool { return r[i] != "" }) {
			continue
		}
		out.Heads = append(out.Heads, h)
		for j, r := range g.Rows {
			out.Rows[j] = append(out.Rows[j], r[i])
		}
	}
	return out
}

// Sheet prints rows as CSV.
func (p *Printer) Sheet(g Grid) error {
	w := csv.NewWriter(p.W)
	if err := w.Write(g.Heads); err != nil {
		return err
	}
	for _, r := range g.Rows {
		out := make([]string, len(r))
		for i, v := range r {
			out[i] = cell(plainText(v))
			if p.Screen {
				out[i] = Clean(out[i])
			}
		}
		if err := w.Write(out); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// plainText takes the marks off.
func plainText(s string) string {
	if strings.ContainsAny(s, markStrong+markGood+markBad+markFaint+markEnd) {
		for m := range colors {
			s = strings.ReplaceAll(s, m, "")
		}
	}
	return s
}

// Value prints a value as JSON.
func (p *Printer) Value(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	text := b.String()
	if p.Screen { // what JSON leaves as it is
		lines := strings.Split(text, "\n")
		for i, l := range lines {
			lines[i] = Clean(l)
		}
		text = strings.Join(lines, "\n")
	}
	_, err := io.WriteString(p.W, text)
	return err
}
