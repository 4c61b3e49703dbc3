package real

import (
	"encoding/json"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/server/smb"
)

// linking are the flags that link a server to a real one.
type linking struct {
	smb, user, domain string
	passwordAt        string
	encrypt, local    bool
	guest, old        bool
	patience          time.Duration
}

func (l *linking) flags(c *cobra.Command) {
	c.Flags().StringVar(&l.smb, "smb", "", "the real server, reached over SMB at `HOST[:PORT]`")
	c.Flags().StringVar(&l.user, "user", "", "the `user` to sign on as (default: the login name)")
	c.Flags().StringVar(&l.domain, "domain", "", "the user's `domain`, or realm")
	c.Flags().StringVar(&l.passwordAt, "password-at", "", "a `file` with the password in its first line, which nobody else may read: it is read from then on where nothing else says one")
	c.Flags().BoolVar(&l.local, "local", false, "the real server is this machine itself: its own trees, with modes and lists")
	c.Flags().BoolVar(&l.encrypt, "require-encryption", false, "require an encrypted connection")
	c.Flags().BoolVar(&l.guest, "guest", false, "accept a guest session, in which nothing is signed")
	c.Flags().DurationVar(&l.patience, "patience", 0, "how long to wait for one answer, as `TIME` like 30s")
	c.Flags().Lookup("patience").DefValue = smb.Answering.String() // 0 is as usual
	c.Flags().BoolVar(&l.old, "old-dialects", false, "accept SMB 2.1 to 3.0.2, whose negotiation isn't protected")
}

// keep takes what the flags don't say from how a server is linked over SMB now. Another
// user comes with their own domain, or with none.
func (l *linking) keep(c *cobra.Command, was estate.Link) error {
	if was.Kind != estate.SMBLink || l.local {
		return nil
	}
	var s smb.Link
	if err := json.Unmarshal([]byte(was.Text), &s); err != nil {
		return err
	}
	said := c.Flags().Changed
	if !said("smb") {
		l.smb = s.Address()
	}
	if !said("domain") && !said("user") {
		if l.domain = s.Domain; s.Realm != "" {
			l.domain = s.Realm
		}
	}
	if !said("user") {
		l.user = s.User
	}
	if !said("password-at") && !said("user") { // which is that user's
		l.passwordAt = s.PasswordAt
	}
	for name, is := range map[string]struct {
		flag *bool
		was  bool
	}{"require-encryption": {&l.encrypt, s.Encrypt}, "guest": {&l.guest, s.Guest}, "old-dialects": {&l.old, s.Old}} {
		if !said(name) {
			*is.flag = is.was
		}
	}
	if !said("patience") {
		l.patience = s.Patience
	}
	return nil
}

// link makes a server's link of the flags; nil where there is none.
func (l *linking) link(who string) (*estate.Link, error) {
	if l.local {
		if l.smb != "" || l.user != "" || l.domain != "" || l.passwordAt != "" || l.encrypt || l.guest || l.old {
			return nil, run.Misused("--local is this machine itself, and nobody signs on to it")
		}
		return &estate.Link{Kind: estate.LocalLink, Text: "{}"}, nil
	}
	if l.smb == "" {
		if l.user != "" || l.domain != "" || l.passwordAt != "" || l.encrypt || l.guest || l.old {
			return nil, run.Misused("--user, --domain, --password-at, --require-encryption, --guest and --old-dialects go with --smb HOST")
		}
		return nil, nil
	}
	if l.guest && l.encrypt {
		return nil, run.Misused("--guest takes a session that can't be encrypted, and --require-encryption refuses it")
	}
	user, domain := l.user, l.domain
	if d, u, ok := strings.Cut(user, `\`); ok && domain == "" { // DOMAIN\name
		domain, user = d, u
	} else if u, r, ok := strings.Cut(user, "@"); ok && domain == "" { // name@realm
		domain, user = r, u
	}
	s := smb.Link{Host: l.smb, Port: smb.DefaultPort, User: user, Domain: domain, Encrypt: l.encrypt, Guest: l.guest, Old: l.old, Patience: l.patience}
	if l.patience < 0 || l.patience > 0 && l.patience < time.Second {
		return nil, run.Misused("--patience is %s; wanted a second or more", l.patience)
	}
	if strings.Contains(domain, ".") { // a realm; its first part is what NTLM has, nearly always
		s.Realm = strings.ToUpper(domain)
		s.Domain, _, _ = strings.Cut(s.Realm, ".")
	}
	if host, port, err := net.SplitHostPort(l.smb); err == nil {
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 {
			return nil, run.Misused("%q is not a port", doc.Clip(port))
		}
		s.Host, s.Port = host, n
	}
	if s.Host == "" || strings.ContainsAny(s.Host, " /\\\x00") {
		return nil, run.Misused("%q is not a host", doc.Clip(l.smb))
	}
	if s.User == "" {
		s.User = who
	}
	var err error
	if s.PasswordAt, err = run.PasswordAt(l.passwordAt); err != nil {
		return nil, err
	}
	js, err := json.Marshal(s)
	return &estate.Link{Kind: estate.SMBLink, Text: string(js)}, err
}
