package report

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"strings"

	"tarnwold/internal/ask/census"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/report/doc"
)

// GridHead gives the heads of a grid.
func GridHead(g *census.Gridded, others bool) []string {
	heads := []string{"where", "kind", "sealed"}
	for _, a := range g.Accounts {
		heads = append(heads, a.Name)
	}
	if others {
		heads = append(heads, "who else")
	}
	return heads
}

func gridRows(rows []census.GridRow) (out [][]string) {
	for i := range rows {
		r := &rows[i]
		row := []string{r.Where, r.Kind, YesNo(r.Sealed)}
		for j := range r.Cells {
			row = append(row, r.Cells[j].Text())
		}
		out = append(out, append(row, strings.Join(r.Else, ", ")))
	}
	return out
}

// behindGrid is what stands behind a grid's workbook, so that it can be given back.
func behindGrid(g *census.Gridded, rows []census.GridRow) [][]string {
	ids := []string{"", "", ""}
	for _, a := range g.Accounts {
		ids = append(ids, a.ID)
	}
	return workbook.Behind(append(ids, ""), GridHead(g, true), gridRows(rows))
}

// Gridded prints levels by place and account, folded to the width of the
// terminal: as many accounts at once as there is room for.
func Gridded(p *doc.Printer, g *census.Gridded, rows []census.GridRow) error {
	type whole struct {
		*census.Gridded
		Rows []census.GridRow `json:"rows"`
	}
	if rows == nil {
		rows = []census.GridRow{}
	}
	if len(rows)*len(g.Accounts) <= workbook.MostGiven {
		p.Behind(workbook.BehindName, func() [][]string { return behindGrid(g, rows) })
	}
	return p.Outlined(func() *doc.Outline { return gridOutline(g, rows) }).Give(whole{g, rows}, GridHead(g, true), func() [][]string { return gridRows(rows) }, func() {
		p.Line(doc.In(doc.Strong, g.Where), doc.S(" %s; a level without a mark comes %s", RouteSays(g.Route), unmarked(g)))
		if g.POSIX {
			p.Line(doc.S("  + the account owns it, or its list names it"))
		} else {
			p.Line(doc.S("  + an entry set here names the account; - a deny entry takes something from it"))
		}
		shutSome(p, shutOf(g.Accounts), shutCells)
		top := 0
		if len(rows) > 0 {
			top = len(rows[0].Parts)
		}
		marked, alike := false, false
		for i := range rows {
			marked = marked || rows[i].Sealed || rows[i].Rules != "present"
			alike = alike || rows[i].Items > 1
		}
		names := make([]string, len(rows))
		width := 5
		for i := range rows {
			r := &rows[i]
			names[i] = strings.Repeat("  ", len(r.Parts)-top) + r.Parts[len(r.Parts)-1]
			if i == 0 || alike {
				names[i] = r.Where
			}
			width = max(width, min(len(names[i]), 34))
		}
		width += doc.Gap
		if marked {
			width += 8 + doc.Gap
		}
		for from := 0; from < max(1, len(g.Accounts)); {
			to, room := from, p.Width-width
			for to < len(g.Accounts) {
				need := 7
				for i := range rows {
					need = max(need, min(16, len(rows[i].Cells[to].Text())))
				}
				need = max(need, min(12, len(g.Accounts[to].Name))) + doc.Gap
				if p.Width > 0 && to > from && room < need {
					break
				}
				room -= need
				to++
			}
			last := to == len(g.Accounts)
			where := doc.Col{Head: "where", Weight: 0}
			if width > 36+doc.Gap+8 { // names that have to give way
				where.Weight = 3
			}
			t := doc.Grid{Cols: []doc.Col{where, {Head: "rules", Weight: 0}}}
			for _, a := range g.Accounts[from:to] {
				t.Cols = append(t.Cols, doc.Col{Head: a.Name, Weight: 2})
			}
			if last {
				t.Cols = append(t.Cols, doc.Col{Head: "who else", Weight: 2})
			}
			for i := range rows {
				r := &rows[i]
				rules := ""
				switch {
				case r.Rules != "present":
					rules = r.Rules
				case r.Sealed:
					rules = "sealed"
				}
				row := []doc.Cell{doc.C(names[i]), doc.C(rules)}
				for j := from; j < to; j++ {
					c := &r.Cells[j]
					style := doc.Plain
					switch {
					case c.Level == "nothing":
						style = doc.Faint
					case c.Own:
						style = doc.Strong
					}
					if c.Refused {
						style = doc.Bad
					}
					row = append(row, doc.CI(style, c.Text()))
				}
				if last {
					row = append(row, doc.C(Some(r.Else, 3)))
				}
				t.Rows = append(t.Rows, row)
			}
			p.Blank()
			p.Grid(t)
			if from = to; last {
				break
			}
		}
		if g.More > 0 {
			p.Line(doc.S("  and %s more; --all shows them, as --format csv does", Count(g.More, "row")))
		}
	})
}

// GridWriter writes a grid as CSV, row by row. Grids go up to a hundred
// million cells of few kinds, so that each kind is written as text once.
type GridWriter struct {
	p      *doc.Printer
	w      *bufio.Writer
	others bool
	cells  map[census.GridCell][]byte // with the comma before it
	last   census.GridCell
	text   []byte // of last
}

// GridCSV begins a grid as CSV; others says whether it has a column who else.
func GridCSV(p *doc.Printer, g *census.Gridded, others bool) (*GridWriter, error) {
	w := &GridWriter{p: p, w: bufio.NewWriterSize(p.W, 1<<20), others: others, cells: map[census.GridCell][]byte{}}
	return w, w.record(p.Cells(GridHead(g, others)), true)
}

// record writes fields as CSV has them.
func (w *GridWriter) record(fields []string, end bool) error {
	var b strings.Builder
	c := csv.NewWriter(&b)
	if err := c.Write(fields); err != nil {
		return err
	}
	c.Flush()
	s := b.String()
	if !end {
		s = strings.TrimSuffix(s, "\n")
	}
	_, err := w.w.WriteString(s)
	return err
}

// Row writes one place.
func (w *GridWriter) Row(r *census.GridRow) error {
	if err := w.record(w.p.Cells([]string{r.Where, r.Kind, YesNo(r.Sealed)}), false); err != nil {
		return err
	}
	for i := range r.Cells {
		c := &r.Cells[i]
		if *c != w.last || w.text == nil {
			s, ok := w.cells[*c]
			if !ok {
				s = []byte("," + w.p.Cells([]string{c.Text()})[0])
				if bytes.ContainsAny(s[1:], ",\"\r\n") {
					s = []byte(`,"` + strings.ReplaceAll(string(s[1:]), `"`, `""`) + `"`)
				}
				w.cells[*c] = s
			}
			w.last, w.text = *c, s
		}
		if _, err := w.w.Write(w.text); err != nil {
			return err
		}
	}
	if !w.others {
		return w.w.WriteByte('\n')
	}
	if err := w.w.WriteByte(','); err != nil {
		return err
	}
	if len(r.Else) == 0 {
		return w.w.WriteByte('\n')
	}
	return w.record(w.p.Cells([]string{strings.Join(r.Else, ", ")}), true)
}

// End ends the grid.
func (w *GridWriter) End() error { return w.w.Flush() }

// unmarked says where a level without a mark comes from.
func unmarked(g *census.Gridded) string {
	if g.POSIX {
		return "by a group of theirs or from what others have"
	}
	return "from above"
}
