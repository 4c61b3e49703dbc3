// Package estate keeps all that Tarnwold knows in one SQLite file: servers,
// shares, folders, files, accounts, rules and the journal.
//
// Everything is asked and changed inside a transaction: View reads, Change
// writes, whole or not at all, and leaves one journal entry whose rows say
// what each row was before and is after. What a rule means never lives here;
// the package hands core values it can't get wrong.
package estate

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// Estate is an open estate file.
type Estate struct {
	db   *sql.DB
	path string
}

// Create makes a new, empty estate. It refuses where the file exists.
func Create(ctx context.Context, path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return refuse("take another name, or remove it first", "%s is there already", path)
	}
	if err != nil {
		return err
	}
	f.Close()
	e := &Estate{path: path, db: open(path)}
	defer e.Close()
	err = e.write(ctx, func(t *Tx) error {
		t.exec(schema + itemIndexes)
		t.exec(fmt.Sprintf("PRAGMA application_id=%d; PRAGMA user_version=%d", applicationID, version))
		return t.err
	})
	if err != nil {
		os.Remove(path)
	}
	return err
}

// wait is how long one process waits for another to finish writing.
const wait = 5 * time.Second

func open(path string) *sql.DB {
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	dsn := (&url.URL{Scheme: "file", Path: filepath.ToSlash(path)}).String() + fmt.Sprintf(
		"?mode=rw&_pragma=busy_timeout(%d)&_pragma=synchronous(full)&_pragma=temp_store(memory)&_pragma=cache_size(-65536)&_pragma=journal_mode(delete)",
		wait.Milliseconds())
	db, _ := sql.Open("sqlite", dsn) // fails on an unknown driver only
	db.SetMaxOpenConns(1)
	return db
}

// Open opens an estate that exists.
func Open(ctx context.Context, path string) (*Estate, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no estate %s; make one with: tarnwold init %s: %w", path, path, fs.ErrNotExist)
	}
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s is a folder, wanted an estate file", path)
	}
	e := &Estate{db: open(path), path: path}
	err = e.View(ctx, func(t *Tx) error {
		app, found := t.int("PRAGMA application_id"), t.int("PRAGMA user_version")
		switch {
		case t.err != nil:
			return t.err
		case app != applicationID:
			return errNotEstate
		case found > version:
			return fmt.Errorf("the estate is of version %d and this program knows up to version %d; use a newer tarnwold", found, version)
		case found < version:
			return fmt.Errorf("the estate is of version %d, which this program can't read", found)
		}
		return nil
	})
	if err != nil {
		e.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return e, nil
}

// Close closes the file.
func (e *Estate) Close() error { return e.db.Close() }

// Path is the file's name.
func (e *Estate) Path() string { return e.path }

// View runs fn on the estate as it stands; fn changes nothing.
func (e *Estate) View(ctx context.Context, fn func(*Tx) error) error {
	return e.run(ctx, "BEGIN", fn, false)
}

// write runs fn and keeps what it did, or nothing of it.
func (e *Estate) write(ctx context.Context, fn func(*Tx) error) error {
	return e.run(ctx, "BEGIN IMMEDIATE", fn, true)
}

func (e *Estate) run(ctx context.Context, begin string, fn func(*Tx) error, keep bool) (err error) {
	conn, err := e.db.Conn(ctx)
	if err != nil {
		return plain(err)
	}
	t := &Tx{ctx: ctx, conn: conn, stmts: map[string]*sql.Stmt{}}
	if _, err := conn.ExecContext(ctx, begin); err != nil {
		conn.Close()
		return plain(err)
	}
	done := false
	defer func() {
		for _, s := range t.stmts {
			s.Close()
		}
		if !done {
			_, _ = conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		}
		if cerr := conn.Close(); err == nil && cerr != nil {
			err = plain(cerr)
		}
	}()
	if err := fn(t); err != nil {
		return plain(err)
	}
	if t.err != nil {
		return plain(t.err)
	}
	if ctx.Err() != nil {
		return errStopped
	}
	if keep {
		if _, err := conn.ExecContext(ctx, "COMMIT"); err != nil {
			return plain(err)
		}
		done = true
	}
	return nil
}

// Meta says who changes what by which command.
type Meta struct {
	Actor   string
	Command string
	Forced  []string // guards that were overridden
	Undoes  int64
	// Head is the journal's last change the caller has seen, where Seen is
	// set; if another has come since, nothing is changed: ErrMoved.
	Head int64
	Seen bool
	// Bulk: rows are put in by the million; the journal gets their ranges
	// from the command itself.
	Bulk bool
}

// errUndecided ends a transaction that is to leave nothing behind.
var errUndecided = errors.New("not kept")

// Change runs fn with every change written down, and keeps it whole or not at
// all. fn gives the summary for the journal; a summary of "" means nothing
// was to be done and leaves no journal entry. The journal entry's number is
// returned, 0 for none. With keep false everything is worked out and nothing
// kept.
func (e *Estate) Change(ctx context.Context, m Meta, keep bool, fn func(*Tx) (summary string, err error)) (int64, error) {
	var id int64
	err := e.write(ctx, func(t *Tx) error {
		head := t.Head()
		if m.Seen && m.Head != head {
			return ErrMoved
		}
		id = head + 1
		t.exec("INSERT INTO journal(id, at, actor, command, summary, forced, undoes) VALUES(?,?,?,?,'',?,?)",
			id, time.Now().UTC().Format(time.RFC3339), m.Actor, m.Command, strings.Join(m.Forced, ","), m.Undoes)
		t.change, t.ranges = id, m.Bulk
		t.listen(id, m.Bulk)
		defer t.unlisten()
		summary, err := fn(t)
		if err != nil {
			return err
		}
		if summary == "" || !keep {
			return errUndecided
		}
		t.exec("UPDATE journal SET summary=? WHERE id=?", summary, id)
		return t.err
	})
	if errors.Is(err, errUndecided) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return id, nil
}
