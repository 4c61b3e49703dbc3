//go:build unix

package smb

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server/smb/smbtest"
)

// TestADomain starts a real domain and runs the tests below inside its network.
func TestADomain(t *testing.T) {
	proptest.Long(t)
	d := smbtest.StartDomain(t, "all", "odd0", "odd1", "odd2", "odd3", "odd4", "odd5", "ruled", "switched")
	d.Run(t, "^TestInADomain$|^TestOnAMember$")
}

const domainPassword = "Opening-Night-2026"

// domainPeople makes six users and eight groups of the domain, once, and gives the users.
func domainPeople(t *testing.T, d *smbtest.Domain) (users []string) {
	for i := range 6 {
		users = append(users, fmt.Sprint("u", i))
	}
	domainMade.Do(func() {
		for _, u := range users {
			d.Tool(t, "user", "create", u, domainPassword)
		}
		for i := range 5 {
			g := fmt.Sprint("g", i)
			d.Tool(t, "group", "add", g)
			var in []string
			for k, u := range users {
				if (k+i)%3 == 0 {
					in = append(in, u)
				}
			}
			d.Tool(t, "group", "addmembers", g, strings.Join(in, ","))
		}
		for i, in := range []string{"g0,g1", "n0", "g2,n1"} {
			g := fmt.Sprint("n", i)
			d.Tool(t, "group", "add", g, "--group-scope=Domain")
			d.Tool(t, "group", "addmembers", g, in)
		}
		d.Tool(t, "group", "addmembers", "Remote Desktop Users", "n2")
		d.Tool(t, "group", "addmembers", "Administrators", "u3")
		d.Tool(t, "group", "addmembers", "Backup Operators", "g0")
	})
	return users
}

var domainMade sync.Once

// TestInADomain: members' tokens by the domain's groups at any depth, local
// groups that hold them, names with their domain; decisions held to the
// server's; and signing on by Kerberos.
func TestInADomain(t *testing.T) {
	d := smbtest.InDomain(t)
	w := &trial{t: t, r: seed(t), ids: map[string]account.ID{}, exact: map[string]*Exact{}, traits: "smb-domain"}
	w.users = domainPeople(t, d)
	out, err := exec.Command("net", "-s", d.Conf, "rpc", "rights", "grant", "QUILLFEATHER\\Administrator", "SeDiskOperatorPrivilege", "-U", "Administrator%"+smbtest.Administrator, "-S", "127.0.0.1").CombinedOutput()
	require.NoError(t, err, "%s", out)
	w.s = &smbtest.Server{Port: DefaultPort, Dir: filepath.Join(d.Dir, "shares")}
	w.link = Link{Host: "127.0.0.1", Port: DefaultPort, User: "Administrator", Domain: d.Name}
	w.password = func(string) string { return domainPassword }
	w.admin, err = Dial(context.Background(), w.link, Secret{Password: smbtest.Administrator})
	require.NoError(t, err)
	defer w.admin.Close()

	all, members, err := w.admin.Accounts(context.Background())
	require.NoError(t, err)
	names := map[account.ID]string{}
	for _, a := range all {
		w.ids[a.Name], names[a.ID] = a.ID, a.Name
	}
	w.more = []account.ID{w.ids["Remote Desktop Users"], w.ids["Administrators"], w.ids["Users"], w.ids["Backup Operators"]} // groups of the server's own that entries name
	w.ids["warden"] = w.ids["Administrator"]
	told := map[string]bool{}
	for _, m := range members {
		told[names[m.Member]+" in "+names[m.Group]] = true
	}
	for _, want := range []string{"u0 in g0", "g0 in n0", "n0 in n1", "n1 in n2", "n2 in Remote Desktop Users", "Domain Admins in Administrators", "Administrator in Domain Admins"} {
		require.Contains(t, told, want)
	}
	w.fs, err = w.admin.session.Mount("all")
	require.NoError(t, err)
	w.worlds(filepath.Join(w.s.Dir, "all"), func() {
		w.scan()
		w.view(func(tx *estate.Tx, k *ask.Asker) {
			for _, word := range []string{`QUILLFEATHER\u1`, `quillfeather\U1`, "u1@QUILLFEATHER", "u1"} {
				a, err := tx.Named(word, account.User)
				require.NoError(t, err, word)
				require.Equal(t, w.ids["u1"], a.ID)
			}
			_, err := tx.Named(`ELSEWHERE\u1`, account.User)
			require.ErrorContains(t, err, "there is no user")
			require.True(t, slices.ContainsFunc(tx.Domains(), func(x estate.Domain) bool { return x.Name == "QUILLFEATHER" }))
		})
		w.decisions(times(10_000))
	})

	// A ticket in the place of a password: in a credential cache, then in a keytab.
	dir := t.TempDir()
	cache := filepath.Join(dir, "cache")
	kinit := exec.Command("kinit", "-c", cache, "Administrator@"+d.Realm)
	kinit.Stdin = strings.NewReader(smbtest.Administrator + "\n")
	out, err = kinit.CombinedOutput()
	require.NoError(t, err, "%s", out)
	keytab := filepath.Join(dir, "keytab")
	d.Tool(t, "domain", "exportkeytab", keytab, "--principal=Administrator@"+d.Realm)
	link := Link{Host: d.Host, Port: DefaultPort, User: "Administrator", Realm: d.Realm}
	for name, secret := range map[string]Secret{"cache": {Cache: cache}, "keytab": {Keytab: keytab}} {
		c, err := Dial(context.Background(), link, secret)
		require.NoError(t, err, name)
		shares, err := c.Shares(context.Background())
		require.NoError(t, err, name)
		require.GreaterOrEqual(t, len(shares), 7, name)
		_, err = c.Look(context.Background(), "all", "", false)
		require.NoError(t, err)
		c.Close()
	}
	// A ticket that has run out is said to have.
	old := filepath.Join(dir, "old")
	kinit = exec.Command("kinit", "-l", "2s", "-c", old, "Administrator@"+d.Realm)
	kinit.Stdin = strings.NewReader(smbtest.Administrator + "\n")
	out, err = kinit.CombinedOutput()
	require.NoError(t, err, "%s", out)
	time.Sleep(4 * time.Second)
	_, err = Dial(context.Background(), link, Secret{Cache: old})
	require.ErrorContains(t, err, "expired")
	_, err = Dial(context.Background(), link, Secret{Cache: filepath.Join(dir, "none")})
	require.ErrorContains(t, err, "can't be read")
}
