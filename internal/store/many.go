package store

import (
	"fmt"
	"strings"
)

// triggerOf writes down what an event does to the rows of a journaled table.
func triggerOf(table, event, row, before, after string) string {
	return fmt.Sprintf(`CREATE TEMP TRIGGER IF NOT EXISTS j_%[1]s_%[2]s AFTER %[2]s ON main.%[1]s WHEN %[6]s BEGIN
	INSERT INTO journal_rows(change, tbl, row, before, after) SELECT change, '%[1]s', %[3]s.id, %[4]s, %[5]s FROM making; END;`, table, event, row, before, after, whileMaking)
}

// whileMaking holds while a change is made.
const whileMaking = "EXISTS(SELECT 1 FROM making)"

// quoted lists columns of a row as SQL literals.
func quoted(columns []string, when string) string {
	return "quote(" + when + strings.Join(columns, ")||','||quote("+when) + ")"
}

// many is from how many rows on an empty table's further indexes are made when
// all are in.
const many = 10_000

// indexed names those of the tables that rows come to by the hundred thousand.
var indexed = map[string]struct{ drop, make string }{
	"accounts": {"DROP INDEX IF EXISTS accounts_primary", accountIndex},
	"members":  {"DROP INDEX IF EXISTS members_member; DROP INDEX IF EXISTS members_pair", memberIndex + "; " + pairIndex},
}

// packed is how many rows that came at once are written down as one.
const packed = 256

// pack is some rows and what is written down of them.
type pack struct {
	rows  []any // the values of each, its number before them
	first int64
	last  int64
	after string
}

// InsertMany puts n rows into a journaled table, many at a time, and writes them
// down by the hundred: row gives the values of one, beside its number. It returns
// the first one's number; the others follow. Rows are asked for ahead, by
// another goroutine.
func (t *Tx) InsertMany(table string, n int, row func(i int) []any) (first int64) {
	first = t.Last(table) + 1
	if n == 0 {
		return first
	}
	cols := Columns(table)
	journaled := !t.ranges && t.change != 0
	if journaled {
		t.Exec("DROP TRIGGER temp.j_" + table + "_INSERT")
	}
	loaded := func() {}
	if x, ok := indexed[table]; ok && n >= many {
		loaded = t.loading(table, x.drop, x.make)
	}
	rows := t.Bulk(table, append([]string{"id"}, cols...)...)
	said := t.Bulk("journal_rows", "change", "tbl", "row", "last", "after")
	packs, back, stop := make(chan *pack, 4), make(chan *pack, 8), make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer close(packs)
		for i := 0; i < n; i += packed {
			var p *pack
			select {
			case p = <-back:
			default:
				p = &pack{}
			}
			p.fill(first, i, min(packed, n-i), row)
			select {
			case packs <- p:
			case <-stop:
				return
			}
		}
	}()
	for p := range packs {
		if t.Err() != nil || t.Context().Err() != nil {
			t.Fail(t.Context().Err())
			break
		}
		rows.Add(p.rows...)
		if journaled {
			said.Add(t.change, table, p.first, p.last, p.after)
		}
		select {
		case back <- p:
		default:
		}
	}
	close(stop)
	<-done // what gives rows is the caller's again
	if t.Err() != nil {
		return first
	}
	rows.Flush()
	said.Flush()
	loaded()
	t.Made(table, first, first+int64(n)-1)
	if journaled {
		t.Exec(triggerOf(table, "INSERT", "new", "NULL", quoted(cols, "new.")))
	}
	return first
}

// fill makes a pack of n rows from the i-th on.
func (p *pack) fill(first int64, i, n int, row func(i int) []any) {
	p.rows, p.first, p.last = p.rows[:0], first+int64(i), 0
	if n > 1 {
		p.last = p.first + int64(n) - 1
	}
	var b strings.Builder
	b.Grow(len(p.after))
	for k := range n {
		if k > 0 {
			b.WriteByte(';')
		}
		p.rows = append(p.rows, p.first+int64(k))
		for c, v := range row(i + k) {
			p.rows = append(p.rows, v)
			if c > 0 {
				b.WriteByte(',')
			}
			if yes, ok := v.(bool); ok {
				v = int64(0)
				if yes {
					v = int64(1)
				}
			}
			b.WriteString(literal(v))
		}
	}
	p.after = b.String()
}
