//go:build unix

// Package ldaptest starts a real directory server for tests: OpenLDAP's slapd,
// with a configuration and data of its own, on free ports of this machine.
package ldaptest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	goldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"
)

// Base is the name everything is below; Manager may do everything.
const (
	Base    = "dc=playhouse,dc=test"
	Manager = "cn=manager," + Base
	Secret  = "secret of the manager"
)

// Certificate says what the server shows of itself.
type Certificate struct {
	Name     string // a name or an address that it is for; empty: 127.0.0.1
	Expired  bool
	SelfMade bool // signed by itself, and not by CA
}

// Server is one that runs.
type Server struct {
	Plain, TLS string // ldap:// and ldaps://
	CA         string // a file with the certificate of who signs
	Dir        string
	cmd        *exec.Cmd
	conf       string
}

func free(t testing.TB) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// Start starts a server; lines are more of its configuration. Where that can't be
// done here the test is passed over.
func Start(t testing.TB, c Certificate, lines ...string) *Server {
	slapd, err := exec.LookPath("slapd")
	if err != nil {
		slapd = "/usr/sbin/slapd"
	}
	if _, err := os.Stat(slapd); err != nil {
		t.Skip("*** SKIPPED: a real directory needs slapd ***")
	}
	dir, err := os.MkdirTemp("", "tarnwold-slapd-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	s := &Server{Dir: dir, CA: filepath.Join(dir, "ca.pem")}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "data"), 0o700))
	c.Write(t, dir)
	conf := "include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\ninclude /etc/ldap/schema/nis.schema\ninclude /etc/ldap/schema/inetorgperson.schema\n" +
		"modulepath /usr/lib/ldap\nmoduleload back_mdb\npidfile " + dir + "/pid\nTLSCertificateFile " + dir + "/cert.pem\nTLSCertificateKeyFile " + dir + "/key.pem\n" +
		strings.Join(lines, "\n") + "\ndatabase mdb\nmaxsize 1073741824\nsuffix \"" + Base + "\"\nrootdn \"" + Manager + "\"\nrootpw \"" + Secret + "\"\ndirectory " + dir + "/data\nindex objectClass,uid,entryCSN eq\nsizelimit 500\naccess to attrs=userPassword by * auth\naccess to * by * read\n"
	s.conf = filepath.Join(dir, "slapd.conf")
	require.NoError(t, os.WriteFile(s.conf, []byte(conf), 0o600))
	s.Plain, s.TLS = fmt.Sprintf("ldap://127.0.0.1:%d", free(t)), fmt.Sprintf("ldaps://127.0.0.1:%d", free(t))
	s.cmd = exec.Command(slapd, "-f", s.conf, "-h", s.Plain+" "+s.TLS, "-d", "0")
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	said, err := os.Create(filepath.Join(dir, "said"))
	require.NoError(t, err)
	s.cmd.Stdout, s.cmd.Stderr = said, said
	require.NoError(t, s.cmd.Start())
	t.Cleanup(s.Kill)
	for range 100 {
		if c, err := net.DialTimeout("tcp", strings.TrimPrefix(s.Plain, "ldap://"), time.Second); err == nil {
			c.Close()
			s.Change(t, func(c *goldap.Conn) error {
				r := goldap.NewAddRequest(Base, nil)
				r.Attribute("objectClass", []string{"dcObject", "organization"})
				r.Attribute("dc", []string{"playhouse"})
				r.Attribute("o", []string{"Quillfeather Playhouse"})
				return c.Add(r)
			})
			return s
		}
		time.Sleep(50 * time.Millisecond)
	}
	text, _ := os.ReadFile(said.Name())
	t.Fatalf("slapd doesn't come up: %s", text)
	return nil
}

// Kill ends the server at once.
func (s *Server) Kill() {
	if s.cmd != nil && s.cmd.Process != nil {
		_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

// Change does something as the manager.
func (s *Server) Change(t testing.TB, fn func(c *goldap.Conn) error) {
	c, err := goldap.DialURL(s.Plain)
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.Bind(Manager, Secret))
	require.NoError(t, fn(c))
}

// Add adds entries, each its name and then attribute=value.
func (s *Server) Add(t testing.TB, entries ...[]string) {
	s.Change(t, func(c *goldap.Conn) error {
		for _, e := range entries {
			r := goldap.NewAddRequest(e[0], nil)
			values := map[string][]string{}
			var order []string
			for _, a := range e[1:] {
				name, v, _ := strings.Cut(a, "=")
				if values[name] == nil {
					order = append(order, name)
				}
				values[name] = append(values[name], v)
			}
			for _, name := range order {
				r.Attribute(name, values[name])
			}
			if err := c.Add(r); err != nil {
				return fmt.Errorf("%s: %w", e[0], err)
			}
		}
		return nil
	})
}

// Write makes such a certificate: cert.pem and key.pem, and ca.pem of who signed.
func (c Certificate) Write(t testing.TB, dir string) {
	key := func() *ecdsa.PrivateKey {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return k
	}
	write := func(name, kind string, der []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600))
	}
	ca, mine := key(), key()
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Playhouse tests"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, root, root, &ca.PublicKey, ca)
	require.NoError(t, err)
	write("ca.pem", "CERTIFICATE", der)
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "directory"}, NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	if c.Name != "" {
		leaf.IPAddresses, leaf.DNSNames = nil, []string{c.Name}
	}
	if c.Expired {
		leaf.NotAfter = time.Now().Add(-time.Hour)
	}
	by, signer := root, ca
	if c.SelfMade {
		by, signer = leaf, mine
	}
	der, err = x509.CreateCertificate(rand.Reader, leaf, by, &mine.PublicKey, signer)
	require.NoError(t, err)
	write("cert.pem", "CERTIFICATE", der)
	raw, err := x509.MarshalPKCS8PrivateKey(mine)
	require.NoError(t, err)
	write("key.pem", "PRIVATE KEY", raw)
}
