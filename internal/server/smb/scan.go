package smb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	smb2 "github.com/cloudsoda/go-smb2"

	"tarnwold/core/rule"
	"tarnwold/internal/server"
)

// Connections is how many connections a scan asks by at once.
const Connections = 4

const (
	batch      = 1024  // entries asked for at once
	mostPath   = 32000 // UTF-8 bytes of a path; the protocol's own limit is 32,767 characters
	mostBodies = 1 << 16
)

// scanning is one scan of a share by several connections.
type scanning struct {
	*server.Walk
	how server.Reading

	m      sync.Mutex                  // over bodies
	bodies map[string]*rule.Descriptor // by the bytes the server gave
}

// Scan calls fn with a share's folder and everything below it. What is behind
// a link is not followed, and no file is opened but to read its rules.
func (c *Client) Scan(ctx context.Context, share string, how server.Reading, fn func(server.Item) error) error {
	first, err := c.mount(ctx, share)
	if err != nil {
		return err
	}
	defer func() { c.leave(first) }()
	walk, ctx, end, err := server.StartWalk(ctx, how, func() (server.Item, error) {
		top, err := c.Look(ctx, share, "", false)
		if err != nil {
			return top, fmt.Errorf("the rules of share %s's folder: %w", share, err)
		}
		top.Enter = true
		return top, nil
	}, fn)
	if err != nil {
		return err
	}
	defer end()
	s := &scanning{Walk: walk, how: how, bodies: map[string]*rule.Descriptor{}}
	var wg sync.WaitGroup
	for i := range Connections {
		wg.Go(func() {
			in, on := first, c
			if i > 0 { // where no more connections are to be had, fewer do it
				more, err := c.again(ctx)
				if err != nil {
					return
				}
				defer more.Close()
				if in, err = more.mount(ctx, share); err != nil {
					return
				}
				on = more
				defer func() { more.leave(in) }()
			}
			in = in.WithContext(ctx)
			s.Work(ctx, func(dir string) (err error) {
				defer on.tripped(&err)
				return s.folder(ctx, on, in, dir)
			})
		})
	}
	wg.Wait()
	return context.Cause(ctx)
}

// leave ends being connected to a share, whatever the server says to it.
func (c *Client) leave(in *smb2.Share) {
	defer c.watched()()
	defer func() { _ = recover() }() // the session may have ended
	_ = in.Umount()
}

// folder tells what is directly in a folder.
func (s *scanning) folder(ctx context.Context, on *Client, in *smb2.Share, dir string) error {
	unread := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if lost(err) {
			return fmt.Errorf("the server went away: %s", plainSMB(err))
		}
		return s.Tell(server.Item{Path: dir, Folder: true, Err: fmt.Errorf("what is in it can't be seen: %s", plainSMB(err))})
	}
	ended := on.watched()
	f, err := in.Open(strings.ReplaceAll(dir, "/", `\`))
	ended()
	if err != nil {
		return unread(err)
	}
	defer func() {
		defer on.watched()()
		f.Close()
	}()
	seen := map[string]bool{}
	for {
		ended := on.watched()
		entries, err := f.ReaddirPlus(batch, everything)
		ended()
		if err != nil && err != io.EOF {
			return unread(err)
		}
		items, bad := s.items(ctx, dir, entries, seen)
		if err := s.Tell(items...); err != nil {
			return err
		}
		if bad != nil {
			return bad
		}
		if err == io.EOF || len(entries) == 0 {
			break
		}
	}
	return s.Whole(dir)
}

// items reads entries of a folder, up to one that can't be.
func (s *scanning) items(ctx context.Context, dir string, entries []smb2.DirEntryPlus, seen map[string]bool) ([]server.Item, error) {
	below := s.Below(dir)
	out := make([]server.Item, 0, len(entries))
	for i := range entries {
		e := &entries[i]
		name := e.Name()
		if name == "." || name == ".." || name == "" || strings.ContainsAny(name, "/\\\x00") {
			continue // no name of an item; a server that says so is not followed
		}
		if seen[name] {
			return out, fmt.Errorf("the server tells of %q twice in one folder: it can't be read", dir+"/"+name)
		}
		seen[name] = true
		folder := e.IsDir()
		if s.how.FoldersOnly && !folder {
			continue
		}
		x := server.Item{Path: strings.TrimPrefix(dir+"/"+name, "/"), Folder: folder, Size: e.Size(), Modified: e.ModTime()}
		if st, ok := e.Sys().(*smb2.FileStat); ok {
			x.Changed = st.ChangeTime
		}
		switch {
		case len(x.Path) > mostPath:
			x.Err = fmt.Errorf("its path is longer than %d bytes", mostPath)
		case len(e.RawSecurityDescriptor) > 0:
			x.Rules, x.Err = s.body(e.RawSecurityDescriptor, markOf(e))
		case e.Err != nil:
			if ctx.Err() != nil {
				return out, ctx.Err()
			}
			if lost(e.Err) {
				return out, fmt.Errorf("the server went away: %s", plainSMB(e.Err))
			}
			x.Err = errors.New(plainSMB(e.Err))
		default:
			x.Err = errors.New("the server gave no descriptor")
		}
		x.Enter = folder && x.Err == nil && e.FileInfo.Mode()&os.ModeSymlink == 0 && below
		out = append(out, x)
	}
	return out, nil
}

// body reads a descriptor; the same bytes are the same pointer, as long as
// there aren't too many.
func (s *scanning) body(raw []byte, mark rule.Mark) (*rule.Descriptor, error) {
	s.m.Lock()
	defer s.m.Unlock()
	key := string(append(raw[:len(raw):len(raw)], byte(mark)))
	if d := s.bodies[key]; d != nil {
		return d, nil
	}
	d, err := rules(raw)
	if err == nil {
		d.Mark = mark
		if len(s.bodies) >= mostBodies {
			clear(s.bodies)
		}
		s.bodies[key] = d
	}
	return d, err
}

// markOf gives the marks that an item's attributes say ([MS-FSCC] §2.6).
func markOf(info os.FileInfo) rule.Mark {
	const readOnly = 0x1
	if st, ok := info.Sys().(*smb2.FileStat); ok && st.FileAttributes&readOnly != 0 {
		if info.IsDir() {
			return rule.ReadOnlyFolder
		}
		return rule.ReadOnly
	}
	return 0
}

// lost tells whether an error means that the connection is gone.
func lost(err error) bool {
	var re *smb2.ResponseError
	if errors.As(err, &re) { // the server answered, so it is there
		return false
	}
	var te *smb2.TransportError
	var ie *smb2.InvalidResponseError // what comes after an answer that makes no sense can't be trusted either
	return errors.As(err, &te) || errors.As(err, &ie) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, os.ErrClosed)
}
