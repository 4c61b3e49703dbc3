package local

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/posix/acltext"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/format/ntacl"
	"tarnwold/internal/server"
)

var ctx = context.Background()

// asRoot skips what only root may do, and says so.
func asRoot(t testing.TB) {
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED: owners are given away by root alone")
	}
}

// some draws rules of an item: lists as often as modes.
func some(rnd *rand.Rand, folder bool) *posix.Rules {
	perm := func() posix.Perm { return posix.Perm(rnd.IntN(8)) }
	list := func() posix.List {
		l := posix.List{{Tag: posix.UserObj, Perm: perm()}}
		for i := range rnd.IntN(3) {
			l = append(l, posix.Entry{Tag: posix.User, Who: account.UID(uint32(70_000 + i)), Perm: perm()})
		}
		l = append(l, posix.Entry{Tag: posix.GroupObj, Perm: perm()})
		for i := range rnd.IntN(3) {
			l = append(l, posix.Entry{Tag: posix.Group, Who: account.GID(uint32(80_000 + i)), Perm: perm()})
		}
		if len(l) > 2 {
			l = append(l, posix.Entry{Tag: posix.Mask, Perm: perm()})
		}
		return append(l, posix.Entry{Tag: posix.Other, Perm: perm()})
	}
	r := &posix.Rules{Folder: folder, Owner: account.UID(uint32(70_000 + rnd.IntN(4))), Group: account.GID(uint32(80_000 + rnd.IntN(4))), Access: list()}
	r.Special = uint16(rnd.IntN(8)) << 9
	if folder && rnd.IntN(2) == 0 {
		r.Default = list()
	}
	return r
}

func open(t testing.TB, root string) *Client {
	c, err := Open(Link{Roots: []string{root}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// TestWrittenIsThere: whatever rules are written are there, to the byte, and
// what was there before comes back.
func TestWrittenIsThere(t *testing.T) {
	asRoot(t)
	rnd := rand.New(rand.NewPCG(1, 2))
	for _, root := range []string{t.TempDir(), shm(t), xfs(t)} {
		if root == "" {
			continue
		}
		require.NoError(t, os.Mkdir(filepath.Join(root, "folder"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, "file"), nil, 0o644))
		c := open(t, root)
		lists, specials := 0, 0
		for i := range 3000 {
			name := []string{"folder", "file"}[i%2]
			was, err := c.Look(ctx, root, name, false)
			require.NoError(t, err)
			to := some(rnd, name == "folder")
			require.NoError(t, c.Write(ctx, server.Writing{Share: root, Path: name, Before: was.Rules, To: to}), "%+v → %+v", was.Rules, to)
			now, err := c.Look(ctx, root, name, false)
			require.NoError(t, err)
			require.True(t, now.Rules.Same(to), "%+v, wanted %+v, was %+v", now.Rules, to, was.Rules)
			if to.Access.Extended() {
				lists++
			}
			if to.Special != 0 {
				specials++
			}
			if i%3 == 0 {
				require.NoError(t, c.Write(ctx, server.Writing{Share: root, Path: name, Before: to, To: was.Rules}))
				now, err = c.Look(ctx, root, name, false)
				require.NoError(t, err)
				require.True(t, now.Rules.Same(was.Rules))
			}
		}
		require.Greater(t, lists, 1000)
		require.Greater(t, specials, 1000)
	}
}

// shm gives a folder on another kind of file system, in memory.
func shm(t *testing.T) string {
	dir, err := os.MkdirTemp("/dev/shm", "tarnwold")
	if err != nil {
		t.Log("SKIPPED: no file system in memory to try")
		return filepath.Join(t.TempDir())
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// xfs gives a folder on XFS, in a file of its own; "" where there is none.
func xfs(t *testing.T) string {
	dir := t.TempDir()
	disk, at := filepath.Join(dir, "disk"), filepath.Join(dir, "at")
	require.NoError(t, os.Mkdir(at, 0o755))
	f, err := os.Create(disk)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(400<<20))
	require.NoError(t, f.Close())
	for _, cmd := range [][]string{{"mkfs.xfs", "-q", disk}, {"mount", "-o", "loop", disk, at}} {
		if out, err := exec.Command(cmd[0], cmd[1:]...).CombinedOutput(); err != nil {
			t.Logf("*** SKIPPED: no XFS to try: %s: %v %s ***", cmd[0], err, out)
			return ""
		}
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(at, 0)) })
	return at
}

// kept is what an SMB server keeps beside an item with some rules: a
// descriptor that opens all to everyone.
func kept(t *testing.T, r *posix.Rules) []byte {
	b := make([]byte, 12, 256)
	for at, v := range map[int]uint16{0: 4, 2: 4, 6: 2, 8: 4, 10: 2} {
		binary.LittleEndian.PutUint16(b[at:], v)
	}
	b = append(binary.LittleEndian.AppendUint16(b, 1), make([]byte, 64)...)
	b = append(append(b, "posix_acl\x00"...), make([]byte, 8)...)
	sum := ntacl.Sum(r)
	b = append(append(b, sum[:]...), make([]byte, 32)...)
	from := uint32(len(b))
	d, err := secdesc.Encode(&rule.Descriptor{Owner: account.MustID("S-1-5-21-1-2-3-1001"), Group: account.GID(5000), Control: rule.RulesPresent,
		Audit: rule.Rules{Absent: true}, Rules: rule.Rules{Entries: []rule.Entry{{Who: account.Everyone, Rights: right.All}}}})
	require.NoError(t, err)
	for i := 4; i < 20; i += 4 { // from the attribute's beginning
		if v := binary.LittleEndian.Uint32(d[i:]); v != 0 {
			binary.LittleEndian.PutUint32(d[i:], v+from)
		}
	}
	return append(b, d...)
}

// TestKeptBeside: a descriptor kept beside an item is read as long as the lists
// are those it was written for; what changes them takes it out of account, and
// what puts them back puts it back.
func TestKeptBeside(t *testing.T) {
	asRoot(t)
	rnd := rand.New(rand.NewPCG(5, 6))
	for _, root := range []string{t.TempDir(), shm(t)} {
		require.NoError(t, os.Mkdir(filepath.Join(root, "folder"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, "file"), nil, 0o644))
		c := open(t, root)
		for i := range 200 {
			name := []string{"folder", "file"}[i%2]
			path := filepath.Join(root, name)
			was, err := c.Look(ctx, root, name, false)
			require.NoError(t, err)
			first := was.Rules.(*posix.Rules)
			require.Nil(t, first.Kept)
			require.NoError(t, unix.Setxattr(path, ntacl.Attribute, kept(t, first), 0))
			was, err = c.Look(ctx, root, name, false)
			require.NoError(t, err)
			with := was.Rules.(*posix.Rules)
			require.NotNil(t, with.Kept)
			require.Equal(t, right.All, with.Kept.Rules.Entries[0].Rights)
			require.False(t, with.Same(first))
			// The scan sees it too.
			seen := 0
			require.NoError(t, c.Scan(ctx, root, server.Reading{}, func(x server.Item) error {
				if x.Path == name && x.Rules != nil {
					seen++
					require.True(t, x.Rules.Same(with))
					require.Contains(t, x.Notes, server.Described)
				}
				return nil
			}))
			require.Equal(t, 1, seen)
			require.ErrorIs(t, c.Write(ctx, server.Writing{Share: root, Path: name, Before: first, To: some(rnd, name == "folder")}), errOther)
			to := some(rnd, name == "folder")
			require.NoError(t, c.Write(ctx, server.Writing{Share: root, Path: name, Before: with, To: to}))
			now, err := c.Look(ctx, root, name, false)
			require.NoError(t, err)
			require.True(t, now.Rules.Same(to) || to.Normalized(with).Same(with))
			require.NoError(t, c.Write(ctx, server.Writing{Share: root, Path: name, Before: now.Rules, To: with}))
			now, err = c.Look(ctx, root, name, false)
			require.NoError(t, err)
			require.True(t, now.Rules.Same(with), "what was there before is there again")
			require.NoError(t, unix.Removexattr(path, ntacl.Attribute))
			require.NoError(t, c.Write(ctx, server.Writing{Share: root, Path: name, Before: first, To: to}))
		}
	}
}

// TestBreaksBetweenAreKnown: after each of the calls a write takes, the rules
// are told to be on their way, and the write begun again finishes it.
func TestBreaksBetweenAreKnown(t *testing.T) {
	asRoot(t)
	root := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(root, "x"), 0o755))
	c := open(t, root)
	rnd := rand.New(rand.NewPCG(3, 4))
	between := 0
	for range 2000 {
		was, err := c.Look(ctx, root, "x", false)
		require.NoError(t, err)
		before, to := was.Rules.(*posix.Rules), some(rnd, true)
		fd, err := c.at(root, "x")
		require.NoError(t, err)
		// The calls of set, as far as the break.
		steps := before.Passing(to)
		at := before
		for _, next := range steps[:rnd.IntN(len(steps)+1)] {
			require.NoError(t, call(fd, at, next))
			at = next
		}
		require.NoError(t, unix.Close(fd))
		now, err := c.Look(ctx, root, "x", false)
		require.NoError(t, err)
		if !now.Rules.Same(before) && !now.Rules.Same(to) {
			between++
			require.True(t, now.Rules.(*posix.Rules).Between(before, to), "%+v of %+v to %+v", now.Rules, before, to)
		}
		require.NoError(t, c.Write(ctx, server.Writing{Share: root, Path: "x", Before: now.Rules, To: to}))
	}
	require.Greater(t, between, 1000)
	x := some(rnd, true)
	for range 1000 { // rules of another are on no way
		y, z := some(rnd, true), some(rnd, true)
		if y.Owner != x.Owner && y.Owner != z.Owner {
			require.False(t, y.Between(x, z))
		}
	}
}

// TestLinksSwappedIn: while a second one puts links in the place of folders and
// files, and files in the place of others, nothing outside the tree is touched,
// nor anything that wasn't looked at.
func TestLinksSwappedIn(t *testing.T) {
	asRoot(t)
	root, outside := t.TempDir(), t.TempDir()
	victim := filepath.Join(outside, "in", "x")
	require.NoError(t, os.MkdirAll(filepath.Dir(victim), 0o711))
	require.NoError(t, os.WriteFile(victim, nil, 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "in"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "in", "x"), nil, 0o644))
	var outsides []string
	for _, p := range []string{outside, filepath.Dir(victim), victim} {
		outsides = append(outsides, stands(t, p))
	}
	var stop atomic.Bool
	var wg sync.WaitGroup
	wg.Go(func() {
		for i := 0; !stop.Load(); i++ {
			in, aside := filepath.Join(root, "in"), filepath.Join(root, "aside")
			if i%2 == 0 { // the folder on the way
				_ = os.Rename(in, aside)
				_ = os.Symlink(filepath.Join(outside, "in"), in)
				_ = os.Remove(in)
				_ = os.Rename(aside, in)
			} else { // the file itself
				x := filepath.Join(in, "x")
				_ = os.Rename(x, aside)
				_ = os.Symlink(victim, x)
				_ = os.Remove(x)
				_ = os.Rename(aside, x)
			}
			if i%3 == 0 { // now and then there is time to write
				time.Sleep(time.Duration(i%7) * 10 * time.Microsecond)
			}
		}
	})
	tries := 10_000
	c := open(t, root)
	wrote, refused := 0, 0
	modes := []uint16{0o644, 0o640}
	for i := range tries {
		was, err := c.Look(ctx, root, "in/x", false)
		if err != nil {
			refused++
			continue
		}
		before := was.Rules.(*posix.Rules)
		to := before.Chmod(modes[i%2])
		if to.Same(before) {
			to = before.Chmod(modes[(i+1)%2])
		}
		if err := c.Write(ctx, server.Writing{Share: root, Path: "in/x", Before: before, To: to}); err != nil {
			refused++
		} else {
			wrote++
		}
	}
	stop.Store(true)
	wg.Wait()
	for i, p := range []string{outside, filepath.Dir(victim), victim} {
		require.Equal(t, outsides[i], stands(t, p), p)
	}
	t.Log(wrote, "written,", refused, "refused of", tries, "and nothing outside touched")
	require.Greater(t, wrote, 100)
	require.Greater(t, refused, 100)
}

func stands(t *testing.T, p string) string {
	var st unix.Stat_t
	require.NoError(t, unix.Lstat(p, &st))
	access, err := attribute(p, accessList, true)
	require.NoError(t, err)
	return fmt.Sprintf("%o %d %d %x", st.Mode, st.Uid, st.Gid, access)
}

// TestAnotherInItsPlace: a file that took the place of the one that was looked
// at isn't written to, though it has the same rules; nor is one that somebody
// changed meanwhile.
func TestAnotherInItsPlace(t *testing.T) {
	root := t.TempDir()
	x := filepath.Join(root, "x")
	require.NoError(t, os.WriteFile(x, nil, 0o644))
	c := open(t, root)
	was, err := c.Look(ctx, root, "x", false)
	require.NoError(t, err)
	to := was.Rules.(*posix.Rules).Chmod(0o600)
	require.NoError(t, os.WriteFile(x+"2", nil, 0o644))
	require.NoError(t, os.Rename(x+"2", x))
	require.ErrorIs(t, c.Write(ctx, server.Writing{Share: root, Path: "x", Before: was.Rules, To: to}), errOther)
	was, err = c.Look(ctx, root, "x", false)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(x, 0o640))
	require.ErrorIs(t, c.Write(ctx, server.Writing{Share: root, Path: "x", Before: was.Rules, To: to}), errOther)
	require.Equal(t, os.FileMode(0o640), mode(t, x))
	_, err = c.Look(ctx, root, "y", false)
	require.ErrorIs(t, err, server.ErrNotThere)
	_, err = c.Look(ctx, root, "../"+filepath.Base(root), false)
	require.Error(t, err, "out of the tree and in again")
}

func mode(t *testing.T, p string) os.FileMode {
	st, err := os.Lstat(p)
	require.NoError(t, err)
	return st.Mode().Perm()
}

// walked reads a tree.
func walked(t testing.TB, c *Client, root string, how server.Reading) map[string]server.Item {
	out := map[string]server.Item{}
	require.NoError(t, c.Scan(ctx, root, how, func(x server.Item) error {
		if x.Whole {
			return nil
		}
		if x.Path != "" && x.Err == nil {
			up := filepath.Dir(x.Path)
			if up == "." {
				up = ""
			}
			if _, ok := out[up]; !ok {
				return fmt.Errorf("%s came before its folder", x.Path)
			}
		}
		if _, twice := out[x.Path]; twice && x.Err == nil {
			return fmt.Errorf("%s came twice", x.Path)
		}
		out[x.Path] = x
		return nil
	}))
	return out
}

// TestScanIsWhatIsThere: every folder and file, with the rules a single look
// gives, each once; no link, no pipe; depth and folders alone as asked for;
// names of any bytes.
func TestScanIsWhatIsThere(t *testing.T) {
	root := t.TempDir()
	rnd := rand.New(rand.NewPCG(5, 6))
	want := map[string]bool{"": true}
	folders := []string{""}
	for i := range 700 {
		name := fmt.Sprintf("n %d\xff\n", i)
		p := filepath.Join(folders[rnd.IntN(len(folders))], name)
		whole := filepath.Join(root, p)
		if rnd.IntN(4) == 0 {
			require.NoError(t, os.Mkdir(whole, 0o755))
			folders = append(folders, p)
			want[p] = true
		} else {
			require.NoError(t, os.WriteFile(whole, []byte("x"), 0o644))
			want[p] = false
		}
	}
	require.NoError(t, os.Symlink("/etc", filepath.Join(root, "link")))
	require.NoError(t, os.Symlink(root, filepath.Join(root, "round")))
	require.NoError(t, unix.Mkfifo(filepath.Join(root, "pipe"), 0o644))
	c := open(t, root)
	rules := posix.List{{Tag: posix.UserObj, Perm: 7}, {Tag: posix.User, Who: account.UID(12345), Perm: 6}, {Tag: posix.GroupObj, Perm: 5}, {Tag: posix.Mask, Perm: 6}, {Tag: posix.Other}}
	n := 0
	for p := range want {
		if rnd.IntN(3) == 0 {
			b, err := acltext.Encode(rules, acltext.NumberOf)
			require.NoError(t, err)
			if err := unix.Setxattr(filepath.Join(root, p), accessList, b, 0); errors.Is(err, unix.ENOTSUP) {
				continue
			}
			n++
		}
	}
	got := walked(t, c, root, server.Reading{})
	require.Len(t, got, len(want))
	for p, x := range got {
		folder, ok := want[p]
		require.True(t, ok, "%q", p)
		require.Equal(t, folder, x.Folder)
		one, err := c.Look(ctx, root, p, false)
		require.NoError(t, err)
		require.True(t, x.Rules.Same(one.Rules), "%q", p)
		require.Equal(t, one.Size, x.Size)
	}
	t.Log(len(got), "items,", n, "with lists")
	require.Len(t, walked(t, c, root, server.Reading{FoldersOnly: true}), len(folders))
	for p := range walked(t, c, root, server.Reading{Depth: 1}) {
		require.NotContains(t, p, "/")
	}
	// Broken off, and gone on with: the rest comes, each once.
	half := map[string]bool{}
	var from []string
	stop := errors.New("stop")
	open := map[string]bool{}
	err := c.Scan(ctx, root, server.Reading{}, func(x server.Item) error {
		if x.Whole {
			delete(open, x.Path)
			if len(half) > 300 {
				return stop
			}
			return nil
		}
		half[x.Path] = true
		if x.Enter {
			open[x.Path] = true
		}
		return nil
	})
	require.ErrorIs(t, err, stop)
	for p := range open {
		from = append(from, p)
	}
	require.NoError(t, c.Scan(ctx, root, server.Reading{From: from}, func(x server.Item) error {
		half[x.Path] = true
		return nil
	}))
	require.Len(t, half, len(want))
}

// BenchmarkScan walks a tree of many files, and beside it, in the same run, as
// barely as can be: the same calls and nothing kept. TARNWOLD_TREE names a tree
// that is there already.
func BenchmarkScan(b *testing.B) {
	root := os.Getenv("TARNWOLD_TREE")
	if root == "" {
		root = b.TempDir()
		for i := range 100 {
			dir := filepath.Join(root, fmt.Sprint("folder ", i))
			require.NoError(b, os.Mkdir(dir, 0o755))
			for j := range 100 {
				require.NoError(b, os.WriteFile(filepath.Join(dir, fmt.Sprint("file ", j)), nil, 0o644))
			}
		}
	}
	c := open(b, root)
	b.Run("scan", func(b *testing.B) {
		for b.Loop() {
			n := 0
			require.NoError(b, c.Scan(ctx, root, server.Reading{}, func(server.Item) error { n++; return nil }))
			b.ReportMetric(float64(n), "items")
		}
	})
	b.Run("bare", func(b *testing.B) {
		for b.Loop() {
			bare(b, c, root)
		}
	})
}

// TestNoBitForAnother: what would make a file run as its owner is written only to
// the very contents that were looked at, and not after the file was changed; all
// else is, and so is the bit on what is as it was.
func TestNoBitForAnother(t *testing.T) {
	asRoot(t)
	root := t.TempDir()
	c := open(t, root)
	at := filepath.Join(root, "run")
	for _, x := range []struct {
		what   string
		change func()
		since  time.Duration // from the last change on
		want   error
	}{
		{"as it was", nil, time.Hour, nil},
		{"other contents", func() { require.NoError(t, os.WriteFile(at, []byte("another"), 0o755)) }, time.Hour, server.ErrReplaced},
		{"changed since", nil, -time.Hour, server.ErrReplaced},
		{"another file", func() {
			require.NoError(t, os.WriteFile(at+"2", []byte("x"), 0o755))
			require.NoError(t, os.Rename(at+"2", at))
		}, time.Hour, server.ErrChanged},
	} {
		_ = os.Remove(at)
		require.NoError(t, os.WriteFile(at, []byte("x"), 0o755))
		require.NoError(t, os.Chmod(at, 0o755))
		was, err := c.Look(ctx, root, "run", false)
		require.NoError(t, err)
		before := was.Rules.(*posix.Rules)
		if x.change != nil {
			x.change()
			require.NoError(t, os.Chmod(at, 0o755))
		}
		w := server.Writing{Share: root, Path: "run", Before: before, To: before.Chmod(0o4755), Was: &was.Stamp, Since: time.Now().Add(x.since)}
		err = c.Write(ctx, w)
		require.ErrorIs(t, err, x.want, x.what)
		w.To, w.Since = before.Chmod(0o700), time.Time{}
		if x.want == server.ErrReplaced {
			require.NoError(t, c.Write(ctx, w), "%s: what runs as nobody else", x.what)
		}
	}
}
