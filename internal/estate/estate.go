// Package estate is what Tarnwold knows: accounts, servers, shares, places,
// rules, journal. It asks rows (package store) and hands core values it can't
// get wrong; what a rule means never lives here, nor what a person should be
// told before something is kept (package plan).
//
// Everything is asked and changed inside a transaction: View reads, Change
// writes, whole or not at all, and leaves one journal entry whose rows say
// what each row was before and is after.
package estate

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/store"
)

// Estate is an open estate file.
type Estate struct {
	db      *store.DB
	private bool
}

// Create makes a new, empty estate. It refuses where the file exists.
func Create(ctx context.Context, path string) error {
	err := store.Create(ctx, path)
	if errors.Is(err, store.ErrExists) {
		return &Refused{Why: path + " is there already", Do: "take another name, or remove it first"}
	}
	return err
}

// Open opens an estate that exists.
func Open(ctx context.Context, path string) (*Estate, error) {
	db, err := store.Open(ctx, path, entryKeys)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no estate %s; make one with: tarnwold init %s: %w", path, path, fs.ErrNotExist)
	}
	if err != nil {
		return nil, err
	}
	return &Estate{db: db}, nil
}

// Backup writes the estate as it stands at one moment into a new file, while others go on.
func (e *Estate) Backup(ctx context.Context, path string) error {
	err := e.db.Backup(ctx, path)
	if errors.Is(err, store.ErrExists) {
		return &Refused{Why: path + " already exists, and is not overwritten", Do: "name another file"}
	}
	return err
}

// Compact gives back the room that what is gone took in the file.
func (e *Estate) Compact(ctx context.Context) error { return e.db.Compact(ctx) }

// Close closes the file.
func (e *Estate) Close() error { return e.db.Close() }

// Path is the file's name.
func (e *Estate) Path() string { return e.db.Path() }

// View runs fn on the estate as it stands at one moment; fn changes nothing,
// and blocks nobody who does.
func (e *Estate) View(ctx context.Context, fn func(*Tx) error) error {
	return e.db.Read(ctx, func(s *store.Tx) error {
		t := newTx(s)
		t.supposed = e.private
		err := fn(t)
		if err == nil {
			err = t.Err()
		}
		return err
	})
}

// Private calls fn with the estate as it stands now, which may be changed at
// will: nothing of that is kept, and nobody else ever sees it or waits for it.
func (e *Estate) Private(ctx context.Context, fn func(*Estate) error) error {
	return e.db.Private(ctx, func(db *store.DB) error { return fn(&Estate{db, true}) })
}

// Supposed tells whether the estate is a private one, of which nothing is kept.
func (t *Tx) Supposed() bool { return t.supposed }

// Meta says who changes what by which command.
type Meta struct {
	Actor   string
	Command string
	Forced  []string // guards that were overridden
	Undoes  int64
	// Origin says where the change came from, where that steers what is done
	// with it later: "directory NAME".
	Origin string
	// Head is the journal's last change the caller has seen; if another has
	// come since, nothing is changed: ErrMoved. Any: whatever it is.
	Head int64
	// Bulk: rows are put in by the million; the journal gets their ranges
	// from the command itself.
	Bulk bool
	// Large: as many rows come, and are journaled as others are.
	Large bool

	finishes string // the unfinished change it finishes
}

// Any as Meta.Head takes the estate as it stands.
const Any = -1

// Change runs fn with every change written down, and keeps it whole or not at
// all. fn gives the summary for the journal; "" means nothing was to be done
// and leaves no journal entry. The journal entry's number is returned, 0 for
// none.
func (e *Estate) Change(ctx context.Context, m Meta, fn func(*Tx) (summary string, err error)) (int64, error) {
	var id int64
	err := e.db.Write(ctx, m.Bulk || m.Large, func(s *store.Tx) error {
		t := newTx(s)
		t.supposed = e.private
		head := t.Head()
		if err := t.Err(); err != nil { // what couldn't be read hasn't moved
			return err
		}
		if m.Head != Any && m.Head != head {
			return ErrMoved
		}
		if err := t.mayChange(e.private, m.finishes); err != nil {
			return err
		}
		id = head + 1
		s.Exec("INSERT INTO journal(id, at, actor, command, summary, forced, undoes) VALUES(?,?,?,?,'',?,?)",
			id, time.Now().UTC().Format(time.RFC3339), m.Actor, m.Command, strings.Join(m.Forced, ", "), m.Undoes)
		s.Listen(id, m.Bulk)
		defer s.Unlisten()
		summary, err := fn(t)
		if err != nil {
			return err
		}
		if summary == "" {
			id = 0
			return store.Drop()
		}
		if err := t.writeLayout(m.Bulk); err != nil {
			return err
		}
		// What was written to a real server was written before this moment.
		s.Exec("UPDATE journal SET summary=?, at=? WHERE id=?", summary, time.Now().UTC().Format(time.RFC3339), id)
		s.Prove(id, m.Origin)
		return t.Err()
	})
	if err != nil {
		return 0, err
	}
	return id, nil
}

// Note runs fn, which keeps only what is not journaled: when a server was read,
// what an item's size is. Nobody's access changes by it.
func (e *Estate) Note(ctx context.Context, fn func(*Tx) error) error {
	return e.db.Write(ctx, false, func(s *store.Tx) error {
		t := newTx(s)
		if err := fn(t); err != nil {
			return err
		}
		return t.Err()
	})
}

// Tx is one transaction. Its first error stays: later calls do nothing, and
// the transaction ends with it.
type Tx struct {
	*rows
	supposed    bool // it is of a private estate
	descriptors map[int64]rule.Any
	numbers     map[rule.Any]int64 // stored descriptors' numbers
	stored      map[[32]byte]int64
	accounts    map[account.ID]*row
	former      map[account.ID]deciding // nil: nobody had other identifiers or has claims, or formerRead isn't so
	formerRead  bool
	fresh       map[account.ID]int64         // the rows of accounts that came many at a time, and nothing else since
	above       *above                       // nil: nobody was climbed from
	below       map[[2]account.ID]Membership // group, member: what was read with a group
	own         []right.Level                // the estate's own levels, as read
	ownRead     bool
	names       map[account.ID]string
	everyone    bool            // every account was read
	asked       int             // names that were
	sole        map[string]bool // whether a name, as it is compared, is one account's alone
	domain      *account.ID
	builtins    []account.Account    // realms' own built-in groups; nil: not read
	machines    map[account.ID]bool  // realms of machines that have accounts of their own; nil: not read
	here        account.ID           // the machine whose accounts numbers name; zero: no one machine
	answered    map[int64]account.ID // who answered as a server; nil: not read
	strands     map[int64]strandRow
	paths       map[int64]standing // of folders
	located     map[int64]inside   // of items that were looked for many at once
	laid        *layout            // of all there is, once it was asked for
	parted      map[int64][]int64  // strands by what they were parted from
	servers     map[int64]Server
	shares      map[int64][]Share // by server, while nothing is changed
}

// rows is the store, under a name that doesn't lead out of this package.
type rows = store.Tx

func newTx(s *store.Tx) *Tx {
	return &Tx{rows: s, descriptors: map[int64]rule.Any{}, numbers: map[rule.Any]int64{}, stored: map[[32]byte]int64{},
		strands: map[int64]strandRow{}, paths: map[int64]standing{}, located: map[int64]inside{}, servers: map[int64]Server{}, shares: map[int64][]Share{}}
}

// Head is the number of the journal's last change, 0 for none.
func (t *Tx) Head() int64 { return t.Int("SELECT coalesce(max(id),0) FROM journal") }
