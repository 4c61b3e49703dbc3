package local

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/posix/acltext"
	"tarnwold/core/rule"
	"tarnwold/internal/format/ntacl"
	"tarnwold/internal/server"
)

// Client is the machine itself.
type Client struct {
	link Link

	mu   sync.Mutex
	tops map[string]*top
	seen map[string]inode // what was looked at, by its whole path
}

// top is a tree's top, held open.
type top struct {
	fd    int
	dev   uint64
	mount uint64
}

type inode struct{ dev, ino uint64 }

// Open gives the machine itself, for some trees.
func Open(l Link) (*Client, error) {
	return &Client{link: l, tops: map[string]*top{}, seen: map[string]inode{}}, nil
}

// Close lets go of the trees' tops.
func (c *Client) Close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, t := range c.tops {
		unix.Close(t.fd)
	}
	clear(c.tops)
}

// Shares lists the trees as they were said.
func (c *Client) Shares(context.Context) (out []server.Share, err error) {
	for _, r := range c.link.Roots {
		if _, err := c.top(r); err != nil {
			return nil, err
		}
		out = append(out, server.Share{Name: r, Folder: r, Root: true})
	}
	return out, nil
}

const (
	noLinks = unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS
	wanted  = unix.STATX_TYPE | unix.STATX_MODE | unix.STATX_UID | unix.STATX_GID | unix.STATX_INO | unix.STATX_SIZE | unix.STATX_MTIME | unix.STATX_CTIME | unix.STATX_NLINK | unix.STATX_MNT_ID
)

// top opens a tree's top, without following a link on the way there.
func (c *Client) top(root string) (*top, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if t := c.tops[root]; t != nil {
		return t, nil
	}
	if !path.IsAbs(root) {
		return nil, fmt.Errorf("%s is not a whole path", root)
	}
	fd, err := unix.Openat2(unix.AT_FDCWD, root, &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: noLinks})
	if err != nil {
		return nil, failed(root, err)
	}
	var st unix.Statx_t
	if err := unix.Statx(fd, "", unix.AT_EMPTY_PATH, wanted, &st); err != nil {
		unix.Close(fd)
		return nil, failed(root, err)
	}
	t := &top{fd, device(&st), st.Mnt_id}
	c.tops[root] = t
	return t, nil
}

func device(st *unix.Statx_t) uint64 { return unix.Mkdev(st.Dev_major, st.Dev_minor) }

// failed says what the kernel said, in words that need no number.
func failed(where string, err error) error {
	switch {
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENOTDIR):
		return fmt.Errorf("%s: %w", where, server.ErrNotThere)
	case errors.Is(err, unix.ELOOP), errors.Is(err, unix.EXDEV):
		return fmt.Errorf("%s: a link stands there, or on the way there, and links are not followed", where)
	case errors.Is(err, unix.EACCES):
		return fmt.Errorf("%s: it can't be read as the user this runs as", where)
	case errors.Is(err, unix.EPERM):
		return fmt.Errorf("%s: the system doesn't let the user this runs as do that; owners change modes and lists, root all", where)
	case errors.Is(err, unix.EROFS):
		return fmt.Errorf("%s: the file system is mounted read-only", where)
	}
	return fmt.Errorf("%s: %w", where, err)
}

// at opens an item of a tree as a mere place (O_PATH): nothing on the way is a
// link, nor is it one itself; it is below the tree's top, and on what that is
// on, unless what is mounted is gone into.
func (c *Client) at(root, rest string) (int, error) {
	t, err := c.top(root)
	if err != nil {
		return -1, err
	}
	fd, err := c.below(t.fd, rest, unix.O_PATH)
	if errors.Is(err, unix.EXDEV) && !c.link.Mounts {
		return -1, fmt.Errorf("%s: %w", path.Join(root, rest), server.ErrMounted)
	}
	if err != nil {
		return -1, failed(path.Join(root, rest), err)
	}
	return fd, nil
}

// mostAtOnce is how long a path the system takes (PATH_MAX, with its end).
const mostAtOnce = 4095

// below opens what is below an open folder, however long the path there is.
func (c *Client) below(dir int, rest string, flags uint64) (int, error) {
	how := unix.OpenHow{Flags: unix.O_CLOEXEC, Resolve: noLinks | unix.RESOLVE_BENEATH}
	if !c.link.Mounts {
		how.Resolve |= unix.RESOLVE_NO_XDEV
	}
	if rest == "" {
		rest = "."
	}
	from := dir
	for {
		part, end := rest, true
		if len(part) > mostAtOnce {
			i := strings.LastIndexByte(part[:mostAtOnce], '/')
			if i <= 0 {
				return -1, unix.ENAMETOOLONG
			}
			part, rest, end = part[:i], part[i+1:], false
		}
		how := how
		how.Flags |= unix.O_PATH | unix.O_DIRECTORY
		if end {
			how.Flags = how.Flags&^(unix.O_PATH|unix.O_DIRECTORY) | flags
		}
		fd, err := unix.Openat2(from, part, &how)
		for n := 0; errors.Is(err, unix.EAGAIN) && n < 100; n++ { // something was renamed meanwhile
			fd, err = unix.Openat2(from, part, &how)
		}
		if from != dir {
			unix.Close(from)
		}
		if err != nil || end {
			return fd, err
		}
		from = fd
	}
}

// proc names an open place so that calls that take a path mean it.
func proc(fd int) string { return "/proc/self/fd/" + strconv.Itoa(fd) }

// attribute reads an extended attribute of a place; nil where it isn't there,
// or the file system has none.
func attribute(name, attr string, link bool) ([]byte, error) {
	var room [1024]byte
	b := room[:]
	get := unix.Getxattr
	if !link {
		get = unix.Lgetxattr
	}
	for {
		n, err := get(name, attr, b)
		switch {
		case err == nil:
			return append([]byte{}, b[:n]...), nil
		case errors.Is(err, unix.ERANGE) && len(b) < 1<<20:
			b = make([]byte, 8*len(b))
		case errors.Is(err, unix.ENODATA), errors.Is(err, unix.ENOTSUP):
			return nil, nil
		default:
			return nil, err
		}
	}
}

const (
	accessList  = "system.posix_acl_access"
	defaultList = "system.posix_acl_default"
)

// rules makes the rules of what was read of an item.
func rules(st *unix.Statx_t, access, dflt, kept []byte) (*posix.Rules, error) {
	mode := st.Mode & 0o7777
	r := &posix.Rules{Folder: st.Mode&unix.S_IFMT == unix.S_IFDIR, Owner: account.UID(st.Uid), Group: account.GID(st.Gid),
		Special: mode & 0o7000, Access: posix.Of(mode)}
	if access != nil {
		l, err := acltext.Decode(access)
		if err != nil {
			return nil, err
		}
		if l != nil {
			r.Access = l
		}
	}
	if dflt != nil && r.Folder {
		l, err := acltext.Decode(dflt)
		if err != nil {
			return nil, err
		}
		r.Default = l
	}
	if kept != nil { // what isn't understood doesn't count; a note says that it is there
		r.Kept, _ = ntacl.Read(kept, r)
	}
	return r, nil
}

// attributes gives the marks that an item itself has.
func attributes(st *unix.Statx_t) (m posix.Marks) {
	if st.Attributes&unix.STATX_ATTR_IMMUTABLE != 0 {
		m |= posix.Immutable
	}
	if st.Attributes&unix.STATX_ATTR_APPEND != 0 {
		m |= posix.AppendOnly
	}
	return m
}

// mounted gives the marks of the file system that something open stands on.
func mounted(fd int) (m posix.Marks) {
	var fs unix.Statfs_t
	if unix.Fstatfs(fd, &fs) != nil {
		return 0
	}
	if fs.Flags&unix.ST_RDONLY != 0 {
		m |= posix.MountReadOnly
	}
	if fs.Flags&unix.ST_NOEXEC != 0 {
		m |= posix.MountNoExec
	}
	return m
}

// above gives what the folder above a place in a tree hands to it; nothing is handed to the
// tree's own folder.
func (c *Client) above(root, rest string) posix.Marks {
	if rest == "" {
		return 0
	}
	up := path.Dir(rest)
	if up == "." {
		up = ""
	}
	fd, err := c.at(root, up)
	if err != nil {
		return 0
	}
	defer unix.Close(fd)
	var st unix.Statx_t
	if unix.Statx(fd, "", unix.AT_EMPTY_PATH, wanted, &st) != nil {
		return 0
	}
	return attributes(&st).Handed()
}

// kind tells whether something is a folder or a file, and not a link, a device
// or the like, which have no rules that are of use.
func kind(st *unix.Statx_t) (folder, ok bool) {
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		return true, true
	case unix.S_IFREG:
		return false, true
	}
	return false, false
}

func moment(t unix.StatxTimestamp) time.Time { return time.Unix(t.Sec, int64(t.Nsec)) }

// Look reads one item now.
func (c *Client) Look(ctx context.Context, root, rest string, _ bool) (x server.Item, err error) {
	defer server.Asked(ctx, "read rules", "tree", root, "path", rest)(&err)
	fd, err := c.at(root, rest)
	if err != nil {
		return x, err
	}
	defer unix.Close(fd)
	r, st, err := read(fd)
	if err != nil {
		return x, failed(path.Join(root, rest), err)
	}
	if _, ok := kind(st); !ok {
		return x, fmt.Errorf("%s is neither a folder nor a file", path.Join(root, rest))
	}
	r = r.Marked(r.Marks | c.above(root, rest))
	c.mu.Lock()
	c.seen[path.Join(root, rest)] = inode{device(st), st.Ino}
	c.mu.Unlock()
	return server.Item{Path: rest, Folder: r.Folder, Rules: r, Size: int64(st.Size), Modified: moment(st.Mtime), Changed: moment(st.Ctime),
		Stamp: stamp(st), Names: linked(st)}, nil
}

// stamp tells an item from others.
func stamp(st *unix.Statx_t) server.Stamp {
	s := server.Stamp{Device: device(st), Inode: st.Ino}
	if st.Mode&unix.S_IFMT == unix.S_IFREG {
		s.Size, s.Modified = int64(st.Size), moment(st.Mtime).UnixNano()
	}
	return s
}

// linked is under how many names a file stands; 1 for a folder.
func linked(st *unix.Statx_t) int {
	if st.Mode&unix.S_IFMT == unix.S_IFREG {
		return int(st.Nlink)
	}
	return 1
}

// read reads the rules of an open place.
func read(fd int) (*posix.Rules, *unix.Statx_t, error) {
	var st unix.Statx_t
	if err := unix.Statx(fd, "", unix.AT_EMPTY_PATH, wanted, &st); err != nil {
		return nil, nil, err
	}
	access, err := attribute(proc(fd), accessList, true)
	if err != nil {
		return nil, nil, err
	}
	var dflt []byte
	if st.Mode&unix.S_IFMT == unix.S_IFDIR {
		if dflt, err = attribute(proc(fd), defaultList, true); err != nil {
			return nil, nil, err
		}
	}
	kept, err := attribute(proc(fd), ntacl.Attribute, true)
	if err != nil && !errors.Is(err, unix.EPERM) {
		return nil, nil, err
	}
	r, err := rules(&st, access, dflt, kept)
	if err == nil {
		r.Marks = attributes(&st) | mounted(fd)
	}
	return r, &st, err
}

// errOther is an item that isn't the one that was looked at, or isn't as it was.
var errOther = fmt.Errorf("it isn't the item that was looked at, or %w", server.ErrChanged)

// Settles is how long a write may be overwritten by who looked before it: no
// more than some system calls stand between looking and writing.
func (c *Client) Settles() time.Duration { return 20 * time.Millisecond }

// HasMember implements server.Writer: a machine's groups are those of its system, or of
// a directory behind it.
func (*Client) HasMember(context.Context, server.Member) (bool, error) {
	return false, server.ErrNoMembers
}

// SetMember implements server.Writer.
func (*Client) SetMember(context.Context, server.Member, bool) error { return server.ErrNoMembers }

// Write sets the rules of an item: on the very item that was looked at, and
// only where it is as it was then.
func (c *Client) Write(ctx context.Context, w server.Writing) (err error) {
	defer server.Asked(ctx, "write rules", "tree", w.Share, "path", w.Path)(&err)
	before, ok := w.Before.(*posix.Rules)
	to, also := w.To.(*posix.Rules)
	if !ok || !also || w.OfShare {
		return errors.New("a tree of a POSIX system takes owners, modes and lists alone")
	}
	before, to = before.Marked(0), to.Marked(0) // nobody writes marks
	where := path.Join(w.Share, w.Path)
	fd, err := c.at(w.Share, w.Path)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	now, st, err := read(fd)
	if err != nil {
		return failed(where, err)
	}
	c.mu.Lock()
	was, looked := c.seen[where]
	c.mu.Unlock()
	if _, ok := kind(st); !ok || !now.Marked(0).Same(before) || looked && was != (inode{device(st), st.Ino}) {
		return fmt.Errorf("%s: %w", where, errOther)
	}
	if w.Was != nil && (w.Was.Device != device(st) || w.Was.Inode != st.Ino) {
		return fmt.Errorf("%s: %w", where, errOther)
	}
	if w.Runs() && (w.Was != nil && *w.Was != stamp(st) || !w.Since.IsZero() && moment(st.Ctime).After(w.Since)) {
		return fmt.Errorf("%s: %w", where, server.ErrReplaced)
	}
	err = set(fd, now.Marked(0), to)
	if errors.Is(err, unix.EPERM) && st.Attributes&(unix.STATX_ATTR_IMMUTABLE|unix.STATX_ATTR_APPEND) != 0 {
		return fmt.Errorf("%s: it is marked immutable or append-only, and nobody changes it until the mark is taken off", where)
	}
	return failedIf(where, err)
}

func failedIf(where string, err error) error {
	if err != nil {
		return failed(where, err)
	}
	return nil
}

// set brings an open place from its rules to others, by the calls that
// posix.Rules.Passing says. A break between leaves rules that
// posix.Rules.Between knows.
func set(fd int, now, to *posix.Rules) error {
	for _, next := range now.Passing(to) {
		if err := call(fd, now, next); err != nil {
			return err
		}
		now = next
	}
	// Owning and lists may take special bits away; what stands now is what counts.
	var st unix.Statx_t
	if err := unix.Statx(fd, "", unix.AT_EMPTY_PATH, unix.STATX_MODE, &st); err != nil {
		return err
	}
	if st.Mode&0o7777 != to.Mode() {
		return unix.Fchmodat(unix.AT_FDCWD, proc(fd), uint32(to.Mode()), 0)
	}
	return nil
}

// call sets the one part in which rules differ from those an open place has.
func call(fd int, now, next *posix.Rules) error {
	name := proc(fd)
	switch {
	case now.Owner != next.Owner || now.Group != next.Group:
		uid, gid := -1, -1
		if n, _, ok := next.Owner.POSIX(); ok && now.Owner != next.Owner {
			uid = int(n)
		}
		if n, _, ok := next.Group.POSIX(); ok && now.Group != next.Group {
			gid = int(n)
		}
		return unix.Fchownat(fd, "", uid, gid, unix.AT_EMPTY_PATH)
	case now.Special != next.Special:
		return unix.Fchmodat(unix.AT_FDCWD, name, uint32(next.Mode()), 0)
	case !slices.Equal(now.Access, next.Access):
		b, err := acltext.Encode(next.Access, acltext.NumberOf)
		if err != nil {
			return err
		}
		err = unix.Setxattr(name, accessList, b, 0)
		if errors.Is(err, unix.ENOTSUP) && !next.Access.Extended() {
			err = unix.Fchmodat(unix.AT_FDCWD, name, uint32(next.Mode()), 0)
		}
		return err
	case next.Default == nil:
		if err := unix.Removexattr(name, defaultList); err != nil && !errors.Is(err, unix.ENODATA) {
			return err
		}
		return nil
	}
	b, err := acltext.Encode(next.Default, acltext.NumberOf)
	if err != nil {
		return err
	}
	return unix.Setxattr(name, defaultList, b, 0)
}

// ShareRules has nothing to read: a machine's own trees have no shares.
func (c *Client) ShareRules(_ context.Context, share string) (*rule.Descriptor, error) {
	return nil, fmt.Errorf("%s is not a share", share)
}

// names parses what getdents64(2) gave, calling fn with each name.
func names(buf []byte, fn func(name string) error) error {
	for len(buf) > 0 {
		rec := (*unix.Dirent)(unsafe.Pointer(&buf[0]))
		if int(rec.Reclen) > len(buf) || rec.Reclen == 0 {
			return errors.New("the folder can't be read")
		}
		raw := buf[unsafe.Offsetof(rec.Name):rec.Reclen]
		end := 0
		for end < len(raw) && raw[end] != 0 {
			end++
		}
		name := string(raw[:end])
		ino := rec.Ino
		buf = buf[rec.Reclen:]
		if name == "." || name == ".." || ino == 0 || strings.ContainsRune(name, '/') {
			continue
		}
		if err := fn(name); err != nil {
			return err
		}
	}
	return nil
}
