//go:build unix

package cli_test

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	goldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/proptest"
	"tarnwold/internal/server/smb/smbtest"
)

// TestADomainsPeople starts a real domain and runs the test below in its network.
func TestADomainsPeople(t *testing.T) {
	proptest.Long(t)
	d := smbtest.StartDomain(t)
	d.Run(t, "^TestPeopleInADomain$")
}

// TestPeopleInADomain: 500 users and 200 groups, nested, in circles, for mail, and
// as first ones, come from a live domain; every user's token is what the domain's
// own tokenGroups says, before and after changes there.
func TestPeopleInADomain(t *testing.T) {
	d := smbtest.InDomain(t)
	base := "DC=quillfeather,DC=example"
	trust := x509.NewCertPool()
	ca := filepath.Join(d.TLS, "ca.pem")
	text, err := os.ReadFile(ca)
	require.NoError(t, err)
	require.True(t, trust.AppendCertsFromPEM(text))
	c, err := goldap.DialURL("ldaps://"+d.Host, goldap.DialWithTLSConfig(&tls.Config{RootCAs: trust, ServerName: d.Host}))
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.Bind("Administrator@"+d.Realm, smbtest.Administrator))
	r := rand.New(rand.NewPCG(7, 7))
	add := func(dn string, attrs map[string][]string) {
		req := goldap.NewAddRequest(dn, nil)
		for k, v := range attrs {
			req.Attribute(k, v)
		}
		require.NoError(t, c.Add(req), dn)
	}
	add("OU=Play\\, house,"+base, map[string][]string{"objectClass": {"organizationalUnit"}})
	in := ",OU=Play\\, house," + base
	password := binary.LittleEndian.AppendUint16(nil, '"')
	for _, u := range utf16.Encode([]rune("Opening-Night-2026")) {
		password = binary.LittleEndian.AppendUint16(password, u)
	}
	password = binary.LittleEndian.AppendUint16(password, '"')
	const users, groups = 500, 200
	kinds := []string{"-2147483646", "-2147483644", "-2147483640", "2", "8"} // global, domain local, universal, and two for mail
	var userDN, groupDN, kind []string
	for i := range users {
		dn := fmt.Sprintf("CN=User %d%s", i, in)
		control := "512"
		if i%10 == 0 {
			control = "514"
		}
		add(dn, map[string][]string{"objectClass": {"user"}, "sAMAccountName": {fmt.Sprint("u", i)}, "unicodePwd": {string(password)}, "userAccountControl": {control}})
		userDN = append(userDN, dn)
	}
	for i := range groups {
		k := kinds[r.IntN(len(kinds))]
		if i < 8 {
			k = "-2147483640" // nested six deep and more, in a chain
		}
		dn := fmt.Sprintf("CN=Group %d%s", i, in)
		add(dn, map[string][]string{"objectClass": {"group"}, "sAMAccountName": {fmt.Sprint("g", i)}, "groupType": {k}})
		groupDN, kind = append(groupDN, dn), append(kind, k)
	}
	join := func(group, member string) bool {
		m := goldap.NewModifyRequest(group, nil)
		m.Add("member", []string{member})
		return c.Modify(m) == nil // what a domain doesn't let into one another it refuses
	}
	joined, nested := 0, 0
	for i := range 7 {
		require.True(t, join(groupDN[i], groupDN[i+1]))
	}
	require.True(t, join(groupDN[7], groupDN[0]), "in a circle")
	for i := range users {
		for range r.IntN(4) {
			if join(groupDN[r.IntN(groups)], userDN[i]) {
				joined++
			}
		}
	}
	for i := range groups {
		for range r.IntN(3) {
			if j := r.IntN(groups); i != j && join(groupDN[i], groupDN[j]) {
				nested++
			}
		}
	}
	require.Greater(t, joined, 500)
	require.Greater(t, nested, 50)
	first := 0
	for i := 0; i < users; i += 9 { // another first group, which they have to be in
		g := r.IntN(groups)
		if kind[g] != "-2147483646" && kind[g] != "-2147483640" || !join(groupDN[g], userDN[i]) {
			continue
		}
		got, err := c.Search(goldap.NewSearchRequest(groupDN[g], goldap.ScopeBaseObject, 0, 1, 0, false, "(objectClass=*)", []string{"objectSid"}, nil))
		require.NoError(t, err)
		sid := got.Entries[0].GetRawAttributeValue("objectSid")
		m := goldap.NewModifyRequest(userDN[i], nil)
		m.Replace("primaryGroupID", []string{fmt.Sprint(binary.LittleEndian.Uint32(sid[len(sid)-4:]))})
		if c.Modify(m) == nil {
			first++
		}
	}
	require.Greater(t, first, 5)
	// Identifiers of elsewhere can't be set there; where they could, tokens are held with them.
	elsewhere := goldap.NewModifyRequest(userDN[1], nil)
	elsewhere.Add("sIDHistory", []string{"S-1-5-21-1-2-3-1106"})
	if err := c.Modify(elsewhere); err != nil {
		require.True(t, goldap.IsErrorWithCode(err, goldap.LDAPResultUnwillingToPerform), "%v", err)
		t.Logf("sIDHistory: %v", err)
	}

	t.Chdir(t.TempDir())
	t.Setenv("TARNWOLD_PASSWORD", smbtest.Administrator)
	h := &house{t: t}
	h.run(0, "init")
	h.run(0, "directory", "add", "house", "--url", "ldaps://"+d.Host, "--base", base, "--user", "Administrator@"+d.Realm, "--ca", ca)
	t.Log(h.run(0, "directory", "sync", "house", "--yes"))
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "Nothing to do")
	said := h.run(0, "directory", "prove", "house")
	t.Log(said)
	require.Contains(t, said, "0 differences")
	require.Contains(t, h.run(0, "user", "show", `QUILLFEATHER\u10`, "--format", "json"), `"shut": "disabled"`)
	require.Contains(t, h.run(0, "user", "show", "u10@quillfeather.example", "--format", "json"), `"shut": "disabled"`)

	must := goldap.NewModifyRequest(userDN[11], nil)
	must.Replace("pwdLastSet", []string{"0"})
	require.NoError(t, c.Modify(must))
	hours := goldap.NewModifyRequest(userDN[12], nil)
	hours.Replace("logonHours", []string{strings.Repeat("\xff", 20) + "\x00"})
	require.NoError(t, c.Modify(hours))
	h.run(0, "directory", "sync", "house", "--yes")
	require.Contains(t, h.run(0, "user", "show", "u11"), "can't sign on: the password has to be changed first")
	require.Contains(t, h.run(0, "user", "show", "u12"), "signs on only at certain hours of the week")

	// By Kerberos: tickets of a cache, and the key of a keytab.
	pass := exec.Command("kinit", "-c", "tickets", "Administrator@"+d.Realm)
	pass.Stdin = strings.NewReader(smbtest.Administrator + "\n")
	out, err := pass.CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Setenv("KRB5CCNAME", "FILE:"+filepath.Join(mustWD(t), "tickets"))
	require.Contains(t, h.run(0, "directory", "test", "house", "--kerberos"), "yes    signed on")
	d.Tool(t, "domain", "exportkeytab", "keytab", "--principal=Administrator@"+d.Realm)
	t.Setenv("KRB5CCNAME", "FILE:"+filepath.Join(mustWD(t), "none"))
	require.NoError(t, os.Chmod("keytab", 0o600))
	require.Contains(t, h.run(1, "directory", "test", "house", "--kerberos"), "no     signed on")
	h.run(0, "directory", "add", "keyed", "--url", "ldaps://"+d.Host, "--base", base, "--user", "Administrator", "--realm", d.Realm, "--ca", ca)
	require.Contains(t, h.run(0, "directory", "test", "keyed", "--keytab", "keytab"), "yes    signed on")
	require.NoError(t, os.Chmod("keytab", 0o644))
	h.run(2, "directory", "test", "keyed", "--keytab", "keytab") // for everybody to read

	// What is changed there is told; what is there no more is missed by the proof.
	add("CN=Late"+in, map[string][]string{"objectClass": {"group"}, "sAMAccountName": {"late"}, "groupType": {"-2147483646"}, "member": {userDN[1]}})
	require.Contains(t, h.run(1, "directory", "prove", "house"), "there, not here")
	require.NoError(t, c.ModifyDN(goldap.NewModifyDNRequest(userDN[2], "CN=Somebody Else", true, "")))
	m := goldap.NewModifyRequest("CN=Somebody Else"+in, nil)
	m.Replace("sAMAccountName", []string{"somebody.else"})
	require.NoError(t, c.Modify(m))
	require.NoError(t, c.Del(goldap.NewDelRequest(userDN[4], nil)))
	said = h.run(0, "directory", "sync", "house", "--yes")
	require.Contains(t, said, "name somebody.else, was u2")
	require.Contains(t, said, "user u4")
	require.Contains(t, h.run(0, "directory", "prove", "house"), "0 differences")
	h.run(0, "directory", "prove", "house", "--format", "json") // held to its schema
	h.run(0, "check")
}

func mustWD(t *testing.T) string {
	dir, err := os.Getwd()
	require.NoError(t, err)
	return dir
}
