// Package smb reads live file servers over SMB 2.1 or later ([MS-SMB2]), their
// shares ([MS-SRVS]) and their accounts ([MS-SAMR], [MS-LSAT]).
//
// Everything a server says is hostile until shown otherwise: names and
// descriptors are looked over before they leave this package, and what can't
// be read is told of, item by item.
package smb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/server"
)

// Link is how a server is reached and signed on to; the password is never a
// part of it.
type Link struct {
	Host    string `json:"host"`
	Port    int    `json:"port"`
	User    string `json:"user"`
	Domain  string `json:"domain,omitempty"` // as NTLM has it
	Realm   string `json:"realm,omitempty"`  // as Kerberos has it
	Encrypt bool   `json:"require-encryption,omitempty"`
	// Guest: a session that isn't the user's, and is not signed, will do.
	Guest bool `json:"guest,omitempty"`
	// Old: dialects before SMB 3.1.1 will do, whose negotiation nobody vouches for.
	Old bool `json:"old-dialects,omitempty"`
	// PasswordAt is the file that the password is in; empty: it is said otherwise.
	PasswordAt string `json:"password-at,omitempty"`
	// Patience is how long the server may take over one answer, in nanoseconds;
	// 0: as usual.
	Patience time.Duration `json:"patience,omitempty"`
}

// Address writes host and port.
func (l Link) Address() string { return net.JoinHostPort(l.Host, strconv.Itoa(l.Port)) }

// DefaultPort is SMB's.
const DefaultPort = 445

// patience is how long a server may take to answer the first time.
const patience = 20 * time.Second

// Client is a server that is signed on to.
type Client struct {
	link    Link
	secret  Secret
	session *smb2.Session
	is      Session
	conn    net.Conn
	silent  atomic.Bool // it was given up, for it had not answered for too long

	m      sync.Mutex
	shares map[string]*smb2.Share // connected to, by lower-case name
}

var _ server.Server = (*Client)(nil)

// Unreached is a server that can't be reached, or refuses the sign-on.
type Unreached struct {
	Address string `json:"address"`
	Step    string `json:"step"` // reach or sign-on
	Why     string `json:"why"`
}

func (e *Unreached) Error() string {
	if e.Step == "reach" {
		return fmt.Sprintf("%s can't be reached: %s", e.Address, e.Why)
	}
	return fmt.Sprintf("%s refused the sign-on: %s", e.Address, e.Why)
}

// Dial reaches a server and signs on.
func Dial(ctx context.Context, l Link, secret Secret) (_ *Client, err error) {
	defer server.Asked(ctx, "sign on", "server", l.Address(), "user", l.User)(&err)
	d := &net.Dialer{Timeout: patience}
	conn, err := d.DialContext(ctx, "tcp", l.Address())
	if err != nil {
		return nil, &Unreached{l.Address(), "reach", plainNet(err)}
	}
	who, err := initiator(secret, l)
	if err != nil {
		conn.Close()
		return nil, &Unreached{l.Address(), "sign-on", err.Error()}
	}
	on := &wire{Conn: conn, wait: cmp.Or(l.Patience, Answering), old: l.Old}
	conn = on
	if l.Encrypt {
		conn = &sealedConn{Conn: conn}
	}
	sd := &smb2.Dialer{Negotiator: smb2.Negotiator{RequireMessageSigning: true}, Initiator: who}
	if !l.Old {
		sd.Negotiator.SpecifiedDialect = dialect311
	}
	ctx, stop := context.WithTimeout(ctx, min(patience, on.wait))
	defer stop()
	s, is, err := signOn(ctx, sd, conn, on, l)
	if err != nil {
		conn.Close()
		return nil, &Unreached{l.Address(), "sign-on", plainSMB(err)}
	}
	return &Client{link: l, secret: secret, session: s, is: is, conn: conn, shares: map[string]*smb2.Share{}}, nil
}

// signOn signs on by the library, and proves what that came to. What a hostile
// server can make the library trip over is an error like others.
func signOn(ctx context.Context, sd *smb2.Dialer, conn net.Conn, on *wire, l Link) (s *smb2.Session, is Session, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = errNoSignOn
		}
	}()
	if s, err = sd.DialConn(ctx, conn, l.Address()); err != nil {
		if c := context.Cause(ctx); c != nil && errors.Is(err, context.DeadlineExceeded) {
			err = fmt.Errorf("the server has not answered for %v", min(patience, on.wait))
		}
		return nil, is, err
	}
	if is, err = prove(on.settle(), sd.Initiator.SessionKey, l.Guest && !l.Encrypt); err != nil {
		return nil, is, err
	}
	if l.Encrypt && !is.Encrypted {
		return nil, is, errPlain
	}
	return s, is, nil
}

// Session says what signing on came to.
func (c *Client) Session() Session { return c.is }

// tripped makes an error of what the library trips over in a broken answer, or one
// that comes when the session has ended: the connection is of no more use then.
func (c *Client) tripped(err *error) {
	if p := recover(); p != nil {
		*err = &Gone{c.link.Address(), "its answer can't be read"}
		c.conn.Close()
	}
}

// patience is how long the server may take over one answer.
func (c *Client) patience() time.Duration { return cmp.Or(c.link.Patience, Answering) }

// watched ends the connection where a call of the library takes too long: one
// whose answer was altered on the way, so that the library passes it over, would
// be waited for without end. What it gives ends the watch.
func (c *Client) watched() func() bool {
	return time.AfterFunc(c.patience(), func() {
		c.silent.Store(true)
		c.conn.Close()
	}).Stop
}

// parting is how long a server is given to hear that one signs off.
const parting = 2 * time.Second

// Close signs off.
func (c *Client) Close() {
	ctx, stop := context.WithTimeout(context.Background(), parting)
	defer stop()
	var err error
	defer c.conn.Close()
	defer c.tripped(&err)
	_ = c.session.WithContext(ctx).Logoff()
}

func plainNet(err error) string {
	var oe *net.OpError
	if errors.As(err, &oe) && oe.Err != nil {
		return oe.Err.Error()
	}
	return err.Error()
}

// plainSMB turns a server's status into words ([MS-ERREF] §2.3).
func plainSMB(err error) string {
	var re *smb2.ResponseError
	if errors.As(err, &re) {
		switch re.Code {
		case 0xc000006d, 0xc000006a, 0xc0000064:
			return "the user's name or password is wrong"
		case 0xc0000022:
			return "the user may not"
		case 0xc0000061:
			return "it takes a privilege that the user doesn't have, as audit entries do"
		case 0xc0000072:
			return "the account is switched off"
		case 0xc0000234:
			return "the account is locked"
		case 0xc00000cc:
			return "there is no such share"
		case 0xc000019c, 0xc0000257: // PATH_NOT_COVERED: a referral of a namespace
			return "it leads to another server (a namespace's referral), which isn't followed"
		case 0xc000006e, 0xc000006f, 0xc0000070, 0xc000015b:
			return "the account may not sign on there now"
		case 0xc0000071, 0xc0000224:
			return "the password has expired, or has to be changed first"
		case 0xc0000193:
			return "the account has expired"
		case 0xc0000133:
			return "its clock and this machine's differ too much"
		case 0xc0000034, 0xc000003a:
			return "it is not there"
		}
	}
	switch {
	case strings.Contains(err.Error(), "KRB_AP_ERR_SKEW"), strings.Contains(err.Error(), "lock skew"):
		return "its clock and this machine's differ too much for Kerberos"
	case strings.Contains(err.Error(), "KRB_AP_ERR_TKT_EXPIRED"), strings.Contains(err.Error(), "KDC_ERR_KEY_EXPIRED"):
		return "the ticket, or the account's password, has expired"
	case errors.Is(err, fs.ErrPermission):
		return "the user may not"
	case errors.Is(err, fs.ErrNotExist):
		return "it is not there"
	}
	return err.Error()
}

const everything = smb2.OwnerSecurityInformation | smb2.GroupSecurityInformation | smb2.DACLSecurityInformation

// dacl are the control flags that go with the list of entries.
const dacl = rule.RulesPresent | rule.RulesDefaulted | rule.RulesFollow | rule.RulesSealed

// again signs on once more.
func (c *Client) again(ctx context.Context) (*Client, error) { return Dial(ctx, c.link, c.secret) }

// mount connects to a share.
func (c *Client) mount(ctx context.Context, share string) (_ *smb2.Share, err error) {
	defer c.tripped(&err)
	defer c.watched()()
	in, err := c.session.WithContext(ctx).Mount(share)
	if err != nil {
		if lost(err) {
			return nil, c.gone(err)
		}
		return nil, fmt.Errorf("share %s: %s", share, plainSMB(err))
	}
	return in.WithContext(ctx), nil
}

// kept connects to a share, once.
func (c *Client) kept(ctx context.Context, share string) (*smb2.Share, error) {
	c.m.Lock()
	defer c.m.Unlock()
	key := strings.ToLower(share)
	if in := c.shares[key]; in != nil {
		return in.WithContext(ctx), nil
	}
	in, err := c.mount(ctx, share)
	if err == nil {
		c.shares[key] = in
	}
	return in, err
}

// rules reads a descriptor a server gave.
func rules(raw []byte) (*rule.Descriptor, error) {
	d, err := secdesc.Decode(raw)
	if err != nil {
		return nil, fmt.Errorf("the server's descriptor can't be read: %w", err)
	}
	return d, nil
}
