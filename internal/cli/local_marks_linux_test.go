package cli_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// attribute sets one of an item's attributes (FS_IOC_SETFLAGS), or takes it off.
func (p *props) attribute(rest string, flag int, on bool) {
	f, err := os.Open(p.at(rest))
	require.NoError(p.t, err)
	defer f.Close()
	flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil {
		p.t.Skipf("*** SKIPPED: this file system has no attributes: %v ***", err)
	}
	if flags &^= flag; on {
		flags |= flag
	}
	if err := unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, flags); err != nil {
		p.t.Skipf("*** SKIPPED: attributes can't be set here: %v ***", err)
	}
}

// TestMarksCountForEverybody: immutable and append-only items, and trees that are mounted
// read-only and noexec, keep root too from what the kernel keeps root from.
func TestMarksCountForEverybody(t *testing.T) {
	const immutable, appendOnly = 0x10, 0x20 // FS_IMMUTABLE_FL, FS_APPEND_FL
	p := newProps(t)
	set := func(on bool) {
		for rest, flag := range map[string]int{"Workshop/plan.txt": immutable, "Box/bram's.txt": appendOnly, "Shut": immutable} {
			p.attribute(rest, flag, on)
		}
	}
	set(true)
	t.Cleanup(func() { set(false) })
	require.Contains(t, p.run(1, "drift", "propstore"), "the mark immutable")
	p.run(0, "scan", "propstore", "--yes", "--force")
	require.NotContains(t, p.run(0, "scan", "propstore", "--yes", "--force"), "Kept as change")

	tries := func(want int, who, act, rest string, more ...string) string {
		return p.run(want, append([]string{"try", who, act, p.where(rest)}, more...)...)
	}
	write := func(rest string, flags int) error {
		f, err := os.OpenFile(p.at(rest), flags, 0)
		if err == nil {
			f.Close()
		}
		return err
	}
	// Root, by the program and by the kernel.
	require.Contains(t, tries(1, "root", "write", "Workshop/plan.txt"), "the immutable attribute would have to come off")
	require.ErrorIs(t, write("Workshop/plan.txt", os.O_WRONLY), unix.EPERM)
	tries(0, "root", "read", "Workshop/plan.txt")
	require.Contains(t, tries(1, "root", "delete", "Workshop/plan.txt"), "it is immutable")
	require.ErrorIs(t, os.Remove(p.at("Workshop/plan.txt")), unix.EPERM)
	tries(1, "root", "change-rules", "Workshop/plan.txt")
	require.ErrorIs(t, os.Chmod(p.at("Workshop/plan.txt"), 0o600), unix.EPERM)
	tries(1, "root", "write", "Box/bram's.txt")
	tries(0, "root", "append", "Box/bram's.txt")
	require.ErrorIs(t, write("Box/bram's.txt", os.O_WRONLY), unix.EPERM)
	require.NoError(t, write("Box/bram's.txt", os.O_WRONLY|os.O_APPEND))
	tries(1, "root", "delete", "Box/bram's.txt")
	tries(1, "root", "create", "Shut/new.txt")
	require.ErrorIs(t, os.WriteFile(p.at("Shut/new.txt"), nil, 0o600), unix.EPERM)
	require.Contains(t, tries(1, "root", "delete", "Shut/in.txt"), "the folder above is immutable or append-only")
	require.ErrorIs(t, os.Remove(p.at("Shut/in.txt")), unix.EPERM)
	tries(0, "root", "write", "Shut/in.txt")
	require.NoError(t, write("Shut/in.txt", os.O_WRONLY))
	tries(0, "root", "delete", "Workshop/run.sh")

	require.Contains(t, p.run(0, "explain", "ines", p.where("Workshop/plan.txt")), "it is immutable: nobody changes it, not even root")
	require.Contains(t, p.run(0, "show", p.where("Shut")), "it is immutable: nobody changes it, not even root")
	require.NotContains(t, p.run(0, "who", p.where("Workshop/plan.txt"), "--can", "read"), "edit")
	require.Contains(t, p.run(1, "who", p.where("Workshop/plan.txt"), "--can", "write"), "open to nobody")
	require.Contains(t, p.run(0, "explain", "ines", p.where("Workshop/plan.txt"), "--live"), "it is immutable")
	require.Contains(t, p.run(0, "explain", "root", p.where("Shut/in.txt"), "--live"), "the folder above is immutable or append-only")
	require.Contains(t, p.run(1, "explain", "root", p.where("Workshop/plan.txt"), "--want", "edit"), "(chattr -i), on propstore itself: no entry gives back what the mark takes")
	// What can't be changed there says so, and nothing is said to be kept.
	require.NotContains(t, p.run(3, "grant", "foyer", "read", p.where("Workshop/plan.txt"), "--yes", "--force"), "Kept as change")

	// A tree mounted read-only and noexec, over itself.
	set(false)
	p.run(0, "scan", "propstore", "--yes", "--force")
	require.NotContains(t, p.run(0, "explain", "ines", p.where("Workshop/plan.txt")), "immutable")
	if err := unix.Mount(p.root, p.root, "", unix.MS_BIND, ""); err != nil {
		t.Skipf("*** SKIPPED: nothing can be mounted here: %v ***", err)
	}
	off := func() { _ = unix.Unmount(p.root, unix.MNT_DETACH) }
	t.Cleanup(off)
	tries(0, "root", "write", "Workshop/plan.txt")
	require.NoError(t, unix.Mount("", p.root, "", unix.MS_REMOUNT|unix.MS_BIND|unix.MS_RDONLY|unix.MS_NOEXEC, ""))
	p.run(0, "scan", "propstore", "--yes", "--force")
	require.Contains(t, tries(1, "root", "write", "Workshop/plan.txt"), "would have to be mounted for writing")
	require.ErrorIs(t, write("Workshop/plan.txt", os.O_WRONLY), unix.EROFS)
	require.Contains(t, p.run(0, "explain", "root", p.where("Workshop/run.sh"), "--rights"), "its file system is mounted noexec")
	require.NotContains(t, p.run(0, "explain", "ines", p.where("Workshop"), "--rights"), "no   execute")
	off()
	p.run(0, "scan", "propstore", "--yes", "--force")
	tries(0, "root", "write", "Workshop/plan.txt")
	// Marks are no part of what is written: that they are others by now refuses nothing.
	require.NoError(t, unix.Mount(p.root, p.root, "", unix.MS_BIND, ""))
	require.NoError(t, unix.Mount("", p.root, "", unix.MS_REMOUNT|unix.MS_BIND|unix.MS_NOEXEC, ""))
	require.Contains(t, p.run(0, "grant", "foyer", "read", p.where("Workshop/plan.txt"), "--yes", "--force"), "Kept as change")
	// A mark that takes nothing of what is wanted isn't in its way.
	p.run(0, "scan", "propstore", "--yes", "--force")
	require.NotContains(t, p.run(1, "explain", "petra", p.where("Shut/in.txt"), "--want", "read"), "would have to be mounted")
	p.run(0, "check")
}
