//go:build unix

// Package smbtest starts a real file server for tests: Debian's smbd, with a
// configuration, accounts and folders of its own, on a free port of this
// machine, and stops it again by its process alone.
package smbtest

import (
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

// Config says what the server has.
type Config struct {
	Users  []string            // the first is its administrator; each one's password is Password(name)
	Groups map[string][]string // group: its users
	Shares map[string]string   // share: lines of its configuration beside the path
	Nested map[string][]string // a local group of the server: the groups in it
	Global string              // more lines for the whole server
	// Built are built-in groups, which such a server has only with winbindd beside it:
	// with their members, none of them at first.
	Built []string
	// Rights are the privileges that an account has by itself.
	Rights map[string][]string
	// Homeless are the users whose folder, by the system, is the root.
	Homeless []string
}

// Server is one that runs.
type Server struct {
	Port int
	Dir  string // its shares' folders are below, by the share's name
	pid  int
}

// Kill ends the server at once, with all it holds open.
func (s *Server) Kill() {
	_ = syscall.Kill(-s.pid, syscall.SIGKILL)
	endOf(s.Dir)
}

// endOf ends what a server started by itself beside its own processes: whatever
// was told a configuration in the test's own folder.
func endOf(dir string) {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range all {
		text, err := os.ReadFile(file)
		if err != nil || !strings.Contains(string(text), dir+"/") {
			continue
		}
		var pid int
		if _, err := fmt.Sscanf(file, "/proc/%d/", &pid); err == nil && pid != os.Getpid() && !strings.Contains(string(text), "-test.") {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

// Password is a user's.
func Password(user string) string { return "secret of " + user }

// Start starts a server; where that can't be done here the test is passed over.
func Start(t testing.TB, c Config) *Server {
	lib := wrapper()
	if _, err := exec.LookPath("smbd"); err != nil || os.Geteuid() != 0 || lib == "" {
		t.Skip("*** SKIPPED: a real SMB server needs root, samba, samba-vfs-modules and libnss-wrapper ***")
	}
	dir, err := os.MkdirTemp("", "tarnwold-smbd-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &Server{Port: l.Addr().(*net.TCPAddr).Port, Dir: dir}
	l.Close()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	passwd := "root:x:0:0:root:/root:/bin/sh\nnobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n"
	group := "root:x:0:\nnogroup:x:65534:\npeople:x:5000:\n"
	for i, u := range c.Users {
		home := "/nonexistent/" + u
		if slices.Contains(c.Homeless, u) {
			home = "/"
		}
		passwd += fmt.Sprintf("%s:x:%d:5000:%s:%s:/bin/false\n", u, 4001+i, u, home)
	}
	n := 5001
	var groups []string
	posix := map[string][]string{}
	for g := range c.Nested {
		posix[g] = nil
	}
	maps.Copy(posix, c.Groups)
	for _, g := range slices.Sorted(maps.Keys(posix)) {
		users := posix[g]
		group += fmt.Sprintf("%s:x:%d:%s\n", g, n, strings.Join(users, ","))
		groups = append(groups, g)
		n++
	}
	conf := fmt.Sprintf(`[global]
server role = standalone server
workgroup = QUILLFEATHER
netbios name = STAGEDOOR
smb ports = %d
interfaces = 127.0.0.1
bind interfaces only = yes
passdb backend = tdbsam
log file = %s/log
log level = 1
disable netbios = yes
load printers = no
printcap name = /dev/null
disable spoolss = yes
vfs objects = acl_xattr
acl_xattr:ignore system acls = yes
inherit acls = yes
admin users = %s
server min protocol = SMB2_10
create mask = 0777
directory mask = 0777
force create mode = 0777
force directory mode = 0777
%s
`, s.Port, dir, c.Users[0], c.Global)
	for _, d := range []string{"lock", "state", "cache", "private", "pid", "ncalrpc", "winbindd"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o755))
		if d == "winbindd" && len(c.Built) > 0 { // it is found where every such machine has it
			continue
		}
		key := map[string]string{"private": "private dir", "ncalrpc": "ncalrpc dir", "winbindd": "winbindd socket directory"}[d]
		if key == "" {
			key = d + " directory"
		}
		conf += key + " = " + filepath.Join(dir, d) + "\n"
	}
	for _, share := range slices.Sorted(maps.Keys(c.Shares)) {
		lines := c.Shares[share]
		path := filepath.Join(dir, share)
		require.NoError(t, os.MkdirAll(path, 0o777))
		require.NoError(t, os.Chmod(path, 0o777))
		if i := strings.Index(lines, "path = "); i >= 0 { // it stands over another share's folder
			path = filepath.Join(dir, strings.SplitN(lines[i+7:], "\n", 2)[0])
			lines = lines[:i]
		}
		conf += fmt.Sprintf("[%s]\npath = %s\nread only = no\n%s\n", share, path, lines)
	}
	file := write("smb.conf", conf)
	env := append(os.Environ(), "LD_PRELOAD="+lib, "NSS_WRAPPER_PASSWD="+write("passwd", passwd), "NSS_WRAPPER_GROUP="+write("group", group))
	run := func(in, name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Env, cmd.Stdin = env, strings.NewReader(in)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", name, out)
		return string(out)
	}
	for _, u := range c.Users {
		run(Password(u)+"\n"+Password(u)+"\n", "smbpasswd", "-c", file, "-a", "-s", u)
	}
	for _, g := range groups {
		run("", "net", "-s", file, "groupmap", "add", "ntgroup="+g, "unixgroup="+g, "type=l")
	}
	if len(c.Nested) > 0 {
		sids := map[string]string{}
		for _, line := range strings.Split(run("", "net", "-s", file, "groupmap", "list"), "\n") {
			if name, rest, ok := strings.Cut(line, " (S-"); ok {
				sids[name] = "S-" + rest[:strings.IndexByte(rest, ')')]
			}
		}
		for g, in := range c.Nested {
			for _, m := range in {
				run("", "net", "-s", file, "groupmap", "addmem", sids[g], sids[m])
			}
		}
	}
	smbd := exec.Command("smbd", "--foreground", "--no-process-group", "-s", file)
	if len(c.Built) > 0 {
		_, err := exec.LookPath("winbindd")
		if err != nil || exec.Command("unshare", "--mount", "true").Run() != nil {
			t.Skip("*** SKIPPED: built-in groups of a server that is in no domain need winbind, and namespaces of mounts ***")
		}
		smbd = exec.Command("unshare", "--mount", "sh", "-c", withWinbind, file)
	}
	smbd.Env = env
	smbd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // its children end with it
	require.NoError(t, smbd.Start())
	s.pid = smbd.Process.Pid
	t.Cleanup(func() {
		s.Kill()
		_ = smbd.Wait()
		if t.Failed() {
			logged(t, filepath.Join(dir, "log"))
		}
		_ = os.RemoveAll(dir)
	})
	up := false
	for range 400 {
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port)); err == nil {
			conn.Close()
			up = true
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	require.True(t, up, "the SMB server doesn't come up")
	inside := func(args ...string) {
		run("", "nsenter", append([]string{"-t", fmt.Sprint(s.pid), "-m", "net", "-s", file}, args...)...)
	}
	for _, g := range c.Built {
		inside("sam", "createbuiltingroup", g)
	}
	for _, who := range slices.Sorted(maps.Keys(c.Rights)) {
		inside(append([]string{"sam", "rights", "grant", who}, c.Rights[who]...)...)
	}
	return s
}

// withWinbind runs a server with winbindd beside it, in a mount namespace: what such a
// machine keeps where every other would is its own. smbd ends at once as long as winbindd
// doesn't answer yet, or has none of the built-in groups' members.
const withWinbind = `mkdir -p /run/samba && mount -t tmpfs none /run/samba && { winbindd -F -s "$0" & until wbinfo --ping; do sleep 0.2; done; until smbd --foreground --no-process-group -s "$0"; do sleep 0.3; done; }`

// readOnly says whether a share of a domain's machines is switched to read-only: the one
// that is called so is.
func readOnly(share string) string {
	if share == "switched" {
		return "yes"
	}
	return "no"
}

// logged tells the end of what a server wrote.
func logged(t testing.TB, file string) {
	text, _ := os.ReadFile(file)
	t.Logf("the server's %s: %s", filepath.Base(file), text[max(0, len(text)-4000):])
}

func wrapper() string {
	found, _ := filepath.Glob("/usr/lib/*/libnss_wrapper.so*")
	if len(found) == 0 {
		return ""
	}
	return found[0]
}
