package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"tarnwold/internal/plan"
	"tarnwold/internal/proptest"
)

// TestHardLinks: a file under two names in the tree is written once, and its
// changes go on working; one with a name elsewhere is left out and told, and
// stays in the estate as it is, unless that is forced.
func TestHardLinks(t *testing.T) {
	p := newProps(t)
	elsewhere := filepath.Join(filepath.Dir(p.root), "payroll.csv")
	require.NoError(t, os.WriteFile(elsewhere, []byte("x"), 0o600))
	require.NoError(t, os.Link(p.at("Workshop/plan.txt"), p.at("Workshop/Masks & wigs/plan too.txt")))
	require.NoError(t, os.Link(elsewhere, p.at("Workshop/harmless.txt")))
	out := p.run(0, "scan", "propstore", "--root", p.root, "--yes")
	require.Contains(t, out, "Note: 3 items under several names (hard links): who changes one changes all")
	start := p.stand()
	for range 3 { // and again, and again
		out = p.run(0, "grant", "foyer", "read", p.where("Workshop"), "--yes")
		require.Contains(t, out, "Left out, and as it is: "+p.where("Workshop/harmless.txt")+": the file stands under 2 names, of which this changes 1: whoever comes by another would have it too; --force changes it all the same")
		require.Contains(t, p.run(0, "drift", "propstore"), "is as the estate has it")
		now := p.stand()
		require.Equal(t, start["/Workshop/harmless.txt"], now["/Workshop/harmless.txt"])
		require.NotEqual(t, start["/Workshop/plan.txt"], now["/Workshop/plan.txt"])
		require.Equal(t, now["/Workshop/plan.txt"], now["/Workshop/Masks & wigs/plan too.txt"])
		p.run(0, "check")
		p.run(0, "undo", p.change(), "--yes")
		require.Equal(t, start, p.stand())
		p.run(0, "drift", "propstore")
	}
	// What is foretold is foretold by a dry run, too.
	require.Contains(t, p.run(0, "grant", "foyer", "read", p.where("Workshop"), "--dry-run"), "Left out, and as it is")
	// Nothing but that: nothing is written.
	head := p.change()
	out = p.run(3, "grant", "foyer", "read", p.where("Workshop/harmless.txt"), "--yes")
	require.Contains(t, out, "the file stands under 2 names")
	require.Equal(t, head, p.change())
	p.run(0, "grant", "foyer", "read", p.where("Workshop"), "--yes", "--force")
	require.NotEqual(t, start["/Workshop/harmless.txt"], p.stand()["/Workshop/harmless.txt"])
	p.run(0, "drift", "propstore")
	// Two names, two rules: nobody can write that.
	p.run(0, "undo", p.change(), "--yes", "--force")
	require.Equal(t, start, p.stand())
}

// TestMountedBelow: what is mounted in a tree isn't written to, be it a folder
// or a file bound over another, and doesn't stop the rest.
func TestMountedBelow(t *testing.T) {
	p := newProps(t)
	other := t.TempDir()
	require.NoError(t, os.Chmod(other, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(other, "secret"), nil, 0o600))
	mount := func(from, to string) {
		if err := unix.Mount(from, to, "", unix.MS_BIND, ""); err != nil {
			t.Skipf("SKIPPED: nothing can be mounted here: %v", err)
		}
		t.Cleanup(func() { _ = unix.Unmount(to, unix.MNT_DETACH) })
	}
	require.NoError(t, os.Mkdir(p.at("Workshop/mnt"), 0o755))
	require.NoError(t, os.WriteFile(p.at("Workshop/over.txt"), nil, 0o644))
	p.run(0, "scan", "propstore", "--root", p.root, "--yes")
	mount(other, p.at("Workshop/mnt")) // after it was read
	mount(filepath.Join(other, "secret"), p.at("Workshop/over.txt"))
	out := p.run(0, "grant", "foyer", "read", p.where("Workshop"), "--yes")
	for _, x := range []string{"mnt", "over.txt"} {
		require.Contains(t, out, "Left out, and as it is: "+p.where("Workshop/"+x)+": something is mounted there")
	}
	for path, mode := range map[string]os.FileMode{other: 0o700, filepath.Join(other, "secret"): 0o600} {
		st, err := os.Stat(path)
		require.NoError(t, err)
		require.Equal(t, mode, st.Mode().Perm())
		n, _ := unix.Getxattr(path, "system.posix_acl_access", nil)
		require.LessOrEqual(t, n, 0)
	}
	require.Contains(t, p.run(0, "explain", "petra", p.where("Workshop/plan.txt")), "can open")
	p.run(0, "undo", p.change(), "--yes")
	p.run(0, "check")
}

// TestLongPaths: what lies deeper than any path the system takes at once is
// read and written like all else.
func TestLongPaths(t *testing.T) {
	p := newProps(t)
	fd, err := unix.Open(p.at("Workshop"), unix.O_DIRECTORY, 0)
	require.NoError(t, err)
	name := strings.Repeat("n", 200)
	deep := "Workshop"
	for range 30 { // 6,000 bytes
		require.NoError(t, unix.Mkdirat(fd, name, 0o755))
		next, err := unix.Openat(fd, name, unix.O_DIRECTORY, 0)
		require.NoError(t, err)
		unix.Close(fd)
		fd, deep = next, deep+"/"+name
	}
	f, err := unix.Openat(fd, "end.txt", unix.O_CREAT|unix.O_RDWR, 0o644)
	require.NoError(t, err)
	unix.Close(f)
	mode := func() (m uint32) {
		var st unix.Stat_t
		require.NoError(t, unix.Fstatat(fd, "end.txt", &st, 0))
		return st.Mode & 0o7777
	}
	p.run(0, "scan", "propstore", "--root", p.root, "--yes")
	require.Contains(t, p.run(0, "show", p.where(deep+"/end.txt")), "end.txt")
	p.run(0, "mode", p.where("Workshop"), "--set", "o=", "--below", "--yes", "--force")
	require.Equal(t, uint32(0o640), mode())
	p.run(0, "drift", "propstore")
	p.run(0, "undo", p.change(), "--yes", "--force")
	require.Equal(t, uint32(0o644), mode())
	unix.Close(fd)
	require.NoError(t, os.RemoveAll(p.at("Workshop/"+name)))
}

// TestRunsAsAgain: a bit that makes a program run as its owner isn't put back on
// a file that has been changed since, by no command that puts things back,
// unless that is forced; on one that hasn't it is.
func TestRunsAsAgain(t *testing.T) {
	proptest.Long(t)
	p := newProps(t)
	run := p.at("Workshop/run.sh")
	require.NoError(t, unix.Chmod(run, 0o4755))
	p.run(0, "scan", "propstore", "--root", p.root, "--yes")
	mode := func() (m uint32) {
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(run, &st))
		return st.Mode & 0o7777
	}
	for _, replace := range []func(){
		nil,
		func() { require.NoError(t, os.WriteFile(run, []byte("evil"), 0o755)) },
		func() { // another file of the same size, times and mode
			var st unix.Stat_t
			require.NoError(t, unix.Lstat(run, &st))
			require.NoError(t, os.WriteFile(run+".new", []byte("y"), 0o755))
			require.NoError(t, unix.UtimesNanoAt(unix.AT_FDCWD, run+".new", []unix.Timespec{st.Atim, st.Mtim}, 0))
			require.NoError(t, os.Lchown(run+".new", int(st.Uid), int(st.Gid)))
			require.NoError(t, unix.Chmod(run+".new", st.Mode&0o777))
			require.NoError(t, os.Rename(run+".new", run))
		},
	} {
		p.run(0, "mode", p.where("Workshop/run.sh"), "--set", "u-s", "--yes", "--force")
		require.Equal(t, uint32(0o755), mode())
		n := p.change()
		if replace == nil {
			p.run(0, "undo", n, "--yes")
			require.Equal(t, uint32(0o4755), mode())
			continue
		}
		time.Sleep(2100 * time.Millisecond) // the journal tells seconds
		replace()
		out := p.run(0, "undo", n, "--dry-run")
		require.Contains(t, out, "would run as its owner or group again, whoever starts it, and has been changed since it last did")
		out = p.run(1, "undo", n, "--yes")
		require.Contains(t, out, "would run as its owner or group again")
		require.Equal(t, uint32(0o755), mode())
		p.run(0, "undo", n, "--yes", "--force")
		require.Equal(t, uint32(0o4755), mode())
		require.Contains(t, p.run(0, "log"), "runs-as")
		// And so does making again what was taken back, and what was saved.
		p.run(0, "mode", p.where("Workshop/run.sh"), "--set", "u-s", "--yes", "--force")
		p.run(0, "mode", p.where("Workshop/run.sh"), "--set", "u+s", "--save", "later.json", "--force")
		time.Sleep(2100 * time.Millisecond)
		replace()
		out = p.run(1, "apply", "later.json", "--yes")
		require.Contains(t, out, "would run as its owner or group again")
		require.Equal(t, uint32(0o755), mode())
		p.run(0, "apply", "later.json", "--yes", "--force")
		require.Equal(t, uint32(0o4755), mode())
		require.NoError(t, os.Remove("later.json"))
	}
}

// TestPartly: what can't be written is named, and nothing is written; with
// --partly it is left out, told, and in the estate as it is.
func TestPartly(t *testing.T) {
	p := newProps(t)
	require.NoError(t, os.Remove(p.at("Workshop/plan.txt"))) // somebody took it away
	before := p.stand()
	out := p.run(3, "grant", "foyer", "read", p.where("Workshop"), "--yes")
	require.Contains(t, out, p.where("Workshop/plan.txt"))
	require.Contains(t, out, "nothing was written; --partly leaves out what can't be written, and keeps the rest")
	require.Equal(t, before, p.stand())
	out = p.run(0, "grant", "foyer", "read", p.where("Workshop"), "--yes", "--partly")
	require.Contains(t, out, "Left out, and as it is: "+p.where("Workshop/plan.txt"))
	require.NotEqual(t, before, p.stand())
	require.NotContains(t, p.run(0, "show", p.where("Workshop/plan.txt")), "foyer")
	require.Contains(t, p.run(0, "show", p.where("Workshop/run.sh")), "foyer")
	p.run(0, "check")
}

// TestANightTellsWhatSomebodyDid: what somebody changed on a server between two
// nights is something to look at, with who gains and what takes it back; with
// --report-only nothing is kept.
func TestANightTellsWhatSomebodyDid(t *testing.T) {
	p := newProps(t)
	require.NoError(t, unix.Chmod(p.at("Workshop/plan.txt"), 0o646))
	require.NoError(t, os.WriteFile(p.at("Workshop/new.txt"), nil, 0o644))
	night := func(more ...string) (items []map[string]any, fine []any) {
		p.run(1, append([]string{"nightly", "--to", "nights"}, more...)...)
		text, err := os.ReadFile("nights/night-" + time.Now().Format(time.DateOnly) + ".json")
		require.NoError(t, err)
		var n struct {
			Sections []struct {
				Name  string
				Items []map[string]any
				Fine  []any
			}
		}
		require.NoError(t, json.Unmarshal(text, &n))
		for _, s := range n.Sections {
			if s.Name == "scans" {
				return s.Items, s.Fine
			}
		}
		return nil, nil
	}
	head := p.change()
	items, _ := night("--report-only")
	require.Equal(t, head, p.change())
	require.NotEmpty(t, items)
	require.Nil(t, items[0]["mended-by"], "nothing was kept that could be taken back")
	items, _ = night()
	require.NotEqual(t, head, p.change())
	require.Equal(t, p.where("Workshop/plan.txt"), items[0]["where"])
	require.Regexp(t, `other::rw- comes; .*bram gain `, items[0]["text"])
	undo := strings.Fields(items[0]["mended-by"].(string))
	require.Equal(t, []string{"tarnwold", "undo"}, undo[:2])
	p.run(0, "undo", undo[2], "--yes")
	var st unix.Stat_t
	require.NoError(t, unix.Lstat(p.at("Workshop/plan.txt"), &st))
	require.Equal(t, uint32(0o644), st.Mode&0o777)
	items, fine := night()
	require.Empty(t, items)
	require.Equal(t, []any{"propstore: as it was"}, fine)
}

// TestMuchGoneAtOnce: what takes away more than a tenth of what a server had
// stops, however it is run, until it is forced or allowed.
func TestMuchGoneAtOnce(t *testing.T) {
	p := newProps(t)
	for i := range 40 {
		require.NoError(t, os.WriteFile(p.at(fmt.Sprintf("Workshop/%02d", i)), nil, 0o644))
	}
	p.run(0, "scan", "propstore", "--yes")
	head := p.change()
	for i := range 12 {
		require.NoError(t, os.Remove(p.at(fmt.Sprintf("Workshop/%02d", i))))
	}
	out := p.run(1, "scan", "propstore", "--yes")
	require.Regexp(t, `12 of 5\d items would be gone at once, which may be a mistake where they are kept`, out)
	require.Equal(t, head, p.change())
	p.run(1, "nightly", "--to", "nights")
	require.Equal(t, head, p.change())
	p.run(1, "scan", "propstore", "--yes", "--may-lose", "5")
	p.run(0, "scan", "propstore", "--yes", "--may-lose", "30")
	require.NotEqual(t, head, p.change())
	for i := 12; i < 40; i++ {
		require.NoError(t, os.Remove(p.at(fmt.Sprintf("Workshop/%02d", i))))
	}
	p.run(1, "scan", "propstore", "--yes")
	p.run(0, "scan", "propstore", "--yes", "--force")
	require.Contains(t, p.run(0, "log"), "loses-much")
}

// TestWhatIsMadeFromThenOn: a change that gives new files otherwise than what is
// there says so, and the kernel gives them so.
func TestWhatIsMadeFromThenOn(t *testing.T) {
	p := newProps(t)
	for _, f := range []string{"Box/bram's.txt"} {
		require.NoError(t, os.Remove(p.at(f)))
	}
	p.run(0, "scan", "propstore", "--yes")
	made := func(name string) uint32 { // by somebody who is nobody here
		c := exec.Command("sh", "-c", "umask 022; : > \"$0\"", p.at("Box/"+name))
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 79001, Gid: 79001}}
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(p.at("Box/"+name), &st))
		return st.Mode & 0o777
	}
	require.Equal(t, uint32(0o644), made("before"))
	require.NoError(t, os.Remove(p.at("Box/before")))
	out := p.run(0, "grant", "foyer", "read", p.where("Box"), "--yes", "--force")
	require.Regexp(t, `New files in .*Box: .*bram.* read r-- → revise rw-\.`, out)
	require.Equal(t, uint32(0o666), made("after"), "as it was said")
	require.NoError(t, os.Remove(p.at("Box/after")))
	p.run(0, "undo", p.change(), "--yes", "--force")
	require.Equal(t, uint32(0o644), made("again"))
	// Who can't get into a folder loses nothing of what is made in it.
	var all plan.Plan
	require.NoError(t, json.Unmarshal([]byte(p.run(0, "grant", "foyer", "read", p.where(""), "--dry-run", "--format", "json")), &all))
	require.NotEmpty(t, all.NewItems)
	for _, x := range all.NewItems {
		if x.Where == p.where("Shut") {
			require.NotContains(t, x.Users, "ines")
		}
	}
	// Narrowing the owning group narrows what it is handed.
	require.NoError(t, unix.Chmod(p.at("Workshop"), 0o2775))
	p.run(0, "scan", "propstore", "--yes")
	p.run(0, "replace", "stage", "read", p.where("Workshop"), "--yes", "--force")
	require.Contains(t, p.run(0, "show", p.where("Workshop")), "default:group::r-x")
}
