package smb

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"github.com/oiweiwei/go-msrpc/dcerpc"
	"github.com/oiweiwei/go-msrpc/msrpc/dtyp"
	_ "github.com/oiweiwei/go-msrpc/msrpc/erref/ntstatus" // statuses in words
	_ "github.com/oiweiwei/go-msrpc/msrpc/erref/win32"
	"github.com/oiweiwei/go-msrpc/msrpc/lsat/lsarpc/v0"
	"github.com/oiweiwei/go-msrpc/msrpc/srvs/srvsvc/v3"
	"github.com/oiweiwei/go-msrpc/ssp/gssapi"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/server"
)

// pipe opens one of the server's services over a named pipe, within the
// session that stands already ([MS-RPCE] §2.1.1.2): it is signed on, signed and
// encrypted as that is.
func (c *Client) pipe(ctx context.Context, name string) (context.Context, dcerpc.Conn, error) {
	ctx = gssapi.NewSecurityContext(ctx) // the services ask for no more
	conn, err := dcerpc.Dial(ctx, c.link.Host, dcerpc.WithEndpoint("ncacn_ip_tcp:[1]"), dcerpc.WithDialer(pipes{c, name}), dcerpc.WithTimeout(min(patience, c.patience())))
	return ctx, conn, err
}

// grace is how long a service is given to end by itself once its context has.
const grace = time.Second

var errTripped = fmt.Errorf("the server's answer can't be read: %w", io.ErrUnexpectedEOF)

// inTime lets no call of a service outlast its context: a call made when the
// library's transport has ended already would wait for ever. What comes too
// late is left behind.
func inTime[T any](ctx context.Context, fn func(context.Context) (T, error)) (T, error) {
	type got struct {
		v   T
		err error
	}
	done := make(chan got, 1)
	go func() {
		var r got
		defer func() {
			if p := recover(); p != nil { // what the libraries trip over in a broken answer
				r.err = errTripped
			}
			done <- r
		}()
		r.v, r.err = fn(ctx)
	}()
	select {
	case r := <-done:
		return r.v, r.err
	case <-ctx.Done():
	}
	select {
	case r := <-done:
		return r.v, r.err
	case <-time.After(grace):
		var none T
		return none, context.Cause(ctx)
	}
}

// pipes opens a named pipe in the place of a TCP connection: what goes over
// either is the same.
type pipes struct {
	c    *Client
	name string
}

func (p pipes) DialContext(ctx context.Context, _, _ string) (net.Conn, error) {
	in, err := p.c.mount(ctx, "IPC$")
	if err != nil {
		return nil, err
	}
	f, err := p.c.openPipe(in, p.name)
	if err != nil {
		p.c.leave(in)
		return nil, p.c.failed(err)
	}
	return &pipeConn{c: p.c, f: f, in: in, host: p.c.link.Address()}, nil
}

func (c *Client) openPipe(in *smb2.Share, name string) (f *smb2.File, err error) {
	defer broken(&err)
	defer c.watched()()
	return in.OpenFile(name, os.O_RDWR, 0)
}

// pipeConn is a named pipe as a connection.
type pipeConn struct {
	c    *Client
	f    *smb2.File
	in   *smb2.Share
	host string
	rest []byte
	buf  [64 << 10]byte
}

func (p *pipeConn) Read(b []byte) (_ int, err error) {
	defer broken(&err)
	defer p.c.watched()()
	if len(p.rest) == 0 { // a message at a time
		n, err := p.f.ReadAt(p.buf[:], 0)
		if err != nil {
			return 0, err
		}
		p.rest = p.buf[:n]
	}
	n := copy(b, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}

func (p *pipeConn) Write(b []byte) (_ int, err error) {
	defer broken(&err)
	defer p.c.watched()()
	return p.f.WriteAt(b, 0)
}

func (p *pipeConn) Close() (err error) {
	defer broken(&err)
	defer p.c.watched()()
	err = p.f.Close()
	_ = p.in.Umount()
	return err
}

// broken makes an error of what the library trips over, on whatever goroutine.
func broken(err *error) {
	if p := recover(); p != nil {
		*err = errTripped
	}
}

func (p *pipeConn) LocalAddr() net.Addr              { return pipeAddr(p.host) }
func (p *pipeConn) RemoteAddr() net.Addr             { return pipeAddr(p.host) }
func (p *pipeConn) SetDeadline(time.Time) error      { return nil }
func (p *pipeConn) SetReadDeadline(time.Time) error  { return nil }
func (p *pipeConn) SetWriteDeadline(time.Time) error { return nil }

type pipeAddr string

func (pipeAddr) Network() string  { return "pipe" }
func (p pipeAddr) String() string { return string(p) }

// The kinds of shares that hold folders, [MS-SRVS] §2.2.2.4; those of the
// system's own have the highest bit.
const diskShare = 0

// Shares lists the shares with their rules ([MS-SRVS] §3.1.4.8, level 502).
func (c *Client) Shares(ctx context.Context) (_ []server.Share, err error) {
	defer server.Asked(ctx, "read shares", "server", c.link.Address())(&err)
	return inTime(ctx, c.shares502)
}

func (c *Client) shares502(ctx context.Context) (out []server.Share, err error) {
	ctx, conn, err := c.pipe(ctx, "srvsvc")
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	cli, err := srvsvc.NewSrvsvcClient(ctx, conn, dcerpc.WithInsecure())
	if err != nil {
		return nil, err
	}
	r, err := cli.ShareEnum(ctx, &srvsvc.ShareEnumRequest{Info: &srvsvc.ShareEnum{Level: 502,
		ShareInfo: &srvsvc.ShareEnumUnion{Value: &srvsvc.ShareEnumUnion_Level502{Level502: &srvsvc.ShareInfo502Container{}}}}, PreferredMaximumLength: 0xffffffff})
	if err != nil {
		return nil, err
	}
	all, ok := r.Info.ShareInfo.Value.(*srvsvc.ShareEnumUnion_Level502)
	if !ok || all.Level502 == nil {
		return nil, fmt.Errorf("the server's list of shares can't be read")
	}
	for _, x := range all.Level502.Buffer {
		if x == nil || x.Type != diskShare {
			continue
		}
		s := server.Share{Name: x.NetworkName, Folder: folder(x.Path)}
		if len(x.SecurityDescriptor) > 0 {
			if s.Rules, err = rules(x.SecurityDescriptor); err != nil {
				return nil, fmt.Errorf("share %s: %w", x.NetworkName, err)
			}
		} else {
			s.Rules = openRules()
		}
		out = append(out, s)
	}
	c.switches(ctx, out)
	return out, nil
}

// posixServer is the mark of a server on a POSIX system ([MS-SRVS] §2.2.2.7,
// SV_TYPE_XENIX_SERVER).
const posixServer = 0x800

// OnPOSIX tells whether the server says that it stands on a POSIX system ([MS-SRVS]
// §3.1.4.17, level 101); told is false where it says nothing of itself.
func (c *Client) OnPOSIX(ctx context.Context) (yes, told bool) {
	type answer struct{ yes, told bool }
	a, err := inTime(ctx, func(ctx context.Context) (a answer, err error) {
		ctx, conn, err := c.pipe(ctx, "srvsvc")
		if err != nil {
			return a, err
		}
		defer conn.Close(ctx)
		cli, err := srvsvc.NewSrvsvcClient(ctx, conn, dcerpc.WithInsecure())
		if err != nil {
			return a, err
		}
		r, err := cli.GetInfo(ctx, &srvsvc.GetInfoRequest{Level: 101})
		if err != nil {
			return a, err
		}
		if x, ok := r.Info.Value.(*srvsvc.ServerInfo_101); ok && x.ServerInfo101 != nil {
			a = answer{x.ServerInfo101.VersionType&posixServer != 0, true}
		}
		return a, nil
	})
	return a.yes, err == nil && a.told
}

// switches finds which shares are switched to read-only. The protocol doesn't
// tell it; but where the rules let everyone delete what is in a folder, and the
// connection doesn't, the switch is what is left: that right no privilege lets through
// it, as restoring does writing. To the administrators of some servers rules that don't
// give everything give nothing; then it isn't told (all of it measured).
func (c *Client) switches(ctx context.Context, shares []server.Share) {
	x, err := DialExact(ctx, c.link, c.secret)
	if err != nil {
		return // what isn't told stays as the estate has it
	}
	defer x.Close()
	for i := range shares {
		s := &shares[i]
		most, err := x.Most(s.Name)
		if err != nil {
			continue
		}
		switch takesOut, all := everyonesRights(s.Rules); {
		case most.Has(right.DeleteChild):
			s.Told, s.ReadOnly = true, false
		case takesOut && (all || most&right.All != byPrivileges):
			s.Told, s.ReadOnly = true, true
		}
	}
}

// byPrivileges is what backup and restore let through a share together.
const byPrivileges = right.All &^ right.DeleteChild

// everyonesRights tells whether a share's rules let everyone delete what is in a folder,
// and whether they give everyone everything.
func everyonesRights(d *rule.Descriptor) (takesOut, all bool) {
	for _, e := range d.Rules.Entries {
		if e.Kind != rule.Allow {
			return false, false
		}
		if e.Who == account.Everyone {
			takesOut = takesOut || e.Rights.Map().Has(right.DeleteChild)
			all = all || e.Rights.Map().Has(right.All)
		}
	}
	return takesOut, all
}

// ShareRules reads one share's rules now ([MS-SRVS] §3.1.4.10, level 502).
func (c *Client) ShareRules(ctx context.Context, share string) (_ *rule.Descriptor, err error) {
	defer server.Asked(ctx, "read share rules", "server", c.link.Address(), "share", share)(&err)
	return inTime(ctx, func(ctx context.Context) (*rule.Descriptor, error) { return c.share502(ctx, share) })
}

func (c *Client) share502(ctx context.Context, share string) (*rule.Descriptor, error) {
	ctx, conn, err := c.pipe(ctx, "srvsvc")
	if err != nil {
		return nil, c.failed(err)
	}
	defer conn.Close(ctx)
	cli, err := srvsvc.NewSrvsvcClient(ctx, conn, dcerpc.WithInsecure())
	if err != nil {
		return nil, err
	}
	r, err := cli.ShareGetInfo(ctx, &srvsvc.ShareGetInfoRequest{NetName: share, Level: 502})
	if err != nil {
		return nil, fmt.Errorf("the rules of share %s: %w", share, err)
	}
	x, ok := r.Info.Value.(*srvsvc.ShareInfo_502)
	if !ok || x.ShareInfo502 == nil {
		return nil, fmt.Errorf("the rules of share %s: they can't be read as the server gave them", share)
	}
	if len(x.ShareInfo502.SecurityDescriptor) == 0 {
		return openRules(), nil
	}
	return rules(x.ShareInfo502.SecurityDescriptor)
}

// openRules are those of a share whose server tells none: it limits nobody.
func openRules() *rule.Descriptor {
	return &rule.Descriptor{Control: rule.RulesPresent, Audit: rule.Rules{Absent: true},
		Rules: rule.Rules{Entries: []rule.Entry{{Kind: rule.Allow, Rights: right.All, Who: account.Everyone}}}}
}

// setShareRules sets one share's rules ([MS-SRVS] §3.1.4.11, level 1501).
func (c *Client) setShareRules(ctx context.Context, share string, d *rule.Descriptor) error {
	_, err := inTime(ctx, func(ctx context.Context) (struct{}, error) { return struct{}{}, c.setShare1501(ctx, share, d) })
	return err
}

func (c *Client) setShare1501(ctx context.Context, share string, d *rule.Descriptor) error {
	b, err := secdesc.Encode(d)
	if err != nil {
		return err
	}
	ctx, conn, err := c.pipe(ctx, "srvsvc")
	if err != nil {
		return c.failed(err)
	}
	defer conn.Close(ctx)
	cli, err := srvsvc.NewSrvsvcClient(ctx, conn, dcerpc.WithInsecure())
	if err != nil {
		return err
	}
	_, err = cli.ShareSetInfo(ctx, &srvsvc.ShareSetInfoRequest{NetName: share, Level: 1501,
		ShareInfo: &srvsvc.ShareInfo{Value: &srvsvc.ShareInfo_1501{ShareInfo1501: &srvsvc.ShareInfo1501I{SecurityDescriptor: b}}}})
	if err != nil {
		return fmt.Errorf("the rules of share %s: %w", share, err)
	}
	return nil
}

// folder writes a share's path as the server's own: C:\ is its root, another
// drive a folder of that name.
func folder(path string) string {
	p := strings.ReplaceAll(path, `\`, "/")
	if len(p) > 1 && p[1] == ':' {
		drive := strings.ToUpper(p[:1])
		p = p[2:]
		if drive != "C" {
			p = "/" + drive + ":" + p
		}
	}
	p = "/" + strings.Trim(p, "/")
	return p
}

// Names looks up what identifiers are called ([MS-LSAT] §3.1.4.11).
func (c *Client) Names(ctx context.Context, ids []account.ID) (_ []server.Account, err error) {
	defer server.Asked(ctx, "look up names", "server", c.link.Address(), "identifiers", len(ids))(&err)
	return inTime(ctx, func(ctx context.Context) ([]server.Account, error) { return c.called(ctx, ids) })
}

func (c *Client) called(ctx context.Context, ids []account.ID) (out []server.Account, err error) {
	ctx, conn, err := c.pipe(ctx, "lsarpc")
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	cli, err := lsarpc.NewLsarpcClient(ctx, conn, dcerpc.WithInsecure())
	if err != nil {
		return nil, err
	}
	policy, err := cli.OpenPolicy2(ctx, &lsarpc.OpenPolicy2Request{ObjectAttributes: &lsarpc.ObjectAttributes{}, DesiredAccess: 0x02000000})
	if err != nil {
		return nil, err
	}
	const most = 500
	for len(ids) > 0 {
		part := ids[:min(len(ids), most)]
		ids = ids[len(part):]
		ask := &lsarpc.SIDEnumBuffer{Entries: uint32(len(part))}
		for _, id := range part {
			sid, err := dtyp.ParseSID(id.String())
			if err != nil {
				return nil, err
			}
			ask.SIDInfo = append(ask.SIDInfo, &lsarpc.SIDInformation{SID: sid})
		}
		r, err := cli.LookupSIDs(ctx, &lsarpc.LookupSIDsRequest{Policy: policy.Policy, SIDEnumBuffer: ask, TranslatedNames: &lsarpc.TranslatedNames{}, LookupLevel: 1})
		if r == nil || r.TranslatedNames == nil {
			if err != nil {
				return nil, err
			}
			continue
		}
		for i, n := range r.TranslatedNames.Names {
			if i >= len(part) || n == nil {
				break
			}
			a := server.Account{ID: part[i], Name: text(n.Name)}
			if d := r.ReferencedDomains; d != nil && n.DomainIndex >= 0 && int(n.DomainIndex) < len(d.Domains) && d.Domains[n.DomainIndex] != nil {
				a.Domain = text(d.Domains[n.DomainIndex].Name)
			}
			switch n.Use { // SID_NAME_USE, [MS-LSAT] §2.2.13
			case 1:
				a.Kind = account.User
			case 2, 4:
				a.Kind = account.Group
			default:
				continue
			}
			out = append(out, a)
		}
	}
	return out, nil
}

func text(s *dtyp.UnicodeString) string {
	if s == nil {
		return ""
	}
	return s.Buffer
}

func identifier(sid *dtyp.SID) (account.ID, error) {
	if sid == nil {
		return account.ID{}, fmt.Errorf("the server gave no identifier where one has to be")
	}
	return account.ParseID(sid.String())
}
