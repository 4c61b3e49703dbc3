package smb

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"time"
)

var (
	// errOld is a server that speaks nothing newer than SMB 2.0.2.
	errOld = errors.New("it doesn't speak SMB 2.1 or later")
	// errDowngraded is one that doesn't speak SMB 3.1.1, or that somebody on
	// the way makes look so: only there is the negotiation itself vouched for.
	errDowngraded = errors.New("it doesn't speak SMB 3.1.1, and in older dialects nobody notices where somebody on the way alters what is negotiated; server add --old-dialects lets it")
)

// Answering is how long a server may take over one answer.
const Answering = 90 * time.Second

// mostSignOn is how many bytes an answer has at most while signing on.
const mostSignOn = 1 << 20

// wire watches a connection. It ends one whose server settles on too old a
// dialect ([MS-SMB2] §2.2.4), and one whose server owes an answer, or the rest
// of one, for too long; and it keeps what is said while signing on, so that
// the last answer's signature can be verified (see signon.go).
type wire struct {
	net.Conn
	wait time.Duration
	old  bool // dialects before 3.1.1 will do

	m        sync.Mutex
	owed     int // packets that went out and aren't answered
	in, out  framing
	exchange []message // while signing on
	settled  bool      // signing on is over
}

// message is a packet that was sent or received while signing on.
type message struct {
	sent bool
	b    []byte
}

// framing takes a stream apart: packets, each with four bytes of length before
// it ([MS-SMB2] §2.1).
type framing struct {
	head   [4]byte
	have   int // bytes of the length that have come
	left   int // bytes of the packet still to come
	within bool
	packet []byte // the beginning of it, as far as it is kept
}

// pass follows bytes of the stream: ended is called at the end of each packet
// with as many of its bytes as are to be kept, and may stop all with an error.
func (f *framing) pass(b []byte, keep, most int, ended func(packet []byte) error) error {
	for len(b) > 0 || f.within && f.left == 0 {
		if !f.within {
			n := copy(f.head[f.have:], b)
			f.have, b = f.have+n, b[n:]
			if f.have < len(f.head) {
				return nil
			}
			f.within, f.have, f.packet = true, 0, nil
			if f.left = int(binary.BigEndian.Uint32(f.head[:]) & 0xffffff); f.left > most {
				return fmt.Errorf("its answer has %d bytes, which is not an answer to this", f.left)
			}
			continue
		}
		n := min(f.left, len(b))
		if room := keep - len(f.packet); room > 0 {
			f.packet = append(f.packet, b[:min(n, room)]...)
		}
		f.left, b = f.left-n, b[n:]
		if f.left == 0 {
			f.within = false
			if err := ended(f.packet); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *wire) Write(b []byte) (int, error) {
	c.m.Lock()
	_ = c.Conn.SetWriteDeadline(time.Now().Add(c.wait))
	err := c.out.pass(b, c.keeps(), mostAnswer, func(p []byte) error {
		c.owed++
		if !c.settled {
			c.exchange = append(c.exchange, message{true, p})
		}
		return nil
	})
	if c.owed > 0 || c.out.within {
		_ = c.SetReadDeadline(time.Now().Add(c.wait))
	}
	c.m.Unlock()
	if err != nil {
		return 0, err
	}
	return c.Conn.Write(b)
}

func (c *wire) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		c.Conn.Close()
		return n, fmt.Errorf("the server has not answered for %v", c.wait)
	}
	c.m.Lock()
	defer c.m.Unlock()
	most := mostAnswer
	if !c.settled {
		most = mostSignOn
	}
	if perr := c.in.pass(b[:n], c.keeps(), most, c.answered); perr != nil {
		c.Conn.Close()
		return 0, perr
	}
	until := time.Time{}
	if c.owed > 0 { // an answer, or the rest of one, is still to come
		until = time.Now().Add(c.wait)
	}
	_ = c.SetReadDeadline(until)
	return n, err
}

// keeps says how much of a packet is looked at.
func (c *wire) keeps() int {
	if c.settled {
		return headerSize
	}
	return mostSignOn
}

// answered takes a whole packet of the server's in.
func (c *wire) answered(p []byte) error {
	if len(p) >= headerSize && string(p[:4]) == "\xfeSMB" && Status(binary.LittleEndian.Uint32(p[8:])) == statusPending {
		return nil // it is still owed
	}
	c.owed = max(0, c.owed-1)
	if c.settled {
		return nil
	}
	c.exchange = append(c.exchange, message{false, p})
	if len(p) >= headerSize+6 && string(p[:4]) == "\xfeSMB" && binary.LittleEndian.Uint16(p[12:]) == cmdNegotiate {
		switch d := binary.LittleEndian.Uint16(p[headerSize+4:]); {
		case binary.LittleEndian.Uint32(p[8:]) != 0 && !c.old:
			return errDowngraded
		case binary.LittleEndian.Uint32(p[8:]) != 0: // the library says it
		case d < 0x0210:
			return errOld
		case d != dialect311 && !c.old:
			return errDowngraded
		}
	}
	return nil
}

// settle ends the keeping of what is said, and gives it.
func (c *wire) settle() []message {
	c.m.Lock()
	defer c.m.Unlock()
	x := c.exchange
	c.exchange, c.settled = nil, true
	return x
}
