package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync/atomic"
)

// Tx is one transaction. Its first error stays: later calls do nothing, and
// the transaction ends with it.
type Tx struct {
	ctx    context.Context
	db     *DB
	conn   *sql.Conn
	stmts  map[string]*sql.Stmt
	err    error
	change int64 // the journal entry being made
	ranges bool  // rows are journaled by the range
	keys   EntryKeys
	// listening: the triggers are there, of this transaction or one before.
	listening bool
	tables    map[string]bool // that the file has; nil: nobody asked yet
}

// asked counts the statements that were run and the rows they gave.
var asked struct{ calls, rows atomic.Int64 }

// Asked tells how many statements this process has run, in all its estates, and how
// many rows they gave: what a command costs beside what it computes.
func Asked() (calls, rows int64) { return asked.calls.Load(), asked.rows.Load() }

// Context is what the transaction runs under.
func (t *Tx) Context() context.Context { return t.ctx }

// Err gives the first error of the transaction.
func (t *Tx) Err() error { return plain(t.err) }

// Fail ends the transaction with an error, where none has ended it before.
func (t *Tx) Fail(err error) {
	if t.err == nil && err != nil {
		t.err = err
	}
}

func (t *Tx) stmt(q string) *sql.Stmt {
	asked.calls.Add(1)
	if s, ok := t.stmts[q]; ok {
		return s
	}
	s, err := t.conn.PrepareContext(t.ctx, q)
	if err != nil {
		t.Fail(fmt.Errorf("%s: %w", q, err))
		return nil
	}
	t.stmts[q] = s
	return s
}

// Exec runs a statement and gives the id of the row it put in.
func (t *Tx) Exec(q string, args ...any) int64 {
	if t.err != nil {
		return 0
	}
	if len(args) == 0 { // may be several statements at once
		_, err := t.conn.ExecContext(t.ctx, q)
		t.Fail(err)
		return 0
	}
	s := t.stmt(q)
	if t.err != nil {
		return 0
	}
	r, err := s.ExecContext(t.ctx, args...)
	if err != nil {
		t.Fail(err)
		return 0
	}
	id, _ := r.LastInsertId()
	return id
}

// One reads the single row of a query; ok is false where there is none.
func (t *Tx) One(q string, args []any, into ...any) (ok bool) {
	if t.err != nil {
		return false
	}
	s := t.stmt(q)
	if t.err != nil {
		return false
	}
	err := s.QueryRowContext(t.ctx, args...).Scan(into...)
	if errors.Is(err, sql.ErrNoRows) {
		return false
	}
	t.Fail(err)
	asked.rows.Add(1)
	return err == nil
}

// Int reads a single number; 0 where there is none.
func (t *Tx) Int(q string, args ...any) (n int64) {
	t.One(q, args, &n)
	return n
}

// Each reads the rows of a query one by one; scan is called once a row.
func (t *Tx) Each(q string, args []any, scan func(row *sql.Rows) error) {
	if t.err != nil {
		return
	}
	s := t.stmt(q)
	if t.err != nil {
		return
	}
	rows, err := s.QueryContext(t.ctx, args...)
	if err != nil {
		t.Fail(err)
		return
	}
	defer rows.Close()
	for rows.Next() {
		asked.rows.Add(1)
		if err := scan(rows); err != nil {
			t.Fail(err)
			return
		}
	}
	t.Fail(rows.Err())
}

// EachNumbers is Each of a query that gives whole numbers alone, by the million: in n,
// which is used again for the next row.
func (t *Tx) EachNumbers(q string, args []any, each func(n []int64) error) {
	var n []int64
	t.EachBare(q, args, func(row []driver.Value) error {
		n = n[:0]
		for _, v := range row {
			x, ok := v.(int64)
			if !ok {
				return fmt.Errorf("%w: %v in place of a number", ErrDamaged, v)
			}
			n = append(n, x)
		}
		return each(n)
	})
}

// EachBare is Each for rows by the million, as the driver gives them: in row, which is used
// again for the next one.
func (t *Tx) EachBare(q string, args []any, each func(row []driver.Value) error) {
	if t.err != nil {
		return
	}
	asked.calls.Add(1)
	named := make([]driver.NamedValue, len(args))
	for i, a := range args {
		named[i] = driver.NamedValue{Ordinal: i + 1, Value: a}
	}
	t.Fail(t.conn.Raw(func(conn any) error {
		rows, err := conn.(driver.QueryerContext).QueryContext(t.ctx, q, named)
		if err != nil {
			return err
		}
		defer rows.Close()
		row := make([]driver.Value, len(rows.Columns()))
		for {
			if err := rows.Next(row); err == io.EOF {
				return nil
			} else if err != nil {
				return err
			}
			asked.rows.Add(1)
			if err := each(row); err != nil {
				return err
			}
		}
	}))
}

// EachOf is Each of a query about a set of numbers, however many, which stands in it
// as {set}.
func (t *Tx) EachOf(q string, set []int64, scan func(row *sql.Rows) error) {
	if len(set) == 0 {
		return
	}
	t.eachOf(q, jsonOf(len(set), func(b []byte, i int) []byte { return strconv.AppendInt(b, set[i], 10) }), scan)
}

// jsonOf writes a list of n things, each by add.
func jsonOf(n int, add func(b []byte, i int) []byte) []byte {
	list := append(make([]byte, 0, 2+8*n), '[')
	for i := range n {
		if i > 0 {
			list = append(list, ',')
		}
		list = add(list, i)
	}
	return append(list, ']')
}

// EachOfText is EachOf about a set of texts.
func (t *Tx) EachOfText(q string, set []string, scan func(row *sql.Rows) error) {
	if len(set) == 0 {
		return
	}
	list, err := json.Marshal(set)
	t.Fail(err)
	t.eachOf(q, list, scan)
}

func (t *Tx) eachOf(q string, list []byte, scan func(row *sql.Rows) error) {
	t.Each(strings.Replace(q, "{set}", "(SELECT value FROM json_each(?))", 1), []any{string(list)}, scan)
}

// Strings reads one column.
func (t *Tx) Strings(q string, args ...any) (out []string) {
	t.Each(q, args, func(r *sql.Rows) error {
		var s string
		err := r.Scan(&s)
		out = append(out, s)
		return err
	})
	return out
}

// Ints reads one column of numbers.
func (t *Tx) Ints(q string, args ...any) (out []int64) {
	t.Each(q, args, func(r *sql.Rows) error {
		var n int64
		err := r.Scan(&n)
		out = append(out, n)
		return err
	})
	return out
}

// Knows tells whether the file has a table, which one of an older layout may
// not have.
func (t *Tx) Knows(table string) bool {
	if t.tables == nil {
		t.tables = map[string]bool{}
		for _, name := range t.Strings("SELECT name FROM sqlite_schema WHERE type='table'") {
			t.tables[name] = true
		}
	}
	return t.tables[table]
}

// Last gives the highest number a table's rows ever had.
func (t *Tx) Last(table string) int64 {
	return t.Int("SELECT coalesce(max(seq),0) FROM sqlite_sequence WHERE name=?", table)
}

// Bulk collects rows and puts them in many at a time.
type Bulk struct {
	t    *Tx
	head string
	full string // the statement that puts bulkRows in
	cols int
	rows int // so many at a time
	args []any
}

const bulkRows = 64

// Wide puts more rows in at a time: for few statements rather than the shortest time.
func (b *Bulk) Wide() *Bulk {
	b.rows = 1024
	return b
}

// Bulk begins putting rows into a table, which no trigger listens to. A row that
// can't be put in ends the transaction, so that nothing is written down for
// taking back half a statement.
func (t *Tx) Bulk(table string, columns ...string) *Bulk {
	return &Bulk{t: t, head: "INSERT OR FAIL INTO " + table + "(" + strings.Join(columns, ",") + ") VALUES ", cols: len(columns), rows: bulkRows}
}

// Add puts a row in, or several, one behind the other.
func (b *Bulk) Add(args ...any) {
	for len(args) > 0 {
		n := min(len(args), b.rows*b.cols-len(b.args))
		b.args = append(b.args, args[:n]...)
		if args = args[n:]; len(b.args) == b.rows*b.cols {
			b.Flush()
		}
	}
}

// Flush puts in what was collected.
func (b *Bulk) Flush() {
	n := len(b.args) / b.cols
	if n == 0 {
		return
	}
	one := "(?" + strings.Repeat(",?", b.cols-1) + ")"
	q := b.full
	if n < b.rows || q == "" {
		q = b.head + one + strings.Repeat(","+one, n-1)
	}
	if n == b.rows {
		b.full = q
	}
	b.t.Exec(q, b.args...)
	b.args = b.args[:0]
}

// LoadingItems makes ready for items by the million: into an empty table they
// go without their indexes, which loaded makes afterwards.
func (t *Tx) LoadingItems() (loaded func()) {
	return t.loading("items", dropItemIndexes, itemIndexes)
}

func (t *Tx) loading(table, drop, make string) (loaded func()) {
	if t.Int("SELECT count(*) FROM (SELECT 1 FROM "+table+" LIMIT 1)") > 0 {
		return func() {}
	}
	t.Exec(drop)
	return func() { t.Exec(make) }
}

// Integrity asks the database to check itself; nothing where all is well. It is asked on
// a connection of its own, beside whatever this one is asked meanwhile; what it gives waits
// for the answer.
func (t *Tx) Integrity() func() []string {
	well := func(out []string) []string {
		if len(out) == 1 && out[0] == "ok" {
			return nil
		}
		return out
	}
	const ask = "PRAGMA integrity_check(20)"
	if t.db.private != 0 { // it is in memory, and this connection alone sees it
		out := well(t.Strings(ask))
		return func() []string { return out }
	}
	done := make(chan []string, 1)
	go func() {
		db := open(t.db.path, "&mode=ro")
		defer db.Close()
		var out []string
		rows, err := db.QueryContext(t.ctx, ask)
		if err == nil {
			defer rows.Close()
			for rows.Next() {
				var s string
				if err = rows.Scan(&s); err != nil {
					break
				}
				out = append(out, s)
			}
			if err == nil {
				err = rows.Err()
			}
		}
		if err != nil && t.ctx.Err() == nil {
			out = append(out, plain(err).Error())
		}
		done <- well(out)
	}()
	return func() []string { return <-done }
}
