package format

import (
	"encoding/binary"
	"unsafe"
)

// Scratch is a place outside memory for bytes that are wanted again in about
// the order they were put down.
type Scratch interface {
	// Put keeps bytes, and tells where.
	Put(b []byte) (at int64, err error)
	// Get gives bytes that were put down.
	Get(b []byte, at int64) error
}

// sheaf is a list of chunks that grows without being copied. With a scratch
// file only the last one and the few that were read last are in memory.
type sheaf[T any] struct {
	chunks  []chunk[T]
	scratch Scratch // nil: all is in memory
	held    []int   // the chunks fetched from it, the oldest first
	err     error   // the first that the scratch file gave; what is read since is nothing
}

type chunk[T any] struct {
	rows []T // nil: in the scratch file
	at   int64
	n    int
}

// mostHeld is how many fetched chunks stay in memory.
const mostHeld = 2

// begin begins a chunk behind the others, which are put away.
func (s *sheaf[T]) begin(room int) *chunk[T] {
	if n := len(s.chunks); n > 0 && s.scratch != nil && s.err == nil {
		c := &s.chunks[n-1]
		c.n = len(c.rows)
		if c.at, s.err = s.scratch.Put(raw(c.rows)); s.err == nil {
			c.rows = nil
		}
	}
	s.chunks = append(s.chunks, chunk[T]{rows: make([]T, 0, room)})
	return &s.chunks[len(s.chunks)-1]
}

// rows gives a chunk's rows; what it gave before may be written over.
func (s *sheaf[T]) rows(i int) []T {
	c := &s.chunks[i]
	if c.rows != nil {
		return c.rows
	}
	var room []T
	if len(s.held) == mostHeld {
		old := &s.chunks[s.held[0]]
		room, old.rows = old.rows, nil
		s.held = append(s.held[:0], s.held[1:]...)
	}
	if cap(room) < c.n {
		room = make([]T, c.n)
	}
	c.rows = room[:c.n]
	s.held = append(s.held, i)
	if err := s.scratch.Get(raw(c.rows), c.at); err != nil && s.err == nil {
		s.err = err
	}
	if s.err != nil {
		clear(c.rows)
	}
	return c.rows
}

// raw gives the bytes of rows as they lie in memory; T holds numbers alone.
func raw[T any](rows []T) []byte {
	if len(rows) == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(unsafe.Pointer(&rows[0])), uintptr(len(rows))*unsafe.Sizeof(rows[0]))
}

// pile is a list of rows of numbers.
type pile[T any] struct{ sheaf[T] }

const pileSize = 1 << 15

func (p *pile[T]) add(x T) {
	n := len(p.chunks)
	switch {
	case n == 0:
		p.begin(16) // a small tree takes little
		n = 1
	case len(p.chunks[n-1].rows) == pileSize:
		p.begin(pileSize)
		n++
	}
	last := &p.chunks[n-1]
	last.rows = append(last.rows, x)
}

func (p *pile[T]) at(i int) T { return p.rows(i / pileSize)[i%pileSize] }

func (p *pile[T]) len() int {
	if n := len(p.chunks); n > 0 {
		return (n-1)*pileSize + len(p.chunks[n-1].rows)
	}
	return 0
}

// names holds names one behind the other, each with its length before it. The
// place 0 is the empty name.
type names struct{ sheaf[byte] }

const (
	namesBits = 20
	mostNames = 1 << (32 - namesBits)
)

func (s *names) full() bool { return len(s.chunks) >= mostNames }

func (s *names) add(name string) uint32 {
	if len(s.chunks) == 0 {
		c := s.begin(256)
		c.rows = append(c.rows, 0)
	}
	if name == "" {
		return 0
	}
	n := len(s.chunks) - 1
	need := len(name) + binary.MaxVarintLen32
	if len(s.chunks[n].rows)+need > 1<<namesBits {
		s.begin(max(need, 1<<namesBits))
		n++
	}
	c := &s.chunks[n]
	at := uint32(n<<namesBits | len(c.rows))
	c.rows = append(binary.AppendUvarint(c.rows, uint64(len(name))), name...)
	return at
}

// at gives a name, until the next is asked for.
func (s *names) at(i uint32) []byte {
	if len(s.chunks) == 0 {
		return nil
	}
	b := s.rows(int(i >> namesBits))[i&(1<<namesBits-1):]
	size, n := binary.Uvarint(b)
	return b[n : n+int(size)]
}
