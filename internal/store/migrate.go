package store

import (
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"modernc.org/sqlite"
)

var functions sync.Once

// register makes Key and Fold known to the database, for migrations.
func register() {
	functions.Do(func() {
		text := func(fn func(string) driver.Value) func(*sqlite.FunctionContext, []driver.Value) (driver.Value, error) {
			return func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
				s, _ := args[0].(string)
				return fn(s), nil
			}
		}
		sqlite.MustRegisterDeterministicScalarFunction("tarnwold_key", 1, text(func(s string) driver.Value { return Key(s) }))
		sqlite.MustRegisterDeterministicScalarFunction("tarnwold_fold", 1, text(func(s string) driver.Value { return Fold(s) }))
	})
}

// migrations bring a file from the version before to the one after; the first
// makes version 2 of version 1.
var migrations = []func(*Tx) error{toVersion2, toVersion3, toVersion4, toVersion5, toVersion6, toVersion7, toVersion8}

// migrate brings a file up to date within a transaction.
func migrate(t *Tx) error {
	for v := t.Int("PRAGMA user_version"); v < Version && t.err == nil; v++ {
		if err := migrations[v-1](t); err != nil {
			return err
		}
	}
	t.Exec(fmt.Sprintf("PRAGMA user_version=%d", Version))
	signed(t)
	return t.Err()
}

// signed writes down which program laid the file out.
func signed(t *Tx) {
	t.Exec("DELETE FROM writers")
	t.Exec("INSERT INTO writers(release) VALUES(?)", Release)
}

// toVersion3: servers may be linked to real ones, which tell more than rules.
func toVersion3(t *Tx) error {
	return newTables(t, "links", "facts", "scans", "domains", "unfinished", "admissions")
}

// toVersion4: policies, requests, keepers and particulars are kept, and who
// tried what.
func toVersion4(t *Tx) error { return newTables(t, "papers", "trail") }

// toVersion5: rows that came together may be written down together.
func toVersion5(*Tx) error { return nil }

// toVersion7: an index of all strands is kept, for who asks of all of them, and
// memberships that end are found by their last day.
func toVersion7(t *Tx) error {
	t.Exec(strings.Replace(untilIndex, "INDEX", "INDEX IF NOT EXISTS", 1)) // a table made anew on the way has it
	return newTables(t, "layouts")
}

// toVersion8: what a server was seen to have otherwise is remembered until it is looked at
// again, and which program laid the file out.
func toVersion8(t *Tx) error { return newTables(t, "otherwise", "writers") }

func newTables(t *Tx, names ...string) error {
	for _, statement := range strings.Split(tables, ";\n") {
		for _, name := range names {
			if strings.Contains(statement, "CREATE TABLE "+name+" ") || strings.Contains(statement, " ON "+name+"(") {
				t.Exec(statement)
			}
		}
	}
	return t.Err()
}

// toVersion2: names are compared by keys, items found by the fold of their
// name, last days keyed by the whole entry, journaled rows kept as SQL literals.
func toVersion2(t *Tx) error {
	moved := []string{"accounts", "members", "servers", "administrators", "shares", "levels", "deadlines"}
	seqs := map[string]int64{}
	for _, name := range moved {
		seqs[name] = t.Last(name)
		t.Exec("ALTER TABLE " + name + " RENAME TO old_" + name)
	}
	t.Exec("DROP INDEX IF EXISTS members_member; DROP INDEX IF EXISTS accounts_main; DROP INDEX IF EXISTS items_name")
	for _, statement := range strings.Split(tables, ";\n") {
		for _, name := range append(moved, "numbers") {
			if strings.Contains(statement, "CREATE TABLE "+name+" ") || strings.Contains(statement, " ON "+name+"(") {
				t.Exec(statement)
			}
		}
	}
	t.Exec(`
INSERT INTO accounts SELECT id, kind, name, tarnwold_key(name), sid, posix, main, purpose FROM old_accounts;
INSERT INTO members SELECT id, holder, member, until, 0 FROM old_members;
INSERT INTO servers SELECT id, name, tarnwold_key(name), traits FROM old_servers;
INSERT INTO administrators SELECT id, server, account FROM old_administrators;
INSERT INTO shares SELECT id, server, name, tarnwold_key(name), folder, read_only, descriptor FROM old_shares;
INSERT INTO levels SELECT id, name, tarnwold_key(name), folder, file, about FROM old_levels;
ALTER TABLE items ADD COLUMN fold INTEGER NOT NULL DEFAULT 0;
UPDATE items SET fold=tarnwold_fold(name);
` + itemIndexes)
	deadlines2(t)
	for i := len(moved) - 1; i >= 0; i-- {
		t.Exec("DROP TABLE old_" + moved[i])
		t.Exec("UPDATE sqlite_sequence SET seq=max(seq,?) WHERE name=?", seqs[moved[i]], moved[i])
		if t.Int("SELECT count(*) FROM sqlite_sequence WHERE name=?", moved[i]) == 0 {
			t.Exec("INSERT INTO sqlite_sequence(name, seq) VALUES(?,?)", moved[i], seqs[moved[i]])
		}
	}
	return journal2(t)
}

// deadlines2 adds the rights to the keys of last days: "kind flags who" becomes
// "kind flags rights who". A key that fits several entries of its item, or
// none, is left out: it never said which.
func deadlines2(t *Tx) {
	type row struct {
		id, item, share int64
		entry, until    string
	}
	var rows []row
	t.Each("SELECT id, item, share, entry, until FROM old_deadlines ORDER BY id", nil, func(r *sql.Rows) error {
		var x row
		err := r.Scan(&x.id, &x.item, &x.share, &x.entry, &x.until)
		rows = append(rows, x)
		return err
	})
	for _, x := range rows {
		var body []byte
		if !t.One("SELECT d.body FROM items i JOIN strands s ON s.id=i.strand JOIN descriptors d ON d.id=s.descriptor WHERE i.id=?", []any{x.item}, &body) {
			continue
		}
		for _, key := range t.keys(body) {
			p := strings.Split(key, " ")
			if len(p) == 4 && p[0]+" "+p[1]+" "+p[3] == x.entry {
				t.Exec("INSERT OR IGNORE INTO deadlines(id, item, share, entry, until) VALUES(?,?,?,?,?)", x.id, x.item, x.share, key, x.until)
				break
			}
		}
	}
}

// journal2 turns journaled rows from JSON lists into SQL literals, in the
// columns of today.
func journal2(t *Tx) error {
	type row struct {
		id            int64
		table         string
		before, after sql.NullString
	}
	var rows []row
	t.Each("SELECT id, tbl, before, after FROM journal_rows WHERE last=0", nil, func(r *sql.Rows) error {
		var x row
		err := r.Scan(&x.id, &x.table, &x.before, &x.after)
		rows = append(rows, x)
		return err
	})
	for _, x := range rows {
		var out [2]sql.NullString
		for i, s := range []sql.NullString{x.before, x.after} {
			if !s.Valid {
				continue
			}
			d := json.NewDecoder(strings.NewReader(s.String))
			d.UseNumber()
			var v []any
			if err := d.Decode(&v); err != nil {
				return fmt.Errorf("the journal holds a row that can't be read (%d): %w", x.id, err)
			}
			name := func(at int) string { s, _ := v[at].(string); return s }
			insert := func(at int, value any) { v = append(v[:at:at], append([]any{value}, v[at:]...)...) }
			switch {
			case x.table == "accounts" && len(v) == 6:
				insert(2, Key(name(1)))
			case x.table == "servers" && len(v) == 2, x.table == "levels" && len(v) == 4:
				insert(1, Key(name(0)))
			case x.table == "shares" && len(v) == 5:
				insert(2, Key(name(1)))
			case x.table == "members" && len(v) == 3:
				insert(3, int64(0))
			case x.table == "items" && len(v) == 3:
				insert(3, Fold(name(1)))
			}
			words := make([]string, len(v))
			for k, value := range v {
				words[k] = literal(value)
			}
			out[i] = sql.NullString{String: strings.Join(words, ","), Valid: true}
		}
		t.Exec("UPDATE journal_rows SET before=?, after=? WHERE id=?", out[0], out[1], x.id)
		if t.err != nil {
			break
		}
	}
	return t.Err()
}

// literal writes a value as quote() does.
func literal(v any) string {
	switch x := v.(type) {
	case nil:
		return "NULL"
	case json.Number:
		return x.String()
	case int64:
		return strconv.FormatInt(x, 10)
	case string:
		return "'" + strings.ReplaceAll(x, "'", "''") + "'"
	}
	return "NULL"
}
