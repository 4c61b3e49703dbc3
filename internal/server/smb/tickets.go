package smb

import (
	"fmt"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/credentials"
	"github.com/jcmturner/gokrb5/v8/iana/nametype"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/types"

	"tarnwold/internal/server"
)

// Secret is what one signs on with.
type Secret = server.Secret

// service is what a ticket is asked for: the file service of a host (RFC 4120 §6.2).
func service(l Link) string { return "cifs/" + l.Host }

// initiator makes the sign-on of a session.
func initiator(s Secret, l Link) (smb2.Initiator, error) {
	if !s.Kerberos() {
		return &smb2.NTLMInitiator{User: l.User, Password: s.Password, Domain: l.Domain}, nil
	}
	c, err := tickets(s, l)
	if err != nil {
		return nil, err
	}
	return &smb2.Krb5Initiator{Client: c, TargetSPN: service(l)}, nil
}

func tickets(s Secret, l Link) (*client.Client, error) {
	conf, err := config.Load(s.Krb5())
	if err != nil {
		return nil, fmt.Errorf("the configuration of Kerberos can't be read: %w", err)
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
			return nil, fmt.Errorf("by Kerberos: %w", err)
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
