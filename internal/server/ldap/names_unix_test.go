//go:build linux

package ldap

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/internal/server/ldap/ldaptest"
)

// TestAsTheSystemsNamesSay: what groups each user is in is what the system's own
// name service says, asked of the same directory: by name, by distinguished name,
// groups in groups and in circles.
func TestAsTheSystemsNamesSay(t *testing.T) {
	if _, err := exec.LookPath("nslcd"); err != nil || os.Geteuid() != 0 {
		t.Skip("*** SKIPPED: a system's name service over LDAP needs root, nslcd and libnss-ldapd ***")
	}
	s := ldaptest.Start(t, ldaptest.Certificate{})
	s.Add(t, []string{"ou=people," + ldaptest.Base, "objectClass=organizationalUnit", "ou=people"}, []string{"ou=groups," + ldaptest.Base, "objectClass=organizationalUnit", "ou=groups"})
	r := rand.New(rand.NewPCG(3, 3))
	const users, groups = 80, 24
	var all [][]string
	for i := range users {
		all = append(all, []string{fmt.Sprintf("uid=u%d,ou=people,%s", i, ldaptest.Base), "objectClass=inetOrgPerson", "objectClass=posixAccount", fmt.Sprintf("uid=u%d", i),
			"cn=User", "sn=User", fmt.Sprintf("uidNumber=%d", 50000+i), fmt.Sprintf("gidNumber=%d", 60000+r.IntN(groups+3)), "homeDirectory=/nowhere"})
	}
	for g := range groups {
		e := []string{fmt.Sprintf("cn=g%d,ou=groups,%s", g, ldaptest.Base), "objectClass=posixGroup", "objectClass=extensibleObject", fmt.Sprintf("cn=g%d", g), fmt.Sprintf("gidNumber=%d", 60000+g)}
		listed := map[string]bool{}
		add := func(v string) {
			if !listed[v] {
				listed[v] = true
				e = append(e, v)
			}
		}
		for range r.IntN(8) {
			add(fmt.Sprintf("memberUid=u%d", r.IntN(users)))
		}
		for range r.IntN(8) {
			add(fmt.Sprintf("member=uid=u%d,ou=people,%s", r.IntN(users), ldaptest.Base))
		}
		for range r.IntN(3) {
			add(fmt.Sprintf("member=cn=g%d,ou=groups,%s", r.IntN(groups), ldaptest.Base))
		}
		all = append(all, e)
	}
	s.Add(t, all...)

	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	// A cache of the machine's own (nscd) would answer in its place: its folder is
	// covered. The daemon takes its time on a busy machine: it is waited for.
	said := filepath.Join(dir, "said")
	script := fmt.Sprintf(`set -e
mount --bind %s /etc/nsswitch.conf
mount --bind %s /etc/nslcd.conf
mkdir -p /run/nslcd
mount -t tmpfs none /run/nslcd
[ ! -d /run/nscd ] || mount -t tmpfs none /run/nscd
echo mounted >&2
nslcd -d >%s 2>&1 &
for i in $(seq 600); do id -G u0 >/dev/null 2>&1 && break; sleep 0.1; done
for i in $(seq 0 %d); do id -G u$i; done
kill %%1`,
		write("nsswitch.conf", "passwd: files ldap\ngroup: files ldap\n"), write("nslcd.conf", "uri "+s.Plain+"\nbase "+ldaptest.Base+"\nnss_nested_groups yes\nnss_min_uid 0\n"), said, users-1)
	asking := exec.Command("unshare", "-m", "--fork", "--pid", "--mount-proc", "--kill-child", "bash", "-c", script)
	var out, told strings.Builder
	asking.Stdout, asking.Stderr = &out, &told
	if err := asking.Run(); err != nil {
		if !strings.Contains(told.String(), "mounted") {
			t.Skipf("*** SKIPPED: a name service of its own needs mount namespaces: %v %s ***", err, told.String())
		}
		why, _ := os.ReadFile(said)
		require.NoError(t, err, "%s%s", told.String(), why)
	}
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.GreaterOrEqual(t, len(lines), users, "%s", out.String())

	c, err := Dial(ctx, link(s), Secret{Password: ldaptest.Secret})
	require.NoError(t, err)
	defer c.Close()
	found := gather(t, c, "rfc2307")
	book := account.NewDirectory()
	byGID := map[int64]account.ID{}
	for i := range found.People {
		p := &found.People[i]
		if p.ID = account.UID(uint32(p.POSIX)); p.Kind == account.Group {
			p.ID = account.GID(uint32(p.POSIX))
			byGID[p.POSIX] = p.ID
		}
	}
	for _, p := range found.People {
		if p.Kind == account.User {
			p.Primary = account.GID(uint32(p.First))
		}
		book.Add(p.Account)
	}
	for _, m := range found.Members {
		book.Join(found.People[m[0]].ID, found.People[m[1]].ID)
	}
	different, several := 0, 0
	for i := range users {
		var ours, theirs []int
		for _, id := range account.NewToken(book, account.UID(uint32(50000+i)), account.Traits{POSIXIDs: true, FirstAlone: true}).IDs() {
			if n, user, ok := id.POSIX(); ok && !user {
				ours = append(ours, int(n))
			}
		}
		for _, f := range strings.Fields(lines[i]) {
			n, err := strconv.Atoi(f)
			require.NoError(t, err, lines[i])
			theirs = append(theirs, n)
		}
		slices.Sort(ours)
		slices.Sort(theirs)
		if len(theirs) > 2 {
			several++
		}
		if !slices.Equal(ours, theirs) {
			different++
			t.Logf("u%d: here %v, the system %v", i, ours, theirs)
		}
	}
	require.Greater(t, several, users/4)
	require.Zero(t, different)
}
