package smb

import (
	"errors"
	"net"
)

// errPlain is what a connection that has to be encrypted does with anything
// that isn't.
var errPlain = errors.New("the server doesn't encrypt this connection, and it is only to be spoken to encrypted")

// sealedConn lets nothing out that isn't encrypted but the requests that make a
// connection so: negotiating and signing on ([MS-SMB2] §2.2.41).
type sealedConn struct {
	net.Conn
	left  int  // bytes of the packet at hand that are still to come
	fresh bool // none of them has come yet
}

func (c *sealedConn) Write(b []byte) (int, error) {
	for rest := b; len(rest) > 0; {
		if c.left == 0 { // the packet's length, in four bytes
			if len(rest) < 4 {
				return 0, errPlain
			}
			c.left, c.fresh = int(rest[1])<<16|int(rest[2])<<8|int(rest[3]), true
			rest = rest[4:]
			continue
		}
		n := min(c.left, len(rest))
		if c.fresh && !lets(rest[:n]) {
			return 0, errPlain
		}
		c.left, c.fresh = c.left-n, false
		rest = rest[n:]
	}
	return c.Conn.Write(b)
}

// lets tells whether a packet may go out.
func lets(p []byte) bool {
	if len(p) < 14 {
		return false
	}
	if string(p[:4]) == "\xfdSMB" {
		return true
	}
	command := int(p[12]) | int(p[13])<<8
	return string(p[:4]) == "\xfeSMB" && (command == cmdNegotiate || command == cmdSession || command == 2) // 2: signing off
}
