package estate

import (
	"database/sql"
	"strings"
	"time"

	"tarnwold/core/account"
	"tarnwold/internal/format"
	"tarnwold/internal/store"
)

// Facts gives what a server told of an item beside its rules; ok is false
// where nothing is known.
func (t *Tx) Facts(item int64) (f format.Facts, ok bool) {
	ok = t.Knows("facts") && t.One("SELECT size, modified, changed FROM facts WHERE item=?", []any{item}, &f.Size, &f.Modified, &f.Changed)
	return f, ok
}

// Listed is an item in a folder with what a server told of it.
type Listed struct {
	Child
	Facts format.Facts
}

// WithinListed lists the items directly in a folder, in no order.
func (t *Tx) WithinListed(folder int64) (out []Listed) {
	q := "SELECT i.id, i.name, i.strand, s.folder, coalesce(f.size,0), coalesce(f.modified,0), coalesce(f.changed,0) FROM items i JOIN strands s ON s.id=i.strand LEFT JOIN facts f ON f.item=i.id WHERE i.parent=?"
	if !t.Knows("facts") {
		q = "SELECT i.id, i.name, i.strand, s.folder, 0, 0, 0 FROM items i JOIN strands s ON s.id=i.strand WHERE i.parent=?"
	}
	t.Each(q, []any{folder}, func(r *sql.Rows) error {
		var c Listed
		err := r.Scan(&c.Item, &c.Name, &c.Strand, &c.Folder, &c.Facts.Size, &c.Facts.Modified, &c.Facts.Changed)
		out = append(out, c)
		return err
	})
	return out
}

// Volume is how many files there are, and how large those are of which that is known.
type Volume struct{ Files, Known, Bytes int64 }

// Add adds another.
func (v *Volume) Add(o Volume) {
	v.Files, v.Known, v.Bytes = v.Files+o.Files, v.Known+o.Known, v.Bytes+o.Bytes
}

const summed = "count(*), count(f.item), coalesce(sum(f.size), 0)"

// facts is the table of sizes, or an empty one where the file has none yet.
func (t *Tx) facts() string {
	if t.Knows("facts") {
		return "facts"
	}
	return "(SELECT 0 item, 0 size WHERE 0)"
}

// FolderSizes calls fn with every folder that files of some nodes are directly in, and how
// large they are there, node by node.
func (f *Partition) FolderSizes(t *Tx, nodes []int, fn func(folder int64, v Volume)) error {
	return f.inFolders(t, nodes, "SELECT i.parent, "+summed+" FROM items i LEFT JOIN "+t.facts()+" f ON f.item=i.id WHERE i.%s IN {set} GROUP BY i.parent", func(r *sql.Rows) error {
		var folder int64
		var v Volume
		err := r.Scan(&folder, &v.Files, &v.Known, &v.Bytes)
		fn(folder, v)
		return err
	})
}

// OwnedSizes gives how large the files are that each account owns, everywhere or at and
// below an item (0: everywhere), by the identifier that the rules have.
func (t *Tx) OwnedSizes(below int64) map[account.ID]Volume {
	from, args := "items i", []any{}
	if below != 0 {
		from, args = "b JOIN items i ON i.id=b.id", []any{below}
	}
	q := "SELECT i.strand, " + summed + " FROM " + from + " JOIN strands s ON s.id=i.strand AND s.folder=0 LEFT JOIN " + t.facts() + " f ON f.item=i.id GROUP BY i.strand"
	if below != 0 {
		q = "WITH RECURSIVE b(id) AS (VALUES(?) UNION ALL SELECT i.id FROM b JOIN items i ON i.parent=b.id) " + q
	}
	of := map[int64]Volume{}
	var strands, ids []int64
	t.Each(q, args, func(r *sql.Rows) error {
		var strand int64
		var v Volume
		err := r.Scan(&strand, &v.Files, &v.Known, &v.Bytes)
		of[strand], strands = v, append(strands, strand)
		return err
	})
	rules := map[int64]int64{}
	t.EachOf("SELECT id, descriptor FROM strands WHERE id IN {set}", strands, func(r *sql.Rows) error {
		var id, d int64
		err := r.Scan(&id, &d)
		rules[id], ids = d, append(ids, d)
		return err
	})
	t.Fetch(ids)
	out := map[account.ID]Volume{}
	for _, strand := range strands {
		owner := t.Descriptor(rules[strand]).Owned()
		v := out[owner]
		v.Add(of[strand])
		out[owner] = v
	}
	return out
}

// SetFacts keeps what a server told of an item. It is not journaled: nobody's
// access hangs on it.
func (t *Tx) SetFacts(item int64, f format.Facts) {
	t.Exec("INSERT OR REPLACE INTO facts(item, size, modified, changed) VALUES(?,?,?,?)", item, f.Size, f.Modified, f.Changed)
}

// Scanned says when a server was read last; zero: never.
func (t *Tx) Scanned(s Server) time.Time {
	var at string
	if t.Knows("scans") && t.One("SELECT at FROM scans WHERE server=?", []any{s.ID}, &at) {
		if x, err := time.Parse(time.RFC3339, at); err == nil {
			return x
		}
	}
	return time.Time{}
}

// Answered gives who answered when a server was read last: the domain of its
// own accounts; zero where that is unknown.
func (t *Tx) Answered(s Server) (id account.ID) {
	if t.answered == nil {
		t.answered = map[int64]account.ID{}
		if t.Knows("scans") {
			t.Each("SELECT server, machine FROM scans WHERE machine<>''", nil, func(r *sql.Rows) error {
				var server int64
				var text string
				err := r.Scan(&server, &text)
				t.answered[server], _ = account.ParseID(text)
				return err
			})
		}
	}
	return t.answered[s.ID]
}

// SetScanned says that a server was read, at a moment, and who answered.
func (t *Tx) SetScanned(s Server, at time.Time, machine account.ID) {
	t.answered = nil
	t.Exec("INSERT OR REPLACE INTO scans(server, at, machine) VALUES(?,?,?)", s.ID, at.UTC().Format(time.RFC3339), machine.String())
}

// ForgetScans forgets that a server was ever read.
func (t *Tx) ForgetScans(s Server) {
	if t.Knows("scans") {
		t.answered = nil
		t.Exec("DELETE FROM scans WHERE server=?", s.ID)
	}
	if t.Knows("otherwise") {
		t.Exec("DELETE FROM otherwise WHERE server=?", s.ID)
	}
}

// What a server may have otherwise than the estate.
const (
	MembershipOtherwise = "membership" // of a directory's group, as a scan was told
	AnswerOtherwise     = "answer"     // to an act that was tried, as a proof has it
)

// mostOtherwise is how much of one kind is remembered of one server.
const mostOtherwise = 1000

// SetOtherwise remembers what a server has otherwise, in place of what was remembered.
func (t *Tx) SetOtherwise(s Server, kind string, list []string) {
	t.Exec("DELETE FROM otherwise WHERE server=? AND kind=?", s.ID, kind)
	for _, what := range list[:min(len(list), mostOtherwise)] {
		t.Exec("INSERT OR IGNORE INTO otherwise(server, kind, what) VALUES(?,?,?)", s.ID, kind, what)
	}
}

// Otherwise gives what a server was seen to have otherwise.
func (t *Tx) Otherwise(s Server) []string {
	if !t.Knows("otherwise") {
		return nil
	}
	return t.Strings("SELECT what FROM otherwise WHERE server=? ORDER BY kind, what", s.ID)
}

// Domain is where accounts are kept: a domain, or one machine.
type Domain struct {
	ID    account.ID
	Name  string // QUILLFEATHER
	Realm string // quillfeather.example; "" where it is unknown
}

// Domains lists the domains the estate has met.
func (t *Tx) Domains() (out []Domain) {
	if !t.Knows("domains") {
		return nil
	}
	t.Each("SELECT sid, name, realm FROM domains ORDER BY name", nil, func(r *sql.Rows) error {
		var sid string
		var d Domain
		err := r.Scan(&sid, &d.Name, &d.Realm)
		if err == nil {
			d.ID, err = account.ParseID(sid)
		}
		out = append(out, d)
		return err
	})
	return out
}

// SetDomain remembers what a domain is called.
func (t *Tx) SetDomain(d Domain) {
	t.Exec("INSERT OR REPLACE INTO domains(sid, name, realm) VALUES(?,?,?)", d.ID.String(), d.Name, d.Realm)
}

// inDomain finds accounts told by their domain: DOMAIN\name or name@realm.
func (t *Tx) inDomain(word string) []*row {
	name, domain, ok := "", "", false
	if domain, name, ok = strings.Cut(word, `\`); !ok {
		if i := strings.LastIndexByte(word, '@'); i > 0 {
			name, domain, ok = word[:i], word[i+1:], true
		}
	}
	if !ok || name == "" || domain == "" {
		return nil
	}
	var out []*row
	for _, d := range t.Domains() {
		if store.Key(d.Name) != store.Key(domain) && store.Key(d.Realm) != store.Key(domain) {
			continue
		}
		// One whose name is another's too has its domain in its own name.
		for _, a := range t.accountsWhere("key IN (?,?) ORDER BY kind", store.Key(name), store.Key(name+"@"+d.Name)) {
			if in, _, ok := a.ID.Domain(); ok && in == d.ID {
				out = append(out, a)
			}
		}
	}
	return out
}

// Mark remembers a number under a name; it is not a change of the estate.
func (t *Tx) Mark(name string, n int64) {
	t.Exec("INSERT INTO numbers(domain, last) VALUES(?,?) ON CONFLICT(domain) DO UPDATE SET last=excluded.last", "mark "+store.Key(name), n)
}

// Marked gives the number that is remembered under a name; 0: none.
func (t *Tx) Marked(name string) int64 {
	return t.Int("SELECT coalesce(max(last),0) FROM numbers WHERE domain=?", "mark "+store.Key(name))
}
