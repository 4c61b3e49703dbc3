//go:build unix

package smbtest

import (
	"cmp"
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Member says what a member server of a domain has of its own.
type Member struct {
	Name   string
	Known  map[string]string   // the domain's users who may sign on: their identifiers
	Local  []string            // its own users; each one's password is Password(name)
	Groups map[string][]string // its own groups: identifiers of members, or names of its own groups
	Built  []string            // built-in groups that aren't there from the start
	Rights map[string][]string // an account: the privileges it has there
	Shares []string            // all of one folder
	Ruler  string              // who passes all rules there, DOMAIN\name
}

// memberPort is the member's: the controller has the usual one in the same network.
const memberPort = 1445

// Join makes a machine beside the controller a member of the domain and starts it: its
// users are told by winbindd, over the domain's own calls, and their numbers follow from
// their identifiers. It runs within the domain's network, as the test has to.
func (d *Domain) Join(t testing.TB, m Member) *Server {
	lib := wrapper()
	for _, tool := range []string{"smbd", "winbindd", "wbinfo", "net", "smbpasswd"} {
		if _, err := exec.LookPath(tool); err != nil || lib == "" {
			t.Skip("*** SKIPPED: a member of a domain needs samba, winbind and libnss-wrapper ***")
		}
	}
	dir := filepath.Join(d.Dir, "member-"+m.Name)
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "shares", "all"), 0o777))
	require.NoError(t, os.Chmod(filepath.Join(dir, "shares", "all"), 0o777))
	conf := fmt.Sprintf(`[global]
security = ads
realm = %s
workgroup = %s
netbios name = %s
password server = %s
smb ports = %d
interfaces = lo
bind interfaces only = yes
log file = %s/log
disable netbios = yes
load printers = no
printcap name = /dev/null
disable spoolss = yes
kerberos method = secrets only
idmap config * : backend = tdb
idmap config * : range = 3000000-3999999
idmap config %[2]s : backend = rid
idmap config %[2]s : range = 100000-999999
vfs objects = acl_xattr
acl_xattr:ignore system acls = yes
inherit acls = yes
admin users = %[7]s
create mask = 0777
directory mask = 0777
force create mode = 0777
force directory mode = 0777
`, d.Realm, d.Name, m.Name, d.Host, memberPort, dir, m.Ruler)
	for _, sub := range []string{"lock", "state", "cache", "private", "pid", "ncalrpc"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, sub), 0o755))
		key := map[string]string{"private": "private dir", "ncalrpc": "ncalrpc dir"}[sub]
		if key == "" {
			key = sub + " directory"
		}
		conf += key + " = " + filepath.Join(dir, sub) + "\n"
	}
	for _, s := range m.Shares {
		conf += fmt.Sprintf("[%s]\npath = %s/shares/all\nread only = %s\n", s, dir, readOnly(s))
	}
	file := write("smb.conf", conf)
	users := "root:x:0:0:root:/root:/bin/sh\nnobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n"
	for _, name := range slices.Sorted(maps.Keys(m.Known)) {
		id := m.Known[name]
		users += fmt.Sprintf("%s\\%s:x:%d:100513::/nonexistent:/bin/false\n", d.Name, strings.ToLower(name), 100000+number(t, id))
	}
	for i, name := range m.Local {
		users += fmt.Sprintf("%s:x:%d:5000::/nonexistent:/bin/false\n", name, 5100+i)
	}
	groups := fmt.Sprintf("root:x:0:\nnogroup:x:65534:\nown:x:5000:\n%s\\domain users:x:100513:\n", d.Name)
	names := slices.DeleteFunc(slices.Sorted(maps.Keys(m.Groups)), func(g string) bool { return strings.HasPrefix(g, "S-") })
	for i, g := range names {
		groups += fmt.Sprintf("%s:x:%d:\n", g, 5001+i)
	}
	env := append(os.Environ(), "LD_PRELOAD="+lib, "NSS_WRAPPER_PASSWD="+write("passwd", users), "NSS_WRAPPER_GROUP="+write("group", groups), "KRB5_CONFIG="+d.Krb5)
	run := func(in, name string, args ...string) string {
		var out []byte
		var err error
		for range 10 { // some of it winbindd does only once it has found the controller
			cmd := exec.Command(name, args...)
			cmd.Env, cmd.Stdin = env, strings.NewReader(in)
			if out, err = cmd.CombinedOutput(); err == nil {
				return string(out)
			}
			time.Sleep(500 * time.Millisecond)
		}
		require.NoError(t, err, "%s %v: %s", name, args, out)
		return ""
	}
	run("", "net", "-s", file, "ads", "join", "-U", "Administrator%"+Administrator, "-S", d.Host, "--no-dns-updates")
	for _, u := range m.Local {
		run(Password(u)+"\n"+Password(u)+"\n", "smbpasswd", "-c", file, "-a", "-s", u)
	}
	for _, g := range names {
		run("", "net", "-s", file, "groupmap", "add", "ntgroup="+g, "unixgroup="+g, "type=l")
	}

	both := exec.Command("unshare", "--mount", "sh", "-c", strings.Replace(withWinbind, "--ping", "--ping-dc", 1), file)
	both.Env = env
	both.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	said, err := os.Create(filepath.Join(dir, "said"))
	require.NoError(t, err)
	both.Stdout, both.Stderr = said, said
	require.NoError(t, both.Start())
	s := &Server{Port: memberPort, Dir: dir, pid: both.Process.Pid}
	t.Cleanup(func() {
		s.Kill()
		_ = both.Wait()
		if t.Failed() {
			for _, log := range []string{"said", "log"} {
				logged(t, filepath.Join(dir, log))
			}
		}
	})
	up := false
	for range 400 {
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port)); err == nil {
			conn.Close()
			up = true
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.True(t, up, "the member doesn't come up")
	inside := func(args ...string) {
		run("", "nsenter", append([]string{"-t", fmt.Sprint(s.pid), "-m", "net", "-s", file}, args...)...)
	}
	for _, g := range m.Built {
		inside("sam", "createbuiltingroup", g)
	}
	ids := map[string]string{}
	for line := range strings.SplitSeq(run("", "net", "-s", file, "groupmap", "list"), "\n") {
		if name, rest, ok := strings.Cut(line, " (S-"); ok {
			ids[name] = "S-" + rest[:strings.IndexByte(rest, ')')]
		}
	}
	for _, g := range slices.Sorted(maps.Keys(m.Groups)) {
		for _, member := range m.Groups[g] {
			run("", "net", "-s", file, "groupmap", "addmem", cmp.Or(ids[g], g), cmp.Or(ids[member], member))
		}
	}
	for _, who := range slices.Sorted(maps.Keys(m.Rights)) {
		inside(append([]string{"sam", "rights", "grant", who}, m.Rights[who]...)...)
	}
	return s
}

// number is the last part of an identifier: an account's number in its domain.
func number(t testing.TB, id string) (n int) {
	_, err := fmt.Sscan(id[strings.LastIndexByte(id, '-')+1:], &n)
	require.NoError(t, err, id)
	return n
}
