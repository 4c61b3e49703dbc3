//go:build unix

package smb

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net"
	"sync/atomic"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/core/right"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server/smb/smbtest"
)

// TestCMAC holds it to the examples of RFC 4493 §4.
func TestCMAC(t *testing.T) {
	raw := func(s string) []byte {
		b, err := hex.DecodeString(s)
		require.NoError(t, err)
		return b
	}
	sum, err := cmac(raw("2b7e151628aed2a6abf7158809cf4f3c"))
	require.NoError(t, err)
	m := raw("6bc1bee22e409f96e93d7e117393172aae2d8a571e03ac9c9eb76fac45af8e5130c81c46a35ce411e5fbc1191a0a52eff69f2445df4f9b17ad2b417be66c3710")
	for n, want := range map[int]string{0: "bb1d6929e95937287fa37d129b756746", 16: "070a16b46b4d4144f79bdd9dd04a287c",
		40: "dfa66747de9ae63030ca32611497c827", 64: "51f0bebf7e3b9d92fc49741779363cfe"} {
		require.Equal(t, want, hex.EncodeToString(sum(m[:n])), n)
	}
}

// forging are the ways somebody on the way to a server, or the server itself,
// may alter what is said while signing on. Each gives whether it altered it.
var forging = []struct {
	what  string
	alter func(fromServer bool, command uint16, p []byte) bool
	want  string // of the error; "": any
}{
	{"guest", last(func(p []byte) { p[headerSize+2] |= sessionGuest }), errGuest.Error()},
	{"nobody", last(func(p []byte) { p[headerSize+2] |= sessionAnonymous }), errAnonymous.Error()},
	{"guest, and encrypts", last(func(p []byte) { p[headerSize+2] |= sessionGuest | sessionEncrypts }), ""},
	{"unsigned", last(func(p []byte) { p[16] &^= flagSigned; clear(p[48:64]) }), errUnsigned.Error()},
	{"unsigned by name", last(func(p []byte) { p[16] &^= flagSigned }), errUnsigned.Error()},
	{"no signature", last(func(p []byte) { clear(p[48:64]) }), errForged.Error()},
	{"another session's flags", last(func(p []byte) { p[headerSize+3] ^= 0x40 }), errForged.Error()},
	{"encryption promised", last(func(p []byte) { p[headerSize+2] |= sessionEncrypts }), errForged.Error()},
	{"signing off in negotiation", func(server bool, command uint16, p []byte) bool {
		if server && command == cmdNegotiate {
			p[headerSize+2] = 0
			return true
		}
		return false
	}, errForged.Error()},
	{"signing off in what is asked", func(server bool, command uint16, p []byte) bool {
		if !server && command == cmdNegotiate {
			p[headerSize+4] = 0
			return true
		}
		return false
	}, ""},
	{"no encryption in negotiation", func(server bool, command uint16, p []byte) bool {
		if server && command == cmdNegotiate {
			p[headerSize+24] ^= 0x40
			return true
		}
		return false
	}, errForged.Error()},
	{"an older dialect in the answer", func(server bool, command uint16, p []byte) bool {
		if server && command == cmdNegotiate {
			binary.LittleEndian.PutUint16(p[headerSize+4:], dialect302)
			return true
		}
		return false
	}, errDowngraded.Error()},
	{"an older dialect in what is asked", func(server bool, command uint16, p []byte) bool {
		if !server && command == cmdNegotiate {
			binary.LittleEndian.PutUint16(p[headerSize+36:], dialect210)
			return true
		}
		return false
	}, errDowngraded.Error()},
}

func last(alter func(p []byte)) func(bool, uint16, []byte) bool {
	return func(server bool, command uint16, p []byte) bool {
		if server && command == cmdSession && binary.LittleEndian.Uint32(p[8:]) == 0 {
			alter(p)
			return true
		}
		return false
	}
}

// TestNoForgedSignOn: whatever is altered of a sign-on, nobody is signed on.
func TestNoForgedSignOn(t *testing.T) {
	s := smbtest.Start(t, playhouse)
	for _, f := range forging {
		for _, exact := range []bool{false, true} {
			var altered atomic.Bool
			r := smbtest.Altering(t, s.Port, func(server bool, p []byte) []byte {
				if f.alter(server, binary.LittleEndian.Uint16(p[12:]), p) {
					altered.Store(true)
				}
				return p
			})
			l := Link{Host: "127.0.0.1", Port: r.Port, User: "warden"}
			secret := Secret{Password: smbtest.Password("warden")}
			if exact {
				x, err := DialExact(context.Background(), l, secret)
				if err == nil { // of 2.1 alone: what is asked and what is offered can't switch signing off
					_, err = x.Try("productions", "", right.ReadData)
					if err == nil {
						require.Contains(t, f.what, "in ", "opened")
					}
					x.Close()
				}
			} else {
				c, err := Dial(context.Background(), l, secret)
				require.Error(t, err, f.what)
				require.Nil(t, c)
				require.ErrorContains(t, err, f.want, f.what)
			}
			require.True(t, altered.Load(), f.what)
			r.Close()
		}
	}
}

// TestEveryBit: no bit of the last answer can be flipped unseen, in any
// dialect; in 3.1.1 no bit of all that was said before.
func TestEveryBit(t *testing.T) {
	proptest.Long(t)
	for _, most := range []string{"SMB3_11", "SMB3_02", "SMB2_10"} {
		c := playhouse
		c.Global = "server max protocol = " + most
		s := smbtest.Start(t, c)
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port))
		require.NoError(t, err)
		on := &wire{Conn: conn, wait: patience, old: true}
		who := &smb2.NTLMInitiator{User: "warden", Password: smbtest.Password("warden")}
		session, err := (&smb2.Dialer{Negotiator: smb2.Negotiator{RequireMessageSigning: true}, Initiator: who}).DialConn(context.Background(), on, "stagedoor")
		require.NoError(t, err)
		said := on.settle()
		is, err := prove(said, who.SessionKey, false)
		require.NoError(t, err)
		require.Equal(t, map[string]uint16{"SMB3_11": dialect311, "SMB3_02": dialect302, "SMB2_10": dialect210}[most], is.Dialect)
		require.Len(t, said, 6)
		tried := 0
		for i, m := range said {
			if is.Dialect != dialect311 && i < len(said)-1 {
				continue
			}
			for bit := range 8 * len(m.b) {
				m.b[bit/8] ^= 1 << (bit % 8)
				_, err := prove(said, who.SessionKey, false)
				require.Error(t, err, "%s: message %d, bit %d", most, i, bit)
				m.b[bit/8] ^= 1 << (bit % 8)
				tried++
			}
		}
		require.Greater(t, tried, 800)
		_ = session.Logoff()
	}
}

// TestNoGuests: who isn't known, or whose password is wrong, isn't signed on by
// a server that lets them in as a guest, unless that was asked for.
func TestNoGuests(t *testing.T) {
	c := playhouse
	c.Global = "map to guest = bad password\nguest account = nobody"
	c.Shares = map[string]string{"productions": "guest ok = yes"}
	s := smbtest.Start(t, c)
	for user, password := range map[string]string{"warden": "not it", "nobody-there": "x"} {
		l := Link{Host: "127.0.0.1", Port: s.Port, User: user}
		_, err := Dial(context.Background(), l, Secret{Password: password})
		require.ErrorContains(t, err, errGuest.Error())
		_, err = DialExact(context.Background(), l, Secret{Password: password})
		require.ErrorContains(t, err, errGuest.Error())
		l.Encrypt, l.Guest = true, true
		_, err = Dial(context.Background(), l, Secret{Password: password})
		require.ErrorContains(t, err, errGuest.Error(), "encryption is required")
		l.Encrypt = false
		x, err := Dial(context.Background(), l, Secret{Password: password})
		require.NoError(t, err)
		require.Equal(t, Session{Guest: true, Dialect: dialect311}, x.Session())
		_, err = x.Look(context.Background(), "productions", "", false)
		require.NoError(t, err)
		x.Close()
	}
	x, err := Dial(context.Background(), Link{Host: "127.0.0.1", Port: s.Port, User: "warden", Guest: true}, Secret{Password: smbtest.Password("warden")})
	require.NoError(t, err)
	require.Equal(t, Session{Dialect: dialect311}, x.Session(), "who is known is nobody's guest")
	x.Close()
}

// TestServersThatStop: one that stops in the middle of an answer is given up,
// and signing off waits for nobody.
func TestServersThatStop(t *testing.T) {
	proptest.Long(t)
	s := smbtest.Start(t, playhouse)
	for _, how := range []string{"in the middle", "after the length", "before it"} {
		var stop atomic.Bool
		r := smbtest.Altering(t, s.Port, func(server bool, p []byte) []byte {
			if server && stop.Load() {
				select {} // nothing more comes
			}
			return p
		})
		c, err := Dial(context.Background(), Link{Host: "127.0.0.1", Port: r.Port, User: "warden"}, Secret{Password: smbtest.Password("warden")})
		require.NoError(t, err)
		stop.Store(true)
		ctx, end := context.WithTimeout(context.Background(), 200*time.Millisecond)
		began := time.Now()
		_, err = c.Look(ctx, "productions", "", false)
		require.Error(t, err, how)
		c.Close()
		require.Less(t, time.Since(began), parting+2*time.Second, how)
		end()
	}
	// The wire itself: a length comes, and what it is of doesn't.
	for _, given := range [][]byte{{0, 0, 0}, {0, 0, 0, 80}, append([]byte{0, 0, 0, 80}, make([]byte, 79)...)} {
		here, there := net.Pipe()
		w := &wire{Conn: here, wait: 100 * time.Millisecond, settled: true}
		go func() {
			b := make([]byte, 84)
			_, _ = there.Read(b)
			_, _ = there.Read(b)
			_, _ = there.Write(given)
		}()
		_, err := w.Write([]byte{0, 0, 0, 4})
		require.NoError(t, err)
		_, err = w.Write([]byte{1, 2, 3, 4})
		require.NoError(t, err)
		var got int
		for err == nil {
			var n int
			n, err = w.Read(make([]byte, 16))
			got += n
		}
		require.ErrorContains(t, err, "has not answered", fmt.Sprint(len(given)))
		require.Equal(t, len(given), got)
	}
}
