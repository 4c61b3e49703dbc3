package local

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"tarnwold/core/posix"
	"tarnwold/internal/format/ntacl"
	"tarnwold/internal/server"
)

// mostBodies is how many distinct rules are kept at hand.
const mostBodies = 1 << 16

// mounted gives the marks of a mount by something open on it.
func (s *scanning) mounted(mount uint64, fd int) posix.Marks {
	s.m.Lock()
	defer s.m.Unlock()
	m, known := s.mounts[mount]
	if !known {
		m = mounted(fd)
		s.mounts[mount] = m
	}
	return m
}

// mountedAt is mounted of what is mounted on an entry.
func (s *scanning) mountedAt(mount uint64, full string) posix.Marks {
	fd, err := unix.Open(full, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return 0
	}
	defer unix.Close(fd)
	return s.mounted(mount, fd)
}

// mostPath is how long a path may be.
const mostPath = 32 << 10

// scanning is a walk that is under way.
type scanning struct {
	*server.Walk
	c   *Client
	top *top
	how server.Reading

	m      sync.Mutex // over bodies and mounts
	bodies map[body]*posix.Rules
	mounts map[uint64]posix.Marks // of file systems by their mount
}

// body is all that rules are made of.
type body struct {
	mode               uint16
	marks              posix.Marks
	uid, gid           uint32
	access, dflt, kept string
}

// Scan calls fn with a tree's top and everything below it. Links, devices and
// the like are left out; so is what another file system holds that is mounted
// there, unless the link says otherwise, and a part of this one that is mounted
// a second time.
func (c *Client) Scan(ctx context.Context, root string, how server.Reading, fn func(server.Item) error) error {
	t, err := c.top(root)
	if err != nil {
		return err
	}
	walk, ctx, end, err := server.StartWalk(ctx, how, func() (server.Item, error) {
		x, err := c.Look(ctx, root, "", false)
		x.Enter = x.Folder
		return x, err
	}, fn)
	if err != nil {
		return err
	}
	defer end()
	s := &scanning{Walk: walk, c: c, top: t, how: how, bodies: map[body]*posix.Rules{}, mounts: map[uint64]posix.Marks{}}
	var wg sync.WaitGroup
	for range max(4, runtime.GOMAXPROCS(0)) {
		wg.Go(func() { s.work(ctx) })
	}
	wg.Wait()
	return context.Cause(ctx)
}

// work reads folders until none is left.
func (s *scanning) work(ctx context.Context) {
	buf := make([]byte, 1<<16)
	var told []server.Item
	mine := map[body]*posix.Rules{}
	s.Work(ctx, func(dir string) (err error) {
		told, err = s.folder(ctx, dir, buf, told[:0], mine)
		return err
	})
}

// mostTold is how many items are told at once.
const mostTold = 1024

// folder tells what is directly in a folder.
func (s *scanning) folder(ctx context.Context, dir string, buf []byte, told []server.Item, mine map[body]*posix.Rules) ([]server.Item, error) {
	unread := func(err error) ([]server.Item, error) {
		return told, s.Tell(server.Item{Path: dir, Folder: true, Err: fmt.Errorf("what is in it can't be seen: %w", err)})
	}
	fd, err := s.c.below(s.top.fd, dir, unix.O_RDONLY|unix.O_DIRECTORY)
	if err != nil {
		return unread(plain(err))
	}
	defer unix.Close(fd)
	var st unix.Statx_t
	if err := unix.Statx(fd, "", unix.AT_EMPTY_PATH, wanted, &st); err != nil {
		return unread(plain(err))
	}
	handed := (attributes(&st) | s.mounted(st.Mnt_id, fd)).Handed()
	below := s.Below(dir)
	here := proc(fd) + "/"
	for ctx.Err() == nil {
		n, err := unix.Getdents(fd, buf)
		if err != nil {
			return unread(plain(err))
		}
		if n == 0 {
			break
		}
		err = names(buf[:n], func(name string) error {
			x, ok := s.item(fd, here+name, name, handed, &st, mine)
			if !ok || s.how.FoldersOnly && !x.Folder {
				return nil
			}
			x.Path = strings.TrimPrefix(dir+"/"+name, "/")
			if len(x.Path) > mostPath {
				x.Err = fmt.Errorf("its path is longer than %d bytes", mostPath)
			}
			x.Enter = x.Enter && x.Err == nil && below
			if told = append(told, x); len(told) == mostTold {
				err := s.Tell(told...)
				told = told[:0]
				return err
			}
			return nil
		})
		if err != nil {
			return told, err
		}
	}
	if err := s.Tell(told...); err != nil || ctx.Err() != nil {
		return told, err
	}
	return told, s.Whole(dir)
}

func plain(err error) error {
	if errors.Is(err, unix.EACCES) {
		return errors.New("the user this runs as may not")
	}
	return err
}

// item reads one entry of a folder, which hands marks to it and is up; ok is false for
// what is not an item. mine are rules that the one who asks has met already.
func (s *scanning) item(dir int, full, name string, handed posix.Marks, up *unix.Statx_t, mine map[body]*posix.Rules) (x server.Item, ok bool) {
	var st unix.Statx_t
	if err := unix.Statx(dir, name, unix.AT_SYMLINK_NOFOLLOW|unix.AT_NO_AUTOMOUNT, wanted, &st); err != nil {
		if errors.Is(err, unix.ENOENT) { // it went meanwhile
			return x, false
		}
		x.Err = plain(err)
		return x, true
	}
	folder, ok := kind(&st)
	if !ok {
		return x, false
	}
	x = server.Item{Folder: folder, Size: int64(st.Size), Modified: moment(st.Mtime), Changed: moment(st.Ctime), Enter: folder}
	if st.Attributes&unix.STATX_ATTR_IMMUTABLE != 0 {
		x.Notes = append(x.Notes, server.Immutable)
	}
	if st.Attributes&unix.STATX_ATTR_APPEND != 0 {
		x.Notes = append(x.Notes, server.Appending)
	}
	if !folder && st.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0 && !s.c.link.Mounts { // a file bound over another
		return server.Item{}, false
	}
	if x.Names = linked(&st); x.Names > 1 {
		x.Notes, x.Stamp = append(x.Notes, server.Linked), stamp(&st)
	}
	if folder && (st.Mnt_id != s.top.mount || device(&st) != s.top.dev) && st.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0 {
		if device(&st) == s.top.dev || !s.c.link.Mounts { // a part of this one again, or another
			x.Notes = append(x.Notes, server.Mounted)
			x.Enter = false
		}
	}
	if st.Mnt_id != up.Mnt_id {
		handed = handed&posix.Held | s.mountedAt(st.Mnt_id, full)
	}
	b := body{mode: st.Mode, uid: st.Uid, gid: st.Gid, marks: attributes(&st) | handed}
	var access, dflt, kept []byte
	var room [512]byte
	n, err := unix.Llistxattr(full, room[:])
	list := room[:max(n, 0)]
	if errors.Is(err, unix.ERANGE) {
		big := make([]byte, 1<<16)
		if n, err = unix.Llistxattr(full, big); err == nil {
			list = big[:n]
		}
	}
	if err != nil && !errors.Is(err, unix.ENOTSUP) {
		if errors.Is(err, unix.ENOENT) {
			return x, false
		}
		x.Err = plain(err)
		return x, true
	}
	for len(list) > 0 {
		attr, rest, _ := strings.Cut(string(list), "\x00")
		list = []byte(rest)
		switch attr {
		case accessList:
			access, err = attribute(full, accessList, false)
		case defaultList:
			dflt, err = attribute(full, defaultList, false)
		case "security.capability":
			x.Notes = append(x.Notes, server.Capable)
		case ntacl.Attribute:
			kept, err = attribute(full, attr, false)
			x.Notes = append(x.Notes, server.Described)
		case "user.NTACL":
			x.Notes = append(x.Notes, server.Described)
		}
		if err != nil {
			x.Err = plain(err)
			return x, true
		}
	}
	b.access, b.dflt, b.kept = string(access), string(dflt), string(kept)
	r := mine[b]
	if r == nil {
		if r, err = rules(&st, access, dflt, kept); err != nil {
			x.Err = err
			return x, true
		}
		r.Marks = b.marks
		s.m.Lock()
		if was := s.bodies[b]; was != nil {
			r = was
		} else {
			if len(s.bodies) >= mostBodies {
				clear(s.bodies)
			}
			s.bodies[b] = r
		}
		s.m.Unlock()
		if len(mine) >= mostBodies {
			clear(mine)
		}
		mine[b] = r
	}
	x.Rules = r
	return x, true
}
