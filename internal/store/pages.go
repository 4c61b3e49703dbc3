package store

import (
	"context"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"os"
	"sync"
	"unsafe"

	"modernc.org/libc"
	sqlite3 "modernc.org/sqlite/lib"
)

// Every page of an estate carries a sum of itself in bytes that the database
// keeps free for that (the reserved region of the file format, byte 20 of its
// header). A layer below the database's own file access puts the sum in when a
// page is written to the file and holds the page against it when it is read,
// so that a bit that flipped at rest is an error and never another answer.
// Pages in the write-ahead log have the log's own sums.

const (
	pageSize = 4096
	reserved = 8
	layer    = "tarnwold"
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// seal gives the sum of a page at its place in the file.
func seal(page []byte, offset int64) uint64 {
	var at [8]byte
	binary.LittleEndian.PutUint64(at[:], uint64(offset))
	body := page[:pageSize-reserved]
	a := crc32.Update(crc32.Checksum(at[:], castagnoli), castagnoli, body)
	b := crc32.Update(crc32.ChecksumIEEE(at[:]), crc32.IEEETable, body)
	return uint64(a)<<32 | uint64(b)
}

// emptyFile writes the first page of a database without tables whose pages
// have room for their sums: sqlite.org/fileformat2.html §1.3 and §1.6.
func emptyFile(f *os.File) error {
	p := make([]byte, pageSize)
	copy(p, "SQLite format 3\x00")
	binary.BigEndian.PutUint16(p[16:], pageSize)
	p[18], p[19], p[20], p[21], p[22], p[23] = 1, 1, reserved, 64, 32, 32
	binary.BigEndian.PutUint32(p[24:], 1) // changes
	binary.BigEndian.PutUint32(p[28:], 1) // pages
	binary.BigEndian.PutUint32(p[44:], 4) // schema format
	binary.BigEndian.PutUint32(p[56:], 1) // UTF-8
	binary.BigEndian.PutUint32(p[92:], 1)
	p[100] = 0x0d // an empty leaf
	binary.BigEndian.PutUint16(p[105:], pageSize-reserved)
	binary.LittleEndian.PutUint64(p[pageSize-reserved:], seal(p, 0))
	_, err := f.Write(p)
	return err
}

// files is what is known of files that are open through the layer.
type files struct {
	mu     sync.RWMutex
	tables map[uintptr]uintptr // our table of methods → the one below
	below  map[uintptr]uintptr // the one below → ours
	sealed map[uintptr]bool    // files whose pages carry sums
	open   func(*libc.TLS, uintptr, uintptr, uintptr, int32, uintptr) int32
}

var pages = &files{tables: map[uintptr]uintptr{}, below: map[uintptr]uintptr{}, sealed: map[uintptr]bool{}}

// pointer gives the address of a function as the translated code has it.
func pointer(f any) uintptr {
	type face [2]uintptr
	return (*(*face)(unsafe.Pointer(&f)))[1]
}

func call[F any](at uintptr) F { return *(*F)(unsafe.Pointer(&struct{ uintptr }{at})) }

func at[T any](p uintptr) *T { return (*T)(*(*unsafe.Pointer)(unsafe.Pointer(&p))) }

var layered sync.Once

// addLayer makes the layer known to the database, by the name layer.
func addLayer() {
	layered.Do(func() {
		tls := libc.NewTLS()
		defer tls.Close()
		below := sqlite3.Xsqlite3_vfs_find(tls, 0)
		size := libc.Tsize_t(unsafe.Sizeof(sqlite3.Tsqlite3_vfs{}))
		ours := libc.Xmalloc(tls, size)
		*at[sqlite3.Tsqlite3_vfs](ours) = *at[sqlite3.Tsqlite3_vfs](below)
		v := at[sqlite3.Tsqlite3_vfs](ours)
		name, err := libc.CString(layer)
		if err != nil {
			panic(err)
		}
		v.FzName, v.FpNext = name, 0
		pages.open = call[func(*libc.TLS, uintptr, uintptr, uintptr, int32, uintptr) int32](v.FxOpen)
		v.FxOpen = pointer(pageOpen)
		sqlite3.Xsqlite3_vfs_register(tls, ours, 0)
	})
}

func pageOpen(tls *libc.TLS, vfs, path, file uintptr, flags int32, out uintptr) int32 {
	rc := pages.open(tls, vfs, path, file, flags, out)
	if rc != sqlite3.SQLITE_OK || flags&sqlite3.SQLITE_OPEN_MAIN_DB == 0 {
		return rc
	}
	pages.mu.Lock()
	defer pages.mu.Unlock()
	delete(pages.sealed, file)
	methods := at[uintptr](file)
	ours, ok := pages.below[*methods]
	if !ok {
		size := libc.Tsize_t(unsafe.Sizeof(sqlite3.Tsqlite3_io_methods{}))
		ours = libc.Xmalloc(tls, size)
		*at[sqlite3.Tsqlite3_io_methods](ours) = *at[sqlite3.Tsqlite3_io_methods](*methods)
		m := at[sqlite3.Tsqlite3_io_methods](ours)
		m.FxRead, m.FxWrite, m.FxClose = pointer(pageRead), pointer(pageWrite), pointer(pageClose)
		m.FiVersion = min(m.FiVersion, 2) // no reading past the layer by memory maps
		pages.below[*methods], pages.tables[ours] = ours, *methods
	}
	*methods = ours
	return rc
}

// under gives the methods below the layer, and whether a file's pages are sealed.
func under(file uintptr) (*sqlite3.Tsqlite3_io_methods, bool) {
	pages.mu.RLock()
	defer pages.mu.RUnlock()
	return at[sqlite3.Tsqlite3_io_methods](pages.tables[*at[uintptr](file)]), pages.sealed[file]
}

func pageClose(tls *libc.TLS, file uintptr) int32 {
	m, _ := under(file)
	pages.mu.Lock()
	delete(pages.sealed, file)
	pages.mu.Unlock()
	return call[func(*libc.TLS, uintptr) int32](m.FxClose)(tls, file)
}

func bytesAt(p uintptr, n int32) []byte { return unsafe.Slice(at[byte](p), n) }

func pageRead(tls *libc.TLS, file, buf uintptr, n int32, offset int64) int32 {
	m, sealed := under(file)
	rc := call[func(*libc.TLS, uintptr, uintptr, int32, int64) int32](m.FxRead)(tls, file, buf, n, offset)
	if rc != sqlite3.SQLITE_OK {
		return rc
	}
	b := bytesAt(buf, n)
	if offset == 0 && n >= 100 && string(b[:16]) == "SQLite format 3\x00" {
		now := sealedHeader(b)
		if now != sealed {
			pages.mu.Lock()
			pages.sealed[file] = now
			pages.mu.Unlock()
			sealed = now
		}
	}
	if sealed && n == pageSize && offset%pageSize == 0 && binary.LittleEndian.Uint64(b[pageSize-reserved:]) != seal(b, offset) {
		return sqlite3.SQLITE_CORRUPT
	}
	return rc
}

// sealedHeader tells whether the pages of a file carry sums. A file of before
// has no room for them; one that has is told by its header, which is itself on
// a page with a sum.
func sealedHeader(b []byte) bool {
	return b[20] == reserved && binary.BigEndian.Uint16(b[16:]) == pageSize
}

func pageWrite(tls *libc.TLS, file, buf uintptr, n int32, offset int64) int32 {
	m, sealed := under(file)
	if n == pageSize && offset%pageSize == 0 {
		b := bytesAt(buf, n)
		if offset == 0 {
			sealed = b[20] == reserved
		}
		if sealed {
			binary.LittleEndian.PutUint64(b[pageSize-reserved:], seal(b, offset))
		}
	}
	return call[func(*libc.TLS, uintptr, uintptr, int32, int64) int32](m.FxWrite)(tls, file, buf, n, offset)
}

// sealAll gives every page of a file that has room for it its sum: one that was made as a
// copy of another begins without.
func sealAll(ctx context.Context, path string) (err error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer func() {
		if cerr := f.Close(); err == nil {
			err = cerr
		}
	}()
	p := make([]byte, pageSize)
	for offset := int64(0); ; offset += pageSize {
		if err := ctx.Err(); err != nil {
			return plain(err)
		}
		n, err := f.ReadAt(p, offset)
		switch {
		case n == 0 && errors.Is(err, io.EOF):
			return nil
		case n < pageSize:
			return err
		case offset == 0 && !sealedHeader(p): // of before, without room for sums
			return nil
		}
		binary.LittleEndian.PutUint64(p[pageSize-reserved:], seal(p, offset))
		if _, err := f.WriteAt(p, offset); err != nil {
			return err
		}
	}
}
