//go:build unix

package smbtest

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/server/ldap/ldaptest"
)

// Domain is a domain controller that runs in a network namespace of its own,
// where it has the ports a domain has: SMB 445, LDAP 389 and 636, Kerberos 88.
type Domain struct {
	Name  string // QUILLFEATHER
	Realm string // QUILLFEATHER.EXAMPLE
	Host  string // its name, as tickets have it
	Dir   string // the shares' folders are below, by the share's name
	Krb5  string // a configuration for Kerberos
	NS    string // its network namespace
	Conf  string // its configuration
	TLS   string // a folder with the certificate it shows, and ca.pem of who signed that
	pid   int
}

// Administrator's password.
const Administrator = "Curtain-Call-9"

// StartDomain provisions and starts a domain with shares; where that can't be
// done here the test is passed over.
func StartDomain(t testing.TB, shares ...string) *Domain {
	for _, tool := range []string{"samba", "samba-tool", "ip"} {
		if _, err := exec.LookPath(tool); err != nil || os.Geteuid() != 0 {
			t.Skip("*** SKIPPED: a real domain needs root, samba-ad-dc, samba-ad-provision and iproute2 ***")
		}
	}
	dir, err := os.MkdirTemp("", "tarnwold-dc-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	d := &Domain{Name: "QUILLFEATHER", Realm: "QUILLFEATHER.EXAMPLE", Dir: dir, NS: filepath.Base(dir), Conf: filepath.Join(dir, "etc", "smb.conf")}
	run := func(name string, args ...string) {
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
	}
	if out, err := exec.Command("ip", "netns", "add", d.NS).CombinedOutput(); err != nil {
		_ = os.RemoveAll(dir)
		t.Skipf("*** SKIPPED: a real domain needs network namespaces: %s ***", out)
	}
	t.Cleanup(func() {
		if d.pid != 0 {
			_ = syscall.Kill(-d.pid, syscall.SIGKILL)
		}
		endOf(dir)
		// What it started by itself is in its namespace, and nothing else is.
		out, _ := exec.Command("ip", "netns", "pids", d.NS).Output()
		for _, pid := range strings.Fields(string(out)) {
			var n int
			if _, err := fmt.Sscan(pid, &n); err == nil && n != os.Getpid() {
				_ = syscall.Kill(n, syscall.SIGKILL)
			}
		}
		_ = exec.Command("ip", "netns", "del", d.NS).Run()
		_ = os.RemoveAll(filepath.Join("/etc/netns", d.NS))
		_ = os.RemoveAll(dir)
	})
	run("ip", "-n", d.NS, "link", "set", "lo", "up")
	host, err := os.Hostname()
	require.NoError(t, err)
	d.Host = strings.ToLower(host) + "." + strings.ToLower(d.Realm)
	names := filepath.Join("/etc/netns", d.NS) // what is known by name in its network
	require.NoError(t, os.MkdirAll(names, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(names, "hosts"), []byte("127.0.0.1 localhost "+d.Host+" "+host+"\n"), 0o644))
	// What a machine's own configuration says (shares of everybody's home, printers) would be taken along.
	bare := filepath.Join(dir, "bare.conf")
	require.NoError(t, os.WriteFile(bare, []byte("[global]\n"), 0o644))
	run("ip", "netns", "exec", d.NS, "samba-tool", "domain", "provision", "--configfile="+bare, "--use-rfc2307", "--realm="+d.Realm, "--domain="+d.Name, "--server-role=dc",
		"--dns-backend=SAMBA_INTERNAL", "--targetdir="+dir, "--adminpass="+Administrator, "--option=interfaces=lo", "--option=bind interfaces only=yes")
	text, err := os.ReadFile(d.Conf)
	require.NoError(t, err)
	conf := string(text)
	d.TLS = filepath.Join(dir, "shown")
	require.NoError(t, os.Mkdir(d.TLS, 0o700))
	ldaptest.Certificate{Name: d.Host}.Write(t, d.TLS)
	conf = strings.Replace(conf, "[global]\n", fmt.Sprintf("[global]\ntls enabled = yes\ntls certfile = %[1]s/cert.pem\ntls keyfile = %[1]s/key.pem\ntls cafile = %[1]s/ca.pem\nldap server require strong auth = allow_sasl_over_tls\n", d.TLS), 1)
	for _, s := range shares {
		path := filepath.Join(dir, "shares", "all") // all of one folder
		require.NoError(t, os.MkdirAll(path, 0o777))
		require.NoError(t, os.Chmod(path, 0o777))
		conf += fmt.Sprintf("[%s]\npath = %s\nread only = %s\nadmin users = %s\\Administrator\nvfs objects = dfs_samba4 acl_xattr\nacl_xattr:ignore system acls = yes\ninherit acls = yes\ncreate mask = 0777\ndirectory mask = 0777\nforce create mode = 0777\nforce directory mode = 0777\n", s, path, readOnly(s), d.Name)
	}
	require.NoError(t, os.WriteFile(d.Conf, []byte(conf), 0o644))
	d.Krb5 = filepath.Join(dir, "krb5.conf")
	require.NoError(t, os.WriteFile(d.Krb5, []byte(fmt.Sprintf("[libdefaults]\ndefault_realm = %[1]s\ndns_lookup_kdc = false\ndns_lookup_realm = false\nrdns = false\n[realms]\n%[1]s = {\nkdc = 127.0.0.1\nadmin_server = 127.0.0.1\n}\n[domain_realm]\n.%[2]s = %[1]s\n", d.Realm, strings.ToLower(d.Realm))), 0o644))
	// What it keeps where every such server would is its own, in its mount namespace.
	cmd := exec.Command("ip", "netns", "exec", d.NS, "sh", "-c", `mkdir -p /run/samba && mount -t tmpfs none /run/samba && exec samba -i --configfile="$0"`, d.Conf)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	said, err := os.Create(filepath.Join(dir, "said"))
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = said, said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		if t.Failed() {
			text, _ := os.ReadFile(said.Name())
			t.Logf("the domain said: %s", text)
		}
	})
	d.pid = cmd.Process.Pid
	go func() { _ = cmd.Wait() }()
	return d
}

// inside is the environment by which a test knows the domain it runs in.
const inside = "TARNWOLD_TEST_DOMAIN"

// Run runs tests of the same program inside the domain's network: InDomain
// gives it to them.
func (d *Domain) Run(t testing.TB, tests string) {
	js, err := json.Marshal(d)
	require.NoError(t, err)
	self, err := os.Executable()
	require.NoError(t, err)
	c := exec.Command("ip", "netns", "exec", d.NS, self, "-test.run", tests, "-test.v", "-test.timeout", "20m")
	c.Env = append(os.Environ(), inside+"="+string(js), "KRB5_CONFIG="+d.Krb5)
	out, err := c.CombinedOutput()
	t.Logf("%s", out)
	require.NoError(t, err)
	require.Contains(t, string(out), "--- PASS", "it ran")
}

// InDomain gives the domain a test runs in; one that runs in none is passed over.
func InDomain(t testing.TB) *Domain {
	js := os.Getenv(inside)
	if js == "" {
		t.Skip("*** RUN BY another test, within a domain's network ***")
	}
	d := &Domain{}
	require.NoError(t, json.Unmarshal([]byte(js), d))
	for range 300 {
		up := 0
		for _, port := range []int{445, 88, 389} {
			if c, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second); err == nil {
				c.Close()
				up++
			}
		}
		if up == 3 && d.lets() {
			return d
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Fatal("the domain doesn't come up")
	return nil
}

// lets tells whether the domain signs its administrator on, services and all.
func (d *Domain) lets() bool {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	c, err := (&smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: "Administrator", Password: Administrator, Domain: d.Name}}).Dial(ctx, "127.0.0.1:445")
	if err != nil {
		return false
	}
	defer func() { _ = c.Logoff() }()
	_, err = c.WithContext(ctx).ListSharenames()
	return err == nil
}

// Tool runs a set-up command of the domain: accounts and groups come by it.
func (d *Domain) Tool(t testing.TB, args ...string) {
	out, err := exec.Command("samba-tool", append(args, "--configfile="+d.Conf)...).CombinedOutput()
	require.NoError(t, err, "samba-tool %v: %s", args, out)
}
