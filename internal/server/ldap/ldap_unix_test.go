//go:build unix

package ldap

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	goldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server/ldap/ldaptest"
)

var ctx = context.Background()

func link(s *ldaptest.Server) Link {
	return Link{URL: s.TLS, Bases: []string{ldaptest.Base}, User: ldaptest.Manager, CA: s.CA}
}

// fill gives a directory people: users, groups by name and by distinguished name.
func fill(t testing.TB, s *ldaptest.Server, users int) {
	s.Add(t, []string{"ou=people," + ldaptest.Base, "objectClass=organizationalUnit", "ou=people"}, []string{"ou=groups," + ldaptest.Base, "objectClass=organizationalUnit", "ou=groups"})
	var all [][]string
	for i := range users {
		all = append(all, []string{fmt.Sprintf("uid=u%d,ou=people,%s", i, ldaptest.Base), "objectClass=inetOrgPerson", "objectClass=posixAccount", "objectClass=shadowAccount", fmt.Sprintf("uid=u%d", i),
			"cn=User", "sn=User", fmt.Sprintf("uidNumber=%d", 10000+i), fmt.Sprintf("gidNumber=%d", 20000+i%3), "homeDirectory=/nowhere"})
	}
	for g := range 3 {
		e := []string{fmt.Sprintf("cn=g%d,ou=groups,%s", g, ldaptest.Base), "objectClass=posixGroup", fmt.Sprintf("cn=g%d", g), fmt.Sprintf("gidNumber=%d", 20000+g)}
		for i := g; i < users; i += 4 {
			e = append(e, fmt.Sprintf("memberUid=u%d", i))
		}
		all = append(all, e)
	}
	all = append(all, []string{"cn=Sewers\\, all,ou=groups," + ldaptest.Base, "objectClass=groupOfNames", "cn=Sewers, all", "member=UID=U1, ou=People," + ldaptest.Base, "member=cn=g0,ou=groups," + ldaptest.Base, "member=cn=nobody," + ldaptest.Base})
	s.Add(t, all...)
}

func gather(t testing.TB, c *Client, name string) *shape.People {
	sh, _ := shape.Named(name)
	g := shape.Gather(sh, "live", shape.Purposes{}, time.Now())
	_, err := c.Entries(ctx, sh.Search(), sh.Attributes(), g.Put)
	require.NoError(t, err)
	f, err := g.People()
	require.NoError(t, err)
	return f
}

// TestARealDirectory: people are read whole, page by page, past the server's own
// size limit for one page.
func TestARealDirectory(t *testing.T) {
	s := ldaptest.Start(t, ldaptest.Certificate{})
	fill(t, s, 1200)
	for _, l := range []Link{link(s), {URL: s.Plain, Bases: []string{ldaptest.Base}, User: ldaptest.Manager, CA: s.CA}, {URL: s.TLS, Bases: []string{"ou=people," + ldaptest.Base, "ou=groups," + ldaptest.Base}, CA: s.CA, User: ldaptest.Manager}} {
		c, err := Dial(ctx, l, Secret{Password: ldaptest.Secret})
		require.NoError(t, err)
		f := gather(t, c, "rfc2307")
		c.Close()
		require.Len(t, f.People, 1204)
		names := map[string]int32{}
		for i, p := range f.People {
			names[p.Name] = int32(i)
		}
		u7 := f.People[names["u7"]]
		require.Equal(t, int64(10007), u7.POSIX)
		require.Equal(t, int64(20001), u7.First)
		require.Equal(t, account.User, u7.Kind)
		in := map[string]int{}
		for _, m := range f.Members {
			in[f.People[m[0]].Name]++
		}
		require.Equal(t, map[string]int{"g0": 300, "g1": 300, "g2": 300, "Sewers, all": 2}, in)
		require.Equal(t, 1, f.Left["members that aren't there"])
	}
}

// TestCertificates: whatever is wrong with a certificate is said, with what to do.
func TestCertificates(t *testing.T) {
	for _, c := range []struct {
		is        ldaptest.Certificate
		trust     bool
		says, how string
	}{
		{ldaptest.Certificate{Expired: true}, true, "and not now", "give it a new one"},
		{ldaptest.Certificate{Name: "elsewhere.test"}, true, "is not for 127.0.0.1: it is for elsewhere.test", "a name that its certificate has"},
		{ldaptest.Certificate{SelfMade: true}, true, "signed by nobody who is trusted", "--ca FILE"},
		{ldaptest.Certificate{}, false, "signed by nobody who is trusted", "--ca FILE"},
	} {
		s := ldaptest.Start(t, c.is)
		for _, u := range []string{s.TLS, s.Plain} { // from the first byte, and by StartTLS
			l := link(s)
			if l.URL = u; !c.trust {
				l.CA = ""
			}
			_, err := Dial(ctx, l, Secret{Password: ldaptest.Secret})
			var no *Unreached
			require.True(t, errors.As(err, &no), "%v", err)
			require.Equal(t, "trust", no.Step)
			require.ErrorContains(t, err, c.says)
			require.Contains(t, no.Do, c.how)
		}
	}
}

func TestWhatIsRefused(t *testing.T) {
	s := ldaptest.Start(t, ldaptest.Certificate{})
	for _, c := range []struct {
		change func(l *Link)
		pass   string
		step   string
		says   string
	}{
		{func(l *Link) {}, "wrong", "sign-on", "refuses the user or the password"},
		{func(l *Link) {}, "", "sign-on", "empty password signs nobody on"},
		{func(l *Link) { l.URL, l.Open = s.Plain, true }, ldaptest.Secret, "sign-on", "not sent unencrypted"},
		{func(l *Link) { l.URL = "ldaps://127.0.0.1:1" }, ldaptest.Secret, "reach", "refused"},
	} {
		l := link(s)
		c.change(&l)
		_, err := Dial(ctx, l, Secret{Password: c.pass})
		var no *Unreached
		require.True(t, errors.As(err, &no), "%v", err)
		require.Equal(t, c.step, no.Step)
		require.ErrorContains(t, err, c.says)
	}
	l := link(s)
	l.Bases = []string{"ou=nowhere," + ldaptest.Base}
	c, err := Dial(ctx, l, Secret{Password: ldaptest.Secret})
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Entries(ctx, "(objectClass=*)", nil, func(*shape.Entry) error { return nil })
	require.ErrorContains(t, err, "there is nothing at ou=nowhere")
	// Nobody signs on, and nothing is encrypted: it is said so, and lets one read.
	open, err := Dial(ctx, Link{URL: s.Plain, Bases: []string{ldaptest.Base}, Open: true}, Secret{})
	require.NoError(t, err)
	defer open.Close()
	_, err = open.One(ctx, ldaptest.Base, "o")
	require.NoError(t, err)
}

// TestSizeLimit: a limit that paging doesn't lift is said, and nothing is taken.
func TestSizeLimit(t *testing.T) {
	s := ldaptest.Start(t, ldaptest.Certificate{})
	fill(t, s, 700)
	l := link(s)
	l.User = ""
	c, err := Dial(ctx, l, Secret{})
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Entries(ctx, "(objectClass=posixAccount)", []string{"uid"}, func(*shape.Entry) error { return nil })
	require.ErrorContains(t, err, "size limit")
}

// TestGoesAwayInTheMiddle: half a directory is none.
func TestGoesAwayInTheMiddle(t *testing.T) {
	proptest.Long(t)
	s := ldaptest.Start(t, ldaptest.Certificate{})
	fill(t, s, 1200)
	c, err := Dial(ctx, link(s), Secret{Password: ldaptest.Secret})
	require.NoError(t, err)
	defer c.Close()
	n := 0
	_, err = c.Entries(ctx, "(objectClass=posixAccount)", []string{"uid"}, func(*shape.Entry) error {
		if n++; n == 100 {
			s.Kill()
		}
		return nil
	})
	require.Error(t, err)
	require.Less(t, n, 1200)
	stopped, stop := context.WithCancelCause(ctx)
	s = ldaptest.Start(t, ldaptest.Certificate{})
	fill(t, s, 1200)
	c, err = Dial(stopped, link(s), Secret{Password: ldaptest.Secret})
	require.NoError(t, err)
	defer c.Close()
	why := errors.New("stopped by hand")
	_, err = c.Entries(stopped, "(objectClass=posixAccount)", []string{"uid"}, func(*shape.Entry) error { stop(why); return nil })
	require.ErrorIs(t, err, why)
}

// TestReferrals: places elsewhere are told, and not gone to.
func TestReferrals(t *testing.T) {
	s := ldaptest.Start(t, ldaptest.Certificate{})
	fill(t, s, 3)
	s.Change(t, func(c *goldap.Conn) error {
		r := goldap.NewAddRequest("dc=elsewhere,"+ldaptest.Base, []goldap.Control{goldap.NewControlManageDsaIT(true)})
		r.Attribute("objectClass", []string{"referral", "extensibleObject"})
		r.Attribute("dc", []string{"elsewhere"})
		r.Attribute("ref", []string{"ldap://127.0.0.1:1/dc=elsewhere,dc=test"})
		return c.Add(r)
	})
	c, err := Dial(ctx, link(s), Secret{Password: ldaptest.Secret})
	require.NoError(t, err)
	defer c.Close()
	told, err := c.Entries(ctx, "(objectClass=*)", []string{"uid"}, func(*shape.Entry) error { return nil })
	require.NoError(t, err)
	require.Len(t, told.Referrals, 1)
	require.True(t, strings.HasPrefix(told.Referrals[0], "ldap://127.0.0.1:1/"))
}

func TestLinks(t *testing.T) {
	for _, bad := range []Link{{URL: "http://x", Bases: []string{"dc=x"}}, {URL: "ldap://", Bases: []string{"dc=x"}}, {URL: "ldaps://x/dc=y", Bases: []string{"dc=x"}}, {URL: "ldap://u:p@x", Bases: []string{"dc=x"}},
		{URL: "ldaps://x"}, {URL: "ldaps://x", Bases: []string{"nonsense"}}, {URL: "ldaps://x", Bases: []string{"dc=x"}, Open: true}, {URL: "ldaps://x:99999", Bases: []string{"dc=x"}},
		{URL: "ldaps://x", Bases: []string{"dc=x"}, Filter: "(a"}} {
		_, err := bad.Good()
		require.Error(t, err, "%+v", bad)
	}
	l, err := Link{URL: "LDAPS://dc.test:636/", Bases: []string{"dc=x"}}.Good()
	require.NoError(t, err)
	require.Equal(t, "ldaps://dc.test:636", l.URL)
}
