//go:build unix

package smb

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/core/right"
	"tarnwold/internal/server/smb/smbtest"
)

// TestTooOldADialect: a server that settles on SMB 2.0.2 is not spoken to.
func TestTooOldADialect(t *testing.T) {
	for dialect, want := range map[uint16]error{0x0202: errOld, 0x0210: nil, 0x0311: nil} {
		p := make([]byte, 4+headerSize+64)
		p[3] = headerSize + 64
		copy(p[4:], "\xfeSMB")
		binary.LittleEndian.PutUint16(p[4+headerSize+4:], dialect)
		in := &written{}
		in.Buffer.Write(p)
		c := &wire{Conn: nopClose{in}, old: true}
		b := make([]byte, 8)
		var err error
		for n := 0; n < len(p) && err == nil; {
			var k int
			k, err = c.Read(b)
			n += k
		}
		require.Equal(t, want, err, "%x", dialect)
	}
}

type nopClose struct{ *written }

func (nopClose) Close() error                    { return nil }
func (nopClose) SetReadDeadline(time.Time) error { return nil }

// TestAServerThatOwesAnAnswer: one that doesn't answer is given up, one that is
// asked nothing is waited for.
func TestAServerThatOwesAnAnswer(t *testing.T) {
	here, there := net.Pipe()
	c := &wire{Conn: here, wait: 100 * time.Millisecond, settled: true}
	asked := func() {
		go func() { _, _ = io.ReadFull(there, make([]byte, 4)) }()
		_, err := c.Write([]byte{0, 0, 0, 0})
		require.NoError(t, err)
	}
	answered := func() {
		go func() { _, _ = there.Write([]byte{0, 0, 0, 0}) }()
		_, err := io.ReadFull(c, make([]byte, 4))
		require.NoError(t, err)
	}
	asked()
	asked()
	answered()
	answered()
	go func() { // nothing is owed: it may take its time
		time.Sleep(300 * time.Millisecond)
		_, _ = there.Write([]byte{0, 0, 0, 0})
	}()
	_, err := io.ReadFull(c, make([]byte, 4))
	require.NoError(t, err)
	asked()
	_, err = io.ReadFull(c, make([]byte, 4))
	require.ErrorContains(t, err, "the server has not answered for 100ms")
}

// TestAnAlteredAnswerIsFound: an answer that somebody on the way has altered is
// not taken for the server's.
func TestAnAlteredAnswerIsFound(t *testing.T) {
	s := smbtest.Start(t, playhouse)
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "productions", "f"), nil, 0o666))
	give(t, dial(t, s, "warden"), "productions", "f", "D:P(A;;0x1;;;WD)")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	var alter atomic.Bool
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		up, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port))
		if err != nil {
			return
		}
		go func() { _, _ = io.Copy(up, c) }()
		for {
			var head [4]byte
			if _, err := io.ReadFull(up, head[:]); err != nil {
				return
			}
			b := make([]byte, binary.BigEndian.Uint32(head[:]))
			if _, err := io.ReadFull(up, b); err != nil {
				return
			}
			if alter.Load() { // a refusal becomes a yes
				copy(b[8:12], []byte{0, 0, 0, 0})
			}
			_, _ = c.Write(append(head[:], b...))
		}
	}()
	x, err := DialExact(context.Background(), Link{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, User: "bram"}, Secret{Password: smbtest.Password("bram")})
	require.NoError(t, err)
	defer x.Close()
	st, err := x.Try("productions", "f", right.WriteData)
	require.NoError(t, err)
	require.Equal(t, StatusDenied, st)
	alter.Store(true)
	_, err = x.Try("productions", "f", right.WriteData)
	require.ErrorContains(t, err, "not signed as it has to be")
}
