package doc

import (
	"encoding/csv"
	"fmt"
	"strings"
)

// Stream prints rows as they come, however many there are, so that the first
// are there at once: a table whose last column may be as wide as it is, CSV,
// or JSON as an object with the rows under a key.
type Stream struct {
	p     *Printer
	heads []string
	wide  []int // of all columns but the last
	key   string
	n     int
	csv   *csv.Writer
	buf   strings.Builder
}

// atOnce is how many rows are written as they come; those after them are
// written by the many.
const atOnce = 200

func (s *Stream) put(text string) {
	s.buf.WriteString(text)
	if s.n <= atOnce || s.buf.Len() >= 1<<16 {
		s.p.write(s.buf.String())
		s.buf.Reset()
	}
}

// Stream begins printing rows; before holds the keys of the JSON object that
// stand before the rows.
func (p *Printer) Stream(heads []string, wide []int, key string, before map[string]any) *Stream {
	s := &Stream{p: p, heads: heads, wide: wide, key: key}
	switch p.Format {
	case JSON:
		head := strings.TrimSuffix(strings.TrimSpace(p.json(before, "", "  ")), "}")
		if head = strings.TrimRight(head, " \n"); head != "{" {
			head += ","
		}
		p.write(head + fmt.Sprintf("\n  %q: [", key))
	case CSV:
		s.csv = csv.NewWriter(p.W)
		if p.err == nil {
			p.err = s.csv.Write(p.Cells(heads))
		}
	case Markdown:
		p.markdown(heads, nil)
	}
	return s
}

// Row prints one row; v is it as JSON has it.
func (s *Stream) Row(v any, cells ...string) error {
	p := s.p
	s.n++
	switch p.Format {
	case JSON:
		sep := ""
		if s.n > 1 {
			sep = ","
		}
		s.put(sep + "\n    " + strings.TrimSpace(p.json(v, "    ", "  ")))
	case CSV:
		if p.err == nil {
			p.err = s.csv.Write(p.Cells(cells))
		}
	case Markdown:
		s.put(markdownRow(cells))
	default:
		if s.n == 1 {
			s.line(Strong, s.heads)
		}
		s.line(Plain, cells)
	}
	return p.err
}

func (s *Stream) line(style Style, cells []string) {
	var b strings.Builder
	for i, c := range cells {
		c = Clean(c)
		b.WriteString(s.p.paint(c, style))
		if i < len(s.wide) {
			b.WriteString(strings.Repeat(" ", max(1, s.wide[i]-len(c))))
		}
	}
	s.put(b.String() + "\n")
}

// End ends the rows.
func (s *Stream) End() error {
	s.p.write(s.buf.String())
	s.buf.Reset()
	switch s.p.Format {
	case JSON:
		if s.n > 0 {
			s.p.write("\n  ")
		}
		s.p.write("]\n}\n")
	case CSV:
		s.csv.Flush()
		if s.p.err == nil {
			s.p.err = s.csv.Error()
		}
	}
	return s.p.err
}

// Rows is how many were printed.
func (s *Stream) Rows() int { return s.n }
