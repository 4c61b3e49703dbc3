package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"tarnwold/internal/proptest"
)

// props is a tree of this machine's own, and an estate linked to it in the
// folder the test stands in.
type props struct {
	t    *testing.T
	prog string
	root string
}

func newProps(t *testing.T) *props {
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED: owners are given away by root alone")
	}
	p := &props{t: t, prog: program(t), root: t.TempDir()}
	for d := p.root; d != "/tmp" && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	t.Chdir(t.TempDir())
	for _, d := range []string{"Workshop", "Workshop/Masks & wigs", "Box", "Shut"} {
		require.NoError(t, os.Mkdir(p.at(d), 0o755))
	}
	for _, f := range []string{"Workshop/plan.txt", "Workshop/run.sh", "Workshop/Masks & wigs/list.csv", "Box/bram's.txt", "Shut/in.txt"} {
		require.NoError(t, os.WriteFile(p.at(f), []byte("x"), 0o644))
	}
	require.NoError(t, os.Symlink("/etc/passwd", p.at("Workshop/link")))
	require.NoError(t, unix.Chmod(p.at("Box"), 0o1777))
	require.NoError(t, unix.Chmod(p.at("Workshop"), 0o2770))
	require.NoError(t, os.Chown(p.at("Workshop"), 71001, 81001))
	require.NoError(t, os.Chmod(p.at("Workshop/run.sh"), 0o750))
	require.NoError(t, os.Chown(p.at("Box/bram's.txt"), 71002, 81001))
	require.NoError(t, os.Chmod(p.at("Shut"), 0o700))
	require.NoError(t, os.WriteFile("passwd", []byte("root:x:0:0::/:\nines:x:71001:81001::/:\nbram:x:71002:81002::/:\npetra:x:71003:81003::/:\n"), 0o644))
	require.NoError(t, os.WriteFile("group", []byte("root:x:0:\nstage:x:81001:bram\nlighting:x:81002:\nfoyer:x:81003:\n"), 0o644))
	p.run(0, "init")
	p.run(0, "load", "accounts", "--passwd", "passwd", "--group", "group")
	p.run(0, "server", "add", "propstore", "--local")
	require.NotContains(t, p.run(0, "scan", "propstore", "--root", p.root, "--yes"), "in the estate alone", "it was read there")
	return p
}

func (p *props) at(rest string) string { return filepath.Join(p.root, rest) }

func (p *props) where(rest string) string { return "propstore:" + filepath.Join(p.root, rest) }

func (p *props) run(code int, args ...string) string {
	out, err := exec.Command(p.prog, args...).CombinedOutput()
	got := 0
	if e, ok := err.(*exec.ExitError); ok {
		got = e.ExitCode()
	} else {
		require.NoError(p.t, err)
	}
	require.Equal(p.t, code, got, "%v\n%s", args, out)
	return string(out)
}

// stand gives all that stands on a tree, byte for byte.
func (p *props) stand() map[string]string {
	out := map[string]string{}
	require.NoError(p.t, filepath.WalkDir(p.root, func(path string, _ os.DirEntry, err error) error {
		require.NoError(p.t, err)
		var st unix.Stat_t
		require.NoError(p.t, unix.Lstat(path, &st))
		s := fmt.Sprintf("%o %d %d", st.Mode, st.Uid, st.Gid)
		for _, attr := range []string{"system.posix_acl_access", "system.posix_acl_default"} {
			b := make([]byte, 4096)
			if n, err := unix.Lgetxattr(path, attr, b); err == nil {
				s += fmt.Sprintf(" %x", b[:n])
			}
		}
		out[strings.TrimPrefix(path, p.root)] = s
		return nil
	}))
	return out
}

// change is the number of the journal's last change.
func (p *props) change() string {
	line := strings.SplitN(p.run(0, "log", "--format", "csv"), "\n", 3)[1]
	n, _, _ := strings.Cut(line, ",")
	return n
}

// TestOwnTrees: what is granted, taken, sealed, owned and moded on the machine's
// own trees is written there, and taken back to the byte; what somebody changed
// there meanwhile is not written over.
func TestOwnTrees(t *testing.T) {
	p := newProps(t)
	for _, change := range [][]string{
		{"grant", "foyer", "read", p.where("Workshop")},
		{"grant", "foyer", "edit", p.where("Workshop"), "--scope", "here"},
		{"grant", "bram", "pass", p.where("Shut")},
		{"grant", "stage", "edit", p.where("Workshop")},
		{"grant", "ines", "read", p.where("Box/bram's.txt")},
		{"grant", "lighting", "add", p.where("Box"), "--scope", "here"},
		{"owner", p.where("Workshop"), "--to", "petra", "--below"},
		{"owner", p.where("Workshop/plan.txt"), "--to", "group:lighting"},
		{"mode", p.where("Workshop"), "--set", "g-w,o=", "--below"},
		{"mode", p.where("Box"), "--set", "2770"},
		{"mode", p.where("Workshop"), "--entry", "user:bram:rwx", "--entry", "default:group:foyer:r-x"},
	} {
		before := p.stand()
		head := p.change()
		out := p.run(0, append(change, "--yes", "--force")...)
		require.NotEqual(t, head, p.change(), "%v\n%s", change, out)
		require.Contains(t, out, "This goes to the real server propstore", "%v", change)
		require.NotEqual(t, before, p.stand(), "%v", change)
		require.Contains(t, p.run(0, "drift", "propstore"), "is as the estate has it", "%v", change)
		p.run(0, "undo", p.change(), "--yes", "--force")
		require.Equal(t, before, p.stand(), "%v", change)
	}
	// One on the other, and all of them back.
	start := p.stand()
	var kept []string
	for _, change := range [][]string{
		{"grant", "foyer", "read", p.where("Workshop")}, {"grant", "lighting", "edit", p.where("Workshop")}, {"replace", "lighting", "read", p.where("Workshop")},
		{"revoke", "foyer", p.where("Workshop")}, {"seal", p.where("Workshop"), "--keep"}, {"unseal", p.where("Workshop")}, {"reflow", p.where("Workshop")},
	} {
		head := p.change()
		p.run(0, append(change, "--yes", "--force")...)
		if p.change() != head {
			kept = append(kept, p.change())
		}
	}
	require.GreaterOrEqual(t, len(kept), 5)
	for i := len(kept) - 1; i >= 0; i-- {
		p.run(0, "undo", kept[i], "--yes", "--force")
	}
	require.Equal(t, start, p.stand())

	// Somebody was there: nothing is written.
	require.NoError(t, os.Chmod(p.at("Workshop/plan.txt"), 0o600))
	other := p.stand()
	out := p.run(3, "grant", "foyer", "read", p.where("Workshop"), "--yes")
	require.Contains(t, out, "has other rules on the server than in the estate")
	require.Equal(t, other, p.stand())
	require.Contains(t, p.run(1, "drift", "propstore"), "plan.txt")
	p.run(0, "scan", "propstore", "--yes", "--force")
	require.Contains(t, p.run(0, "drift", "propstore"), "is as the estate has it")

	// A link in the place of a folder: refused, and nothing outside is touched.
	require.NoError(t, os.Rename(p.at("Workshop"), p.at("Aside")))
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, p.at("Workshop")))
	was, err := os.Stat(outside)
	require.NoError(t, err)
	out = p.run(3, "mode", p.where("Workshop"), "--set", "0700", "--yes")
	require.Contains(t, out, "links are not followed")
	is, err := os.Stat(outside)
	require.NoError(t, err)
	require.Equal(t, was.Mode(), is.Mode())
}

// TestKilledOnOwnTrees: a change killed while it is written is whole, or is
// finished or taken back, with nothing lost.
func TestKilledOnOwnTrees(t *testing.T) {
	proptest.Long(t)
	p := newProps(t)
	for d := range 20 {
		require.NoError(t, os.Mkdir(p.at(fmt.Sprintf("Box/%d", d)), 0o755))
		for f := range 100 {
			require.NoError(t, os.WriteFile(p.at(fmt.Sprintf("Box/%d/%d", d, f)), nil, 0o644))
		}
	}
	p.run(0, "scan", "propstore", "--yes")
	before := p.stand()
	began := time.Now()
	p.run(0, "grant", "foyer", "edit", p.where("Box"), "--yes")
	took := time.Since(began)
	after := p.stand()
	p.run(0, "undo", p.change(), "--yes")
	lists := func() (out string) {
		for d := range 20 {
			buf := make([]byte, 1024)
			n, _ := syscall.Getxattr(p.at(fmt.Sprintf("Box/%d", d)), "system.posix_acl_access", buf)
			out += string(buf[:max(n, 0)]) + ";"
		}
		return out
	}
	was := lists()
	met := map[string]int{}
	for i := range 24 {
		c := exec.Command(p.prog, "grant", "foyer", "edit", p.where("Box"), "--yes")
		require.NoError(t, c.Start())
		if i%3 == 0 {
			time.Sleep(took * time.Duration(i+1) / 24) // at any moment
		} else {
			for end := time.Now().Add(time.Minute); lists() == was && time.Now().Before(end); { // while it writes
				time.Sleep(time.Millisecond)
			}
			time.Sleep(time.Duration(i) * time.Millisecond)
		}
		require.NoError(t, c.Process.Signal([]syscall.Signal{syscall.SIGKILL, syscall.SIGTERM}[i%2]))
		_ = c.Wait()
		torn := p.stand()
		out, err := exec.Command(p.prog, []string{"resume", "undo"}[i/2%2]).CombinedOutput()
		switch {
		case err != nil:
			require.Contains(t, string(out), "no change is unfinished")
			met["nothing left to do"]++
		case i/2%2 == 0:
			require.Equal(t, after, p.stand())
			met["finished"]++
		default:
			require.Equal(t, before, p.stand())
			met["taken back"]++
		}
		now := p.stand()
		if fmt.Sprint(now) != fmt.Sprint(before) {
			require.Equal(t, after, now)
			p.run(0, "undo", p.change(), "--yes")
		}
		require.Equal(t, before, p.stand())
		if fmt.Sprint(torn) != fmt.Sprint(before) && fmt.Sprint(torn) != fmt.Sprint(after) {
			met["torn"]++
		}
	}
	t.Log(met)
	require.Positive(t, met["torn"], "none was killed while it wrote: %v", met)
	p.run(0, "check")
}

// TestKilledInCalls: a change killed in a call that writes, to the tree or to the
// estate, is finished or taken back to the byte; and at no such moment may anybody
// what they may neither before nor after. TARNWOLD_LONG kills in each of them.
func TestKilledInCalls(t *testing.T) {
	proptest.Long(t)
	if _, err := exec.LookPath("strace"); err != nil {
		t.Skip("SKIPPED: kills in single calls, for there is no strace here")
	}
	p := newProps(t)
	p.run(0, "grant", "lighting", "read", p.where("Workshop"), "--yes")
	var items []string
	for name := range p.stand() {
		items = append(items, p.at(name))
	}
	slices.Sort(items)
	// What three people may, by the kernel's word.
	may := func() map[string]bool {
		out := map[string]bool{}
		for uid, groups := range map[uint32][]uint32{71001: {81001}, 71002: {81002, 81001}, 71003: {81003}} {
			c := exec.Command("/bin/sh", append([]string{"-c", `for f; do for a in r w x; do test -$a "$f" && echo "$a $f"; done; done; true`, "sh"}, items...)...)
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: groups[0], Groups: groups}}
			c.Dir = "/"
			got, err := c.Output()
			require.NoError(t, err)
			for line := range strings.Lines(string(got)) {
				out[fmt.Sprint(uid, " ", line)] = true
			}
		}
		return out
	}
	step := 8 // in calls to the estate; every one on the tree
	if os.Getenv("TARNWOLD_LONG") != "" {
		step = 1
	}
	met, kills := map[string]int{}, 0
	for _, args := range [][]string{{"grant", "foyer", "edit", p.where("Workshop")}, {"swap", "stage", "foyer", "--under", p.where("Workshop")}} {
		args = append(args, "--yes", "--force")
		before, could := p.stand(), may()
		p.run(0, args...)
		after, can := p.stand(), may()
		require.NotEqual(t, could, can)
		p.run(0, "undo", p.change(), "--yes", "--force")
		// The kernel counts the calls of each thread: a kind of calls alone is made by few.
		for _, calls := range []string{"fchownat", "fchmodat", "setxattr", "removexattr", "pwrite64,fdatasync,fsync,ftruncate,unlinkat,renameat"} {
			for n := 1; ; {
				require.Less(t, n, 2000)
				c := exec.Command("strace", append([]string{"-f", "-qq", "-o", "/dev/null", "-e", "trace=" + calls,
					"-e", fmt.Sprintf("inject=%s:signal=KILL:when=%d", calls, n), p.prog}, args...)...)
				c.Env = append(os.Environ(), "GOMAXPROCS=1")
				said, err := c.CombinedOutput()
				torn := p.stand()
				for what := range may() {
					require.True(t, could[what] || can[what], "killed in %s %d, there may: %s", calls, n, what)
				}
				if fmt.Sprint(torn) != fmt.Sprint(before) && fmt.Sprint(torn) != fmt.Sprint(after) {
					met["torn"]++
				}
				kills++
				did := []string{"resume", "undo"}[kills%2]
				if out, failed := exec.Command(p.prog, did).CombinedOutput(); failed != nil {
					require.Contains(t, string(out), "no change is unfinished")
					met["nothing left to do"]++
				} else {
					require.Equal(t, map[string]map[string]string{"resume": after, "undo": before}[did], p.stand(), did)
					met[did]++
				}
				if now := p.stand(); fmt.Sprint(now) != fmt.Sprint(before) {
					require.Equal(t, after, now)
					p.run(0, "undo", p.change(), "--yes", "--force")
				}
				require.Equal(t, before, p.stand())
				if err == nil {
					require.Contains(t, string(said), "Kept as change")
					break
				}
				if n++; strings.HasPrefix(calls, "pwrite64") {
					n += step - 1
				}
			}
		}
	}
	t.Log(met)
	require.Positive(t, met["torn"])
	require.Positive(t, met["resume"])
	require.Positive(t, met["undo"])
	p.run(0, "check")
}

// TestOwnTreesWithoutRoot: what the user this runs as may not read or write is
// said; the rest is read, and what they own is written.
// TestSizesOfOwnTrees: what a scan told of files' sizes is summed up by owner and by folder,
// and what no scan told of is said.
func TestSizesOfOwnTrees(t *testing.T) {
	p := newProps(t)
	require.NoError(t, os.WriteFile(p.at("Box/bram's.txt"), make([]byte, 2_500_000), 0o644))
	require.NoError(t, os.WriteFile(p.at("Workshop/plan.txt"), make([]byte, 1200), 0o644))
	p.run(0, "scan", "propstore", "--yes")
	require.Equal(t, "account,kind,files,bytes,files of unknown size\nbram,user,1,2500000,0\nroot,user,4,1203,0\n", p.run(0, "owned", "--sizes", "--format", "csv"))
	require.Equal(t, "account,kind,files,bytes,files of unknown size\nroot,user,3,1202,0\n", p.run(0, "owned", "--sizes", p.where("Workshop"), "--format", "csv"))
	require.Equal(t, "account,kind,files,bytes,files of unknown size\nbram,user,1,2500000,0\n", p.run(0, "owned", "bram", p.where("Box"), "--sizes", "--format", "csv"))
	said := p.run(0, "owned", "--sizes")
	require.Regexp(t, `bram +1 +2\.5 MB\n`, said)
	require.Contains(t, said, "2 owners, 5 files\ntogether 2.5 MB\n")
	require.Equal(t, "user,where,route,files,bytes,files of unknown size\nbram,"+p.where("Box")+",local,1,2500000,0\nbram,"+p.where("Workshop")+",local,1,1200,0\nbram,"+p.where("Workshop/Masks & wigs")+",local,1,1,0\n",
		p.run(0, "files", "bram", "--count", "--sizes", "--format", "csv"))
	require.Contains(t, p.run(2, "files", "bram", "--sizes"), "--sizes goes with --count")
	require.Contains(t, p.run(2, "owned"), "who? or with --sizes everybody")
	require.Contains(t, p.run(2, "owned", p.where("Box"), p.where("Box"), "--sizes"), "WHO comes first")
	require.Contains(t, p.run(2, "owned", "nobody-here", "--sizes"), "nobody-here")

	// Of what was loaded from a file no size is known.
	require.NoError(t, os.WriteFile("tree.csv", []byte("path,kind,owner,group,mode,access_acl,default_acl\n,folder,0,0,0755,,\na,file,bram,stage,0660,,\n"), 0o600))
	p.run(0, "server", "add", "box", "--traits", "posix")
	p.run(0, "load", "tree", "--posix", "tree.csv", "--at", "box:/srv")
	said = p.run(0, "owned", "--sizes")
	require.Regexp(t, `bram +2 +at least 2\.5 MB\n`, said)
	require.Contains(t, said, "of 1 file the size isn't known")
	require.Regexp(t, `bram +1 +unknown\n`, p.run(0, "owned", "--sizes", "box:/srv"))
}

func TestOwnTreesWithoutRoot(t *testing.T) {
	p := newProps(t)
	dir := t.TempDir()
	for d := dir; d != "/tmp" && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o777))
	}
	prog := filepath.Join(dir, "tarnwold")
	text, err := os.ReadFile(p.prog)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(prog, text, 0o755))
	for _, f := range []string{"passwd", "group"} {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, f), text, 0o644))
	}
	asBram := func(args ...string) (string, int) {
		c := exec.Command(prog, args...)
		c.Dir = dir
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 71002, Gid: 81002, Groups: []uint32{81001}}}
		out, err := c.CombinedOutput()
		if e, ok := err.(*exec.ExitError); ok {
			return string(out), e.ExitCode()
		}
		require.NoError(t, err)
		return string(out), 0
	}
	for _, c := range [][]string{{"init"}, {"load", "accounts", "--passwd", "passwd", "--group", "group"}, {"server", "add", "propstore", "--local"}} {
		out, code := asBram(c...)
		require.Zero(t, code, out)
	}
	out, code := asBram("scan", "propstore", "--root", p.root, "--yes")
	require.Equal(t, 3, code, out)
	require.Contains(t, out, "Shut")
	require.Contains(t, out, "the user this runs as may not")
	out, code = asBram("explain", "bram", p.where("Workshop/plan.txt"))
	require.Zero(t, code, out)
	require.Contains(t, out, "can open, rename and delete; can't save")
	out, code = asBram("grant", "petra", "edit", p.where("Box/bram's.txt"), "--yes")
	require.Zero(t, code, out)
	before := p.stand()
	out, code = asBram("grant", "petra", "edit", p.where("Workshop/plan.txt"), "--yes")
	require.Equal(t, 3, code, out)
	require.Contains(t, out, "owners change modes and lists, root all")
	require.Contains(t, out, "nothing was kept")
	require.Equal(t, before, p.stand())
	out, code = asBram("server", "test", "propstore")
	require.Equal(t, 1, code)
	require.Contains(t, out, "not as root")
}

// TestOnePersonTwoMachines: a machine's own accounts are known on it alone, a number is
// whoever the machine says, and what is somebody else's elsewhere isn't touched.
func TestOnePersonTwoMachines(t *testing.T) {
	p := newProps(t)
	require.NoError(t, os.Chown(p.at("Shut"), 1, 1)) // daemon, as on every such system
	p.run(0, "scan", "propstore", "--yes", "--force")
	p.run(0, "server", "add", "lathe", "--traits", "posix")
	require.NoError(t, os.WriteFile("tree.csv", []byte("path,kind,owner,group,mode\n,folder,1,1,0755\n"), 0o644))
	p.run(0, "load", "tree", "--posix", "tree.csv", "--at", "lathe:/srv")

	require.Contains(t, p.run(0, "show", p.where("Shut")), "owner daemon, group daemon")
	require.Contains(t, p.run(0, "show", "lathe:/srv"), "owner uid:1, group gid:1")
	require.Contains(t, p.run(0, "explain", "daemon", p.where("Shut")), "edit rwx as owner")
	require.Contains(t, p.run(1, "explain", "daemon", "lathe:/srv"), "the account is propstore's own, and nobody on lathe")
	require.NotContains(t, p.run(0, "who", "lathe:/srv"), "@propstore")
	require.Contains(t, p.run(0, "who", p.where("Shut")), "daemon@propstore")
	require.Contains(t, p.run(0, "user", "show", "daemon", "--on", "lathe"), "nobody on lathe")
	require.NotContains(t, p.run(0, "reach", "daemon"), "lathe")
	require.NotContains(t, p.run(0, "uses", "daemon"), "lathe")
	require.NotContains(t, p.run(0, "owned", "daemon"), "lathe")
	require.Contains(t, p.run(2, "explain", "daemon", "lathe:/srv", "--want", "read"), "nobody on lathe")
	require.Contains(t, p.run(2, "grant", "daemon", "read", "lathe:/srv", "--yes"), "somebody else's on lathe")
	require.Contains(t, p.run(2, "owner", "lathe:/srv", "--to", "daemon@propstore", "--yes"), "somebody else's on lathe")
	require.Contains(t, p.run(2, "strip", "daemon", "--owner-to", "root", "--yes"), "named on lathe:/srv too")
	require.Contains(t, p.run(2, "like", "daemon", "ines", "--yes"), "propstore's own account")
	require.NotContains(t, p.run(1, "findings", "--try=false"), "@propstore")
	require.Contains(t, p.run(1, "findings", "--kind", "nobody-owns", "--format", "csv"), "lathe:/srv")
	require.NotContains(t, p.run(1, "findings", "--kind", "nobody-owns", "--format", "csv"), "Shut")

	before := p.stand()
	p.run(0, "grant", "daemon", "read", p.where("Box"), "--yes", "--force")
	require.NotEqual(t, before, p.stand())
	p.run(0, "strip", "daemon", "--under", p.where("Box"), "--yes", "--force")
	p.run(0, "undo", p.change(), "--yes", "--force")
	require.Contains(t, p.run(0, "show", p.where("Box")), "user:daemon:")
	require.Contains(t, p.run(0, "realm", "list"), "propstore")
	p.run(2, "realm", "link", "propstore", "--with", "house")
	p.run(2, "realm", "link", "propstore")
	p.run(2, "realm", "unlink", "propstore")
	require.Contains(t, p.run(0, "check"), "nothing is wrong")
}
