//go:build unix

package ldap

import (
	"context"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/proptest"
	"tarnwold/internal/server/ldap/ldaptest"
)

// TestSilence: a directory that says nothing more, at whatever moment, is given
// up, and a stop is heard at once.
func TestSilence(t *testing.T) {
	proptest.Long(t)
	yes := []byte{0x30, 0x0c, 0x02, 0x01, 0x01, 0x78, 0x07, 0x0a, 0x01, 0x00, 0x04, 0x00, 0x04, 0x00} // to StartTLS (RFC 4511 §4.14)
	for what, given := range map[string][]byte{"nothing": nil, "half an answer": yes[:5], "a yes to StartTLS": yes, "a yes, and the beginning of a handshake": append(yes[:len(yes):len(yes)], 22, 3, 3, 0, 80)} {
		for _, scheme := range []string{"ldap", "ldaps"} {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					go func() {
						_, _ = c.Read(make([]byte, 1))
						_, _ = c.Write(given)
						_, _ = io.Copy(io.Discard, c)
						c.Close()
					}()
				}
			}()
			k := Link{URL: scheme + "://" + l.Addr().String(), Bases: []string{ldaptest.Base}, Patience: 300 * time.Millisecond}
			began := time.Now()
			_, err = Dial(context.Background(), k, Secret{})
			require.Error(t, err, what)
			require.Less(t, time.Since(began), 3*time.Second, "%s, %s", what, scheme)
			k.Patience = time.Minute
			ctx, stop := context.WithTimeout(context.Background(), 100*time.Millisecond)
			began = time.Now()
			_, err = Dial(ctx, k, Secret{})
			stop()
			require.Error(t, err, what)
			if scheme == "ldap" || given == nil { // what is given is no handshake
				require.ErrorIs(t, err, context.DeadlineExceeded, "%s, %s", what, scheme)
			}
			require.Less(t, time.Since(began), 3*time.Second, "%s, %s", what, scheme)
			l.Close()
		}
	}
}
