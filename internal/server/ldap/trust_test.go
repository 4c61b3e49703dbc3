package ldap

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAFileOfCertificates: what can't be used of it is said, and not passed over.
func TestAFileOfCertificates(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Playhouse tests"}, NotBefore: time.Now(), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, ca, ca, &key.PublicKey, key)
	require.NoError(t, err)
	good := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	version := []byte{0xa0, 3, 2, 1, 2} // and behind it the serial number
	below := bytes.Replace(der, append(version, 2, 1, 1), append(version, 2, 1, 0x81), 1)
	require.NotEqual(t, der, below)
	read := func(text []byte) (n int, err error) {
		pool := x509.NewCertPool()
		err = trusted(pool, text)
		if pool.Equal(x509.NewCertPool()) {
			return 0, err
		}
		return 1, err
	}
	n, err := read(append([]byte("a note before it\n"), good...))
	require.NoError(t, err)
	require.Equal(t, 1, n)
	_, err = read(append(good, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: below})...))
	require.ErrorContains(t, err, "a negative serial number")
	_, err = x509.ParseCertificate(below)
	require.ErrorContains(t, failed(Link{URL: "ldaps://a"}, "reach", fmt.Errorf("tls: failed to parse certificate from server: %w", err)), "has a negative serial number")
	_, err = read(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: []byte("x")}))
	require.ErrorContains(t, err, "can't be read")
	for _, text := range []string{"", "x", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: []byte("x")}))} {
		_, err = read([]byte(text))
		require.ErrorContains(t, err, "holds no certificate in PEM")
	}
}
