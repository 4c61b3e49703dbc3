package store

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"modernc.org/libc"
	sqlite3 "modernc.org/sqlite/lib"
)

// A private estate is the file as it stands at one moment, with whatever is
// written to it kept in memory and gone when it is closed: for what-if and for
// days past. A layer of its own reads pages from the file and writes them to
// memory; it takes no lock, and nobody else ever sees it.

const privateLayer = "tarnwold-private"

// privateFile is one open file of the layer.
type privateFile struct {
	below  *os.File
	size   int64
	pages  map[int64][]byte // by number
	sealed bool             // pages of the file carry sums
}

type privateFiles struct {
	mu    sync.Mutex
	next  uintptr
	files map[uintptr]*privateFile
	late  map[string][]*os.File // by path: to be closed with the estate
	open  func(*libc.TLS, uintptr, uintptr, uintptr, int32, uintptr) int32
	meth  uintptr
}

var private = &privateFiles{files: map[uintptr]*privateFile{}, late: map[string][]*os.File{}}

var privately sync.Once

func addPrivateLayer() {
	privately.Do(func() {
		tls := libc.NewTLS()
		defer tls.Close()
		below := sqlite3.Xsqlite3_vfs_find(tls, 0)
		ours := libc.Xmalloc(tls, libc.Tsize_t(unsafe.Sizeof(sqlite3.Tsqlite3_vfs{})))
		*at[sqlite3.Tsqlite3_vfs](ours) = *at[sqlite3.Tsqlite3_vfs](below)
		v := at[sqlite3.Tsqlite3_vfs](ours)
		name, err := libc.CString(privateLayer)
		if err != nil {
			panic(err)
		}
		v.FzName, v.FpNext = name, 0
		private.open = call[func(*libc.TLS, uintptr, uintptr, uintptr, int32, uintptr) int32](v.FxOpen)
		v.FxOpen, v.FxDelete, v.FxAccess = pointer(privateOpen), pointer(privateDelete), pointer(privateAccess)
		private.meth = libc.Xcalloc(tls, 1, libc.Tsize_t(unsafe.Sizeof(sqlite3.Tsqlite3_io_methods{})))
		m := at[sqlite3.Tsqlite3_io_methods](private.meth)
		m.FiVersion = 1
		m.FxClose, m.FxRead, m.FxWrite, m.FxTruncate = pointer(privateClose), pointer(privateRead), pointer(privateWrite), pointer(privateTruncate)
		m.FxSync, m.FxFileSize, m.FxLock, m.FxUnlock = pointer(privateFlag), pointer(privateSize), pointer(privateFlag), pointer(privateFlag)
		m.FxCheckReservedLock, m.FxFileControl = pointer(privateReserved), pointer(privateControl)
		m.FxSectorSize, m.FxDeviceCharacteristics = pointer(privateSector), pointer(privateTraits)
		sqlite3.Xsqlite3_vfs_register(tls, ours, 0)
	})
}

// privateHandle is what the database keeps of a file: sqlite3_file and our number.
type privateHandle struct {
	methods, number uintptr
}

func privateOpen(tls *libc.TLS, vfs, path, file uintptr, flags int32, out uintptr) int32 {
	if path == 0 || flags&sqlite3.SQLITE_OPEN_MAIN_DB == 0 { // what the database puts by for itself
		return private.open(tls, vfs, path, file, flags, out)
	}
	name := libc.GoString(path)
	f, err := os.Open(name)
	if err != nil {
		return sqlite3.SQLITE_CANTOPEN
	}
	p := &privateFile{below: f, pages: map[int64][]byte{}}
	private.mu.Lock()
	from := private.files[parameter(tls, path, "from")]
	private.mu.Unlock()
	if from != nil { // what another private estate wrote is there too
		p.size, p.sealed, p.pages = from.size, from.sealed, maps.Clone(from.pages)
		for i, page := range p.pages {
			p.pages[i] = slices.Clone(page)
		}
	} else {
		info, err := f.Stat()
		if err == nil {
			p.size = info.Size()
			err = p.foldIn(name + "-wal")
		}
		if err != nil {
			f.Close()
			return sqlite3.SQLITE_CANTOPEN
		}
	}
	number := parameter(tls, path, "number")
	private.mu.Lock()
	private.files[number] = p
	*at[privateHandle](file) = privateHandle{private.meth, number}
	private.mu.Unlock()
	if out != 0 {
		*at[int32](out) = flags
	}
	return sqlite3.SQLITE_OK
}

// parameter gives a number that was named when the file was opened.
func parameter(tls *libc.TLS, path uintptr, name string) uintptr {
	c, err := libc.CString(name)
	if err != nil {
		return 0
	}
	defer libc.Xfree(tls, c)
	return uintptr(sqlite3.Xsqlite3_uri_int64(tls, path, c, 0))
}

func privateOf(file uintptr) *privateFile {
	private.mu.Lock()
	defer private.mu.Unlock()
	return private.files[at[privateHandle](file).number]
}

func privateClose(_ *libc.TLS, file uintptr) int32 {
	private.mu.Lock()
	defer private.mu.Unlock()
	n := at[privateHandle](file).number
	if p := private.files[n]; p != nil {
		// Closing a file gives up every lock this process has on it, by any
		// handle: so it waits until the estate itself is closed.
		private.late[p.below.Name()] = append(private.late[p.below.Name()], p.below)
	}
	delete(private.files, n)
	return sqlite3.SQLITE_OK
}

func closeLate(path string) {
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	private.mu.Lock()
	defer private.mu.Unlock()
	for _, f := range private.late[path] {
		_ = f.Close()
	}
	delete(private.late, path)
}

func privateRead(_ *libc.TLS, file, buf uintptr, n int32, offset int64) int32 {
	p := privateOf(file)
	b := bytesAt(buf, n)
	whole := true
	for len(b) > 0 {
		part := min(int64(len(b)), pageSize-offset%pageSize)
		if page := p.pages[offset/pageSize]; page != nil {
			copy(b[:part], page[offset%pageSize:])
		} else if rc := p.fromFile(b[:part], offset, &whole); rc != sqlite3.SQLITE_OK {
			return rc
		}
		if offset+part > p.size {
			from := max(0, p.size-offset)
			clear(b[from:part])
			whole = false
		}
		b, offset = b[part:], offset+part
	}
	if !whole {
		return sqlite3.SQLITE_IOERR_SHORT_READ
	}
	return sqlite3.SQLITE_OK
}

func (p *privateFile) fromFile(b []byte, offset int64, whole *bool) int32 {
	clear(b)
	n, err := p.below.ReadAt(b, offset)
	if err != nil && err != io.EOF {
		return sqlite3.SQLITE_IOERR_READ
	}
	if n < len(b) {
		*whole = false
		return sqlite3.SQLITE_OK
	}
	if offset == 0 && n >= 100 {
		p.sealed = sealedHeader(b)
	}
	if p.sealed && n == pageSize && offset%pageSize == 0 && binary.LittleEndian.Uint64(b[pageSize-reserved:]) != seal(b, offset) {
		return sqlite3.SQLITE_CORRUPT
	}
	if offset == 0 && n >= 20 { // without a log from now on: fileformat2 §1.3.3
		b[18], b[19] = 1, 1
	}
	return sqlite3.SQLITE_OK
}

// foldIn takes in what a write-ahead log holds beyond the file: the frames of
// whole transactions whose sums are right, sqlite.org/fileformat2.html §4.1.
// The salts of a log begun anew part its frames from those left over.
func (p *privateFile) foldIn(name string) error {
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close() // the log is never locked by the file itself
	r := bufio.NewReaderSize(f, 1<<16)
	head := make([]byte, 32)
	if _, err := io.ReadFull(r, head); err != nil {
		return nothingMore(err)
	}
	var order binary.ByteOrder = binary.LittleEndian
	switch binary.BigEndian.Uint32(head) {
	case 0x377f0682:
	case 0x377f0683:
		order = binary.BigEndian
	default:
		return nil
	}
	var a, b uint32
	sum := func(data []byte) {
		for ; len(data) >= 8; data = data[8:] {
			a += order.Uint32(data) + b
			b += order.Uint32(data[4:]) + a
		}
	}
	fits := func(of []byte) bool { return binary.BigEndian.Uint32(of) == a && binary.BigEndian.Uint32(of[4:]) == b }
	sum(head[:24])
	if !fits(head[24:]) || binary.BigEndian.Uint32(head[8:]) != pageSize {
		return nil
	}
	pending := map[int64][]byte{} // of a transaction whose last frame hasn't come
	frame := make([]byte, 24+pageSize)
	for {
		if _, err := io.ReadFull(r, frame); err != nil {
			return nothingMore(err)
		}
		sum(frame[:8])
		sum(frame[24:])
		if !bytes.Equal(frame[8:16], head[16:24]) || !fits(frame[16:]) {
			return nil
		}
		number := int64(binary.BigEndian.Uint32(frame))
		pending[number-1] = slices.Clone(frame[24:])
		size := int64(binary.BigEndian.Uint32(frame[4:]))
		if size == 0 {
			continue
		}
		maps.Copy(p.pages, pending)
		clear(pending)
		p.size = size * pageSize
		if first := p.pages[0]; first != nil {
			p.sealed = sealedHeader(first)
			first[18], first[19] = 1, 1
		}
	}
}

func nothingMore(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return err
}

func (p *privateFile) write(b []byte, offset int64) {
	for len(b) > 0 {
		i, from := offset/pageSize, offset%pageSize
		part := min(int64(len(b)), pageSize-from)
		page := p.pages[i]
		if page == nil {
			page = make([]byte, pageSize)
			if part < pageSize {
				_, _ = p.below.ReadAt(page, i*pageSize)
			}
			p.pages[i] = page
		}
		copy(page[from:], b[:part])
		b, offset = b[part:], offset+part
	}
	p.size = max(p.size, offset)
}

func privateWrite(_ *libc.TLS, file, buf uintptr, n int32, offset int64) int32 {
	privateOf(file).write(bytesAt(buf, n), offset)
	return sqlite3.SQLITE_OK
}

func privateTruncate(_ *libc.TLS, file uintptr, size int64) int32 {
	p := privateOf(file)
	p.size = size
	for i := range p.pages {
		if i*pageSize >= size {
			delete(p.pages, i)
		}
	}
	return sqlite3.SQLITE_OK
}

func privateSize(_ *libc.TLS, file, out uintptr) int32 {
	*at[int64](out) = privateOf(file).size
	return sqlite3.SQLITE_OK
}

// privateFlag is syncing, locking and unlocking: nobody else is there.
func privateFlag(*libc.TLS, uintptr, int32) int32 { return sqlite3.SQLITE_OK }

func privateReserved(_ *libc.TLS, _, out uintptr) int32 {
	*at[int32](out) = 0
	return sqlite3.SQLITE_OK
}

func privateControl(*libc.TLS, uintptr, int32, uintptr) int32 { return sqlite3.SQLITE_NOTFOUND }
func privateSector(*libc.TLS, uintptr) int32                  { return pageSize }
func privateTraits(*libc.TLS, uintptr) int32                  { return 0 }

// privateDelete takes nothing from the disk.
func privateDelete(*libc.TLS, uintptr, uintptr, int32) int32 { return sqlite3.SQLITE_OK }

// privateAccess finds no log beside the file: it was taken in.
func privateAccess(_ *libc.TLS, _, _ uintptr, _ int32, out uintptr) int32 {
	*at[int32](out) = 0
	return sqlite3.SQLITE_OK
}

// Private calls fn with the estate as it stands now, to be written to at will:
// it is gone afterwards, and nobody else ever sees it. No lock is taken that
// would keep another from writing.
func (d *DB) Private(ctx context.Context, fn func(*DB) error) error {
	if d.old != 0 && d.old < readable {
		if err := d.modern(ctx); err != nil {
			return err
		}
		return d.copy.Private(ctx, fn)
	}
	// A transaction that reads keeps the moment: what others write meanwhile
	// stays in the log, and out of the file.
	return d.run(ctx, "BEGIN", false, func(t *Tx) error {
		t.Int("SELECT count(*) FROM sqlite_schema")
		if t.err != nil {
			return t.err
		}
		private.mu.Lock()
		private.next++
		number := private.next
		private.mu.Unlock()
		p := newDB(openPrivate(d.path, number, d.private), d.path)
		p.keys, p.old, p.private = d.keys, d.old, number
		defer func() {
			p.hangUp()
			p.db.Close()
		}()
		return fn(p)
	})
}

// openPrivate opens a private estate under a number, from the file or, where
// that isn't 0, from another.
func openPrivate(path string, number, from uintptr) *sql.DB {
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	addPrivateLayer()
	register()
	dsn := (&url.URL{Scheme: "file", Path: filepath.ToSlash(path)}).String() + fmt.Sprintf("?vfs=%s&number=%d&from=%d", privateLayer, number, from) +
		"&mode=rw&_pragma=journal_mode(memory)&_pragma=synchronous(off)&_pragma=temp_store(memory)&_pragma=cache_size(-65536)&_pragma=cell_size_check(1)"
	db, _ := sql.Open("sqlite", dsn)
	db.SetMaxOpenConns(1)
	return db
}

// Rewind takes back every change after one, row by row as the journal has
// them, newest first. It belongs in a private estate: nothing is weighed here.
// Within a bulk change it is quick: no row is written down, and the weights of
// strands are counted anew.
func (t *Tx) Rewind(after int64) {
	t.rewind("change>? AND change<>?", after, t.change)
	if t.ranges && t.Int("SELECT count(*) FROM journal_rows WHERE change>? AND change<>? AND +tbl='items'", after, t.change) > 0 {
		t.Exec("DELETE FROM weights; INSERT INTO weights(strand, items) SELECT strand, count(*) FROM items GROUP BY strand")
	}
}

// RewindOne takes back one change, which those after it were taken back before.
// Rows that a load made by the million are left: who asks knows of them. only, where it
// isn't nil, leaves all rows of items and strands that have no part in one item's rules.
func (t *Tx) RewindOne(change int64, only *Lineage) (tables map[string]bool) {
	if only == nil {
		return t.rewind("change=? AND (last=0 OR after IS NOT NULL)", change)
	}
	tables = map[string]bool{}
	for ids := only.rows[change]; len(ids) > 0 && t.err == nil; {
		n := min(len(ids), 500)
		for table := range t.rewind("id IN (" + listed(ids[:n]) + ")") {
			tables[table] = true
		}
		ids = ids[n:]
	}
	return tables
}

// Lineage is the journal's rows of all that one item's rules have hung on since it was
// loaded: of the item and the folders above it, of every strand that one of them was in, with
// those above, and of everything that is no item and no rules. A change of a large folder
// alters thousands of strands, of which a few are an item's.
type Lineage struct {
	rows map[int64][]int64 // by change, the newest first
}

func listed(ids []int64) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(ids), " ", ","), "[]")
}

// mostBeside is how many rows of the journal that are neither of items nor of rules are
// known one by one.
const mostBeside = 500_000

// mostLineage is how many strands a lineage has at most.
const mostLineage = 500

// LineageOf finds the lineage of an item; nil where something of it was moved, renamed or
// made since, so that something else may have stood in its place.
func (t *Tx) LineageOf(item int64) *Lineage {
	columns := Columns("items")
	parent, name, strand := slices.Index(columns, "parent"), slices.Index(columns, "name"), slices.Index(columns, "strand")
	above := slices.Index(Columns("strands"), "parent")
	var items, strands, left []int64
	add := func(s int64) {
		if s != 0 && !slices.Contains(strands, s) {
			strands, left = append(strands, s), append(left, s)
		}
	}
	for id := item; id != 0; {
		var up, in int64
		if !t.One("SELECT parent, strand FROM items WHERE id=?", []any{id}, &up, &in) || len(items) > mostLineage {
			return nil
		}
		items = append(items, id)
		add(in)
		stayed := t.Int("SELECT count(*) FROM journal_rows WHERE tbl='items' AND last<>0 AND after IS NOT NULL AND ? BETWEEN row AND last", id) == 0
		t.written("WHERE tbl='items' AND row=? AND last=0", []any{id}, func(r Row, after []string) (err error) {
			if len(after) > 0 {
				r.After, err = literals(after[0])
			}
			if err != nil || r.Before == nil || r.After == nil || r.Before[parent] != r.After[parent] || r.Before[name] != r.After[name] {
				stayed = false
				return err
			}
			add(Number(r.Before, strand))
			add(Number(r.After, strand))
			return nil
		})
		if !stayed || t.err != nil {
			return nil
		}
		id = up
	}
	for len(left) > 0 && len(strands) <= mostLineage {
		s := left[0]
		left = left[1:]
		add(t.Int("SELECT coalesce(max(parent),0) FROM strands WHERE id=?", s))
		t.written("WHERE tbl='strands' AND row=? AND last=0", []any{s}, func(r Row, after []string) (err error) {
			if len(after) > 0 {
				r.After, err = literals(after[0])
			}
			for _, values := range [][]any{r.Before, r.After} {
				if values != nil {
					add(Number(values, above))
				}
			}
			return err
		})
	}
	if t.err != nil || len(strands) > mostLineage {
		return nil
	}
	out := &Lineage{rows: map[int64][]int64{}}
	n := 0
	take := func(where string) {
		t.Each("SELECT id, change FROM journal_rows WHERE "+where+" ORDER BY id DESC", nil, func(r *sql.Rows) error {
			var id, change int64
			err := r.Scan(&id, &change)
			if n++; n <= mostBeside {
				out.rows[change] = append(out.rows[change], id)
			}
			return err
		})
	}
	take("tbl='items' AND last=0 AND row IN (" + listed(items) + ")")
	take("tbl='strands' AND last=0 AND row IN (" + listed(strands) + ")")
	var beside []string
	for _, j := range journaled {
		switch j.table {
		case "items", "strands", "weights", "descriptors": // a descriptor never changes
		default:
			beside = append(beside, "'"+j.table+"'")
		}
	}
	take("(last=0 OR after IS NOT NULL) AND tbl IN (" + strings.Join(beside, ",") + ")")
	if t.err != nil || n > mostBeside {
		return nil
	}
	for _, ids := range out.rows { // as one change went, backwards
		slices.SortFunc(ids, func(a, b int64) int { return int(b - a) })
	}
	return out
}

func (t *Tx) rewind(which string, args ...any) (tables map[string]bool) {
	tables = map[string]bool{}
	if t.Knows("layouts") {
		t.Exec("DELETE FROM layouts WHERE 1") // the journal says no more what came after it
	}
	last := int64(1) << 62
	for t.err == nil {
		// By the thousand, so that a long journal takes little memory.
		const tail = " AND id<? ORDER BY id DESC LIMIT 2000"
		ids := t.Ints("SELECT id FROM journal_rows WHERE "+which+tail, append(args, last)...)
		if len(ids) == 0 || t.ctx.Err() != nil {
			t.Fail(t.ctx.Err())
			return tables
		}
		var rows []Row // those that came together go together
		t.written("WHERE "+which+tail, append(args, last), func(r Row, after []string) (err error) {
			if r.Last == 0 && len(after) > 0 {
				r.After, err = literals(after[0])
			}
			rows = append(rows, r)
			return err
		})
		last = ids[len(ids)-1]
		for _, r := range rows {
			tables[r.Table] = true
			switch {
			case r.Last != 0 && t.ranges && t.Int("SELECT coalesce(min(id),0) FROM "+r.Table) >= r.ID && t.Int("SELECT max(id) FROM "+r.Table) <= r.Last:
				t.Exec("DELETE FROM " + r.Table) // all there is, which the database does at a stroke
			case r.Last != 0:
				t.DeleteRange(r.Table, r.ID, r.Last)
			case r.Before == nil:
				t.Delete(r.Table, r.ID)
			case r.After == nil:
				t.Put(r.Table, r.ID, r.Before)
			default:
				for i, c := range Columns(r.Table) {
					if r.Before[i] != r.After[i] {
						t.Set(r.Table, r.ID, c, r.Before[i])
					}
				}
			}
		}
	}
	return tables
}
