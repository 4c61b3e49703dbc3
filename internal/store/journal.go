package store

import (
	"database/sql"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
)

// Listen makes the database write down every change of a journaled row under
// a change's number, and keep the weights of strands. Triggers do it, so that
// no query can forget to. With bulk rows are written down by the range (Made).
//
// The triggers are made once for a connection, for making them is dear, and do
// something only while the number of a change stands in a table of their own.
func (t *Tx) Listen(change int64, bulk bool) {
	t.change, t.ranges = change, bulk
	if bulk { // where there is no trigger, none is asked row by row
		if t.listening {
			t.Exec("DROP TABLE IF EXISTS temp.making")
			for _, name := range t.Strings("SELECT name FROM sqlite_temp_master WHERE type='trigger'") {
				t.Exec("DROP TRIGGER temp." + name)
			}
			t.listening = false
		}
		return
	}
	if !t.listening {
		var b strings.Builder
		b.WriteString("CREATE TEMP TABLE IF NOT EXISTS making(change INTEGER NOT NULL);")
		for _, j := range journaled {
			list := func(when string) string { return quoted(j.columns, when) }
			for _, ev := range []struct{ event, row, before, after string }{
				{"INSERT", "new", "NULL", list("new.")},
				{"UPDATE", "new", list("old."), list("new.")},
				{"DELETE", "old", list("old."), "NULL"},
			} {
				b.WriteString(triggerOf(j.table, ev.event, ev.row, ev.before, ev.after))
			}
		}
		b.WriteString(`
CREATE TEMP TRIGGER IF NOT EXISTS w_insert AFTER INSERT ON main.items WHEN ` + whileMaking + ` BEGIN
	INSERT INTO weights(strand, items) VALUES(new.strand, 1) ON CONFLICT(strand) DO UPDATE SET items = items + 1; END;
CREATE TEMP TRIGGER IF NOT EXISTS w_delete AFTER DELETE ON main.items WHEN ` + whileMaking + ` BEGIN
	DELETE FROM facts WHERE item = old.id;
	UPDATE weights SET items = items - 1 WHERE strand = old.strand; END;
CREATE TEMP TRIGGER IF NOT EXISTS w_update AFTER UPDATE OF strand ON main.items WHEN old.strand <> new.strand AND ` + whileMaking + ` BEGIN
	UPDATE weights SET items = items - 1 WHERE strand = old.strand;
	INSERT INTO weights(strand, items) VALUES(new.strand, 1) ON CONFLICT(strand) DO UPDATE SET items = items + 1; END;`)
		t.Exec(b.String())
		t.listening = t.err == nil
	}
	t.Exec("DELETE FROM temp.making")
	t.Exec("INSERT INTO temp.making(change) VALUES(?)", change)
}

// Unlisten makes the triggers do nothing again; they outlive the transaction.
func (t *Tx) Unlisten() {
	if t.listening {
		t.Exec("DELETE FROM temp.making")
	}
}

// Change is the journal entry being made; 0 where none is.
func (t *Tx) Change() int64 { return t.change }

// Made writes down that a bulk load made the rows first to last of a table;
// elsewhere the triggers have done that already.
func (t *Tx) Made(table string, first, last int64) {
	if t.ranges && last >= first {
		t.Exec("INSERT INTO journal_rows(change, tbl, row, last) VALUES(?,?,?,?)", t.change, table, first, last)
	}
}

// Row is a journaled row before and after a change.
type Row struct {
	Table         string
	ID, Last      int64 // Last: of a bulk load, which made the rows ID to Last
	Before, After []any // int64 or string, beside Columns(Table); nil: was not, or is not there
}

// Text gives a text column of a list of values.
func Text(values []any, i int) string { s, _ := values[i].(string); return s }

// Number gives a number column of a list of values.
func Number(values []any, i int) int64 { n, _ := values[i].(int64); return n }

// Rows lists the rows a change altered, in order.
func (t *Tx) Rows(change int64) []Row {
	return t.rows("WHERE change=? ORDER BY id", change)
}

// RowsOf lists the rows of one table a change altered, in order.
func (t *Tx) RowsOf(change int64, table string) []Row {
	return t.rows("WHERE change=? AND tbl=? ORDER BY id", change, table)
}

// RowsSince lists the rows of some tables that changes after one altered, in order. They are
// found by the change (the plus takes the table's own index away): by the table all that was
// ever altered of it would be read.
func (t *Tx) RowsSince(change int64, tables ...string) []Row {
	args := []any{change}
	for _, table := range tables {
		args = append(args, table)
	}
	return t.rows("WHERE change>? AND +tbl IN (?"+strings.Repeat(",?", len(tables)-1)+") ORDER BY id", args...)
}

// ChangesOf lists the changes that altered one row, oldest first.
func (t *Tx) ChangesOf(table string, id int64) []int64 {
	return t.Ints("SELECT DISTINCT change FROM journal_rows WHERE tbl=? AND row BETWEEN ? AND ? AND (row=? OR last>=? AND after IS NOT NULL) ORDER BY change",
		table, id-packed+1, id, id, id)
}

// rows gives what is written down; rows that came together are told one by one.
func (t *Tx) rows(where string, args ...any) (out []Row) {
	t.written(where, args, func(c Row, after []string) error {
		if len(after) == 0 {
			out = append(out, c)
			return nil
		}
		first := c.ID
		c.Last = 0
		for i, text := range after {
			var err error
			if c.After, err = literals(text); err != nil {
				return err
			}
			c.ID = first + int64(i)
			out = append(out, c)
		}
		return nil
	})
	return out
}

// Readable reads all that is written down, and keeps none of it: its error says what can't
// be read.
func (t *Tx) Readable() {
	t.written("ORDER BY id", nil, func(_ Row, after []string) error {
		for _, text := range after {
			if _, err := literals(text); err != nil {
				return err
			}
		}
		return nil
	})
}

// written calls fn with what is written down, and with how the rows are after
// it: none, one, or one each of the rows ID to Last that came together.
func (t *Tx) written(where string, args []any, fn func(c Row, after []string) error) {
	t.Each("SELECT tbl, row, last, before, after FROM journal_rows "+where, args, func(r *sql.Rows) error {
		var c Row
		var before, after sql.NullString
		err := r.Scan(&c.Table, &c.ID, &c.Last, &before, &after)
		if err == nil && before.Valid {
			c.Before, err = literals(before.String)
		}
		if err != nil {
			return err
		}
		var rows []string
		if after.Valid {
			rows = apart(after.String)
			if want := max(0, c.Last-c.ID) + 1; int64(len(rows)) != want {
				return fmt.Errorf("the journal holds %d rows where there are %d", len(rows), want)
			}
		}
		return fn(c, rows)
	})
}

// apart cuts rows of literals that were written down together, at each
// semicolon outside of quotes.
func apart(s string) (out []string) {
	quoted, from := false, 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\'':
			quoted = !quoted
		case ';':
			if !quoted {
				out, from = append(out, s[from:i]), i+1
			}
		}
	}
	return append(out, s[from:])
}

// literals reads a list of SQL literals as quote() writes them.
func literals(s string) ([]any, error) {
	var out []any
	for i := 0; ; {
		bad := fmt.Errorf("the journal holds a row that can't be read (at byte %d)", i)
		switch {
		case i < len(s) && s[i] == '\'':
			var b strings.Builder
			for i++; ; i++ {
				if i >= len(s) {
					return nil, bad
				}
				if s[i] == '\'' {
					if i+1 < len(s) && s[i+1] == '\'' {
						i++
					} else {
						i++
						break
					}
				}
				b.WriteByte(s[i])
			}
			out = append(out, b.String())
		default:
			j := strings.IndexByte(s[i:], ',')
			if j < 0 {
				j = len(s) - i
			}
			word := s[i : i+j]
			i += j
			if word == "NULL" {
				out = append(out, nil)
			} else if n, err := strconv.ParseInt(word, 10, 64); err == nil {
				out = append(out, n)
			} else if h, ok := strings.CutPrefix(word, "X'"); ok {
				raw, err := hex.DecodeString(strings.TrimSuffix(h, "'"))
				if err != nil {
					return nil, bad
				}
				out = append(out, string(raw))
			} else {
				return nil, bad
			}
		}
		if i >= len(s) {
			return out, nil
		}
		if s[i] != ',' {
			return nil, bad
		}
		i++
	}
}

// Now gives a journaled table's row as it is; nil where it isn't there.
func (t *Tx) Now(table string, id int64) []any {
	cols := Columns(table)
	values, into := make([]any, len(cols)), make([]any, len(cols))
	for i := range values {
		into[i] = &values[i]
	}
	if !t.One("SELECT "+strings.Join(cols, ",")+" FROM "+table+" WHERE id=?", []any{id}, into...) {
		return nil
	}
	for i, v := range values {
		if raw, ok := v.([]byte); ok {
			values[i] = string(raw)
		}
	}
	return values
}

// Put puts a row of a journaled table back in, under its old number.
func (t *Tx) Put(table string, id int64, values []any) {
	cols := Columns(table)
	t.Exec("INSERT INTO "+table+"(id,"+strings.Join(cols, ",")+") VALUES(?"+strings.Repeat(",?", len(cols))+")",
		append([]any{id}, values...)...)
}

// Set gives single columns of a row other values.
func (t *Tx) Set(table string, id int64, column string, value any) {
	t.Exec("UPDATE "+table+" SET "+column+"=? WHERE id=?", value, id)
}

// SetMany gives a column of many rows other values, in their order.
func (t *Tx) SetMany(table, column string, rows, values []int64) {
	if len(rows) == 0 {
		return
	}
	list := jsonOf(len(rows), func(b []byte, i int) []byte {
		b = append(strconv.AppendInt(append(b, '['), rows[i], 10), ',')
		return append(strconv.AppendInt(b, values[i], 10), ']')
	})
	t.Exec("UPDATE "+table+" SET "+column+"=x.v FROM (SELECT json_extract(value,'$[0]') AS r, json_extract(value,'$[1]') AS v FROM json_each(?)) AS x WHERE "+table+".id=x.r",
		string(list))
}

// Delete takes a row out.
func (t *Tx) Delete(table string, id int64) { t.Exec("DELETE FROM "+table+" WHERE id=?", id) }

// DeleteMany takes rows out, many at a time.
func (t *Tx) DeleteMany(table string, ids []int64) {
	for len(ids) > 0 && t.err == nil {
		if t.ctx.Err() != nil {
			t.Fail(t.ctx.Err())
			return
		}
		n := min(len(ids), bulkRows)
		args := make([]any, n)
		for i, id := range ids[:n] {
			args[i] = id
		}
		t.Exec("DELETE FROM "+table+" WHERE id IN (?"+strings.Repeat(",?", n-1)+")", args...)
		ids = ids[n:]
	}
}

// DeleteRange takes the rows first to last out, from the last on, so that what
// hangs from another goes before it.
func (t *Tx) DeleteRange(table string, first, last int64) {
	t.Exec("DELETE FROM "+table+" WHERE id BETWEEN ? AND ?", first, last)
}
