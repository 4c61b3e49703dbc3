package server

import "os"

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

// Krb5 gives the file of Kerberos's own configuration.
func (s Secret) Krb5() string {
	if s.Config != "" {
		return s.Config
	}
	if v := os.Getenv("KRB5_CONFIG"); v != "" {
		return v
	}
	return "/etc/krb5.conf"
}
