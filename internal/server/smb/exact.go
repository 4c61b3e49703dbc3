package smb

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"
	"unicode/utf16"

	smb2 "github.com/cloudsoda/go-smb2"

	"tarnwold/core/right"
	"tarnwold/internal/server"
)

// Exact is a connection that opens things with an exact set of rights and
// closes them again: nothing is read, written or made by it. It speaks the few
// requests of SMB 2.1 that this takes ([MS-SMB2] §2.2), signed.
type Exact struct {
	wait    time.Duration
	conn    net.Conn
	key     []byte // signs; nil before the session stands
	session uint64
	trees   map[string]uint32
	most    map[string]right.Set // what the connection to a share lets through at most
	next    uint64               // message number
	host    string
	user    string
}

// Status is a server's answer to an open ([MS-ERREF] §2.3.1); 0: it is done.
type Status uint32

// The statuses that say no, and no more than that.
const (
	StatusDenied  Status = 0xc0000022
	StatusNoName  Status = 0xc0000034
	StatusNoPath  Status = 0xc000003a
	StatusNoShare Status = 0xc00000cc
	statusMore    Status = 0xc0000016 // MORE_PROCESSING_REQUIRED
	statusSharing Status = 0xc0000043
	statusPending Status = 0x00000103
)

func (s Status) Error() string {
	return plainSMB(&smb2.ResponseError{Code: uint32(s)})
}

// Requests, [MS-SMB2] §2.2.1.2.
const (
	cmdNegotiate = 0
	cmdSession   = 1
	cmdTree      = 3
	cmdCreate    = 5
	cmdClose     = 6
)

const (
	headerSize = 64
	flagSigned = 8
	flagChain  = 4        // RELATED_OPERATIONS
	mostAnswer = 16 << 20 // bytes a server's answer may have
)

// DialExact reaches a server and signs on as a user.
func DialExact(ctx context.Context, l Link, secret Secret) (_ *Exact, err error) {
	defer server.Asked(ctx, "sign on to open", "server", l.Address(), "user", l.User)(&err)
	if l.Encrypt {
		return nil, &Unreached{l.Address(), "sign-on", "opening with an exact set of rights isn't encrypted, and this server is only to be spoken to encrypted"}
	}
	d := &net.Dialer{Timeout: patience}
	conn, err := d.DialContext(ctx, "tcp", l.Address())
	if err != nil {
		return nil, &Unreached{l.Address(), "reach", plainNet(err)}
	}
	x := &Exact{wait: min(patience, cmp.Or(l.Patience, patience)), conn: conn, trees: map[string]uint32{}, most: map[string]right.Set{}, host: l.Host, user: l.User}
	if err := x.signOn(l, secret); err != nil {
		conn.Close()
		return nil, &Unreached{l.Address(), "sign-on", plainSMB(err)}
	}
	return x, nil
}

// Close ends the connection.
func (x *Exact) Close() { x.conn.Close() }

func (x *Exact) signOn(l Link, secret Secret) error {
	body := make([]byte, 36, 38)
	binary.LittleEndian.PutUint16(body, 36)
	binary.LittleEndian.PutUint16(body[2:], 1) // one dialect
	binary.LittleEndian.PutUint16(body[4:], 1) // signing
	copy(body[12:], "tarnwold-exact\x00\x00")
	body = binary.LittleEndian.AppendUint16(body, 0x0210)
	answers, err := x.ask(request{cmdNegotiate, 0, body})
	if err != nil {
		return err
	}
	if s := answers[0].status; s != 0 {
		return s
	}
	if secret.Kerberos() {
		return errors.New("opening with an exact set of rights is signed on by password alone")
	}
	who := &smb2.NTLMInitiator{User: l.User, Password: secret.Password, Domain: l.Domain, Workstation: "TARNWOLD"}
	token, err := who.InitSecContext()
	if err != nil {
		return err
	}
	for range 3 {
		body := make([]byte, 24, 24+len(token))
		binary.LittleEndian.PutUint16(body, 25)
		body[3] = 1 // signing
		binary.LittleEndian.PutUint16(body[12:], headerSize+24)
		binary.LittleEndian.PutUint16(body[14:], uint16(len(token)))
		answers, err := x.ask(request{cmdSession, 0, append(body, token...)})
		if err != nil {
			return err
		}
		a := answers[0]
		x.session = a.session
		switch a.status {
		case 0:
			if len(a.body) >= 4 && binary.LittleEndian.Uint16(a.body[2:])&3 != 0 {
				return errGuest
			}
			if len(a.body) < 4 {
				return errShort
			}
			if x.key = who.SessionKey(); !x.signed(a.packet) {
				return errForged
			}
			return nil
		case statusMore:
			given, err := a.buffer(4)
			if err != nil {
				return err
			}
			if token, err = who.AcceptSecContext(given); err != nil {
				return err
			}
		default:
			return a.status
		}
	}
	return errors.New("its sign-on never ends")
}

// tree connects to a share.
func (x *Exact) tree(share string) (uint32, error) {
	if id, ok := x.trees[strings.ToLower(share)]; ok {
		return id, nil
	}
	path := utf16le(`\\` + x.host + `\` + share)
	body := make([]byte, 8, 8+len(path))
	binary.LittleEndian.PutUint16(body, 9)
	binary.LittleEndian.PutUint16(body[4:], headerSize+8)
	binary.LittleEndian.PutUint16(body[6:], uint16(len(path)))
	answers, err := x.ask(request{cmdTree, 0, append(body, path...)})
	if err != nil {
		return 0, err
	}
	if s := answers[0].status; s != 0 {
		return 0, s
	}
	x.trees[strings.ToLower(share)] = answers[0].tree
	if b := answers[0].body; len(b) >= 16 { // MaximalAccess, [MS-SMB2] §2.2.10
		x.most[strings.ToLower(share)] = right.Set(binary.LittleEndian.Uint32(b[12:]))
	}
	return answers[0].tree, nil
}

// Most gives what the connection to a share lets through at most.
func (x *Exact) Most(share string) (right.Set, error) {
	_, err := x.tree(share)
	return x.most[strings.ToLower(share)], err
}

// Open is Try as a server.Opener has it.
func (x *Exact) Open(ctx context.Context, share, path string, rights right.Set) (_ string, err error) {
	defer server.Asked(ctx, "open", "share", share, "path", path, "rights", rights.String())(&err)
	s, err := x.Try(share, path, rights)
	if s == 0 || err != nil {
		return "", err
	}
	return s.Error(), nil
}

// Try opens an item of a share, which is there, with exactly these rights,
// and closes it again. The status says what the server said to it.
func (x *Exact) Try(share, path string, rights right.Set) (Status, error) {
	id, err := x.tree(share)
	var s Status
	if errors.As(err, &s) {
		return s, nil
	}
	if err != nil {
		return 0, err
	}
	for wait := time.Millisecond; ; wait *= 2 {
		s, err := x.open(id, path, rights)
		if s != statusSharing || wait > time.Second { // somebody has it open at this moment
			return s, err
		}
		time.Sleep(wait)
	}
}

func (x *Exact) open(tree uint32, path string, rights right.Set) (Status, error) {
	name := utf16le(strings.ReplaceAll(path, "/", `\`))
	body := make([]byte, 56, 57+len(name))
	binary.LittleEndian.PutUint16(body, 57)
	binary.LittleEndian.PutUint32(body[4:], 2) // impersonation
	binary.LittleEndian.PutUint32(body[24:], uint32(rights))
	binary.LittleEndian.PutUint32(body[32:], 7)          // shared with anybody
	binary.LittleEndian.PutUint32(body[36:], 1)          // FILE_OPEN: only what is there
	binary.LittleEndian.PutUint32(body[40:], 0x00200000) // FILE_OPEN_REPARSE_POINT: not where a link leads
	binary.LittleEndian.PutUint16(body[44:], headerSize+56)
	binary.LittleEndian.PutUint16(body[46:], uint16(len(name)))
	if len(name) == 0 {
		name = []byte{0}
	}
	shut := make([]byte, 24)
	binary.LittleEndian.PutUint16(shut, 24)
	for i := 8; i < 24; i++ {
		shut[i] = 0xff // whatever was opened before
	}
	answers, err := x.ask(request{cmdCreate, tree, append(body, name...)}, request{cmdClose, tree, shut})
	if err != nil {
		return 0, err
	}
	if s := answers[0].status; s != 0 {
		return s, nil
	}
	return 0, nil
}

type request struct {
	command uint16
	tree    uint32
	body    []byte
}

type answer struct {
	status  Status
	command uint16
	number  uint64
	session uint64
	tree    uint32
	async   bool
	packet  []byte // header and body
	body    []byte
}

// buffer gives what a body points to: offset and length stand at a place of it.
func (a *answer) buffer(at int) ([]byte, error) {
	if len(a.body) < at+4 {
		return nil, errShort
	}
	from, n := int(binary.LittleEndian.Uint16(a.body[at:])), int(binary.LittleEndian.Uint16(a.body[at+2:]))
	if from < headerSize || from+n > len(a.packet) {
		return nil, errShort
	}
	return a.packet[from : from+n], nil
}

var errShort = errors.New("its answer is cut short")

// ask sends requests, one packet, and reads the answers to all of them.
func (x *Exact) ask(requests ...request) ([]answer, error) {
	var packet []byte
	first := x.next
	for i, r := range requests {
		begin := len(packet)
		h := make([]byte, headerSize)
		copy(h, "\xfeSMB")
		binary.LittleEndian.PutUint16(h[4:], headerSize)
		binary.LittleEndian.PutUint16(h[6:], 1) // credit charge
		binary.LittleEndian.PutUint16(h[12:], r.command)
		binary.LittleEndian.PutUint16(h[14:], 8) // credits asked for
		var flags uint32
		if x.key != nil {
			flags |= flagSigned
		}
		if i > 0 {
			flags |= flagChain
		}
		binary.LittleEndian.PutUint32(h[16:], flags)
		binary.LittleEndian.PutUint64(h[24:], x.next)
		binary.LittleEndian.PutUint32(h[36:], r.tree)
		binary.LittleEndian.PutUint64(h[40:], x.session)
		x.next++
		packet = append(append(packet, h...), r.body...)
		if i < len(requests)-1 {
			for len(packet)%8 != 0 {
				packet = append(packet, 0)
			}
			binary.LittleEndian.PutUint32(packet[begin+20:], uint32(len(packet)-begin))
		}
		if x.key != nil {
			copy(packet[begin+48:], x.sign(packet[begin:]))
		}
	}
	_ = x.conn.SetDeadline(time.Now().Add(x.wait))
	if _, err := x.conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(packet))), packet...)); err != nil {
		return nil, fmt.Errorf("%s", plainNet(err))
	}
	got := make([]answer, len(requests))
	seen := make([]bool, len(requests))
	for left := len(requests); left > 0; {
		var size [4]byte
		if _, err := io.ReadFull(x.conn, size[:]); err != nil {
			return nil, fmt.Errorf("%s", plainNet(err))
		}
		n := binary.BigEndian.Uint32(size[:])
		if n > mostAnswer {
			return nil, fmt.Errorf("its answer has %d bytes, which is not an answer to this", n)
		}
		in := make([]byte, n)
		if _, err := io.ReadFull(x.conn, in); err != nil {
			return nil, fmt.Errorf("%s", plainNet(err))
		}
		answers, err := parseAnswers(in)
		if err != nil {
			return nil, err
		}
		for _, a := range answers {
			i := a.number - first
			if i >= uint64(len(requests)) || a.command != requests[i].command || seen[i] {
				return nil, errors.New("its answer is to another question")
			}
			if a.async && a.status == statusPending {
				continue
			}
			if x.key != nil && !x.signed(a.packet) {
				return nil, errors.New("its answer is not signed as it has to be")
			}
			got[i], seen[i] = a, true
			left--
		}
	}
	return got, nil
}

// sign gives the signature of a message ([MS-SMB2] §3.1.4.1, dialect 2.1).
func (x *Exact) sign(message []byte) []byte {
	m := hmac.New(sha256.New, x.key)
	m.Write(message[:48])
	m.Write(make([]byte, 16))
	m.Write(message[64:])
	return m.Sum(nil)[:16]
}

func (x *Exact) signed(message []byte) bool {
	return binary.LittleEndian.Uint32(message[16:])&flagSigned != 0 && hmac.Equal(message[48:64], x.sign(message))
}

// parseAnswers takes a packet of a server apart: one answer, or several in a
// chain ([MS-SMB2] §2.2.1).
func parseAnswers(in []byte) (out []answer, err error) {
	for {
		if len(in) < headerSize+2 || string(in[:4]) != "\xfeSMB" || binary.LittleEndian.Uint16(in[4:]) != headerSize {
			return nil, errors.New("its answer is not SMB 2")
		}
		a := answer{
			status:  Status(binary.LittleEndian.Uint32(in[8:])),
			command: binary.LittleEndian.Uint16(in[12:]),
			number:  binary.LittleEndian.Uint64(in[24:]),
			tree:    binary.LittleEndian.Uint32(in[36:]),
			session: binary.LittleEndian.Uint64(in[40:]),
			async:   binary.LittleEndian.Uint32(in[16:])&2 != 0,
		}
		if binary.LittleEndian.Uint32(in[16:])&1 == 0 {
			return nil, errors.New("it sends a request in place of an answer")
		}
		next := binary.LittleEndian.Uint32(in[20:])
		a.packet = in
		if next != 0 {
			if next < headerSize+2 || next%8 != 0 || uint64(next) > uint64(len(in)) {
				return nil, errShort
			}
			a.packet = in[:next]
		}
		a.body = a.packet[headerSize:]
		out = append(out, a)
		if next == 0 {
			return out, nil
		}
		in = in[next:]
	}
}

func utf16le(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}
