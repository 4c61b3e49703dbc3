// Package store keeps rows at rest: one SQLite file, opened, locked, brought up
// to date, journaled and filled by the million here. SQL that only SQLite
// understands is in this package and nowhere else; what a row means is not.
//
// The file is in write-ahead mode, so that who reads never blocks who writes,
// and the log is folded back into the one file when the last one closes it.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// The ways a file can be out of reach.
var (
	ErrBusy      = errors.New("another process is writing to the estate; try again when it is done")
	ErrFull      = errors.New("the disk is full; nothing was changed")
	ErrNoRoom    = errors.New("the disk is full: there is no room for the file that lies beside the estate while it is open; make some and try again")
	ErrStopped   = errors.New("stopped; nothing was changed")
	ErrNotEstate = errors.New("the file is not an estate")
	ErrDamaged   = errors.New("the estate file is damaged; tarnwold check says where, and a backup brings it back")
	ErrExists    = errors.New("is there already")
)

// DB is an open estate file.
type DB struct {
	db   *sql.DB
	path string
	// one is held by who uses the connection; what was prepared on it, and the
	// triggers made on it, stay for the next: a fifth of what a change costs.
	one       chan struct{}
	conn      *sql.Conn
	stmts     map[string]*sql.Stmt
	listening bool
	old       int // the version it has, where that is not today's; 0: today's
	// copy is a version brought up to date in a temporary place, for reading
	// a file that isn't; made when first wanted.
	copy *DB
	temp string
	keys EntryKeys
	// private is the number of one that is in memory alone; 0: it is the file.
	private uintptr
}

// EntryKeys lists the keys of a stored descriptor's own entries, by which last
// days are kept. It is the caller's, for rows mean nothing here; only bringing
// an old file up to date asks it.
type EntryKeys func(descriptor []byte) []string

// wait is how long one process waits for another to finish writing.
const wait = 5 * time.Second

func open(path, more string) *sql.DB {
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	dsn := (&url.URL{Scheme: "file", Path: filepath.ToSlash(path)}).String() + fmt.Sprintf(
		"?vfs="+layer+"&_pragma=busy_timeout(%d)&_pragma=synchronous(full)&_pragma=temp_store(memory)&_pragma=cache_size(-65536)&_pragma=cell_size_check(1)%s",
		wait.Milliseconds(), more)
	addLayer()
	register()                       // a connection knows the functions there are when it is made
	db, _ := sql.Open("sqlite", dsn) // fails on an unknown driver only
	db.SetMaxOpenConns(1)
	return db
}

// Raw opens the file of an estate for SQL of one's own: for tests that do what
// the program never does.
func Raw(path string) *sql.DB { return open(path, "&mode=rwc") }

// Create makes a new, empty estate. It refuses where the file exists; a file
// that was begun and broken off is taken away again.
func Create(ctx context.Context, path string) error {
	return place(path, emptyFile, func(name string) error {
		d := newDB(open(name, "&mode=rw"), name)
		err := d.run(ctx, "BEGIN IMMEDIATE", true, func(t *Tx) error {
			t.Exec(tables + itemIndexes)
			t.Exec(fmt.Sprintf("PRAGMA application_id=%d; PRAGMA user_version=%d", applicationID, Version))
			signed(t)
			return t.err
		})
		return logged(ctx, d, err)
	})
}

// Backup writes the estate as it stands at one moment into a new file, while others read
// and write it. It is there whole or not at all, and nothing is written over.
func (d *DB) Backup(ctx context.Context, path string) error {
	return place(path, func(*os.File) error { return nil }, func(name string) error {
		if err := d.exec(ctx, "VACUUM INTO ?", name); err != nil {
			return plain(err)
		}
		if err := sealAll(ctx, name); err != nil {
			return err
		}
		if err := logged(ctx, newDB(open(name, "&mode=rw"), name), nil); err != nil {
			return err
		}
		f, err := os.OpenFile(name, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		return errors.Join(f.Sync(), f.Close())
	})
}

// logged has a file that was just made, if it was, keep a log from now on, and closes it.
func logged(ctx context.Context, d *DB, err error) error {
	if err == nil {
		err = d.exec(context.WithoutCancel(ctx), "PRAGMA journal_mode=wal")
	}
	if cerr := d.Close(); err == nil {
		err = cerr
	}
	return plain(err)
}

// place has a new file made beside its place, begun and then filled, and moves it there
// whole, so that nobody meets a stub. It refuses where something is there.
func place(path string, begin func(*os.File) error, fill func(name string) error) error {
	if _, err := os.Lstat(path); err == nil {
		return &fs.PathError{Op: "create", Path: path, Err: ErrExists}
	}
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".new-*")
	if err != nil {
		return err
	}
	name := f.Name()
	defer func() {
		for _, s := range []string{"", "-wal", "-shm", "-journal"} {
			_ = os.Remove(name + s)
		}
	}()
	if err := errors.Join(begin(f), f.Chmod(0o600), f.Close()); err != nil {
		return err
	}
	if err := fill(name); err != nil {
		return err
	}
	if err := os.Link(name, path); err == nil {
		return nil
	} else if errors.Is(err, fs.ErrExist) {
		return &fs.PathError{Op: "create", Path: path, Err: ErrExists}
	}
	return os.Rename(name, path) // where there are no links
}

// Compact gives back the room that what is gone took in the file. Nobody else may be
// reading or writing it meanwhile.
func (d *DB) Compact(ctx context.Context) error {
	if err := d.exec(ctx, "VACUUM"); err != nil {
		return plain(err)
	}
	return plain(d.exec(context.WithoutCancel(ctx), "PRAGMA wal_checkpoint(TRUNCATE)"))
}

// Open opens an estate that exists.
func Open(ctx context.Context, path string, keys EntryKeys) (*DB, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s is a folder, wanted an estate file", path)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a regular file, wanted an estate file", path)
	}
	d := newDB(open(path, "&mode=rw"), path)
	d.keys = keys
	err = d.look(ctx)
	if errors.Is(err, fs.ErrPermission) { // a file that may only be read, or a folder that may
		d.hangUp()
		d.db.Close()
		more := "&mode=ro"
		if _, werr := os.Stat(path + "-wal"); werr != nil {
			more += "&immutable=1"
		}
		d.db = open(path, more)
		err = d.look(ctx)
	}
	if err != nil {
		d.hangUp()
		d.db.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return d, nil
}

// look tells whether the file is an estate, and of which version.
func (d *DB) look(ctx context.Context) error {
	return d.run(ctx, "BEGIN", false, func(t *Tx) error {
		app, found := t.Int("PRAGMA application_id"), t.Int("PRAGMA user_version")
		switch {
		case t.err != nil:
			return t.err
		case app != applicationID:
			return ErrNotEstate
		case found > Version:
			return newer(t, found)
		case found < 1:
			return fmt.Errorf("the estate is of version %d, which this program can't read", found)
		case found < Version:
			d.old = int(found)
		}
		missing := t.Strings("SELECT value FROM json_each(?) WHERE value NOT IN (SELECT name FROM sqlite_master WHERE type='table')",
			`["accounts","members","servers","administrators","descriptors","shares","strands","items","trees","levels","deadlines","journal","journal_rows","weights"]`)
		if len(missing) > 0 && t.err == nil {
			return fmt.Errorf("%w: it has the marks of one, but not its tables (%s)", ErrNotEstate, strings.Join(missing, ", "))
		}
		return t.err
	})
}

// newer refuses a file of a layout to come.
func newer(t *Tx, found int64) error {
	by := "a newer tarnwold"
	if t.Knows("writers") {
		if r := t.Strings("SELECT substr(release,1,60) FROM writers LIMIT 2"); len(r) == 1 && r[0] != "" {
			by = "tarnwold " + strconv.Quote(r[0])
		}
	}
	return fmt.Errorf("the estate was written by %s (layout %d), and this tarnwold reads layouts up to %d; use that one, or a newer", by, found, Version)
}

// Close closes the file, and folds the log back into it where nobody else has
// it open.
func (d *DB) Close() error {
	d.hangUp()
	err := d.db.Close()
	closeLate(d.path)
	if d.copy != nil {
		_ = d.copy.Close()
	}
	if d.temp != "" {
		_ = os.RemoveAll(d.temp)
	}
	return err
}

// Path is the file's name.
func (d *DB) Path() string { return d.path }

// Read runs fn on the rows as they stand at one moment; fn changes nothing. A
// file of an older version is read as it is: a copy of it is brought up to
// date in a temporary place.
func (d *DB) Read(ctx context.Context, fn func(*Tx) error) error {
	if d.old != 0 && d.old < readable {
		if err := d.modern(ctx); err != nil {
			return err
		}
		return d.copy.run(ctx, "BEGIN", false, fn)
	}
	return d.run(ctx, "BEGIN", false, fn)
}

func (d *DB) modern(ctx context.Context) error {
	if d.copy != nil {
		return nil
	}
	dir, err := os.MkdirTemp("", "tarnwold-")
	if err != nil {
		return err
	}
	d.temp = dir
	file := filepath.Join(dir, "copy")
	if err := d.exec(ctx, "VACUUM INTO ?", file); err != nil {
		return plain(err)
	}
	c := newDB(open(file, "&mode=rw"), file)
	c.old, c.keys = d.old, d.keys
	if err := c.run(ctx, "BEGIN IMMEDIATE", true, migrate); err != nil {
		c.hangUp()
		c.db.Close()
		return err
	}
	c.old = 0
	d.copy = c
	return nil
}

// Write runs fn and keeps what it did, or nothing of it. bulk says that it
// puts rows in by the million.
func (d *DB) Write(ctx context.Context, bulk bool, fn func(*Tx) error) error {
	if bulk && d.old == 0 {
		// Rows in a new part of the file are written once this way, not twice.
		// Where somebody has the file open it stays as it is. What is sorted for
		// the indexes is sorted in files, for it is as long as the rows are many.
		d.settle(ctx, "temp_store=file", "cache_size=-16384", "busy_timeout=0", "journal_mode=delete", fmt.Sprintf("busy_timeout=%d", wait.Milliseconds()))
		defer d.settle(context.WithoutCancel(ctx), "journal_mode=wal", "temp_store=memory", "cache_size=-65536")
	}
	err := d.run(ctx, "BEGIN IMMEDIATE", true, func(t *Tx) error {
		if d.old != 0 {
			if err := migrate(t); err != nil {
				return err
			}
		}
		return fn(t)
	})
	if err == nil && d.old != 0 {
		d.old = 0
		_ = d.exec(context.WithoutCancel(ctx), "PRAGMA journal_mode=wal")
	}
	return err
}

func newDB(db *sql.DB, path string) *DB {
	return &DB{db: db, path: path, one: make(chan struct{}, 1), stmts: map[string]*sql.Stmt{}}
}

// take waits for the connection; give gives it back.
func (d *DB) take(ctx context.Context) (give func(), err error) {
	select {
	case d.one <- struct{}{}:
	case <-ctx.Done():
		return nil, plain(ctx.Err())
	}
	if d.conn == nil {
		if d.conn, err = d.db.Conn(ctx); err != nil {
			d.conn = nil
			<-d.one
			return nil, plain(err)
		}
	}
	return func() { <-d.one }, nil
}

// exec runs one statement outside of transactions.
func (d *DB) exec(ctx context.Context, q string, args ...any) error {
	give, err := d.take(ctx)
	if err != nil {
		return err
	}
	defer give()
	_, err = d.conn.ExecContext(ctx, q, args...)
	return err
}

// settle sets what holds for the connection from then on, each by itself: one that is
// refused keeps none of the others away. Where it is to keep temporary tables changes
// by it, the triggers are gone with them.
func (d *DB) settle(ctx context.Context, pragmas ...string) {
	give, err := d.take(ctx)
	if err != nil {
		return
	}
	defer give()
	d.forget()
	d.listening = false
	for _, p := range pragmas {
		_, _ = d.conn.ExecContext(ctx, "PRAGMA "+p)
	}
}

// forget drops what was prepared.
func (d *DB) forget() {
	for _, s := range d.stmts {
		s.Close()
	}
	clear(d.stmts)
}

// hangUp ends the connection.
func (d *DB) hangUp() {
	d.forget()
	d.listening = false
	if d.conn != nil {
		d.conn.Close()
		d.conn = nil
	}
}

// mostPrepared is how many statements are kept for the next transaction; those
// that put rows in are as many as there are numbers of rows.
const mostPrepared = 300

// errDrop ends a transaction that is to leave nothing behind.
var errDrop = errors.New("not kept")

// Drop ends a Write without an error and without keeping anything.
func Drop() error { return errDrop }

func (d *DB) run(ctx context.Context, begin string, keep bool, fn func(*Tx) error) (err error) {
	give, err := d.take(ctx)
	if err != nil {
		return err
	}
	defer give()
	conn := d.conn
	t := &Tx{ctx: ctx, db: d, conn: conn, stmts: d.stmts, keys: d.keys, listening: d.listening}
	if _, err := conn.ExecContext(ctx, begin); err != nil {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") // it may have begun all the same
		return plain(err)
	}
	done := false
	defer func() {
		if !done {
			// What is broken off in a statement has been rolled back already.
			_, _ = conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		}
		if len(d.stmts) > mostPrepared {
			d.forget()
		}
	}()
	if err := fn(t); err != nil {
		if errors.Is(err, errDrop) && t.err == nil {
			return nil
		}
		return plain(err)
	}
	if t.err != nil {
		return plain(t.err)
	}
	if !keep {
		return nil
	}
	if ctx.Err() != nil {
		return ErrStopped
	}
	// From here on nothing stops it: what is begun is finished, so that what
	// is said about it is true.
	if _, err := conn.ExecContext(context.WithoutCancel(ctx), "COMMIT"); err != nil {
		return plain(err)
	}
	done = true
	d.listening = t.listening
	return nil
}

// plain turns what the database says into words an administrator can act on.
func plain(err error) error {
	if errors.Is(err, context.Canceled) {
		return ErrStopped
	}
	var se *sqlite.Error
	if !errors.As(err, &se) {
		return err
	}
	if se.Code() == sqlite3.SQLITE_IOERR_SHMSIZE {
		return ErrNoRoom
	}
	switch se.Code() & 0xff {
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return ErrBusy
	case sqlite3.SQLITE_FULL:
		return ErrFull
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_CANTOPEN:
		return fmt.Errorf("the estate can't be written: %w", fs.ErrPermission)
	case sqlite3.SQLITE_NOTADB:
		return ErrNotEstate
	case sqlite3.SQLITE_CORRUPT:
		return ErrDamaged
	case sqlite3.SQLITE_IOERR:
		return fmt.Errorf("the estate can't be read or written: %w", err)
	case sqlite3.SQLITE_INTERRUPT:
		return ErrStopped
	}
	return err
}

// Plain turns what the database says into words an administrator can act on.
func Plain(err error) error { return plain(err) }
