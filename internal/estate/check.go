package estate

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/internal/format"
	"tarnwold/internal/store"
)

// Fault is something wrong in an estate file.
type Fault struct {
	What string `json:"what"`
	Do   string `json:"do"`
	// Repaired: it was so, and was made anew from what is whole.
	Repaired bool `json:"repaired"`
}

// rebuilt is what to do about what follows from other rows.
const rebuilt = "tarnwold check --repair makes it anew from what is whole"

const fromBackup = "take the estate from a backup; what has changed since stands in the newer one's log"

// Check looks at the whole estate: the database's own check, every hash, every
// rule of strands, weights, journal, last days and names. step is told how far
// it is.
func (t *Tx) Check(step func(what string)) []Fault {
	c := &checking{Tx: t, integrity: t.Integrity()}
	for _, x := range []struct {
		what string
		look func()
	}{
		{"descriptors", c.bodies}, {"", func() { c.rows(step) }}, {"names", c.names}, {"entries with last days", c.lastDays},
		{"", c.beside}, {"the index of strands", c.index}, {"the journal's proofs", c.journal}, {"the database", c.database},
	} {
		if x.what != "" {
			step(x.what)
		}
		x.look()
	}
	if err := t.Err(); err != nil {
		c.found(fromBackup, "%v", err)
	}
	return c.faults
}

// Repair makes anew what follows from what is whole, all of it or nothing: the database's own
// indexes, what names are found by, counts of items, and the index of strands. No change of
// the journal comes of it, for nothing that the estate says is otherwise after it.
func (e *Estate) Repair(ctx context.Context) error {
	return e.Note(ctx, func(t *Tx) error {
		if t.Unfinished() != "" {
			return Unfinished{}
		}
		if err := t.Rebuild(); err != nil {
			return err
		}
		if !t.Knows("layouts") {
			return t.Err()
		}
		had := t.Int("SELECT count(*) FROM layouts") > 0
		t.Exec("DELETE FROM layouts WHERE 1=?", 1)
		if !had {
			return t.Err()
		}
		l, err := t.readLayout()
		if err != nil {
			return err
		}
		t.Exec("INSERT INTO layouts(id, head, body) VALUES(1,?,?)", t.Head(), l.encode())
		return t.Err()
	})
}

// checking is an estate being looked at, and what was found.
type checking struct {
	*Tx
	faults    []Fault
	integrity func() []string
}

func (c *checking) found(do, what string, args ...any) {
	if len(c.faults) < 100 {
		c.faults = append(c.faults, Fault{What: fmt.Sprintf(what, args...), Do: do})
	}
}

func (c *checking) database() {
	var said []Fault
	for _, s := range c.integrity() {
		do := fromBackup
		if strings.Contains(s, " index ") { // of an index, as the database words it; that alone
			do = rebuilt
		}
		said = append(said, Fault{What: "the database says: " + s, Do: do})
	}
	c.faults = append(said, c.faults...) // what follows from it stands behind it
}

// index holds the index of strands to the rows.
func (c *checking) index() {
	written, err := c.writtenLayout()
	if err != nil {
		c.found("answers are read from the rows meanwhile; "+rebuilt, "the index of strands can't be read: %v", err)
		return
	}
	if written == nil || c.Err() != nil {
		return
	}
	rows, err := c.readLayout()
	if err == nil && !written.same(rows) {
		c.found(rebuilt, "the index of strands doesn't match the rows")
	}
}

// bodies holds descriptors against their hashes, and to what has them.
func (c *checking) bodies() {
	t := c.Tx
	folders := map[int64]bool{} // by rules of POSIX trees
	t.Each("SELECT id, kind, hash, body FROM descriptors", nil, func(r *sql.Rows) error {
		var id int64
		var kind byte
		var hash, body []byte
		if err := r.Scan(&id, &kind, &hash, &body); err != nil {
			return err
		}
		if h := sum(kind, body); !bytes.Equal(h[:], hash) {
			c.found(fromBackup, "descriptor %d is not what was stored", id)
		} else if a, err := Decode(kind, body); err != nil {
			c.found(fromBackup, "descriptor %d can't be read: %v", id, err)
		} else if r, ok := a.(*posix.Rules); ok {
			folders[id] = r.Folder
		}
		return nil
	})
	t.Each("SELECT DISTINCT descriptor, folder FROM strands", nil, func(r *sql.Rows) error {
		var id int64
		var folder bool
		err := r.Scan(&id, &folder)
		if is, ok := folders[id]; ok && is != folder {
			c.found(fromBackup, "descriptor %d is of a folder where a file stands, or of a file where a folder does", id)
		}
		return err
	})
}

// rows holds the rows of tables to each other.
func (c *checking) rows(step func(what string)) {
	for _, x := range []struct{ step, query, says string }{ // those of weights are made anew
		{"strands", "SELECT count(*) FROM strands s LEFT JOIN descriptors d ON d.id=s.descriptor WHERE d.id IS NULL", "strands whose descriptor is missing"},
		{"", "SELECT count(*) FROM strands s LEFT JOIN strands p ON p.id=s.parent WHERE s.parent<>0 AND p.id IS NULL AND EXISTS (SELECT 1 FROM items i WHERE i.strand=s.id)", "strands whose folder's strand is missing"},
		{"", "SELECT count(*) FROM strands s JOIN strands p ON p.id=s.parent WHERE p.folder=0 AND EXISTS (SELECT 1 FROM items i WHERE i.strand=s.id)", "strands below a file's"},
		{"items", "SELECT count(*) FROM items i LEFT JOIN items p ON p.id=i.parent WHERE i.parent<>0 AND p.id IS NULL", "items in no folder"},
		{"", "SELECT count(*) FROM items i LEFT JOIN strands s ON s.id=i.strand WHERE s.id IS NULL", "items without rules"},
		{"", "SELECT count(*) FROM items i JOIN items p ON p.id=i.parent JOIN strands s ON s.id=i.strand WHERE s.parent<>p.strand", "items that follow another folder than their own"},
		{"", "SELECT count(*) FROM items i JOIN strands s ON s.id=i.strand WHERE i.parent=0 AND s.parent<>0", "tops of trees that follow a folder"},
		{"", "SELECT count(*) FROM items i LEFT JOIN trees x ON x.item=i.id WHERE i.parent=0 AND x.id IS NULL", "tops that no tree begins with"},
		{"", "SELECT count(*) FROM trees x LEFT JOIN items i ON i.id=x.item LEFT JOIN servers v ON v.id=x.server WHERE i.id IS NULL OR v.id IS NULL", "trees without a top or a server"},
		{"weights", "SELECT count(*) FROM (SELECT strand, count(*) n FROM items GROUP BY strand) c LEFT JOIN weights w ON w.strand=c.strand WHERE coalesce(w.items,0)<>c.n", "strands whose items are miscounted"},
		{"", "SELECT count(*) FROM weights w WHERE w.items<>0 AND NOT EXISTS (SELECT 1 FROM items i WHERE i.strand=w.strand)", "strands said to have items that have none"},
		{"accounts", "SELECT count(*) FROM members m LEFT JOIN accounts a ON a.id=m.member LEFT JOIN accounts g ON g.id=m.holder WHERE a.id IS NULL OR g.id IS NULL", "memberships that name nobody"},
		{"", "SELECT count(*) FROM administrators m LEFT JOIN accounts a ON a.id=m.account LEFT JOIN servers v ON v.id=m.server WHERE a.id IS NULL OR v.id IS NULL", "administrators that are nobody, or of no server"},
		{"shares", "SELECT count(*) FROM shares s LEFT JOIN servers v ON v.id=s.server LEFT JOIN descriptors d ON d.id=s.descriptor WHERE v.id IS NULL OR d.id IS NULL", "shares on no server, or without rules"},
		{"last days", "SELECT count(*) FROM deadlines d LEFT JOIN items i ON i.id=d.item LEFT JOIN shares s ON s.id=d.share WHERE i.id IS NULL AND s.id IS NULL", "last days of what is no longer there"},
		{"journal", "SELECT count(*) FROM journal_rows r LEFT JOIN journal j ON j.id=r.change WHERE j.id IS NULL", "journaled rows of no change"},
		{"", "SELECT count(*) FROM journal WHERE summary=''", "changes that say nothing"},
	} {
		if x.step != "" {
			step(x.step)
		}
		if n := c.Int(x.query); n > 0 {
			do := fromBackup
			if strings.Contains(x.query, " weights ") {
				do = rebuilt
			}
			c.found(do, "%d %s", n, x.says)
		}
	}
}

// names holds names to how they are found.
func (c *checking) names() {
	t := c.Tx
	for _, table := range []string{"accounts", "servers", "shares", "levels"} {
		t.Each("SELECT name, key FROM "+table, nil, func(r *sql.Rows) error {
			var name, key string
			err := r.Scan(&name, &key)
			if store.Key(name) != key {
				c.found(rebuilt, "the name %q in %s can't be found by its key", format.Clip(name), table)
			}
			return err
		})
	}
	t.Each("SELECT id, name, fold FROM items", nil, func(r *sql.Rows) error {
		var id, fold int64
		var name string
		err := r.Scan(&id, &name, &fold)
		if store.Fold(name) != fold {
			c.found(rebuilt, "item %d can't be found by its name", id)
		}
		return err
	})
	for _, sid := range t.Strings("SELECT sid FROM accounts") {
		if id, err := account.ParseID(sid); err != nil {
			c.found(fromBackup, "an account's identifier can't be read: %v", err)
		} else if id.Inner() || account.Open(id) {
			continue // a realm's own, or who such a group lists
		} else if err := GoodID(id); err != nil {
			c.found("give the account another identifier", "an account stands for what is the standard's: %s", sid)
		}
	}
}

// lastDays holds last days to the entries they are of.
func (c *checking) lastDays() {
	t := c.Tx
	type dated struct {
		b     Bearer
		entry string
	}
	var days []dated
	t.Each("SELECT item, share, entry FROM deadlines", nil, func(r *sql.Rows) error {
		var d dated
		err := r.Scan(&d.b.Item, &d.b.Share, &d.entry)
		days = append(days, d)
		return err
	})
	for _, x := range days {
		var d *descriptor
		if x.b.Item != 0 {
			if r, ok := t.ItemRow(x.b.Item); ok {
				d = t.Of(r.Strand).Listed()
			}
		} else if s, ok := t.ShareByRow(x.b.Share); ok {
			d = s.Descriptor
		}
		if d == nil {
			continue
		}
		ok := false
		for _, e := range d.Rules.Own() {
			ok = ok || EntryKey(e) == x.entry
		}
		if !ok {
			c.found("tarnwold expire passes over it", "a last day of an entry that isn't there (item %d, share %d)", x.b.Item, x.b.Share)
		}
	}
}

// beside looks at what is kept beside the rules.
func (c *checking) beside() {
	t := c.Tx
	for table, what := range map[string]string{"links": "server", "scans": "server", "otherwise": "server", "admissions": "share", "facts": "item"} {
		if !t.Knows(table) {
			continue
		}
		if n := t.Int("SELECT count(*) FROM " + table + " x LEFT JOIN " + what + "s o ON o.id=x." + what + " WHERE o.id IS NULL"); n > 0 {
			do := fromBackup
			if table == "facts" {
				do = rebuilt
			}
			c.found(do, "%d %s of a %s that isn't there", n, table, what)
		}
	}
	for _, kind := range RecordKinds {
		for _, p := range t.Records(kind) {
			if !json.Valid([]byte(p.Body)) {
				c.found(fromBackup, "the %s %s can't be read", kind, p.Name)
			}
		}
	}
}

// journal holds the changes to their proofs, and reads them.
func (c *checking) journal() {
	c.Proven(func(change int64, why string) {
		c.found(fromBackup, "change %d %s: somebody has rewritten the journal", change, why)
	})
	c.Readable()
}
