package estate

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// Tx is one transaction. Its first error stays: later calls do nothing, and
// the transaction ends with it.
type Tx struct {
	ctx    context.Context
	conn   *sql.Conn
	stmts  map[string]*sql.Stmt
	err    error
	change int64 // the journal entry being made
	ranges bool  // rows are journaled by the range

	descriptors map[int64]*rule.Descriptor
	stored      map[[32]byte]int64
	accounts    map[account.ID]*row
	names       map[account.ID]string
	domain      *account.ID
}

// Err gives the first error of the transaction.
func (t *Tx) Err() error { return plain(t.err) }

func (t *Tx) fail(err error) {
	if t.err == nil && err != nil {
		t.err = err
	}
}

func (t *Tx) stmt(q string) *sql.Stmt {
	if s, ok := t.stmts[q]; ok {
		return s
	}
	s, err := t.conn.PrepareContext(t.ctx, q)
	if err != nil {
		t.fail(fmt.Errorf("%s: %w", q, err))
		return nil
	}
	t.stmts[q] = s
	return s
}

// exec runs a statement and gives the id of the row it put in.
func (t *Tx) exec(q string, args ...any) int64 {
	if t.err != nil {
		return 0
	}
	if len(args) == 0 { // may be several statements at once
		_, err := t.conn.ExecContext(t.ctx, q)
		t.fail(err)
		return 0
	}
	s := t.stmt(q)
	if t.err != nil {
		return 0
	}
	r, err := s.ExecContext(t.ctx, args...)
	if err != nil {
		t.fail(err)
		return 0
	}
	id, _ := r.LastInsertId()
	return id
}

// one reads the single row of a query; ok is false where there is none.
func (t *Tx) one(q string, args []any, into ...any) (ok bool) {
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
	t.fail(err)
	return err == nil
}

func (t *Tx) int(q string, args ...any) (n int64) {
	t.one(q, args, &n)
	return n
}

// each reads the rows of a query one by one; scan is called once a row. No
// other query may run before it is done.
func (t *Tx) each(q string, args []any, scan func(row *sql.Rows) error) {
	if t.err != nil {
		return
	}
	s := t.stmt(q)
	if t.err != nil {
		return
	}
	rows, err := s.QueryContext(t.ctx, args...)
	if err != nil {
		t.fail(err)
		return
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			t.fail(err)
			return
		}
	}
	t.fail(rows.Err())
}

// strings reads one column.
func (t *Tx) strings(q string, args ...any) (out []string) {
	t.each(q, args, func(r *sql.Rows) error {
		var s string
		err := r.Scan(&s)
		out = append(out, s)
		return err
	})
	return out
}

func (t *Tx) ints(q string, args ...any) (out []int64) {
	t.each(q, args, func(r *sql.Rows) error {
		var n int64
		err := r.Scan(&n)
		out = append(out, n)
		return err
	})
	return out
}

// bulk collects rows and puts them in many at a time.
type bulk struct {
	t    *Tx
	head string
	cols int
	args []any
}

const bulkRows = 64

func (t *Tx) bulk(table string, columns ...string) *bulk {
	return &bulk{t: t, head: "INSERT INTO " + table + "(" + strings.Join(columns, ",") + ") VALUES ", cols: len(columns)}
}

func (b *bulk) add(args ...any) {
	b.args = append(b.args, args...)
	if len(b.args) == bulkRows*b.cols {
		b.flush()
	}
}

func (b *bulk) flush() {
	n := len(b.args) / b.cols
	if n == 0 {
		return
	}
	one := "(?" + strings.Repeat(",?", b.cols-1) + ")"
	b.t.exec(b.head+one+strings.Repeat(","+one, n-1), b.args...)
	b.args = b.args[:0]
}
