package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/report"
	"tarnwold/internal/server"
	"tarnwold/internal/server/local"
	"tarnwold/internal/server/smb"
)

// linking are the flags that link a server to a real one.
type linking struct {
	smb, user, domain string
	encrypt, local    bool
	guest, old        bool
	patience          time.Duration
}

func (l *linking) flags(c *cobra.Command) {
	c.Flags().StringVar(&l.smb, "smb", "", "the real server, reached over SMB at `HOST[:PORT]`")
	c.Flags().StringVar(&l.user, "user", "", "the `user` to sign on as (default: the login name)")
	c.Flags().StringVar(&l.domain, "domain", "", "the user's `domain`, or realm")
	c.Flags().BoolVar(&l.local, "local", false, "the real server is this machine itself: its own trees, with modes and lists")
	c.Flags().BoolVar(&l.encrypt, "require-encryption", false, "speak to it encrypted, or not at all")
	c.Flags().BoolVar(&l.guest, "guest", false, "a guest's session will do, in which nothing is signed")
	c.Flags().DurationVar(&l.patience, "patience", 0, "how long the server may take over one answer, as `TIME` like 30s")
	c.Flags().Lookup("patience").DefValue = smb.Answering.String() // 0 is as usual
	c.Flags().BoolVar(&l.old, "old-dialects", false, "SMB 2.1 to 3.0.2 will do, in which nobody vouches for the negotiation")
}

// link makes a server's link of the flags; nil where there is none.
func (l *linking) link(who string) (*estate.Link, error) {
	if l.local {
		if l.smb != "" || l.user != "" || l.domain != "" || l.encrypt || l.guest || l.old {
			return nil, misused("--local is this machine itself, and nobody signs on to it")
		}
		return &estate.Link{Kind: plan.LocalKind, Text: "{}"}, nil
	}
	if l.smb == "" {
		if l.user != "" || l.domain != "" || l.encrypt || l.guest || l.old {
			return nil, misused("--user, --domain, --require-encryption, --guest and --old-dialects go with --smb HOST")
		}
		return nil, nil
	}
	if l.guest && l.encrypt {
		return nil, misused("--guest takes a session that can't be encrypted, and --require-encryption refuses it")
	}
	user, domain := l.user, l.domain
	if d, u, ok := strings.Cut(user, `\`); ok && domain == "" { // DOMAIN\name
		domain, user = d, u
	} else if u, r, ok := strings.Cut(user, "@"); ok && domain == "" { // name@realm
		domain, user = r, u
	}
	s := smb.Link{Host: l.smb, Port: smb.DefaultPort, User: user, Domain: domain, Encrypt: l.encrypt, Guest: l.guest, Old: l.old, Patience: l.patience}
	if l.patience < 0 || l.patience > 0 && l.patience < time.Second {
		return nil, misused("--patience is %s; wanted a second or more", l.patience)
	}
	if strings.Contains(domain, ".") { // a realm; its first part is what NTLM has, nearly always
		s.Realm = strings.ToUpper(domain)
		s.Domain, _, _ = strings.Cut(s.Realm, ".")
	}
	if host, port, err := net.SplitHostPort(l.smb); err == nil {
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 {
			return nil, misused("%q is no port", report.Clip(port))
		}
		s.Host, s.Port = host, n
	}
	if s.Host == "" || strings.ContainsAny(s.Host, " /\\\x00") {
		return nil, misused("%q is no host", report.Clip(l.smb))
	}
	if s.User == "" {
		s.User = who
	}
	js, err := json.Marshal(s)
	return &estate.Link{Kind: "smb", Text: string(js)}, err
}

// signing are the flags that say what to sign on with.
type signing struct {
	file, keytab string
	tickets      bool
}

func (s *signing) flags(c *cobra.Command) {
	c.Flags().StringVar(&s.file, "password-file", "", "a `file` with the password in its first line, which nobody else may read")
	c.Flags().BoolVar(&s.tickets, "kerberos", false, "sign on with the tickets of a credential cache: KRB5CCNAME names it")
	c.Flags().StringVar(&s.keytab, "keytab", "", "sign on with the key in this Kerberos keytab `file`, which nobody else may read")
}

// secret finds what to sign on to a server with.
func (a *app) secret(s *signing, name, user string) (smb.Secret, error) {
	switch {
	case s.keytab != "":
		return smb.Secret{Keytab: s.keytab}, private(s.keytab)
	case s.tickets:
		cache := strings.TrimPrefix(os.Getenv("KRB5CCNAME"), "FILE:")
		if cache == "" {
			cache = fmt.Sprintf("/tmp/krb5cc_%d", os.Getuid())
		}
		if strings.Contains(cache, ":") {
			return smb.Secret{}, misused("KRB5CCNAME is %s, and only credential caches in files are read", report.Clip(cache))
		}
		return smb.Secret{Cache: cache}, nil
	}
	pass, err := a.password(s, name, user)
	return smb.Secret{Password: pass}, err
}

// password finds the password for a server: in a file, in the environment, or
// from the person at the terminal.
func (a *app) password(s *signing, name, user string) (string, error) {
	if s.file != "" {
		if err := private(s.file); err != nil {
			return "", err
		}
		text, err := os.ReadFile(s.file)
		line, _, _ := strings.Cut(string(text), "\n")
		return strings.TrimSuffix(line, "\r"), err
	}
	own := strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToUpper(r)
		}
		return '_'
	}, name)
	for _, key := range []string{"TARNWOLD_PASSWORD_" + own, "TARNWOLD_PASSWORD"} {
		if v, ok := os.LookupEnv(key); ok {
			return v, nil
		}
	}
	f, ok := a.in.(*os.File)
	if !ok || !a.asks {
		return "", misused("no password: set TARNWOLD_PASSWORD_%s or TARNWOLD_PASSWORD, or name a file with --password-file", own)
	}
	fmt.Fprintf(a.err, "Password of %s on %s: ", report.Clean(user), report.Clean(name))
	b, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.err)
	return string(b), err
}

// linked finds how a server is reached.
func (a *app) linked(ctx context.Context, name string) (s estate.Server, l smb.Link, err error) {
	err = a.view(ctx, func(t *estate.Tx) error {
		if s, err = t.Server(name); err != nil {
			return err
		}
		link, ok := t.Link(s)
		if !ok {
			return modelAlone(s.Name)
		}
		if link.Kind == plan.LocalKind {
			return &estate.Refused{Why: "server " + s.Name + " is this machine itself, and that is done over SMB alone"}
		}
		if link.Kind != "smb" {
			return fmt.Errorf("server %s is linked by %q, which this program doesn't know", s.Name, link.Kind)
		}
		return json.Unmarshal([]byte(link.Text), &l)
	})
	return s, l, err
}

func modelAlone(name string) error {
	return &estate.Refused{Why: "server " + name + " is a model alone: no real server is linked to it", Do: "tarnwold server link " + name + " --smb HOST links one, or --local this machine"}
}

// itself gives this machine as a server, where a server is linked to it: roots
// are the trees that are meant, or those the estate has of it.
func (a *app) itself(ctx context.Context, name string, l local.Link) (s estate.Server, c *local.Client, is bool, err error) {
	err = a.view(ctx, func(t *estate.Tx) error {
		if s, err = t.Server(name); err != nil {
			return err
		}
		link, ok := t.Link(s)
		if !ok {
			return modelAlone(s.Name)
		}
		is = link.Kind == plan.LocalKind
		if len(l.Roots) == 0 {
			l.Roots = t.Tops(s)
		}
		return t.Err()
	})
	if err == nil && is {
		c, err = local.Open(l)
	}
	return s, c, is, err
}

// signOn finds how a server is reached, and signs on to it.
func (a *app) signOn(ctx context.Context, sign *signing, name string) (estate.Server, server.Server, error) {
	return a.signOnTo(ctx, sign, name, local.Link{})
}

// signOnTo is signOn, and says what of this machine is meant.
func (a *app) signOnTo(ctx context.Context, sign *signing, name string, of local.Link) (estate.Server, server.Server, error) {
	s, c, is, err := a.itself(ctx, name, of)
	if err != nil || is {
		return s, c, err
	}
	s, l, secret, err := a.credentials(ctx, sign, name)
	if err != nil {
		return s, nil, err
	}
	live, err := smb.Dial(ctx, l, secret)
	return s, live, err
}

// credentials finds how a server is reached, and what to sign on with.
func (a *app) credentials(ctx context.Context, sign *signing, name string) (s estate.Server, l smb.Link, secret smb.Secret, err error) {
	if s, l, err = a.linked(ctx, name); err == nil {
		secret, err = a.secret(sign, s.Name, l.User)
	}
	return s, l, secret, err
}
