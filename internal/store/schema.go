package store

// Version is the layout of the file, kept in SQLite's user_version.
const Version = 8

// Release names the program in the files it lays out, so that an older one can say which
// is wanted. Who links the program sets it.
var Release string

// readable is the oldest layout that is read as it lies: what came since are
// tables that Knows tells of.
const readable = 2

// applicationID marks a SQLite file as an estate ("Tarn").
const applicationID = 0x5461726e

// tables lays out an empty estate.
//
// items are told apart from strands: a strand is a set of items that share
// their descriptor and, folder by folder, every descriptor above; its row
// carries that descriptor once for all of them. An item's strand has as its
// parent the strand of the item's folder, always.
// Numbers of rows are never used again (AUTOINCREMENT), for the journal names
// rows by them.
const tables = `
CREATE TABLE accounts (
	id            INTEGER PRIMARY KEY AUTOINCREMENT,
	kind          INTEGER NOT NULL,         -- account.Kind
	name          TEXT NOT NULL,
	key           TEXT NOT NULL,            -- Key(name): names are compared by it
	sid           TEXT NOT NULL UNIQUE,     -- account.ID in text
	posix         INTEGER NOT NULL,         -- uid or gid, -1: none
	primary_group TEXT NOT NULL DEFAULT '', -- of a user: its identifier
	purpose       TEXT NOT NULL DEFAULT '',
	UNIQUE (key, kind)
);
` + accountIndex + `;
CREATE TABLE members (
	id     INTEGER PRIMARY KEY AUTOINCREMENT,
	holder INTEGER NOT NULL REFERENCES accounts(id),
	member INTEGER NOT NULL REFERENCES accounts(id),
	until  TEXT NOT NULL DEFAULT '',       -- the last day, YYYY-MM-DD
	local  INTEGER NOT NULL DEFAULT 0      -- 1: not one of the server's POSIX groups
);
` + pairIndex + `;
` + memberIndex + `;
` + untilIndex + `;
CREATE TABLE numbers (                     -- not journaled: a number given once is never given again
	domain TEXT PRIMARY KEY,
	last   INTEGER NOT NULL
);
CREATE TABLE servers (
	id     INTEGER PRIMARY KEY AUTOINCREMENT,
	name   TEXT NOT NULL,
	key    TEXT NOT NULL UNIQUE,
	traits TEXT NOT NULL                   -- verdict.Traits as JSON
);
CREATE TABLE administrators (
	id      INTEGER PRIMARY KEY AUTOINCREMENT,
	server  INTEGER NOT NULL REFERENCES servers(id),
	account INTEGER NOT NULL REFERENCES accounts(id),
	UNIQUE (server, account)
);
CREATE TABLE links (
	id     INTEGER PRIMARY KEY AUTOINCREMENT,
	server INTEGER NOT NULL UNIQUE REFERENCES servers(id),
	kind   TEXT NOT NULL,                  -- the protocol: smb
	link   TEXT NOT NULL                   -- how it is reached, as JSON; never a password
);
CREATE TABLE facts (                       -- not journaled: what a server told of an item beside its rules
	item     INTEGER PRIMARY KEY,
	size     INTEGER NOT NULL,             -- bytes
	modified INTEGER NOT NULL,             -- its contents, in seconds since 1970; 0: not told
	changed  INTEGER NOT NULL              -- it itself, its rules too
);
CREATE TABLE scans (                       -- not journaled: when a real server was read last
	server  INTEGER PRIMARY KEY,
	at      TEXT NOT NULL,                 -- RFC 3339, UTC
	machine TEXT NOT NULL                  -- the identifier of whoever answered: its own accounts' domain
);
CREATE TABLE otherwise (                   -- not journaled: what a real server has or answers otherwise
	server INTEGER NOT NULL,
	kind   TEXT NOT NULL,                  -- membership: told by a scan; answer: tried by a proof
	what   TEXT NOT NULL,
	PRIMARY KEY (server, kind, what)
);
CREATE TABLE domains (                     -- not journaled: what the domains of accounts are called
	sid   TEXT PRIMARY KEY,
	name  TEXT NOT NULL,
	realm TEXT NOT NULL DEFAULT ''
);
CREATE TABLE unfinished (                  -- not journaled: a change that is being written to a real server
	id   INTEGER PRIMARY KEY CHECK (id=1), -- one at a time
	body TEXT NOT NULL                     -- JSON; the package plan has it
);
CREATE TABLE descriptors (
	id   INTEGER PRIMARY KEY,
	kind INTEGER NOT NULL,                 -- 1: [MS-DTYP] 2.4.6 self-relative
	hash BLOB NOT NULL UNIQUE,             -- SHA-256 of kind and body
	body BLOB NOT NULL
);
CREATE TABLE shares (
	id         INTEGER PRIMARY KEY AUTOINCREMENT,
	server     INTEGER NOT NULL REFERENCES servers(id),
	name       TEXT NOT NULL,
	key        TEXT NOT NULL,
	folder     TEXT NOT NULL,              -- the server's own path
	read_only  INTEGER NOT NULL,
	descriptor INTEGER NOT NULL REFERENCES descriptors(id),
	UNIQUE (server, key)
);
CREATE TABLE admissions (                  -- what a server's own configuration says of a share beside its rules
	id    INTEGER PRIMARY KEY AUTOINCREMENT,
	share INTEGER NOT NULL UNIQUE,
	body  TEXT NOT NULL                    -- JSON; the package estate has it
);
CREATE TABLE strands (
	id         INTEGER PRIMARY KEY AUTOINCREMENT,
	parent     INTEGER NOT NULL,           -- 0 at the top of a tree
	descriptor INTEGER NOT NULL,
	folder     INTEGER NOT NULL,
	origin     INTEGER NOT NULL DEFAULT 0  -- the strand it was split from
);
CREATE INDEX strands_parent ON strands(parent);
CREATE INDEX strands_origin ON strands(origin) WHERE origin <> 0;
CREATE INDEX strands_descriptor ON strands(descriptor);
CREATE TABLE items (
	id     INTEGER PRIMARY KEY AUTOINCREMENT,
	parent INTEGER NOT NULL,               -- 0 at the top of a tree
	name   TEXT NOT NULL,                  -- byte for byte; at the top of a tree: server and path, only to be distinct
	strand INTEGER NOT NULL,
	fold   INTEGER NOT NULL                -- Fold(name): how it is found, in whatever case
);
CREATE TABLE trees (
	id     INTEGER PRIMARY KEY AUTOINCREMENT,
	server INTEGER NOT NULL REFERENCES servers(id),
	path   TEXT NOT NULL,                  -- where the tree's top stands on the server
	item   INTEGER NOT NULL,
	UNIQUE (server, path)
);
CREATE TABLE levels (
	id     INTEGER PRIMARY KEY AUTOINCREMENT,
	name   TEXT NOT NULL,
	key    TEXT NOT NULL UNIQUE,
	folder INTEGER NOT NULL,
	file   INTEGER NOT NULL,
	about  TEXT NOT NULL DEFAULT ''
);
CREATE TABLE deadlines (
	id    INTEGER PRIMARY KEY AUTOINCREMENT,
	item  INTEGER NOT NULL,                -- 0: of a share
	share INTEGER NOT NULL,                -- 0: of an item
	entry TEXT NOT NULL,                   -- the whole entry, see the package estate
	until TEXT NOT NULL,                   -- the last day, YYYY-MM-DD
	UNIQUE (item, share, entry)
);
CREATE TABLE journal (
	id      INTEGER PRIMARY KEY AUTOINCREMENT,
	at      TEXT NOT NULL,                 -- RFC 3339, UTC
	actor   TEXT NOT NULL,
	command TEXT NOT NULL,
	summary TEXT NOT NULL,
	forced  TEXT NOT NULL DEFAULT '',      -- the guards that were overridden
	undoes  INTEGER NOT NULL DEFAULT 0     -- the change this one takes back
);
CREATE TABLE journal_rows (
	id     INTEGER PRIMARY KEY,
	change INTEGER NOT NULL REFERENCES journal(id),
	tbl    TEXT NOT NULL,
	row    INTEGER NOT NULL,
	last   INTEGER NOT NULL DEFAULT 0,     -- rows row to last were made, at once
	before TEXT,                           -- the row as a list of SQL literals; NULL: was not there
	after  TEXT                            -- NULL: is not there, or a bulk load; of several rows: lists, a semicolon between
);
CREATE INDEX journal_rows_change ON journal_rows(change);
CREATE INDEX journal_rows_row ON journal_rows(tbl, row);
CREATE TABLE proofs (                      -- not journaled: the chain of hashes over the journal
	change INTEGER PRIMARY KEY,
	origin TEXT NOT NULL DEFAULT '',       -- where the change came from, where that steers what is done with it
	hash   BLOB NOT NULL                   -- SHA-256; see proof.go
);
CREATE INDEX proofs_hash ON proofs(hash);
CREATE TABLE writers (                     -- not journaled: the program that laid the file out
	release TEXT NOT NULL
);
CREATE TABLE papers (                      -- what is kept in writing beside the rules
	id   INTEGER PRIMARY KEY AUTOINCREMENT,
	kind TEXT NOT NULL,                    -- policy, request, keeper, particulars
	key  TEXT NOT NULL,                    -- Key of its name, or its number
	body TEXT NOT NULL,                    -- JSON; the package plan has it
	UNIQUE (kind, key)
);
CREATE TABLE trail (                       -- not journaled: who tried what, as servers wrote it down
	id      INTEGER PRIMARY KEY,
	sum     BLOB NOT NULL UNIQUE,          -- of the line and which of its like it was, so that each is there once
	at      INTEGER NOT NULL,              -- in seconds since 1970
	who     TEXT NOT NULL,                 -- the name as it was written
	account TEXT NOT NULL,                 -- its identifier, where the estate knew it then
	act     TEXT NOT NULL,
	place   TEXT NOT NULL,                 -- an address as it was written
	server  INTEGER NOT NULL,              -- 0: none the estate knew
	path    TEXT NOT NULL,                 -- the server's own path
	refused INTEGER NOT NULL,
	source  TEXT NOT NULL                  -- the kind of file it came from
);
CREATE INDEX trail_at ON trail(at);
CREATE TABLE layouts (                     -- not journaled: an index of all strands, as they were after a change; see the package estate
	id   INTEGER PRIMARY KEY CHECK (id=1),
	head INTEGER NOT NULL,                 -- that change
	body BLOB NOT NULL
);
CREATE TABLE weights (
	strand INTEGER PRIMARY KEY,
	items  INTEGER NOT NULL                -- how many items are of the strand
);
`

const (
	accountIndex = "CREATE INDEX accounts_primary ON accounts(primary_group) WHERE primary_group <> ''"
	pairIndex    = "CREATE UNIQUE INDEX members_pair ON members(holder, member)"
	memberIndex  = "CREATE INDEX members_member ON members(member)"
	untilIndex   = "CREATE INDEX members_until ON members(until) WHERE until <> ''" // of few, mostly
)

// itemIndexes are made after a bulk load into an empty estate, and kept ever after.
const itemIndexes = `
CREATE INDEX IF NOT EXISTS items_fold ON items(parent, fold);
CREATE INDEX IF NOT EXISTS items_strand ON items(strand);
`

const dropItemIndexes = `DROP INDEX IF EXISTS items_fold; DROP INDEX IF EXISTS items_strand;`

// journaled names the tables whose every change is written down, with their
// columns after id.
var journaled = []struct {
	table   string
	columns []string
}{
	{"accounts", []string{"kind", "name", "key", "sid", "posix", "primary_group", "purpose"}},
	{"members", []string{"holder", "member", "until", "local"}},
	{"servers", []string{"name", "key", "traits"}},
	{"administrators", []string{"server", "account"}},
	{"links", []string{"server", "kind", "link"}},
	{"shares", []string{"server", "name", "key", "folder", "read_only", "descriptor"}},
	{"admissions", []string{"share", "body"}},
	{"strands", []string{"parent", "descriptor", "folder", "origin"}},
	{"items", []string{"parent", "name", "strand", "fold"}},
	{"trees", []string{"server", "path", "item"}},
	{"levels", []string{"name", "key", "folder", "file", "about"}},
	{"deadlines", []string{"item", "share", "entry", "until"}},
	{"papers", []string{"kind", "key", "body"}},
}

// Columns lists a journaled table's columns after id.
func Columns(table string) []string {
	for _, j := range journaled {
		if j.table == table {
			return j.columns
		}
	}
	return nil
}
