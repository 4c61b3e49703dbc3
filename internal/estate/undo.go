package estate

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// Record is one change of the journal.
type Record struct {
	ID       int64  `json:"id"`
	At       string `json:"at"` // RFC 3339, UTC
	Actor    string `json:"actor"`
	Command  string `json:"command"`
	Summary  string `json:"summary"`
	Forced   string `json:"forced,omitempty"`
	Undoes   int64  `json:"undoes,omitempty"`
	UndoneBy int64  `json:"undone-by,omitempty"`
}

// Log lists the journal, newest first.
func (t *Tx) Log() (out []Record) {
	t.each("SELECT id, at, actor, command, summary, forced, undoes FROM journal WHERE id<>? ORDER BY id DESC", []any{t.change}, func(r *sql.Rows) error {
		var c Record
		err := r.Scan(&c.ID, &c.At, &c.Actor, &c.Command, &c.Summary, &c.Forced, &c.Undoes)
		out = append(out, c)
		return err
	})
	// Newest first: whether an undoing change stands is known before what it undid.
	undone := map[int64]int64{}
	for i := range out {
		c := &out[i]
		c.UndoneBy = undone[c.ID]
		if c.Undoes != 0 && c.UndoneBy == 0 && undone[c.Undoes] == 0 {
			undone[c.Undoes] = c.ID
		}
	}
	return out
}

// Record finds one change.
func (t *Tx) Record(id int64) (Record, error) {
	for _, c := range t.Log() {
		if c.ID == id {
			return c, nil
		}
	}
	if t.err != nil {
		return Record{}, t.Err()
	}
	return Record{}, refuse("see: tarnwold log", "the journal has no change %d", id)
}

// Turn is how a change turned one strand's descriptor, with how many items
// the strand has now and the places of the first few.
type Turn struct {
	Strand        int64
	Before, After *rule.Descriptor
	Items         int64
	Folder        bool
}

// Turns lists the descriptors a change altered.
func (t *Tx) Turns(change int64) (out []Turn) {
	type ids struct{ strand, before, after int64 }
	var list []ids
	t.each(`SELECT row, json_extract(before,'$[1]'), json_extract(after,'$[1]') FROM journal_rows
		WHERE change=? AND tbl='strands' AND before IS NOT NULL AND after IS NOT NULL
		AND json_extract(before,'$[1]')<>json_extract(after,'$[1]') ORDER BY id`, []any{change}, func(r *sql.Rows) error {
		var x ids
		err := r.Scan(&x.strand, &x.before, &x.after)
		list = append(list, x)
		return err
	})
	for _, x := range list {
		out = append(out, Turn{x.strand, t.Descriptor(x.before), t.Descriptor(x.after), t.weight(x.strand), t.isFolder(x.strand)})
	}
	return out
}

// RowChange is a journaled row that is no strand's descriptor.
type RowChange struct {
	Table         string
	Row, Last     int64
	Before, After []any // nil: was not, or is not there
}

// Rows lists the rows a change altered, in order.
func (t *Tx) Rows(change int64) (out []RowChange) {
	t.each("SELECT tbl, row, last, before, after FROM journal_rows WHERE change=? ORDER BY id", []any{change}, func(r *sql.Rows) error {
		var c RowChange
		var before, after sql.NullString
		if err := r.Scan(&c.Table, &c.Row, &c.Last, &before, &after); err != nil {
			return err
		}
		var err error
		if c.Before, err = values(before); err == nil {
			c.After, err = values(after)
		}
		out = append(out, c)
		return err
	})
	return out
}

func values(js sql.NullString) ([]any, error) {
	if !js.Valid {
		return nil, nil
	}
	d := json.NewDecoder(strings.NewReader(js.String))
	d.UseNumber()
	var vs []any
	if err := d.Decode(&vs); err != nil {
		return nil, err
	}
	for i, v := range vs {
		if n, ok := v.(json.Number); ok {
			x, err := n.Int64()
			if err != nil {
				return nil, err
			}
			vs[i] = x
		}
	}
	return vs, nil
}

func columnsOf(table string) []string {
	for _, j := range journaled {
		if j.table == table {
			return j.columns
		}
	}
	return nil
}

// rowNow reads a row as the journal writes it; nil where it isn't there.
func (t *Tx) rowNow(table string, row int64) []any {
	var js sql.NullString
	if !t.one("SELECT json_array("+strings.Join(columnsOf(table), ",")+") FROM "+table+" WHERE id=?", []any{row}, &js) {
		return nil
	}
	vs, err := values(js)
	t.fail(err)
	return vs
}

// altered gives the columns in which a row is another one after.
func altered(r RowChange) (cols []int) {
	for k := range r.Before {
		if r.Before[k] != r.After[k] {
			cols = append(cols, k)
		}
	}
	return cols
}

func sameRow(a, b []any) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return bytes.Equal(x, y)
}

// Undo takes a change back, inside a change of its own whose Meta.Undoes is
// its number. It is refused where something later builds on it, unless force;
// over tells whether that was needed.
func (t *Tx) Undo(id int64, force bool) (over bool, err error) {
	rows := t.Rows(id)
	if len(rows) == 0 && t.err == nil {
		return false, refuse("", "change %d altered nothing that could be taken back", id)
	}
	if why := t.builtOn(id, rows); why != "" {
		if !force {
			return false, refuse("undo that first, or insist with --force", "%s", why)
		}
		over = true
	}
	was := map[int64][2]any{} // strand → its descriptor before and after
	for i := len(rows) - 1; i >= 0 && t.err == nil; i-- {
		r := rows[i]
		cols := columnsOf(r.Table)
		switch {
		case r.Last != 0:
			t.exec("DELETE FROM "+r.Table+" WHERE id BETWEEN ? AND ?", r.Row, r.Last)
		case r.Before == nil:
			t.exec("DELETE FROM "+r.Table+" WHERE id=?", r.Row)
		default:
			if r.Table == "strands" && r.After != nil && !sameRow(r.Before[1:2], r.After[1:2]) {
				was[r.Row] = [2]any{r.Before[1], r.After[1]}
			}
			// Only what the change altered in a row goes back: another change
			// may have altered the rest since.
			if r.After != nil {
				for _, k := range altered(r) {
					t.exec("UPDATE "+r.Table+" SET "+cols[k]+"=? WHERE id=?", r.Before[k], r.Row)
				}
			} else {
				t.exec("INSERT INTO "+r.Table+"(id,"+strings.Join(cols, ",")+") VALUES(?"+strings.Repeat(",?", len(cols))+")",
					append([]any{r.Row}, r.Before...)...)
			}
		}
	}
	if over { // strands split off since carry the change on: they go back with it
		for strand, d := range was {
			t.exec("UPDATE strands SET descriptor=? WHERE origin=? AND origin<>0 AND descriptor=?", d[0], strand, d[1])
		}
	}
	t.forget()
	if t.err == nil && !onlyTurns(rows) {
		if broken := t.broken(); broken != "" {
			return over, refuse("undo what came later first", "change %d can't be taken back on its own: %s", id, broken)
		}
	}
	return over, t.Err()
}

// onlyTurns tells whether rows do no more than turn descriptors, which can't
// break what hangs together.
func onlyTurns(rows []RowChange) bool {
	for _, r := range rows {
		if r.Table != "strands" || r.Before == nil || r.After == nil || r.Before[0] != r.After[0] {
			return false
		}
	}
	return true
}

// builtOn says what later change stands on a change's rows; "" for none.
func (t *Tx) builtOn(id int64, rows []RowChange) string {
	final := map[string]RowChange{}
	for _, r := range rows {
		final[fmt.Sprintf("%s %d", r.Table, r.Row)] = r
	}
	say := func(later int64) string {
		var summary string
		t.one("SELECT summary FROM journal WHERE id=?", []any{later}, &summary)
		return fmt.Sprintf("change %d (%s) builds on change %d", later, summary, id)
	}
	// The strands split off since, by what they were split from.
	since := map[int64]int64{}
	t.each(`SELECT s.origin, min(j.change) made FROM strands s CROSS JOIN journal_rows j
		ON j.tbl='strands' AND j.row=s.id AND j.before IS NULL WHERE s.origin<>0 GROUP BY s.id HAVING made>?`, []any{id}, func(r *sql.Rows) error {
		var origin, made int64
		err := r.Scan(&origin, &made)
		since[origin] = max(since[origin], made)
		return err
	})
	for _, r := range rows {
		if r.Last != 0 {
			if later := t.int(`SELECT coalesce(max(change),0) FROM journal_rows WHERE tbl=? AND row BETWEEN ? AND ? AND change>?`, r.Table, r.Row, r.Last, id); later != 0 && !t.settled(later) {
				return say(later)
			}
			column := map[string]string{"items": "items WHERE parent", "strands": "strands WHERE parent"}[r.Table]
			if column != "" && t.int("SELECT count(*) FROM "+column+" BETWEEN ? AND ? AND id NOT BETWEEN ? AND ?", r.Row, r.Last, r.Row, r.Last) > 0 {
				return fmt.Sprintf("something was put into what change %d made", id)
			}
			continue
		}
		now := t.rowNow(r.Table, r.Row)
		f := final[fmt.Sprintf("%s %d", r.Table, r.Row)]
		stands := sameRow(now, f.After)
		if !stands && now != nil && r.Before != nil && r.After != nil && f.After != nil {
			stands = true
			for _, k := range altered(r) {
				stands = stands && now[k] == f.After[k]
			}
		}
		if !stands {
			return say(t.int("SELECT coalesce(max(change),0) FROM journal_rows WHERE tbl=? AND row=? AND change>?", r.Table, r.Row, id))
		}
		if later := since[r.Row]; r.Table == "strands" && r.After != nil && later != 0 {
			return say(later)
		}
	}
	return ""
}

// settled tells whether a change is an undoing or was undone itself, so that
// nothing of it stands.
func (t *Tx) settled(id int64) bool {
	for _, c := range t.Log() {
		if c.ID == id {
			return c.Undoes != 0 || c.UndoneBy != 0
		}
	}
	return false
}

// broken says what does not hold together any more; "" where all does.
func (t *Tx) broken() string {
	for _, c := range []struct{ query, says string }{
		{"SELECT count(*) FROM items i LEFT JOIN items p ON p.id=i.parent WHERE i.parent<>0 AND p.id IS NULL", "items would be in no folder"},
		{"SELECT count(*) FROM items i LEFT JOIN strands s ON s.id=i.strand WHERE s.id IS NULL", "items would have no rules"},
		{"SELECT count(*) FROM items i JOIN items p ON p.id=i.parent JOIN strands s ON s.id=i.strand WHERE s.parent<>p.strand", "items would follow another folder than their own"},
		{"SELECT count(*) FROM members m LEFT JOIN accounts a ON a.id=m.member LEFT JOIN accounts g ON g.id=m.holder WHERE a.id IS NULL OR g.id IS NULL", "memberships would name nobody"},
		{"SELECT count(*) FROM shares s LEFT JOIN servers v ON v.id=s.server WHERE v.id IS NULL", "shares would be on no server"},
		{"SELECT count(*) FROM trees s LEFT JOIN servers v ON v.id=s.server WHERE v.id IS NULL", "trees would be on no server"},
	} {
		if t.int(c.query) > 0 {
			return c.says
		}
	}
	return ""
}

// Concerns tells whether a change altered entries or ownership that name an
// identifier, or the account or its memberships themselves.
func (t *Tx) Concerns(change int64, id account.ID) bool {
	if a := t.account(id); a != nil {
		if t.int("SELECT count(*) FROM journal_rows WHERE change=? AND tbl='accounts' AND row=?", change, a.id) > 0 ||
			t.int(`SELECT count(*) FROM journal_rows WHERE change=? AND tbl='members' AND
				? IN (json_extract(coalesce(after,before),'$[0]'), json_extract(coalesce(after,before),'$[1]'))`, change, a.id) > 0 {
			return true
		}
	}
	names := func(d *rule.Descriptor) (n int) {
		if d.Owner == id {
			n++
		}
		for _, e := range append(d.Rules.Own(), d.Audit.Own()...) {
			if e.Who == id {
				n += 2 + int(e.Rights)
			}
		}
		return n
	}
	for _, x := range t.Turns(change) {
		if names(x.Before) != names(x.After) {
			return true
		}
	}
	for _, r := range t.Rows(change) {
		if r.Table == "shares" && r.Before != nil && r.After != nil {
			b, _ := r.Before[4].(int64)
			a, _ := r.After[4].(int64)
			if b != a && names(t.Descriptor(b)) != names(t.Descriptor(a)) {
				return true
			}
		}
	}
	return false
}

// Altered tells whether a change altered the descriptor of a place's strand,
// or of one that strand was split from.
func (t *Tx) Altered(change int64, p Place) bool {
	for s := p.Strand; s != 0; s = t.int("SELECT origin FROM strands WHERE id=?", s) {
		if t.int(`SELECT count(*) FROM journal_rows WHERE change=? AND tbl='strands' AND row=? AND before IS NOT NULL
			AND json_extract(before,'$[1]')<>json_extract(after,'$[1]')`, change, s) > 0 {
			return true
		}
	}
	return t.int("SELECT count(*) FROM journal_rows WHERE change=? AND tbl='items' AND row=? AND (before IS NULL OR json_extract(before,'$[0]')<>json_extract(after,'$[0]'))", change, p.Item) > 0
}
