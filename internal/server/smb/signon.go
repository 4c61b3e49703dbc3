package smb

import (
	"crypto/aes"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"errors"
)

// What the library that speaks SMB doesn't look at is looked at here, on the
// wire: who the last answer of signing on says one is, and its signature. By
// that answer a server, or whoever sits on the way to it, could else make a
// session a guest's, and so switch signing off for all that follows.

var (
	errGuest       = errors.New("it signs on as a guest only: the user's name or password is wrong, and the server lets anybody in under another name; server add --guest takes that")
	errAnonymous   = errors.New("it signs on as nobody (an anonymous session); server add --guest takes that")
	errGuestSealed = errors.New("it signs on as a guest, and wants that session encrypted, which has no key")
	errUnsigned    = errors.New("its last answer to the sign-on is not signed, so that nobody vouches for it")
	errForged      = errors.New("its last answer to the sign-on is signed wrongly: somebody on the way has altered the sign-on, or it isn't the server it says it is")
	errNoSignOn    = errors.New("its answer to the sign-on makes no sense")
)

// Dialects, [MS-SMB2] §2.2.4.
const (
	dialect210 = 0x0210
	dialect300 = 0x0300
	dialect302 = 0x0302
	dialect311 = 0x0311
)

// What a session is, by the last answer to the sign-on ([MS-SMB2] §2.2.6).
const (
	sessionGuest     = 1
	sessionAnonymous = 2
	sessionEncrypts  = 4
)

// Session says what a sign-on came to.
type Session struct {
	Guest     bool // somebody else than who signed on: nothing is signed
	Encrypted bool // all that follows is encrypted
	Dialect   uint16
}

// prove finds what a sign-on came to, and verifies the signature of its last
// answer with the session's key ([MS-SMB2] §3.2.5.3.3: that answer is signed
// unless the session is a guest's or nobody's). In the dialect 3.1.1 the key
// that signs is made of all that was said before ([MS-SMB2] §3.1.4.2), so that
// no part of it, the negotiation neither, can have been altered on the way.
func prove(exchange []message, key func() []byte, guest bool) (Session, error) {
	var s Session
	var last []byte
	var said [64]byte // the sum of what was said before the last answer
	for _, m := range exchange {
		if len(m.b) < headerSize+8 || string(m.b[:4]) != "\xfeSMB" {
			return s, errNoSignOn
		}
		command, status := binary.LittleEndian.Uint16(m.b[12:]), binary.LittleEndian.Uint32(m.b[8:])
		if last != nil || binary.LittleEndian.Uint32(m.b[20:]) != 0 {
			return s, errNoSignOn // after the last, or a chain
		}
		switch {
		case command == cmdNegotiate && !m.sent:
			s.Dialect = binary.LittleEndian.Uint16(m.b[headerSize+4:])
		case command == cmdSession && !m.sent && status == 0:
			last = m.b
			continue
		}
		said = sha512.Sum512(append(said[:], m.b...))
	}
	if last == nil {
		return s, errNoSignOn
	}
	flags := binary.LittleEndian.Uint16(last[headerSize+2:])
	s.Encrypted = flags&sessionEncrypts != 0
	if flags&(sessionGuest|sessionAnonymous) != 0 {
		s.Guest = true
		switch {
		case !guest && flags&sessionGuest != 0:
			return s, errGuest
		case !guest:
			return s, errAnonymous
		case s.Encrypted: // there is no key to do it by
			return s, errGuestSealed
		}
		return s, nil
	}
	if binary.LittleEndian.Uint32(last[16:])&flagSigned == 0 {
		return s, errUnsigned
	}
	signs, err := signer(s.Dialect, key(), said[:])
	if err != nil {
		return s, err
	}
	if !hmac.Equal(last[48:64], signature(signs, last)) {
		return s, errForged
	}
	return s, nil
}

// signer gives what signs a session's messages ([MS-SMB2] §3.1.4.1, §3.1.4.2).
func signer(dialect uint16, key, said []byte) (func(message []byte) []byte, error) {
	if len(key) < 16 {
		return nil, errNoSignOn
	}
	key = key[:16]
	switch dialect {
	case dialect210:
		return func(b []byte) []byte {
			m := hmac.New(sha256.New, key)
			m.Write(b)
			return m.Sum(nil)[:16]
		}, nil
	case dialect300, dialect302:
		return cmac(derived(key, "SMB2AESCMAC\x00", []byte("SmbSign\x00")))
	case dialect311:
		return cmac(derived(key, "SMBSigningKey\x00", said))
	}
	return nil, errNoSignOn
}

// signature is what has to stand in a message's header.
func signature(signs func([]byte) []byte, message []byte) []byte {
	b := append([]byte{}, message...)
	clear(b[48:64])
	return signs(b)
}

// derived makes a key of another (SP 800-108 §5.1, counter mode, HMAC-SHA256;
// 128 bits).
func derived(key []byte, label string, context []byte) []byte {
	m := hmac.New(sha256.New, key)
	m.Write([]byte{0, 0, 0, 1})
	m.Write([]byte(label))
	m.Write([]byte{0})
	m.Write(context)
	m.Write([]byte{0, 0, 0, 128})
	return m.Sum(nil)[:16]
}

// cmac is AES-CMAC (RFC 4493 §2.4).
func cmac(key []byte) (func(message []byte) []byte, error) {
	c, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	double := func(b []byte) []byte { // in GF(2^128), §2.3
		out := make([]byte, 16)
		for i := range out {
			out[i] = b[i] << 1
			if i < 15 {
				out[i] |= b[i+1] >> 7
			}
		}
		out[15] ^= 0x87 & -(b[0] >> 7)
		return out
	}
	zero := make([]byte, 16)
	c.Encrypt(zero, zero)
	k1 := double(zero)
	k2 := double(k1)
	return func(message []byte) []byte {
		sum := make([]byte, 16)
		for len(message) > 16 {
			for i := range sum {
				sum[i] ^= message[i]
			}
			c.Encrypt(sum, sum)
			message = message[16:]
		}
		end, k := make([]byte, 16), k1
		if n := copy(end, message); n < 16 {
			end[n], k = 0x80, k2
		}
		for i := range sum {
			sum[i] ^= end[i] ^ k[i]
		}
		c.Encrypt(sum, sum)
		return sum
	}, nil
}
