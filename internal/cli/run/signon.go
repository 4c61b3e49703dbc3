package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"unicode"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/server"
	"tarnwold/internal/server/ldap"
	"tarnwold/internal/server/local"
	"tarnwold/internal/server/smb"
	"tarnwold/internal/store"
)

// Directory finds a directory and how it is reached.
func (a *App) Directory(ctx context.Context, name string) (x *plan.Directory, l ldap.Link, err error) {
	err = a.View(ctx, func(t *estate.Tx) error {
		if x, err = plan.DirectoryNamed(t, name); err != nil {
			return err
		}
		return json.Unmarshal(x.Link, &l)
	})
	return x, l, err
}

// DialDirectory signs on to a directory.
func (a *App) DialDirectory(ctx context.Context, sign *Signing, name string) (x *plan.Directory, c *ldap.Client, err error) {
	x, l, err := a.Directory(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	c, err = a.SignOnDirectory(ctx, sign, x, l)
	return x, c, err
}

func (a *App) SignOnDirectory(ctx context.Context, sign *Signing, x *plan.Directory, l ldap.Link) (*ldap.Client, error) {
	var s ldap.Secret // none: nobody signs on
	if l.User != "" || sign.tickets || sign.keytab != "" {
		var err error
		if s, err = a.secret(sign, x.Name, l.User, l.PasswordAt); err != nil {
			return nil, err
		}
	}
	return ldap.Dial(ctx, l, s)
}

// Signing are the flags that say what to sign on with.
type Signing struct {
	file, keytab string
	tickets      bool
}

func (s *Signing) Flags(c *cobra.Command) {
	c.Flags().StringVar(&s.file, "password-file", "", "a `file` with the password in its first line, which nobody else may read")
	c.Flags().BoolVar(&s.tickets, "kerberos", false, "sign on with the tickets of a credential cache: KRB5CCNAME names it")
	c.Flags().StringVar(&s.keytab, "keytab", "", "sign on with the key in this Kerberos keytab `file`, which nobody else may read")
}

// secret finds what to sign on to a server with; at is the file that the password is in, as the
// estate has it.
func (a *App) secret(s *Signing, name, user, at string) (smb.Secret, error) {
	switch {
	case s.keytab != "":
		return smb.Secret{Keytab: s.keytab}, Private(s.keytab)
	case s.tickets:
		cache := strings.TrimPrefix(os.Getenv("KRB5CCNAME"), "FILE:")
		if cache == "" {
			cache = fmt.Sprintf("/tmp/krb5cc_%d", os.Getuid())
		}
		if strings.Contains(cache, ":") {
			return smb.Secret{}, Misused("KRB5CCNAME is %s, and only credential caches in files are read", doc.Clip(cache))
		}
		return smb.Secret{Cache: cache}, nil
	}
	pass, err := a.password(s, name, user, at)
	return smb.Secret{Password: pass}, err
}

// password finds the password for a server: in a file, in the environment, where the estate
// says it is, or from the person at the terminal.
func (a *App) password(s *Signing, name, user, at string) (string, error) {
	if s.file != "" {
		return passwordIn(s.file)
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
	if file := a.Setting("passwords." + name); file != "" {
		return passwordIn(file)
	}
	if at != "" {
		return passwordIn(at)
	}
	f, ok := a.In.(*os.File)
	if !ok || !a.Asks {
		return "", Misused("no password: set TARNWOLD_PASSWORD_%s or TARNWOLD_PASSWORD, or name a file with --password-file", own)
	}
	return typedPassword(f, a.Err, fmt.Sprintf("Password of %s on %s: ", doc.Clean(user), doc.Clean(name)))
}

// typedPassword asks for a password at a terminal. The terminal is quiet before the question
// is seen, so that nothing typed at once is shown; Ctrl-C ends it.
func typedPassword(in *os.File, out io.Writer, question string) (string, error) {
	was, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return "", err
	}
	defer func() { _ = term.Restore(int(in.Fd()), was) }()
	pass, err := term.NewTerminal(struct {
		io.Reader
		io.Writer
	}{in, out}, "").ReadPassword(question)
	if errors.Is(err, io.EOF) { // Ctrl-C or Ctrl-D
		fmt.Fprint(out, "\r\n")
		err = store.ErrStopped
	}
	return pass, err
}

// passwordIn reads the first line of a file that nobody else may read.
func passwordIn(file string) (string, error) {
	if err := Private(file); err != nil {
		return "", err
	}
	text, err := os.ReadFile(file)
	line, _, _ := strings.Cut(string(text), "\n")
	return strings.TrimSuffix(line, "\r"), err
}

// PasswordAt gives the place of a file with a password as it is kept: from the root, for
// what reads it later may stand elsewhere.
func PasswordAt(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	at, err := filepath.Abs(file)
	if err == nil {
		err = Private(at)
	}
	return at, err
}

// Linked finds how a server is reached.
func (a *App) Linked(ctx context.Context, name string) (s estate.Server, l smb.Link, err error) {
	err = a.View(ctx, func(t *estate.Tx) error {
		if s, err = t.Server(name); err != nil {
			return err
		}
		link, ok := t.Link(s)
		if !ok {
			return modelAlone(s.Name)
		}
		if link.Kind == estate.LocalLink {
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
	return &estate.Refused{Why: "server " + name + " exists in the estate alone: no real server is linked to it", Do: "tarnwold server link " + name + " --smb HOST links one, or --local this machine"}
}

// Itself gives this machine as a server, where a server is linked to it: roots
// are the trees that are meant, or those the estate has of it.
func (a *App) Itself(ctx context.Context, name string, l local.Link) (s estate.Server, c *local.Client, is bool, err error) {
	err = a.View(ctx, func(t *estate.Tx) error {
		if s, err = t.Server(name); err != nil {
			return err
		}
		link, ok := t.Link(s)
		if !ok {
			return modelAlone(s.Name)
		}
		is = link.Kind == estate.LocalLink
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

// SignOn finds how a server is reached, and signs on to it.
func (a *App) SignOn(ctx context.Context, sign *Signing, name string) (estate.Server, server.Server, error) {
	return a.SignOnTo(ctx, sign, name, local.Link{})
}

// SignOnTo is signOn, and says what of this machine is meant.
func (a *App) SignOnTo(ctx context.Context, sign *Signing, name string, of local.Link) (estate.Server, server.Server, error) {
	s, c, is, err := a.Itself(ctx, name, of)
	if err != nil || is {
		return s, c, err
	}
	s, l, secret, err := a.Credentials(ctx, sign, name)
	if err != nil {
		return s, nil, err
	}
	live, err := smb.Dial(ctx, l, secret)
	return s, live, err
}

// Credentials finds how a server is reached, and what to sign on with.
func (a *App) Credentials(ctx context.Context, sign *Signing, name string) (s estate.Server, l smb.Link, secret smb.Secret, err error) {
	if s, l, err = a.Linked(ctx, name); err == nil {
		secret, err = a.secret(sign, s.Name, l.User, l.PasswordAt)
	}
	return s, l, secret, err
}

// Private refuses a file with secrets that others than its owner may read.
func Private(file string) error {
	info, err := os.Stat(file)
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		err = &estate.Refused{Why: file + " can be read by others than its owner", Do: "chmod 600 " + file}
	}
	return err
}

// dialer signs on to servers by their names; a password is asked for once.
func (a *App) dialer(sign *Signing) live.Dial {
	type known struct {
		link   smb.Link
		secret smb.Secret
	}
	servers := map[string]known{}
	return func(ctx context.Context, name string) (server.Server, error) {
		k, ok := servers[name]
		if !ok {
			if _, c, is, err := a.Itself(ctx, name, local.Link{}); err != nil || is {
				return c, err
			}
			_, l, secret, err := a.Credentials(ctx, sign, name)
			if err != nil {
				return nil, err
			}
			k = known{l, secret}
			servers[name] = k
		}
		return smb.Dial(ctx, k.link, k.secret)
	}
}

// Step is one thing that a test of a server looked at.
type Step = changes.ServerStep

// Tested tells what works on a real server.
func (a *App) Tested(s estate.Server, steps []Step) error {
	if err := changes.ServerTest(a.Printer(), s.Name, steps); err != nil {
		return err
	}
	for _, x := range steps {
		if !x.Works {
			return ErrNo
		}
	}
	return nil
}
