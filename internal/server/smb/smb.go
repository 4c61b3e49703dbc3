// Package smb reads live file servers over SMB 2.1 or later ([MS-SMB2]), their
// shares ([MS-SRVS]) and their accounts ([MS-SAMR], [MS-LSAT]).
//
// Everything a server says is hostile until shown otherwise: names and
// descriptors are looked over before they leave this package, and what can't
// be read is told of, item by item.
package smb

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strconv"
	"strings"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"tarnwold/core/rule"
	"tarnwold/internal/format/secdesc"
	"tarnwold/internal/server"
)

// Link is how a server is reached and signed on to; the password is never a
// part of it.
type Link struct {
	Host    string `json:"host"`
	Port    int    `json:"port"`
	User    string `json:"user"`
	Domain  string `json:"domain,omitempty"`
	Encrypt bool   `json:"require-encryption,omitempty"`
}

// Address writes host and port.
func (l Link) Address() string { return net.JoinHostPort(l.Host, strconv.Itoa(l.Port)) }

// DefaultPort is SMB's.
const DefaultPort = 445

// patience is how long a server may take to answer the first time.
const patience = 20 * time.Second

// Client is a server that is signed on to.
type Client struct {
	link     Link
	password string
	session  *smb2.Session
}

var _ server.Server = (*Client)(nil)

// Unreached is a server that can't be reached, or doesn't let one in.
type Unreached struct {
	Address string `json:"address"`
	Step    string `json:"step"` // reach or sign-on
	Why     string `json:"why"`
}

func (e *Unreached) Error() string {
	if e.Step == "reach" {
		return fmt.Sprintf("%s can't be reached: %s", e.Address, e.Why)
	}
	return fmt.Sprintf("%s doesn't let one in: %s", e.Address, e.Why)
}

// Dial reaches a server and signs on.
func Dial(ctx context.Context, l Link, password string) (*Client, error) {
	d := &net.Dialer{Timeout: patience}
	conn, err := d.DialContext(ctx, "tcp", l.Address())
	if err != nil {
		return nil, &Unreached{l.Address(), "reach", plainNet(err)}
	}
	sd := &smb2.Dialer{
		Negotiator: smb2.Negotiator{RequireMessageSigning: true},
		Initiator:  &smb2.NTLMInitiator{User: l.User, Password: password, Domain: l.Domain},
	}
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	s, err := sd.DialConn(ctx, conn, l.Address())
	if err != nil {
		conn.Close()
		return nil, &Unreached{l.Address(), "sign-on", plainSMB(err)}
	}
	return &Client{link: l, password: password, session: s}, nil
}

// Close signs off.
func (c *Client) Close() { _ = c.session.Logoff() }

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
		case 0xc0000072:
			return "the account is switched off"
		case 0xc0000234:
			return "the account is locked"
		case 0xc00000cc:
			return "there is no such share"
		case 0xc0000034, 0xc000003a:
			return "it is not there"
		}
	}
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "the user may not"
	case errors.Is(err, fs.ErrNotExist):
		return "it is not there"
	}
	return err.Error()
}

const everything = smb2.OwnerSecurityInformation | smb2.GroupSecurityInformation | smb2.DACLSecurityInformation

// Scan calls fn with a share's folder and everything below it. What is behind
// a link is not followed.
func (c *Client) Scan(ctx context.Context, share string, fn func(server.Item) error) error {
	in, err := c.session.WithContext(ctx).Mount(share)
	if err != nil {
		return fmt.Errorf("share %s: %s", share, plainSMB(err))
	}
	defer func() { _ = in.Umount() }()
	in = in.WithContext(ctx)
	raw, err := in.SecurityInfoRaw("", everything)
	if err != nil {
		return fmt.Errorf("the rules of share %s's folder: %s", share, plainSMB(err))
	}
	top := server.Item{Folder: true}
	top.Rules, top.Err = rules(raw)
	if err := fn(top); err != nil {
		return err
	}
	folders := []string{""}
	for len(folders) > 0 {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		dir := folders[len(folders)-1]
		folders = folders[:len(folders)-1]
		entries, err := in.ReadDirPlus(strings.ReplaceAll(dir, "/", `\`), everything)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err := fn(server.Item{Path: dir, Folder: true, Err: fmt.Errorf("what is in it can't be seen: %s", plainSMB(err))}); err != nil {
				return err
			}
			continue
		}
		for _, e := range entries {
			name := e.Name()
			if name == "." || name == ".." || name == "" || strings.ContainsAny(name, "/\\\x00") {
				continue // no name of an item; a server that says so is not followed
			}
			x := server.Item{Path: strings.TrimPrefix(dir+"/"+name, "/"), Folder: e.IsDir(), Size: e.Size(), Modified: e.ModTime(), Err: e.Err}
			if x.Err == nil {
				x.Rules, x.Err = rules(e.RawSecurityDescriptor)
			} else {
				x.Err = errors.New(plainSMB(x.Err))
			}
			if err := fn(x); err != nil {
				return err
			}
			if x.Folder && x.Err == nil && e.Mode()&0o200000 == 0 {
				folders = append(folders, x.Path)
			}
		}
	}
	return nil
}

// rules reads a descriptor a server gave.
func rules(raw []byte) (*rule.Descriptor, error) {
	d, err := secdesc.Decode(raw)
	if err != nil {
		return nil, fmt.Errorf("the server's descriptor can't be read: %w", err)
	}
	return d, nil
}
