package estate

import (
	"fmt"
	"strings"
)

// Head is the number of the journal's last change, 0 for none.
func (t *Tx) Head() int64 { return t.int("SELECT coalesce(max(id),0) FROM journal") }

// listen makes the database write down every change of a journaled row under
// a change's number, and keep the weights of strands. Triggers do it, so that
// no query can forget to.
func (t *Tx) listen(change int64, bulk bool) {
	var b strings.Builder
	if !bulk {
		for _, j := range journaled {
			list := func(when string) string {
				return "json_array(" + when + strings.Join(j.columns, ","+when) + ")"
			}
			for _, ev := range []struct{ event, row, before, after string }{
				{"INSERT", "new", "NULL", list("new.")},
				{"UPDATE", "new", list("old."), list("new.")},
				{"DELETE", "old", list("old."), "NULL"},
			} {
				fmt.Fprintf(&b, `CREATE TEMP TRIGGER j_%[1]s_%[2]s AFTER %[2]s ON main.%[1]s BEGIN
	INSERT INTO journal_rows(change, tbl, row, before, after) VALUES(%[3]d, '%[1]s', %[4]s.id, %[5]s, %[6]s); END;`,
					j.table, ev.event, change, ev.row, ev.before, ev.after)
			}
		}
		b.WriteString(`
CREATE TEMP TRIGGER w_insert AFTER INSERT ON main.items BEGIN
	INSERT INTO weights(strand, items) VALUES(new.strand, 1) ON CONFLICT(strand) DO UPDATE SET items = items + 1; END;
CREATE TEMP TRIGGER w_delete AFTER DELETE ON main.items BEGIN
	UPDATE weights SET items = items - 1 WHERE strand = old.strand; END;
CREATE TEMP TRIGGER w_update AFTER UPDATE OF strand ON main.items WHEN old.strand <> new.strand BEGIN
	UPDATE weights SET items = items - 1 WHERE strand = old.strand;
	INSERT INTO weights(strand, items) VALUES(new.strand, 1) ON CONFLICT(strand) DO UPDATE SET items = items + 1; END;`)
	}
	t.exec(b.String())
}

// unlisten takes the triggers away again; they would outlive the transaction.
func (t *Tx) unlisten() {
	for _, name := range t.strings("SELECT name FROM sqlite_temp_master WHERE type='trigger'") {
		t.exec("DROP TRIGGER temp." + name)
	}
}

// made writes down that a bulk load made the rows first to last of a table.
func (t *Tx) made(table string, first, last int64) {
	if last >= first {
		t.exec("INSERT INTO journal_rows(change, tbl, row, last) VALUES(?,?,?,?)", t.change, table, first, last)
	}
}

// SetUndoes says which change the one being made takes back.
func (t *Tx) SetUndoes(id int64) {
	t.exec("UPDATE journal SET undoes=? WHERE id=?", id, t.change)
}

// SetForced writes down which guards were overridden.
func (t *Tx) SetForced(guards []string) {
	if len(guards) > 0 {
		t.exec("UPDATE journal SET forced=? WHERE id=?", strings.Join(guards, ", "), t.change)
	}
}

// RowName names an account by its row number, as the journal holds it.
func (t *Tx) RowName(row any) string {
	var name string
	if !t.one("SELECT name FROM accounts WHERE id=?", []any{row}, &name) {
		return "an account no longer there"
	}
	return name
}
