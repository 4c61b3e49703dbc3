// Package doc draws a document of headings, facts, tables and trees: at a terminal,
// as CSV, Markdown, JSON, a page, a workbook or JUnit's XML, each by one renderer.
//
// Names come from files and servers, so nothing reaches a terminal with
// control characters in it, nor a spreadsheet as a formula. Text and how it
// looks are kept apart: a name is never searched for marks.
package doc

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
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"tarnwold/internal/format"
)

// Format is how an answer is printed.
type Format string

const (
	Table Format = "table"
	JSON  Format = "json"
	CSV   Format = "csv"
	// Markdown is rows as a table of Markdown.
	Markdown Format = "markdown"
	// Workbook and Page are files of their own, told by their ending.
	Workbook Format = "workbook"
	Page     Format = "page"
	// JUnit is checks as programs for continuous integration read them.
	JUnit Format = "junit"
)

// Formats lists the formats there are.
var Formats = []string{string(Table), string(JSON), string(CSV), string(Markdown)}

// ParseFormat reads table, json, csv or markdown.
func ParseFormat(s string) (Format, error) {
	if slices.Contains(Formats, s) {
		return Format(s), nil
	}
	return "", fmt.Errorf("%q is not a format: table, json, csv or markdown", Clip(s))
}

// Printer prints to one place in one format.
type Printer struct {
	W       io.Writer
	Format  Format
	Color   bool
	Screen  bool   // W is a terminal: nothing raw goes there, in no format
	Width   int    // of the terminal; 0: as wide as it gets
	Title   string // of a workbook or page
	Rights  bool   // an explanation shows every right
	Command string // what is answered: the command, as in "tarnwold user list"
	// WhoIs says who somebody is, for pages; "": it isn't known. nil: of nobody.
	WhoIs func(name string) string
	// outline is the answer as a page shows it; nil: as its rows.
	outline func() *Outline
	// behind is a second sheet of a workbook, not shown; nil: there is none.
	behind     func() [][]string
	behindName string
	choices    map[int][]string // of a column of a workbook: what is to be chosen from
	err        error
}

// Err gives the first error of writing.
func (p *Printer) Err() error { return p.err }

func (p *Printer) write(s string) {
	if p.err == nil {
		_, p.err = io.WriteString(p.W, s)
	}
}

// Clean makes text safe for a terminal: control characters, and those that
// turn the direction of writing, are shown as escapes.
func Clean(s string) string {
	safe := func(r rune, size int) bool {
		return !(r == utf8.RuneError && size == 1) && (unicode.IsPrint(r) || r == ' ')
	}
	i := 0
	for i < len(s) && s[i] >= ' ' && s[i] < 0x7f {
		i++
	}
	if i == len(s) {
		return s
	}
	clean := true
	for i < len(s) && clean {
		r, size := utf8.DecodeRuneInString(s[i:])
		clean = safe(r, size)
		i += size
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case safe(r, size):
			b.WriteRune(r)
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		default:
			q := strconv.QuoteRuneToASCII(r)
			b.WriteString(q[1 : len(q)-1])
		}
		i += size
	}
	return b.String()
}

// Clip keeps what is echoed to a line.
func Clip(s string) string { return format.Clip(s) }

// formula makes text safe for a spreadsheet: one that would be a formula gets
// an apostrophe before it.
func formula(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// Style is how a piece of text looks.
type Style uint8

const (
	Plain  Style = iota
	Strong       // a heading
	Good         // what is granted, what comes
	Bad          // what is refused, what goes
	Faint        // what matters less
)

var escapes = [...]string{Strong: "\x1b[1m", Good: "\x1b[32m", Bad: "\x1b[1;31m", Faint: "\x1b[2m"}

// Span is a piece of text in one style.
type Span struct {
	Text  string
	Style Style
}

// In makes a span.
func In(style Style, text string) Span { return Span{text, style} }

// S makes a plain span.
func S(format string, args ...any) Span { return Span{Text: fmt.Sprintf(format, args...)} }

func (p *Printer) paint(s string, style Style) string {
	s = Clean(s)
	if !p.Color || style == Plain || s == "" {
		return s
	}
	return escapes[style] + s + "\x1b[0m"
}

// Line prints a line of text for people, broken between words where the
// terminal ends; it is left out of JSON and CSV.
func (p *Printer) Line(spans ...Span) {
	if p.Format != Table {
		return
	}
	type word struct {
		text  string
		style Style
		blank bool // a blank stands before it
	}
	var words []word
	indent := 0
	for i, s := range spans {
		t := s.Text
		if i == 0 {
			indent = len(t) - len(strings.TrimLeft(t, " "))
		}
		parts := strings.Split(t, " ")
		for k, w := range parts {
			words = append(words, word{w, s.Style, k > 0})
		}
	}
	var b strings.Builder
	at := 0
	for _, w := range words {
		n := columns(Clean(w.text))
		gap := 0
		if w.blank {
			gap = 1
		}
		if w.blank && p.Width > 0 && at > indent && at+gap+n > p.Width {
			b.WriteString("\n" + strings.Repeat(" ", indent+2))
			at, gap = indent+2, 0
		}
		if gap == 1 {
			b.WriteByte(' ')
		}
		b.WriteString(p.paint(w.text, w.style))
		at += gap + n
	}
	p.write(strings.TrimRight(b.String(), " ") + "\n")
}

// Blank prints an empty line for people.
func (p *Printer) Blank() {
	if p.Format == Table {
		p.write("\n")
	}
}

// Cell is the lines of a cell.
type Cell []Span

// C makes a cell of one plain line; of several where the text has breaks of its own.
func C(s string) Cell { return Cell{{Text: s}} }

// Cs makes a cell of plain lines.
func Cs(lines ...string) Cell {
	c := make(Cell, len(lines))
	for i, l := range lines {
		c[i].Text = l
	}
	return c
}

// CI makes a cell of one line in a style.
func CI(style Style, s string) Cell { return Cell{{s, style}} }

func (c Cell) empty() bool {
	for _, s := range c {
		if s.Text != "" {
			return false
		}
	}
	return true
}

// Col is a column of a table. Weight says how much of the room a column is
// given where there isn't enough for all; 0 is never narrowed.
type Col struct {
	Head   string
	Weight int
}

// Grid is rows under column heads.
type Grid struct {
	Cols []Col
	Rows [][]Cell
}

// Heads makes columns of equal weight.
func Heads(names ...string) []Col {
	cols := make([]Col, len(names))
	for i, n := range names {
		cols[i] = Col{n, 2}
	}
	return cols
}

// PlainGrid makes a grid of rows of which nothing stands out.
func PlainGrid(cols []Col, rows [][]string) Grid {
	g := Grid{Cols: cols}
	for _, r := range rows {
		var cells []Cell
		for _, s := range r {
			cells = append(cells, C(s))
		}
		g.Rows = append(g.Rows, cells)
	}
	return g
}

// Gap is what stands between two columns.
const Gap = 2

// least is how narrow a column may become before the table is a list instead.
const least = 9

// Grid lays a table out for reading: columns that hold nothing are left out,
// those that don't fit the terminal give way by weight, and what is narrower
// than a table can be becomes a list.
func (p *Printer) Grid(g Grid) {
	if p.Format != Table || len(g.Rows) == 0 {
		return
	}
	g = g.withoutEmpty()
	natural := make([]int, len(g.Cols))
	for i, c := range g.Cols {
		natural[i] = columns(c.Head)
		for _, r := range g.Rows {
			for _, s := range r[i] {
				natural[i] = max(natural[i], columns(Clean(s.Text)))
			}
		}
	}
	widths, ok := fit(g.Cols, natural, p.Width)
	if !ok {
		p.list(g)
		return
	}
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", strings.Repeat(" ", Gap)
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	row := func(cells []Cell) table.Row {
		out := make(table.Row, len(cells))
		for i, c := range cells {
			var lines []string
			for _, s := range c {
				for _, l := range wrap(Clean(s.Text), widths[i]) {
					lines = append(lines, p.paint(l, s.Style))
				}
			}
			out[i] = strings.Join(lines, "\n")
		}
		return out
	}
	heads := make([]Cell, len(g.Cols))
	for i, c := range g.Cols {
		heads[i] = CI(Strong, c.Head)
	}
	t.AppendHeader(row(heads))
	for _, r := range g.Rows {
		t.AppendRow(row(r))
	}
	for _, line := range strings.Split(t.Render(), "\n") {
		p.write(strings.TrimRight(line, " ") + "\n")
	}
}

// list prints each row as lines of head and value.
func (p *Printer) list(g Grid) {
	most := 0
	for _, c := range g.Cols {
		most = max(most, columns(c.Head))
	}
	for i, r := range g.Rows {
		if i > 0 {
			p.write("\n")
		}
		for k, c := range r {
			if c.empty() {
				continue
			}
			head := g.Cols[k].Head
			for n, s := range c {
				for m, l := range wrap(Clean(s.Text), max(least, p.Width-most-Gap)) {
					if n > 0 || m > 0 {
						head = ""
					}
					p.write(p.paint(head, Strong) + strings.Repeat(" ", most-columns(head)+Gap) + p.paint(l, s.Style) + "\n")
				}
			}
		}
	}
}

// fit gives each column a width within the whole; false where some would
// become too narrow.
func fit(cols []Col, natural []int, whole int) ([]int, bool) {
	room := whole - Gap*(len(cols)-1)
	total := 0
	for _, n := range natural {
		total += n
	}
	out := slices.Clone(natural)
	if whole <= 0 || total <= room {
		return out, true
	}
	fixed := make([]bool, len(cols))
	for i, c := range cols {
		fixed[i] = c.Weight == 0
	}
	for {
		left, weights := room, 0
		for i := range cols {
			if fixed[i] {
				left -= out[i]
			} else {
				weights += cols[i].Weight
			}
		}
		if weights == 0 {
			return out, left >= 0
		}
		if left <= 0 {
			return out, false
		}
		settled := true
		for i := range cols {
			if share := left * cols[i].Weight / weights; !fixed[i] && natural[i] <= share {
				out[i], fixed[i], settled = natural[i], true, false
			}
		}
		if !settled {
			continue
		}
		for i := range cols {
			if fixed[i] {
				continue
			}
			// What would be too narrow gets what it needs at least; the others share the rest.
			if out[i] = left * cols[i].Weight / weights; out[i] < min(least, natural[i]) {
				out[i], fixed[i], settled = min(least, natural[i]), true, false
				break
			}
		}
		if !settled {
			continue
		}
		return out, true
	}
}

// wrap breaks a line between words, or behind a slash or comma; a word that is
// wider still is cut.
func wrap(s string, width int) []string {
	if width <= 0 || columns(s) <= width {
		return []string{s}
	}
	indent := s[:len(s)-len(strings.TrimLeft(s, " "))]
	if len(indent) > width/2 {
		indent = indent[:width/2]
	}
	var lines []string
	line, at := indent, len(indent)
	put := func(piece string) {
		for {
			n := columns(piece)
			if at+columns(strings.TrimRight(piece, " ")) <= width {
				line, at = line+piece, at+n
				return
			}
			if at > len(indent) {
				lines = append(lines, strings.TrimRight(line, " "))
				line, at = indent, len(indent)
				continue
			}
			cut, w := 0, 0
			for i, r := range piece {
				if w += text.RuneWidth(r); w > width-at {
					break
				}
				cut = i + utf8.RuneLen(r)
			}
			if cut == 0 {
				line, at = line+piece, at+n
				return
			}
			if i := strings.LastIndexByte(piece[:cut], '-'); i > 0 && i > cut/2 {
				cut = i + 1 // names of groups are long and hyphenated
			}
			lines = append(lines, line+piece[:cut])
			line, at, piece = indent, len(indent), piece[cut:]
		}
	}
	rest := strings.TrimLeft(s, " ")
	for rest != "" {
		i := strings.IndexAny(rest, " /,")
		if i < 0 {
			put(rest)
			break
		}
		for i+1 < len(rest) && (rest[i] == ' ' && rest[i+1] == ' ' || rest[i] == '/' && rest[i+1] == '/') {
			i++
		}
		if rest[:i+1] == "//" { // the beginning of an address
			if j := strings.IndexAny(rest[i+1:], " /,"); j >= 0 {
				i += 1 + j
			} else {
				i = len(rest) - 1
			}
		}
		put(rest[:i+1])
		rest = rest[i+1:]
	}
	return append(lines, strings.TrimRight(line, " "))
}

// withoutEmpty leaves out columns that hold nothing.
func (g Grid) withoutEmpty() Grid {
	out := Grid{Rows: make([][]Cell, len(g.Rows))}
	for i, c := range g.Cols {
		if !slices.ContainsFunc(g.Rows, func(r []Cell) bool { return !r[i].empty() }) {
			continue
		}
		out.Cols = append(out.Cols, c)
		for j, r := range g.Rows {
			out.Rows[j] = append(out.Rows[j], r[i])
		}
	}
	return out
}

// Sheet prints rows as CSV under heads.
func (p *Printer) Sheet(heads []string, rows [][]string) {
	if p.err != nil {
		return
	}
	w := csv.NewWriter(p.W)
	p.err = w.Write(p.Cells(heads)) // names of groups may stand there
	for _, r := range rows {
		if p.err != nil {
			return
		}
		p.err = w.Write(p.Cells(r))
	}
	w.Flush()
	if p.err == nil {
		p.err = w.Error()
	}
}

func (p *Printer) Cells(r []string) []string {
	out := make([]string, len(r))
	for i, v := range r {
		out[i] = formula(v)
		if p.Screen {
			out[i] = Clean(out[i])
		}
	}
	return out
}

// Value prints a value as JSON.
func (p *Printer) Value(v any) {
	p.write(p.json(v, "", "  "))
}

// JSONLine prints a value as one line of JSON.
func (p *Printer) JSONLine(v any) error {
	p.write(p.json(v, "", ""))
	return p.err
}

func (p *Printer) json(v any, prefix, indent string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent(prefix, indent)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		if p.err == nil {
			p.err = err
		}
		return ""
	}
	out := b.String()
	if p.Screen { // what JSON leaves as it is
		lines := strings.Split(out, "\n")
		for i, l := range lines {
			lines[i] = Clean(l)
		}
		out = strings.Join(lines, "\n")
	}
	return out
}

// Given, where it isn't nil, is told of each answer that is given as JSON: tests hold answers to
// what is written down of them.
var Given func(command string, v any)

// Give prints an answer in the format that is wanted: the value itself, its
// rows, or as draw draws it.
func (p *Printer) Give(v any, heads []string, rows func() [][]string, draw func()) error {
	switch p.Format {
	case JSON:
		if Given != nil {
			Given(p.Command, v)
		}
		p.Value(v)
	case CSV:
		p.Sheet(heads, rows())
	case Markdown:
		p.markdown(heads, rows())
	case Workbook:
		if p.err == nil {
			p.err = p.book(p.Title, heads, rows())
		}
	case Page:
		var o *Outline
		if p.outline != nil {
			o = p.outline()
		} else {
			o = flat(p.Title, heads, rows())
		}
		if p.err == nil {
			p.err = p.Page(o)
		}
	default:
		draw()
	}
	return p.err
}

// columns is how many columns a text takes. Of what is ASCII alone, as nearly all is, that
// is its length; else letters are looked at, which takes a hundred times as long.
func columns(s string) int {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return text.StringWidth(s)
		}
	}
	return len(s)
}
