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

// errOld is a server that speaks nothing newer than SMB 2.0.2.
var errOld = errors.New("it speaks no SMB 2.1 or later")

// answering is how long a server may take over one answer.
const answering = 90 * time.Second

// wire watches a connection: it ends one whose server settles on too old a
// dialect ([MS-SMB2] §2.2.4), and one whose server owes an answer for too long.
// What goes over it comes in packets, each with four bytes of length before it.
type wire struct {
	net.Conn
	wait time.Duration

	m    sync.Mutex
	owed int // packets that went out and aren't answered

	seen    []byte // the first answer, as far as it has come
	settled bool
}

func (c *wire) Write(b []byte) (int, error) {
	if len(b) == 4 { // the length comes in a write of its own
		c.m.Lock()
		c.owed++
		_ = c.SetReadDeadline(time.Now().Add(c.wait))
		c.m.Unlock()
	}
	return c.Conn.Write(b)
}

func (c *wire) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		c.Conn.Close()
		return n, fmt.Errorf("the server has not answered for %v", c.wait)
	}
	if len(b) == 4 && n == 4 { // an answer begins
		c.m.Lock()
		if c.owed--; c.owed > 0 {
			_ = c.SetReadDeadline(time.Now().Add(c.wait))
		} else {
			c.owed = 0
			_ = c.SetReadDeadline(time.Time{})
		}
		c.m.Unlock()
	}
	if c.settled {
		return n, err
	}
	c.seen = append(c.seen, b[:n]...)
	if at := 4 + headerSize + 6; len(c.seen) >= at {
		c.settled = true
		p := c.seen[4:]
		if string(p[:4]) == "\xfeSMB" && binary.LittleEndian.Uint16(p[12:]) == cmdNegotiate && binary.LittleEndian.Uint16(p[headerSize+4:]) < 0x0210 {
			c.Conn.Close()
			return 0, errOld
		}
		c.seen = nil
	}
	return n, err
}
