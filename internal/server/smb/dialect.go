package smb

import (
	"encoding/binary"
	"errors"
	"net"
)

// errOld is a server that speaks nothing newer than SMB 2.0.2.
var errOld = errors.New("it speaks no SMB 2.1 or later")

// newerConn looks at the server's first answers, and ends the connection where
// the dialect they settle on is too old ([MS-SMB2] §2.2.4).
type newerConn struct {
	net.Conn
	seen    []byte
	settled bool
}

func (c *newerConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
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
