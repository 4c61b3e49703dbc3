package live

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path"
	"strings"
	"time"

	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/newfile"
	"tarnwold/internal/server"
)

// A spool is the file in which a scan puts down what it has read, as it goes,
// so that one that is broken off goes on where it was. It is a list of
// records, each with its length before it and its sum behind it; a torn last
// one is left out. docs/formats.md describes it.
type spool struct {
	f    *newfile.File
	w    *bufio.Writer
	ids  map[rule.Any]uint64
	last time.Time
}

const spoolMark = "tarnwold scan 1\n"

// spoolHead says what a spool is of: another scan doesn't go on with it.
type spoolHead struct {
	Server  string         `json:"server"`
	Shares  []string       `json:"shares"` // that were asked for; none: all
	Reading server.Reading `json:"reading"`
	At      string         `json:"at"` // RFC 3339, UTC
}

func (h *spoolHead) same(o *spoolHead) bool {
	return h.Server == o.Server && strings.Join(h.Shares, "\x00") == strings.Join(o.Shares, "\x00") &&
		h.Reading.FoldersOnly == o.Reading.FoldersOnly && h.Reading.Depth == o.Reading.Depth
}

// The kinds of records.
const (
	recBody   = 'b' // a descriptor; they are numbered as they come
	recPosix  = 'p' // rules of a POSIX tree, numbered among them
	recMarked = 'm' // a descriptor of an item with marks, numbered among them
	recItem   = 'i'
	recWhole  = 'w'
	recBad    = 'u'
	recNote   = 'n' // of the item that comes next
)

// newSpool begins one; place puts it where it is found again.
func newSpool(file string, head spoolHead) (*spool, error) {
	f, err := newfile.Create(file)
	if err != nil {
		return nil, err
	}
	js, err := json.Marshal(head)
	if err != nil {
		return nil, err
	}
	s := &spool{f: f, w: bufio.NewWriterSize(f, 1<<16), ids: map[rule.Any]uint64{}}
	if _, err = s.w.WriteString(spoolMark + string(js) + "\n"); err != nil {
		return nil, errors.Join(err, f.Drop())
	}
	return s, nil
}

// place puts what was put down so far into the spool's place: from then on a
// scan that is broken off is gone on with from there.
func (s *spool) place() error {
	if err := s.w.Flush(); err != nil {
		return err
	}
	return s.f.Place()
}

func (s *spool) record(payload []byte) error {
	b := binary.AppendUvarint(nil, uint64(len(payload)))
	b = append(b, payload...)
	b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(payload))
	_, err := s.w.Write(b)
	if err == nil && time.Since(s.last) > time.Second { // what a kill takes is a second's worth
		s.last = time.Now()
		err = s.w.Flush()
	}
	return err
}

func str(b []byte, s string) []byte { return append(binary.AppendUvarint(b, uint64(len(s))), s...) }

// item puts down what a scan told.
func (s *spool) item(tree int, x server.Item) error {
	b := binary.AppendUvarint([]byte{recItem}, uint64(tree))
	switch {
	case x.Whole:
		b[0] = recWhole
		return s.record(str(b, x.Path))
	case x.Err != nil:
		b[0] = recBad
		return s.record(str(str(b, x.Path), x.Err.Error()))
	}
	id, ok := s.ids[x.Rules]
	if !ok {
		kind, raw, err := estate.Encode(x.Rules)
		if err != nil {
			return err
		}
		rec := byte(recBody)
		switch kind {
		case estate.KindPOSIX:
			rec = recPosix
		case estate.KindMarked:
			rec = recMarked
		}
		if err := s.record(append([]byte{rec}, raw...)); err != nil {
			return err
		}
		id = uint64(len(s.ids))
		s.ids[x.Rules] = id
	}
	for _, n := range x.Notes {
		if err := s.record(str(str(binary.AppendUvarint([]byte{recNote}, uint64(tree)), x.Path), string(n))); err != nil {
			return err
		}
	}
	b = binary.AppendUvarint(str(b, x.Path), id)
	var flags byte
	if x.Folder {
		flags |= 1
	}
	if x.Enter {
		flags |= 2
	}
	b = append(b, flags)
	b = binary.AppendVarint(b, x.Size)
	b = binary.AppendVarint(b, seconds(x.Modified))
	return s.record(binary.AppendVarint(b, seconds(x.Changed)))
}

func seconds(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.Unix()
}

func moment(s int64) time.Time {
	if s == 0 {
		return time.Time{}
	}
	return time.Unix(s, 0)
}

func (s *spool) close() error {
	return errors.Join(s.w.Flush(), s.f.Drop())
}

// readSpool reads a spool, whose last record may be torn, and tells what it
// holds as the scan did.
func readSpool(file string, tell func(tree int, x server.Item) error) (h spoolHead, err error) {
	f, err := newfile.Open(file)
	if err != nil {
		return h, err
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 1<<16)
	mark, err := r.ReadString('\n')
	if err != nil || mark != spoolMark {
		return h, fmt.Errorf("%s is not a scan that was broken off", file)
	}
	line, err := r.ReadSlice('\n')
	if err != nil || json.Unmarshal(line, &h) != nil {
		return h, fmt.Errorf("%s can't be read: its head is damaged", file)
	}
	if tell == nil {
		return h, nil
	}
	var bodies []rule.Any
	var noted []server.Note // of the item that comes next
	for {
		payload, err := readRecord(r)
		if err == io.EOF {
			return h, nil
		}
		if err != nil {
			return h, fmt.Errorf("%s can't be read: %w", file, err)
		}
		tree, x, err := takeRecord(payload, &bodies)
		if err != nil {
			return h, fmt.Errorf("%s can't be read: %w", file, err)
		}
		switch {
		case tree < 0:
			continue
		case payload[0] == recNote:
			noted = append(noted, x.Notes...)
			continue
		}
		x.Notes, noted = noted, nil
		if err := tell(tree, x); err != nil {
			return h, err
		}
	}
}

var errRecord = errors.New("a record of it is damaged")

// readRecord reads one record; io.EOF where there is no whole one any more.
func readRecord(r *bufio.Reader) ([]byte, error) {
	n, err := binary.ReadUvarint(r)
	if err != nil {
		return nil, io.EOF
	}
	if n > 1<<24 {
		return nil, errRecord
	}
	b := make([]byte, n+4)
	if _, err := io.ReadFull(r, b); err != nil {
		return nil, io.EOF
	}
	if crc32.ChecksumIEEE(b[:n]) != binary.LittleEndian.Uint32(b[n:]) {
		return nil, errRecord
	}
	return b[:n], nil
}

// takeRecord gives what a record tells, or keeps the rules it holds and gives no
// tree: -1.
func takeRecord(p []byte, bodies *[]rule.Any) (tree int, x server.Item, err error) {
	if len(p) == 0 {
		return 0, x, errRecord
	}
	kind := p[0]
	if of := map[byte]byte{recBody: estate.KindSecurity, recPosix: estate.KindPOSIX, recMarked: estate.KindMarked}[kind]; of != 0 {
		d, err := estate.Decode(of, p[1:])
		*bodies = append(*bodies, d)
		return -1, x, err
	}
	c := cutter{p[1:], false}
	n := c.number()
	if n > 1<<30 {
		return 0, x, errRecord
	}
	x.Path = c.text()
	switch kind {
	case recWhole:
		x.Folder, x.Whole = true, true
	case recBad:
		x.Err = errors.New(c.text())
	case recNote:
		x.Notes = []server.Note{server.Note(c.text())}
	case recItem:
		body := c.number()
		flags := c.number()
		x.Folder, x.Enter = flags&1 != 0, flags&2 != 0
		x.Size, x.Modified, x.Changed = c.signed(), moment(c.signed()), moment(c.signed())
		if body >= uint64(len(*bodies)) {
			return 0, x, errRecord
		}
		x.Rules = (*bodies)[body]
	default:
		return 0, x, errRecord
	}
	if c.bad || len(c.b) > 0 {
		return 0, x, errRecord
	}
	return int(n), x, nil
}

type cutter struct {
	b   []byte
	bad bool
}

func (c *cutter) number() uint64 {
	n, size := binary.Uvarint(c.b)
	return cutNumber(c, n, size)
}

func (c *cutter) signed() int64 {
	n, size := binary.Varint(c.b)
	return cutNumber(c, n, size)
}

func cutNumber[T any](c *cutter, n T, size int) T {
	if size <= 0 {
		c.bad, c.b = true, nil
		return n
	}
	c.b = c.b[size:]
	return n
}

func (c *cutter) text() string {
	n := c.number()
	if n > uint64(len(c.b)) {
		c.bad, c.b = true, nil
		return ""
	}
	s := string(c.b[:n])
	c.b = c.b[n:]
	return s
}

// standing is what of a share's spool stands: whatever is in folders that were
// read whole, with all above them. It holds names of folders alone.
type standing struct {
	whole  map[string]bool
	failed map[string]bool // what couldn't be read
	known  map[string]bool // folders: whether they stand
}

// standingIn reads what stands of a spool, by tree.
func standingIn(file string) (h spoolHead, of map[int]*standing, err error) {
	of = map[int]*standing{}
	h, err = readSpool(file, func(tree int, x server.Item) error {
		t := of[tree]
		if t == nil {
			t = &standing{whole: map[string]bool{}, failed: map[string]bool{}, known: map[string]bool{}}
			of[tree] = t
		}
		switch {
		case x.Whole:
			t.whole[x.Path] = true
		case x.Err != nil:
			t.failed[x.Path] = true
		}
		return nil
	})
	return h, of, err
}

func (t *standing) stands(folder string) bool {
	v, ok := t.known[folder]
	if !ok {
		v = t.whole[folder] && (folder == "" || t.stands(up(folder)))
		t.known[folder] = v
	}
	return v
}

// keeps tells whether what a spool tells stands. What is said of a folder as
// such, that it was read whole, does where the folder does: one that is read
// again is not whole by what was told before.
func (t *standing) keeps(x server.Item) bool {
	if x.Whole {
		return t.stands(x.Path)
	}
	return x.Path == "" || t.stands(up(x.Path))
}

// open tells whether an item that stands is a folder still to be read.
func (t *standing) open(x server.Item) bool {
	return x.Enter && !t.whole[x.Path] && !t.failed[x.Path]
}

func up(p string) string {
	if d := path.Dir(p); d != "." {
		return d
	}
	return ""
}

// SpoolOf names the file beside an estate in which a scan of a server is put
// down.
func SpoolOf(estatePath, server string) string {
	name := strings.Map(func(r rune) rune {
		if r == '/' || r == '\\' || r == 0 || r == ':' {
			return '_'
		}
		return r
	}, estate.Key(server))
	return estatePath + "." + name + ".scan"
}
