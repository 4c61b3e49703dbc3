//go:build unix

package smb

import (
	"bytes"
	"context"
	"net"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/server"
	"tarnwold/internal/server/smb/smbtest"
)

// TestEncryptedOrNotAtAll: where encryption is required, a server that encrypts
// is read as any other, services and all, and to one that doesn't nothing goes
// out but the sign-on.
func TestEncryptedOrNotAtAll(t *testing.T) {
	for says, want := range map[string]string{"server smb encrypt = desired": "", "server smb encrypt = required": "", "server smb encrypt = off": errPlain.Error(), "": errPlain.Error()} {
		c := playhouse
		c.Global = says
		s := smbtest.Start(t, c)
		ctx := context.Background()
		cli, err := Dial(ctx, Link{Host: "127.0.0.1", Port: s.Port, User: "warden", Encrypt: true}, Secret{Password: smbtest.Password("warden")})
		if want != "" { // it is not signed on, and nobody is told so
			require.ErrorContains(t, err, want, says)
			require.Nil(t, cli)
			continue
		}
		require.NoError(t, err, says)
		_, err = cli.Shares(ctx)
		require.NoError(t, err, says)
		require.NoError(t, cli.Scan(ctx, "productions", server.Reading{}, func(server.Item) error { return nil }))
		_, _, err = cli.Accounts(ctx)
		require.NoError(t, err)
		cli.Close()
	}
}

// written is a connection that keeps what goes out.
type written struct {
	net.Conn
	bytes.Buffer
}

func (w *written) Write(b []byte) (int, error) { return w.Buffer.Write(b) }
func (w *written) Read(b []byte) (int, error)  { return w.Buffer.Read(b) }

func TestOnlySealedPacketsGoOut(t *testing.T) {
	packet := func(mark string, command byte) []byte {
		b := make([]byte, 80)
		copy(b, mark)
		b[12] = command
		return append([]byte{0, 0, 0, 80}, b...)
	}
	for _, x := range []struct {
		what []byte
		may  bool
	}{{packet("\xfeSMB", 0), true}, {packet("\xfeSMB", 1), true}, {packet("\xfeSMB", 2), true}, {packet("\xfdSMB", 9), true}, {packet("\xfeSMB", 3), false},
		{packet("\xfeSMB", 5), false}, {packet("\xffSMB", 0), false}, {[]byte{0, 0}, false}, {[]byte{0, 0, 0, 2, 1, 2}, false}} {
		for _, cut := range []int{0, 4} { // in one write, or the length by itself
			out := &written{}
			c := &sealedConn{Conn: out}
			err := error(nil)
			rest := x.what
			if cut > 0 && len(rest) > cut {
				_, err = c.Write(rest[:cut])
				require.NoError(t, err)
				rest = rest[cut:]
			}
			_, err = c.Write(rest)
			require.Equal(t, x.may, err == nil, "%q", x.what)
			if !x.may {
				require.LessOrEqual(t, out.Len(), 4)
			} else {
				require.Equal(t, x.what, out.Bytes())
			}
		}
	}
}
