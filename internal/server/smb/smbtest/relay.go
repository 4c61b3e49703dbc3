//go:build unix

package smbtest

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Relay stands between a client and a server of this machine, as somebody on
// the way does.
type Relay struct {
	Port int
	l    net.Listener

	m     sync.Mutex
	conns []net.Conn
}

// Close ends the relay and all that goes over it.
func (r *Relay) Close() {
	r.l.Close()
	r.m.Lock()
	defer r.m.Unlock()
	for _, c := range r.conns {
		c.Close()
	}
}

// relay accepts connections, opens one to the port for each, and has them joined.
func relay(t testing.TB, port int, join func(client, up net.Conn)) *Relay {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	r := &Relay{Port: l.Addr().(*net.TCPAddr).Port, l: l}
	t.Cleanup(r.Close)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			up, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if err != nil {
				c.Close()
				continue
			}
			r.m.Lock()
			r.conns = append(r.conns, c, up)
			r.m.Unlock()
			go join(c, up)
		}
	}()
	return r
}

// Altering passes packets, each with four bytes of length before it, through a
// function: what it gives goes on. fromServer tells the way.
func Altering(t testing.TB, port int, alter func(fromServer bool, packet []byte) []byte) *Relay {
	return relay(t, port, func(client, up net.Conn) {
		pass := func(from, to net.Conn, server bool) {
			defer to.Close()
			defer from.Close()
			for {
				var head [4]byte
				if _, err := io.ReadFull(from, head[:]); err != nil {
					return
				}
				b := make([]byte, binary.BigEndian.Uint32(head[:]))
				if _, err := io.ReadFull(from, b); err != nil {
					return
				}
				b = alter(server, b)
				if _, err := to.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...)); err != nil {
					return
				}
			}
		}
		go pass(client, up, false)
		pass(up, client, true)
	})
}

// Slow holds up whatever goes either way for a while, as a network does.
func Slow(t testing.TB, port int, by time.Duration) *Relay {
	return relay(t, port, func(client, up net.Conn) {
		pass := func(from, to net.Conn) {
			defer to.Close()
			defer from.Close()
			type piece struct {
				at time.Time
				b  []byte
			}
			pieces := make(chan piece, 1024)
			go func() {
				defer close(pieces)
				buf := make([]byte, 64<<10)
				for {
					n, err := from.Read(buf)
					if n > 0 {
						pieces <- piece{time.Now().Add(by), append([]byte{}, buf[:n]...)}
					}
					if err != nil {
						return
					}
				}
			}()
			for p := range pieces {
				time.Sleep(time.Until(p.at))
				if _, err := to.Write(p.b); err != nil {
					return
				}
			}
		}
		go pass(client, up)
		pass(up, client)
	})
}

// Fault is what a relay does to what a server sends.
type Fault int

// Faults: the connection is cut, what comes after is held back, one bit is
// flipped, or a byte is left out.
const (
	Cuts Fault = iota
	Stalls
	Flips
	Drops
)

// Faulty passes everything but for one fault at a byte of what the server sends,
// counted from 0 over all connections since it was set.
type Faulty struct {
	*Relay
	m     sync.Mutex
	at    int64 // -1: no fault
	seen  int64
	fault Fault
	met   bool
}

// NewFaulty makes a relay without a fault.
func NewFaulty(t testing.TB, port int) *Faulty {
	f := &Faulty{at: -1}
	f.Relay = relay(t, port, f.join)
	return f
}

// Set sets a fault at a byte; below 0: none.
func (f *Faulty) Set(at int64, fault Fault) {
	f.m.Lock()
	defer f.m.Unlock()
	f.at, f.seen, f.fault, f.met = at, 0, fault, false
}

// Met tells whether the fault has come.
func (f *Faulty) Met() bool {
	f.m.Lock()
	defer f.m.Unlock()
	return f.met
}

func (f *Faulty) join(client, up net.Conn) {
	go func() {
		_, _ = io.Copy(up, client)
		up.Close()
	}()
	defer client.Close()
	defer up.Close()
	buf := make([]byte, 64<<10)
	for {
		n, err := up.Read(buf)
		b := buf[:n]
		f.m.Lock()
		i := f.at - f.seen
		f.seen += int64(n)
		here, fault := f.at >= 0 && i >= 0 && i < int64(n), f.fault
		f.met = f.met || here
		f.m.Unlock()
		if here {
			switch fault {
			case Flips:
				b[i] ^= 1 << (i % 8)
			case Drops:
				b = append(b[:i], b[i+1:]...)
			case Cuts:
				_, _ = client.Write(b[:i])
				return
			case Stalls:
				_, _ = client.Write(b[:i])
				_, _ = io.Copy(io.Discard, up)
				return
			}
		}
		if _, werr := client.Write(b); werr != nil || err != nil {
			return
		}
	}
}
