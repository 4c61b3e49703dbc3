package smb

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/server"
)

// The parts of a descriptor that are set beside those the library names
// ([MS-DTYP] §2.4.7): whether the list takes entries from above.
const (
	protected   smb2.SecurityInformationRequestFlags = 0x80000000
	unprotected smb2.SecurityInformationRequestFlags = 0x20000000
)

// Look reads one item of a share as it is now.
func (c *Client) Look(ctx context.Context, share, path string, audit bool) (_ server.Item, err error) {
	defer server.Asked(ctx, "read rules", "server", c.link.Address(), "share", share, "path", path)(&err)
	defer c.tripped(&err)
	defer c.watched()()
	in, err := c.kept(ctx, share)
	if err != nil {
		return server.Item{}, err
	}
	name := strings.ReplaceAll(path, "/", `\`)
	x := server.Item{Path: path, Folder: true}
	var mark rule.Mark
	if path != "" {
		info, err := in.Lstat(name)
		if err != nil {
			return x, c.failed(err)
		}
		mark = markOf(info)
		x.Folder, x.Size, x.Modified = info.IsDir(), info.Size(), info.ModTime()
	}
	d, err := c.raw(in, path, audit)
	if err == nil {
		d.Mark = mark
		x.Rules = d
	}
	return x, err
}

// raw reads the descriptor of an item of a share.
func (c *Client) raw(in *smb2.Share, path string, audit bool) (*rule.Descriptor, error) {
	parts := everything
	if audit {
		parts |= smb2.SACLSecurityInformation
	}
	raw, err := in.SecurityInfoRaw(strings.ReplaceAll(path, "/", `\`), parts)
	if err != nil {
		return nil, c.failed(err)
	}
	return rules(raw)
}

// Settles is how long a write may be overwritten by who looked before it. From
// looking to setting it takes three trips to the server and back.
func (c *Client) Settles() time.Duration { return settles }

const settles = 300 * time.Millisecond

// Write sets those parts of a descriptor that are others than before. There is
// no call that sets a descriptor only where it is what it was ([MS-SMB2]
// §2.2.39 has none): it is looked at, and set directly after.
func (c *Client) Write(ctx context.Context, w server.Writing) (err error) {
	defer server.Asked(ctx, "write rules", "server", c.link.Address(), "share", w.Share, "path", w.Path, "of-the-share", w.OfShare)(&err)
	defer c.tripped(&err)
	defer c.watched()()
	to, ok := w.To.(*rule.Descriptor)
	before, also := w.Before.(*rule.Descriptor)
	if !ok || !also {
		return errors.New("an SMB server takes security descriptors alone")
	}
	if w.OfShare {
		now, err := c.ShareRules(ctx, w.Share)
		if err == nil && !before.Same(now) {
			err = server.ErrChanged
		}
		if err != nil {
			return err
		}
		return c.setShareRules(ctx, w.Share, to)
	}
	in, err := c.kept(ctx, w.Share)
	if err != nil {
		return err
	}
	var parts smb2.SecurityInformationRequestFlags
	if before.Owner != to.Owner {
		parts |= smb2.OwnerSecurityInformation
	}
	if before.Group != to.Group {
		// The library opens for that without asking for write-owner, which it needs as an
		// owner does ([MS-FSA] §2.1.5.17): the owner is set to what it is.
		parts |= smb2.GroupSecurityInformation | smb2.OwnerSecurityInformation
	}
	if !before.Audit.Equal(&to.Audit) {
		parts |= smb2.SACLSecurityInformation
	}
	if !before.Rules.Equal(&to.Rules) || before.Control&dacl != to.Control&dacl {
		parts |= smb2.DACLSecurityInformation
		if to.Sealed() {
			parts |= protected
		} else {
			parts |= unprotected
		}
	}
	if parts == 0 {
		return nil
	}
	set := to.Clone()
	if parts&smb2.SACLSecurityInformation == 0 {
		set.Audit = rule.Rules{Absent: true}
		set.Control &^= rule.AuditPresent | rule.AuditSealed
	}
	// A list is kept as one that follows only where that is asked for beside
	// ([MS-DTYP] §2.4.6, DR and DI).
	if set.Control&rule.RulesFollow != 0 {
		set.Control |= rule.RulesInheritAsked
	}
	b, err := secdesc.Encode(set)
	if err != nil {
		return err
	}
	now, err := c.raw(in, w.Path, w.Audits())
	if err != nil {
		return err
	}
	if !server.Same(before, now, w.Audits()) {
		return server.ErrChanged
	}
	if err := in.SetSecurityInfoRaw(strings.ReplaceAll(w.Path, "/", `\`), parts, blob(b)); err != nil {
		return c.failed(err)
	}
	return nil
}

// MayWrite tells whether the rules of an item can be written: it is opened for
// that, and closed again.
func (c *Client) MayWrite(ctx context.Context, share, path string) error {
	if c.secret.Kerberos() || c.link.Encrypt {
		return errors.New("not tried: it takes a password, and a connection that needn't be encrypted")
	}
	x, err := DialExact(ctx, c.link, c.secret)
	if err != nil {
		return err
	}
	defer x.Close()
	s, err := x.Try(share, path, right.WriteACL)
	if err == nil && s != 0 {
		err = s
	}
	return err
}

// blob is a descriptor in its binary form.
type blob []byte

func (b blob) Encode(to []byte) { copy(to, b) }
func (b blob) Size() int        { return len(b) }

// failed puts an error into words, keeping whether the server is gone.
func (c *Client) failed(err error) error {
	if lost(err) {
		return c.gone(err)
	}
	if why := plainSMB(err); why != server.ErrNotThere.Error() {
		return errors.New(why)
	}
	return server.ErrNotThere
}

// Gone is a server that was signed on to and isn't there any more.
type Gone struct {
	Address string `json:"address"`
	Why     string `json:"why"`
}

func (e *Gone) Error() string { return fmt.Sprintf("%s went away: %s", e.Address, e.Why) }

// gone tells why a server isn't there any more.
func (c *Client) gone(err error) *Gone {
	if c.silent.Load() {
		return &Gone{c.link.Address(), fmt.Sprintf("it has not answered for %v", c.patience())}
	}
	return &Gone{c.link.Address(), plainSMB(err)}
}

// Gone tells that the connection is lost, and nothing is known of the last request.
func (e *Gone) Gone() bool { return true }
