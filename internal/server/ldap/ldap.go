// Package ldap asks a directory server (RFC 4511): it signs on, reads entries
// page by page (RFC 2696), and changes a group's members where it is told to.
// Nothing else is ever written.
package ldap

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	goldap "github.com/go-ldap/ldap/v3"
	"github.com/go-ldap/ldap/v3/gssapi"
	krb "github.com/jcmturner/gokrb5/v8/client"

	"tarnwold/internal/format"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/server"
)

// The most a directory may send in one message.
const mostMessage = 256 << 20

func init() { ber.MaxPacketLengthBytes = mostMessage }

// Link is how a directory is reached. It never holds a password.
type Link struct {
	URL   string   `json:"url"` // ldap://HOST[:PORT], by StartTLS, or ldaps://HOST[:PORT]
	Bases []string `json:"bases"`
	User  string   `json:"user,omitempty"` // a distinguished name, or as the directory takes it; empty: nobody
	CA    string   `json:"ca,omitempty"`   // a file of certificates that are trusted, beside the system's own
	// Open: nothing is encrypted, so that no password is sent.
	Open   bool   `json:"open,omitempty"`
	Realm  string `json:"realm,omitempty"` // of a keytab's user
	Filter string `json:"filter,omitempty"`
	// PasswordAt is the file that the password is in; empty: it is said otherwise.
	PasswordAt string `json:"password-at,omitempty"`
	// Patience is how long it may take to sign somebody on; 0: half a minute.
	Patience time.Duration `json:"-"`
}

// Secret is what one signs on with.
type Secret = server.Secret

// Good checks a link, and gives it as it is kept.
func (l Link) Good() (Link, error) {
	u, err := url.Parse(l.URL)
	if err != nil || u.Scheme != "ldap" && u.Scheme != "ldaps" || u.Hostname() == "" || u.User != nil || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
		return l, fmt.Errorf("%q is not an address of a directory: write ldaps://HOST, or ldap://HOST", format.Clip(l.URL))
	}
	if p := u.Port(); p != "" {
		if n, err := strconv.Atoi(p); err != nil || n < 1 || n > 65535 {
			return l, fmt.Errorf("%q is not a port", format.Clip(p))
		}
	}
	l.URL = u.Scheme + "://" + u.Host
	if l.Open && u.Scheme == "ldaps" {
		return l, errors.New("ldaps:// is encrypted, and --unencrypted says that nothing is")
	}
	if len(l.Bases) == 0 {
		return l, errors.New("say below what is searched: --base dc=playhouse,dc=test")
	}
	for _, b := range l.Bases {
		if _, err := goldap.ParseDN(b); err != nil || b == "" {
			return l, fmt.Errorf("%q is not a distinguished name", format.Clip(b))
		}
	}
	if l.Filter != "" {
		if _, err := goldap.CompileFilter(l.Filter); err != nil {
			return l, fmt.Errorf("the filter %q: %w", format.Clip(l.Filter), err)
		}
	}
	return l, nil
}

func (l Link) host() string {
	u, err := url.Parse(l.URL)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

// Unreached is a directory that couldn't be asked; Step is reach, trust, sign-on
// or ask.
type Unreached struct {
	URL, Step string
	Err       error
	Do        string
	lost      bool
}

func (e *Unreached) Error() string { return fmt.Sprintf("%s: %s", e.URL, e.Err) }
func (e *Unreached) Unwrap() error { return e.Err }

// Gone tells that the connection is lost, or that the directory can't answer now: of the
// last request nothing is known then.
func (e *Unreached) Gone() bool { return e.Step == "ask" && e.lost }

// Client is a directory that is signed on to.
type Client struct {
	link Link
	conn *goldap.Conn
	stop func() bool
}

const (
	patience = 30 * time.Second
	pageSize = 500
)

// Dial reaches a directory and signs on.
func Dial(ctx context.Context, l Link, s Secret) (_ *Client, err error) {
	defer server.Asked(ctx, "sign on", "directory", l.URL, "user", l.User)(&err)
	l, err = l.Good()
	if err != nil {
		return nil, err
	}
	if l.Open && s.Password != "" && l.User != "" {
		return nil, &Unreached{URL: l.URL, Step: "sign-on", Err: errors.New("a password is not sent unencrypted"), Do: "leave out --unencrypted, or sign on by Kerberos"}
	}
	var untrusted error
	trust, err := l.trust(&untrusted)
	if err != nil {
		return nil, err
	}
	patient := cmp.Or(l.Patience, patience)
	raw, err := reach(ctx, l, trust, patient)
	if err != nil {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, failed(l, "reach", cmp.Or(untrusted, err))
	}
	// Whatever isn't answered until one is signed on ends with this; the library
	// waits for a handshake by itself for ever.
	_ = raw.SetDeadline(time.Now().Add(patient))
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	secured := strings.HasPrefix(l.URL, "ldaps:")
	conn := goldap.NewConn(raw, secured)
	conn.Start()
	conn.SetTimeout(patient)
	if !secured && !l.Open {
		if err := conn.StartTLS(trust); err != nil {
			stop()
			conn.Close()
			if ctx.Err() != nil {
				return nil, context.Cause(ctx)
			}
			return nil, failed(l, "trust", cmp.Or(untrusted, silent(err, patient)))
		}
	}
	c := &Client{link: l, conn: conn, stop: stop}
	if err := c.signOn(s); err != nil {
		c.Close()
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if s.Kerberos() && goldap.IsErrorWithCode(err, goldap.LDAPResultStrongAuthRequired) {
			return nil, &Unreached{URL: l.URL, Step: "sign-on", Err: errors.New("it takes no Kerberos within TLS"), Do: "have it allow that (SASL over TLS), or sign on with a password"}
		}
		return nil, failed(l, "sign-on", silent(err, patient))
	}
	_ = raw.SetDeadline(time.Time{})
	conn.SetTimeout(2 * patience)
	return c, nil
}

// reach opens the connection, encrypted where the directory is reached so.
func reach(ctx context.Context, l Link, trust *tls.Config, patient time.Duration) (net.Conn, error) {
	u, err := url.Parse(l.URL)
	if err != nil {
		return nil, err
	}
	d := &net.Dialer{Timeout: patient}
	port := map[string]string{"ldap": goldap.DefaultLdapPort, "ldaps": goldap.DefaultLdapsPort}[u.Scheme]
	address := net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), port))
	if u.Scheme == "ldaps" {
		ctx, stop := context.WithTimeout(ctx, patient)
		defer stop()
		conn, err := (&tls.Dialer{NetDialer: d, Config: trust}).DialContext(ctx, "tcp", address)
		return conn, silent(err, patient)
	}
	return d.DialContext(ctx, "tcp", address)
}

// silent says in words that a directory doesn't answer.
func silent(err error, patient time.Duration) error {
	var slow net.Error
	if errors.As(err, &slow) && slow.Timeout() {
		return fmt.Errorf("it has not answered for %v", patient)
	}
	return err
}

// trust says which certificates are taken: by crypto/x509 as crypto/tls would
// itself, but that why one isn't is told in untrusted, which a handshake begun by
// StartTLS keeps to itself.
func (l Link) trust(untrusted *error) (*tls.Config, error) {
	var roots *x509.CertPool // nil: the system's
	conf := &tls.Config{ServerName: l.host(), MinVersion: tls.VersionTLS12, InsecureSkipVerify: true}
	conf.VerifyConnection = func(s tls.ConnectionState) error {
		by := x509.VerifyOptions{Roots: roots, DNSName: l.host(), Intermediates: x509.NewCertPool()}
		for _, c := range s.PeerCertificates[1:] {
			by.Intermediates.AddCert(c)
		}
		_, *untrusted = s.PeerCertificates[0].Verify(by)
		return *untrusted
	}
	if l.CA == "" {
		return conf, nil
	}
	text, err := os.ReadFile(l.CA)
	if err != nil {
		return nil, err
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if err := trusted(pool, text); err != nil {
		return nil, fmt.Errorf("%s %w", l.CA, err)
	}
	roots = pool
	return conf, nil
}

const (
	negativeSerial = "negative serial number"
	negativeWords  = "has a negative serial number, which RFC 5280 §4.1.2.2 doesn't allow"
)

// trusted puts the certificates of a file into a pool, and says why one can't be used:
// AppendCertsFromPEM passes over it.
func trusted(pool *x509.CertPool, text []byte) error {
	some := false
	for rest := text; ; {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			break
		}
		if b.Type != "CERTIFICATE" {
			continue
		}
		c, err := x509.ParseCertificate(b.Bytes)
		switch {
		case err != nil && strings.Contains(err.Error(), negativeSerial):
			return errors.New("has a certificate that " + negativeWords + ": have it issued anew")
		case err != nil:
			return fmt.Errorf("has a certificate that can't be read: %w", err)
		}
		pool.AddCert(c)
		some = true
	}
	if !some {
		return errors.New("holds no certificate in PEM")
	}
	return nil
}

// failed says in words why a directory couldn't be asked, and what to do.
func failed(l Link, step string, err error) error {
	out := &Unreached{URL: l.URL, Step: step, Err: err, lost: lost(err)}
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var result *goldap.Error
	var netErr *net.OpError
	switch {
	case errors.As(err, &unknown):
		out.Step, out.Err = "trust", errors.New("its certificate is signed by nobody who is trusted here")
		out.Do = "name the file of who signed it: --ca FILE; it is never taken unchecked"
	case errors.As(err, &name):
		out.Step, out.Err = "trust", fmt.Errorf("its certificate is not for %s: %s", l.host(), certified(name.Certificate))
		out.Do = "reach it by a name that its certificate has"
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		out.Step, out.Err = "trust", fmt.Errorf("its certificate is valid from %s to %s, and not now", day(invalid.Cert.NotBefore), day(invalid.Cert.NotAfter))
		out.Do = "give it a new one, or set this machine's clock right"
	case errors.As(err, &invalid):
		out.Step, out.Err = "trust", fmt.Errorf("its certificate can't be trusted: %w", invalid)
	case strings.Contains(err.Error(), negativeSerial): // crypto/x509 has no type for it
		out.Step, out.Err = "trust", errors.New("its certificate, or that of who signed it, "+negativeWords)
		out.Do = "have it issued anew"
	case errors.As(err, &result) && result.ResultCode == goldap.LDAPResultInvalidCredentials:
		out.Err, out.Do = errors.New("it refuses the user or the password"), "look at --user, which is a distinguished name, or NAME@REALM at a domain"
	case errors.As(err, &result) && result.ResultCode == goldap.LDAPResultStrongAuthRequired:
		out.Err, out.Do = errors.New("it requires encryption"), "use ldaps://, or ldap:// without --unencrypted"
	case errors.As(err, &result) && result.ResultCode == goldap.LDAPResultInsufficientAccessRights:
		out.Err, out.Do = errors.New("it doesn't let this user do that"), "sign on as one who may"
	case errors.As(err, &result) && result.ResultCode == goldap.LDAPResultNoSuchObject:
		out.Err, out.Do = fmt.Errorf("there is nothing at %s", strings.Join(l.Bases, ", ")), "look at --base; what there is: its rootDSE's namingContexts"
	case errors.As(err, &result) && result.ResultCode == goldap.LDAPResultSizeLimitExceeded:
		out.Err, out.Do = errors.New("it stops at its size limit"), "have the limit raised for this user, or ask for less with --base or --filter"
	case errors.As(err, &netErr):
		out.Err = netErr
	case errors.Is(err, io.EOF):
		out.Err = errors.New("it closed the connection")
	}
	return out
}

// lost tells whether an error means that the connection is, or that the directory can't
// answer now (RFC 4511 appendix A).
func lost(err error) bool {
	var netErr *net.OpError
	return errors.As(err, &netErr) || errors.Is(err, io.EOF) ||
		goldap.IsErrorAnyOf(err, goldap.ErrorNetwork, goldap.LDAPResultBusy, goldap.LDAPResultUnavailable, goldap.LDAPResultTimeLimitExceeded)
}

func certified(c *x509.Certificate) string {
	if c == nil {
		return "it has no name"
	}
	names := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	if len(names) == 0 {
		return "it has no name that counts"
	}
	return "it is for " + format.Clip(strings.Join(names, ", "))
}

func day(t time.Time) string { return t.Local().Format("2006-01-02") }

// signOn binds: by Kerberos (RFC 4752), by a password, or as nobody.
func (c *Client) signOn(s Secret) error {
	switch {
	case s.Kerberos():
		var k *gssapi.Client
		var err error
		if s.Keytab != "" {
			k, err = gssapi.NewClientWithKeytab(c.link.User, c.link.Realm, s.Keytab, s.Krb5(), krb.DisablePAFXFAST(true))
		} else {
			k, err = gssapi.NewClientFromCCache(s.Cache, s.Krb5(), krb.DisablePAFXFAST(true))
		}
		if err != nil {
			return err
		}
		defer k.Close()
		return c.conn.GSSAPIBind(k, "ldap/"+c.link.host(), "")
	case c.link.User == "":
		return c.conn.UnauthenticatedBind("")
	case s.Password == "": // it would be taken for nobody, and succeed (RFC 4513 §5.1.2)
		return errors.New("an empty password signs nobody on")
	}
	return c.conn.Bind(c.link.User, s.Password)
}

// Close ends the connection.
func (c *Client) Close() {
	c.stop()
	c.conn.Close()
}

// Told is what a search told beside entries.
type Told struct {
	Entries   int
	Referrals []string // places elsewhere that it names; they are not followed
}

// Entries calls fn with every entry below the link's bases that a filter finds,
// with some of its attributes whole.
func (c *Client) Entries(ctx context.Context, filter string, attrs []string, fn func(*shape.Entry) error) (told Told, err error) {
	defer server.Asked(ctx, "read entries", "directory", c.link.URL, "filter", filter)(&err)
	if c.link.Filter != "" {
		filter = "(&" + c.link.Filter + filter + ")"
	}
	for _, base := range c.link.Bases {
		page := goldap.NewControlPaging(pageSize)
		for {
			req := goldap.NewSearchRequest(base, goldap.ScopeWholeSubtree, goldap.NeverDerefAliases, 0, 0, false, filter, attrs, []goldap.Control{page})
			got, err := c.conn.Search(req)
			if ctx.Err() != nil {
				return told, context.Cause(ctx)
			}
			if err != nil {
				return told, failed(c.link, "ask", err)
			}
			told.Referrals = append(told.Referrals, got.Referrals...)
			for _, e := range got.Entries {
				told.Entries++
				x, err := c.entry(e)
				if err == nil {
					err = fn(x)
				}
				if err != nil {
					return told, err
				}
			}
			next, ok := goldap.FindControl(got.Controls, goldap.ControlTypePaging).(*goldap.ControlPaging)
			if !ok || len(next.Cookie) == 0 {
				break
			}
			page.SetCookie(next.Cookie)
		}
	}
	return told, nil
}

// entry takes an entry, and asks for the rest of attributes that are told in
// parts ([MS-ADTS] §3.1.1.3.1.3.3).
func (c *Client) entry(e *goldap.Entry) (*shape.Entry, error) {
	x := &shape.Entry{DN: e.DN, Attrs: make(shape.Attrs, 0, len(e.Attributes))}
	for _, a := range e.Attributes {
		name, options, _ := strings.Cut(a.Name, ";")
		name = strings.ToLower(name)
		lo, hi, ranged := strings.Cut(strings.TrimPrefix(strings.ToLower(options), "range="), "-")
		if !ranged || !strings.HasPrefix(strings.ToLower(options), "range=") {
			x.Attrs.Set(name, append(x.Attrs.Of(name), a.Values...))
			continue
		}
		values := a.Values
		for hi != "*" {
			n, err := strconv.Atoi(hi)
			if err != nil || len(a.Values) == 0 {
				return nil, fmt.Errorf("%s: %s is told from %s to %s, which is not part of it", e.DN, name, format.Clip(lo), format.Clip(hi))
			}
			more, err := c.conn.Search(goldap.NewSearchRequest(e.DN, goldap.ScopeBaseObject, goldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)", []string{fmt.Sprintf("%s;range=%d-*", name, n+1)}, nil))
			if err != nil {
				return nil, failed(c.link, "ask", err)
			}
			hi = "*"
			for _, e := range more.Entries {
				for _, m := range e.Attributes {
					if _, o, ok := strings.Cut(strings.ToLower(m.Name), ";range="); ok && len(m.Values) > 0 {
						values = append(values, m.Values...)
						_, hi, _ = strings.Cut(o, "-")
					}
				}
			}
		}
		x.Attrs.Set(name, append(x.Attrs.Of(name), values...))
	}
	return x, nil
}

// One reads one entry.
func (c *Client) One(ctx context.Context, dn string, attrs ...string) (_ *shape.Entry, err error) {
	defer server.Asked(ctx, "read entry", "directory", c.link.URL, "entry", dn)(&err)
	got, err := c.conn.Search(goldap.NewSearchRequest(dn, goldap.ScopeBaseObject, goldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)", attrs, nil))
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if err != nil {
		return nil, failed(c.link, "ask", err)
	}
	if len(got.Entries) != 1 {
		return nil, &Unreached{URL: c.link.URL, Step: "ask", Err: fmt.Errorf("there is no %s", format.Clip(dn))}
	}
	return c.entry(got.Entries[0])
}

// Domain is what a domain calls itself.
type Domain struct{ Name, Realm string }

// Domain tells what a domain calls itself, where the directory is one.
func (c *Client) Domain(ctx context.Context) (d Domain, err error) {
	root, err := c.One(ctx, "", "defaultNamingContext", "configurationNamingContext")
	if err != nil {
		return d, err
	}
	first := func(e *shape.Entry, a string) string {
		if v := e.Attrs.Of(a); len(v) > 0 {
			return v[0]
		}
		return ""
	}
	base, conf := first(root, "defaultnamingcontext"), first(root, "configurationnamingcontext")
	if base == "" || conf == "" {
		return d, nil
	}
	got, err := c.conn.Search(goldap.NewSearchRequest("CN=Partitions,"+conf, goldap.ScopeSingleLevel, goldap.NeverDerefAliases, 10, 0, false,
		"(&(nETBIOSName=*)(nCName="+goldap.EscapeFilter(base)+"))", []string{"nETBIOSName", "dnsRoot"}, nil))
	if err != nil {
		return d, failed(c.link, "ask", err)
	}
	for _, e := range got.Entries {
		d.Name, d.Realm = e.GetAttributeValue("nETBIOSName"), strings.ToUpper(e.GetAttributeValue("dnsRoot"))
	}
	return d, nil
}

// Members changes who is listed in a group's attribute.
func (c *Client) Members(ctx context.Context, group, attr string, add, drop []string) (err error) {
	defer server.Asked(ctx, "change members", "directory", c.link.URL, "group", group, "add", add, "drop", drop)(&err)
	req := goldap.NewModifyRequest(group, nil)
	if len(add) > 0 {
		req.Add(attr, add)
	}
	if len(drop) > 0 {
		req.Delete(attr, drop)
	}
	err = c.conn.Modify(req)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if goldap.IsErrorAnyOf(err, goldap.LDAPResultAttributeOrValueExists, goldap.LDAPResultNoSuchAttribute) {
		return server.ErrChanged
	}
	if err != nil {
		return failed(c.link, "ask", err)
	}
	return nil
}
