package smb

import (
	"fmt"
	"os"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/credentials"
	"github.com/jcmturner/gokrb5/v8/iana/nametype"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/types"
)

// Secret is what one signs on with: a password, or Kerberos (RFC 4120) with a
// credential cache or a keytab. It is never written anywhere.
type Secret struct {
	Password string
	Cache    string // a credential cache's file
	Keytab   string // a keytab's file
	Config   string // Kerberos's own configuration; "": KRB5_CONFIG, else /etc/krb5.conf
}

// Kerberos tells whether it is signed on by tickets.
func (s Secret) Kerberos() bool { return s.Cache != "" || s.Keytab != "" }

func (s Secret) config() string {
	if s.Config != "" {
		return s.Config
	}
	if v := os.Getenv("KRB5_CONFIG"); v != "" {
		return v
	}
	return "/etc/krb5.conf"
}

// service is what a ticket is asked for: the file service of a host (RFC 4120 §6.2).
func service(l Link) string { return "cifs/" + l.Host }

// initiator makes the sign-on of a session.
func (s Secret) initiator(l Link) (smb2.Initiator, error) {
	if !s.Kerberos() {
		return &smb2.NTLMInitiator{User: l.User, Password: s.Password, Domain: l.Domain}, nil
	}
	c, err := s.tickets(l)
	if err != nil {
		return nil, err
	}
	return &smb2.Krb5Initiator{Client: c, TargetSPN: service(l)}, nil
}

func (s Secret) tickets(l Link) (*client.Client, error) {
	conf, err := config.Load(s.config())
	if err != nil {
		return nil, fmt.Errorf("Kerberos is not configured: %w", err)
	}
	if s.Keytab != "" {
		kt, err := keytab.Load(s.Keytab)
		if err != nil {
			return nil, fmt.Errorf("the keytab %s can't be read: %w", s.Keytab, err)
		}
		realm := l.Realm
		if realm == "" {
			realm = conf.LibDefaults.DefaultRealm
		}
		c := client.NewWithKeytab(l.User, realm, kt, conf, client.DisablePAFXFAST(true))
		if err := c.Login(); err != nil {
			return nil, fmt.Errorf("Kerberos: %w", err)
		}
		return c, nil
	}
	cache, err := credentials.LoadCCache(s.Cache)
	if err != nil {
		return nil, fmt.Errorf("the credential cache %s can't be read: %w", s.Cache, err)
	}
	if tgt, ok := cache.GetEntry(types.PrincipalName{NameType: nametype.KRB_NT_SRV_INST, NameString: []string{"krbtgt", cache.GetClientRealm()}}); ok && time.Now().After(tgt.EndTime) {
		return nil, fmt.Errorf("the tickets in %s expired on %s; get new ones with kinit", s.Cache, tgt.EndTime.Local().Format("2006-01-02 15:04"))
	}
	c, err := client.NewFromCCache(cache, conf, client.DisablePAFXFAST(true))
	if err != nil {
		return nil, fmt.Errorf("the credential cache %s: %w", s.Cache, err)
	}
	return c, nil
}
