package acltext

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/internal/proptest"
)

// TestMain is, in a process of its own, a user who tries what they are told.
func TestMain(m *testing.M) {
	if os.Getenv("TARNWOLD_TRIES") != "" {
		tryAll(os.Stdin, os.Stdout)
		return
	}
	os.Exit(m.Run())
}

// tryAll does what each line says, and answers in a line.
func tryAll(in io.Reader, out io.Writer) {
	s := bufio.NewScanner(in)
	w := bufio.NewWriter(out)
	defer w.Flush()
	ok := func(err error) string {
		switch {
		case err == nil:
			return "1"
		case errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM):
			return "0"
		}
		return "! " + err.Error()
	}
	for s.Scan() {
		f := strings.Split(s.Text(), "\t")
		switch f[0] {
		case "access":
			var mode uint32
			fmt.Sscan(f[2], &mode)
			fmt.Fprintln(w, ok(syscall.Access(f[1], mode)))
		case "open":
			fd, err := syscall.Open(f[1], syscall.O_RDWR|syscall.O_CLOEXEC, 0)
			if err == nil {
				syscall.Close(fd)
			}
			fmt.Fprintln(w, ok(err))
		case "make":
			var mode uint32
			var umask int
			fmt.Sscan(f[3]+" "+f[4], &mode, &umask)
			syscall.Umask(umask)
			var err error
			if f[2] == "folder" {
				err = syscall.Mkdir(f[1], mode)
			} else {
				var fd int
				if fd, err = syscall.Open(f[1], syscall.O_CREAT|syscall.O_EXCL|syscall.O_WRONLY|syscall.O_CLOEXEC, mode); err == nil {
					syscall.Close(fd)
				}
			}
			fmt.Fprintln(w, ok(err))
		case "rename":
			err := syscall.Rename(f[1], f[2])
			if err == nil {
				err = syscall.Rename(f[2], f[1])
			}
			fmt.Fprintln(w, ok(err))
		}
	}
}

// person is a user of the test, by numbers alone.
type person struct {
	uid, gid uint32
	groups   []uint32
}

func (p *person) is(id account.ID) bool {
	n, user, ok := id.POSIX()
	if !ok {
		return false
	}
	if user {
		return n == p.uid
	}
	return n == p.gid || slices.Contains(p.groups, n)
}

// tries has a person do things in a process that has taken on their numbers.
func (p *person) tries(t *testing.T, lines []string) []string {
	c := exec.Command(program(t))
	c.Env = append(os.Environ(), "TARNWOLD_TRIES=1")
	c.Dir = "/"
	c.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: p.uid, Gid: p.gid, Groups: p.groups}}
	out, err := c.Output()
	require.NoError(t, err)
	got := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, got, len(lines))
	return got
}

// program is this test's own program where everybody may start it.
func program(t *testing.T) string {
	self, err := os.Executable()
	require.NoError(t, err)
	path := filepath.Join(os.TempDir(), fmt.Sprint("tarnwold-tries-", os.Getpid()))
	if _, err := os.Stat(path); err == nil {
		return path
	}
	text, err := os.ReadFile(self)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, text, 0o755))
	require.NoError(t, os.Chmod(path, 0o755)) // whatever the umask
	t.Cleanup(func() { os.Remove(path) })
	return path
}

// grove is a random tree on a real file system.
type grove struct {
	r     *rand.Rand
	top   string
	items []string // folders before what is in them
	rules map[string]*posix.Rules
	who   []person
}

const firstUID, firstGID = 70_001, 71_001

func (g *grove) list(r *posix.Rules, mode uint16) posix.List {
	l := posix.Of(mode)
	if g.r.IntN(2) == 0 {
		return l
	}
	perm := func() posix.Perm { return posix.Perm(g.r.IntN(8)) }
	for _, p := range g.who {
		if g.r.IntN(4) == 0 {
			l = append(l, posix.Entry{Tag: posix.User, Who: account.UID(p.uid), Perm: perm()})
		}
	}
	for i := range 4 {
		if g.r.IntN(3) == 0 {
			l = append(l, posix.Entry{Tag: posix.Group, Who: account.GID(firstGID + uint32(i)), Perm: perm()})
		}
	}
	l = append(l, posix.Entry{Tag: posix.Mask, Perm: perm()})
	slices.SortStableFunc(l, func(a, b posix.Entry) int { return int(a.Tag) - int(b.Tag) })
	_ = r
	return l
}

const (
	accessAttr  = "system.posix_acl_access"
	defaultAttr = "system.posix_acl_default"
)

// set gives an item rules, and holds what the kernel then has against them.
func (g *grove) set(t *testing.T, path string, x *posix.Rules) {
	uid, _, _ := x.Owner.POSIX()
	gid, _, _ := x.Group.POSIX()
	require.NoError(t, os.Chown(path, int(uid), int(gid)))
	require.NoError(t, syscall.Chmod(path, uint32(x.Mode())))
	put := func(attr string, l posix.List) {
		raw, err := Encode(l, NumberOf)
		require.NoError(t, err)
		require.NoError(t, syscall.Setxattr(path, attr, raw, 0))
	}
	if x.Access.Extended() {
		put(accessAttr, x.Access)
	}
	if x.Default != nil {
		put(defaultAttr, x.Default)
	}
	require.True(t, x.Same(read(t, path)), "%s: %+v is %+v", path, x, read(t, path))
}

// read reads the rules a kernel has for an item.
func read(t *testing.T, path string) *posix.Rules {
	var st syscall.Stat_t
	require.NoError(t, syscall.Lstat(path, &st))
	x := &posix.Rules{Folder: st.Mode&syscall.S_IFMT == syscall.S_IFDIR, Owner: account.UID(st.Uid), Group: account.GID(st.Gid), Special: uint16(st.Mode) & 0o7000, Access: posix.Of(uint16(st.Mode) & 0o777)}
	get := func(attr string) posix.List {
		b := make([]byte, 4096)
		n, err := syscall.Getxattr(path, attr, b)
		if errors.Is(err, syscall.ENODATA) {
			return nil
		}
		require.NoError(t, err)
		l, err := Decode(b[:n])
		require.NoError(t, err)
		return l
	}
	if l := get(accessAttr); l != nil {
		x.Access = l
	}
	if x.Folder {
		x.Default = get(defaultAttr)
	}
	return x
}

// plant makes a random tree.
func plant(t *testing.T, seed uint64) *grove {
	g := &grove{r: rand.New(rand.NewPCG(seed, 7)), top: t.TempDir(), rules: map[string]*posix.Rules{}}
	for dir := g.top; strings.HasPrefix(dir, os.TempDir()+"/"); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	for i := range uint32(8) {
		p := person{uid: firstUID + i, gid: firstGID + i%4}
		for k := range uint32(4) {
			if g.r.IntN(3) == 0 {
				p.groups = append(p.groups, firstGID+k)
			}
		}
		g.who = append(g.who, p)
	}
	modes := []uint16{0o755, 0o775, 0o770, 0o711, 0o1777, 0o2775, 0o777, 0o555, 0o733}
	folders := []string{g.top}
	g.rules[g.top] = read(t, g.top)
	for i := range 160 {
		in := folders[g.r.IntN(len(folders))]
		path := filepath.Join(in, fmt.Sprint("item ", i))
		folder := i < 12 || g.r.IntN(3) == 0
		if folder {
			require.NoError(t, os.Mkdir(path, 0o700))
		} else {
			require.NoError(t, os.WriteFile(path, nil, 0o600))
		}
		mode := modes[g.r.IntN(len(modes))]
		if !folder || g.r.IntN(4) == 0 {
			mode = uint16(g.r.IntN(0o1000))
		}
		x := &posix.Rules{Folder: folder, Owner: account.UID(g.who[g.r.IntN(8)].uid), Group: account.GID(firstGID + uint32(g.r.IntN(4))), Special: mode & 0o7000, Access: posix.Of(mode)}
		if g.r.IntN(5) == 0 {
			x.Owner = account.UID(0)
		}
		x.Access = g.list(x, mode)
		// What a folder hands to what comes; but what the test itself makes in it
		// comes before it is set.
		if folder && g.r.IntN(2) == 0 {
			x.Default = g.list(x, uint16(g.r.IntN(0o1000)))
		}
		g.rules[path] = x
		g.items = append(g.items, path)
		if folder && strings.Count(path, "/")-strings.Count(g.top, "/") < 5 {
			folders = append(folders, path)
		}
	}
	for _, path := range slices.Backward(g.items) { // what is in a folder before it
		g.set(t, path, g.rules[path])
	}
	return g
}

// gate tells whether every folder above an item lets somebody through.
func (g *grove) gate(path string, p *person) bool {
	for path != g.top {
		path = filepath.Dir(path)
		if ok, _ := g.rules[path].Permits(p.is, posix.X); !ok {
			return false
		}
	}
	return true
}

// TestAsTheKernelDecides holds decisions, new items and renames on random trees
// to this machine's kernel, asked by processes that have taken on the users'
// numbers.
func TestAsTheKernelDecides(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("*** SKIPPED: taking on other users' numbers needs root ***")
	}
	probe := t.TempDir()
	raw, err := Encode(posix.Of(0o755), NumberOf)
	require.NoError(t, err)
	if err := syscall.Setxattr(probe, defaultAttr, raw, 0); err != nil {
		t.Skip("*** SKIPPED: the file system of " + probe + " keeps no access control lists: " + err.Error() + " ***")
	}
	want, wantMade := 150_000, 0
	if proptest.Short() {
		want = 40_000
	}
	if os.Getenv("TARNWOLD_LONG") != "" {
		want, wantMade = 1_000_000, 100_000
	}
	decisions, made, renames := 0, 0, 0
	met := map[string]int{}
	for seed := uint64(1); decisions < want || made < wantMade; seed++ {
		g := plant(t, seed)
		n := 0
		for i := range g.who {
			p := &g.who[i]
			var lines []string
			var expect []bool
			ask := func(may bool, format string, args ...any) {
				lines, expect = append(lines, fmt.Sprintf(format, args...)), append(expect, may)
			}
			check := func(what string) {
				for k, got := range p.tries(t, lines) {
					require.Equal(t, map[bool]string{true: "1", false: "0"}[expect[k]], got, "seed %d, %s, user %d in %d and %v: %s\n%+v", seed, what, p.uid, p.gid, p.groups, lines[k], g.rules[strings.Split(lines[k], "\t")[1]])
					met[what+" "+got]++
				}
				lines, expect = nil, nil
			}
			for _, path := range g.items {
				x, gate := g.rules[path], g.gate(path, p)
				for _, perm := range []posix.Perm{posix.R, posix.W, posix.X, posix.R | posix.W, posix.W | posix.X, posix.R | posix.X} {
					ok, _ := x.Permits(p.is, perm)
					ask(ok && gate, "access\t%s\t%d", path, perm)
				}
				if !x.Folder {
					ok, _ := x.Permits(p.is, posix.R|posix.W)
					ask(ok && gate, "open\t%s", path)
				}
			}
			decisions += len(lines)
			check("decision")
			for _, path := range g.items {
				ask(g.gate(path, p) && posix.MayRename(g.rules[filepath.Dir(path)], g.rules[path], p.is), "rename\t%s\t%s", path, path+" elsewhere")
			}
			renames += len(lines)
			check("rename")
			// What they make has the rules that are foretold.
			type new struct {
				path string
				x    *posix.Rules
			}
			var news []new
			for _, in := range g.items {
				if x := g.rules[in]; x.Folder {
					for range 4 {
						path := filepath.Join(in, fmt.Sprint("new ", n))
						n++
						folder := g.r.IntN(2) == 0
						mode, umask := uint16(g.r.IntN(0o1000)), uint16(g.r.IntN(0o1000))
						ok, _ := x.Permits(p.is, posix.W|posix.X)
						may := ok && g.gate(path, p)
						ask(may, "make\t%s\t%s\t%d\t%d", path, map[bool]string{true: "folder", false: "file"}[folder], mode, umask)
						if may {
							news = append(news, new{path, posix.NewChild(x, folder, account.UID(p.uid), account.GID(p.gid), mode, umask)})
						}
					}
				}
			}
			check("make")
			for _, y := range news {
				got := read(t, y.path)
				require.True(t, y.x.Same(got), "seed %d: %s in %+v\nforetold %+v\nis       %+v", seed, y.path, g.rules[filepath.Dir(y.path)], y.x, got)
				require.NoError(t, os.Remove(y.path))
				made++
				if g.rules[filepath.Dir(y.path)].Default != nil {
					met["by default list"]++
				}
			}
		}
		require.NoError(t, os.RemoveAll(g.top))
	}
	t.Logf("%d decisions, %d new items, %d renames: 0 different; %v", decisions, made, renames, met)
	for _, what := range []string{"decision 0", "decision 1", "rename 0", "rename 1", "make 0", "make 1", "by default list"} {
		require.Greater(t, met[what], 200, what)
	}
}
