package store

import (
	"fmt"
	"strings"
)

// triggerOf writes down what an event does to the rows of a journaled table.
func triggerOf(table, event, row, before, after string, change int64) string {
	return fmt.Sprintf(`CREATE TEMP TRIGGER j_%[1]s_%[2]s AFTER %[2]s ON main.%[1]s BEGIN
	INSERT INTO journal_rows(change, tbl, row, before, after) VALUES(%[3]d, '%[1]s', %[4]s.id, %[5]s, %[6]s); END;`, table, event, change, row, before, after)
}

// quoted lists columns of a row as SQL literals.
func quoted(columns []string, when string) string {
	return "quote(" + when + strings.Join(columns, ")||','||quote("+when) + ")"
}

// InsertMany puts n rows into a journaled table, many at a time, and writes each
// down as the triggers would: row gives the values of one, beside its number. It
// returns the first one's number; the others follow.
func (t *Tx) InsertMany(table string, n int, row func(i int) []any) (first int64) {
	first = t.Last(table) + 1
	if n == 0 {
		return first
	}
	cols := Columns(table)
	if !t.ranges && t.change != 0 {
		t.Exec("DROP TRIGGER temp.j_" + table + "_INSERT")
	}
	rows := t.Bulk(table, append([]string{"id"}, cols...)...)
	said := t.Bulk("journal_rows", "change", "tbl", "row", "after")
	var b strings.Builder
	for i := range n {
		if i&1023 == 0 && (t.Err() != nil || t.Context().Err() != nil) {
			t.Fail(t.Context().Err())
			return first
		}
		values := row(i)
		rows.Add(append([]any{first + int64(i)}, values...)...)
		if t.ranges || t.change == 0 {
			continue
		}
		b.Reset()
		for k, v := range values {
			if k > 0 {
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
		said.Add(t.change, table, first+int64(i), b.String())
	}
	rows.Flush()
	said.Flush()
	t.Made(table, first, first+int64(n)-1)
	if !t.ranges && t.change != 0 {
		t.Exec(triggerOf(table, "INSERT", "new", "NULL", quoted(cols, "new."), t.change))
	}
	return first
}
