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
	how  server.Reading
	fn   func(server.Item) error
	stop context.CancelCauseFunc

	m       sync.Mutex
	turn    sync.Cond
	folders []string // whose insides are still to be read; the newest first
	busy    int
	ended   bool

	bodies map[string]*rule.Descriptor // by the bytes the server gave
}

// Scan calls fn with a share's folder and everything below it. What is behind
// a link is not followed, and no file is opened but to read its rules.
func (c *Client) Scan(ctx context.Context, share string, how server.Reading, fn func(server.Item) error) error {
	first, err := c.mount(ctx, share)
	if err != nil {
		return err
	}
	defer func() { _ = first.Umount() }()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	s := &scanning{how: how, fn: fn, stop: stop, bodies: map[string]*rule.Descriptor{}, folders: how.From}
	s.turn.L = &s.m
	if how.From == nil {
		top, err := c.Look(ctx, share, "", false)
		if err != nil {
			return fmt.Errorf("the rules of share %s's folder: %w", share, err)
		}
		top.Enter = true
		if err := fn(top); err != nil {
			return err
		}
		s.folders = []string{""}
	}
	var wg sync.WaitGroup
	done := context.AfterFunc(ctx, s.wake)
	defer done()
	for i := range Connections {
		wg.Go(func() {
			in := first
			if i > 0 { // where no more connections are to be had, fewer do it
				more, err := c.again(ctx)
				if err != nil {
					return
				}
				defer more.Close()
				if in, err = more.mount(ctx, share); err != nil {
					return
				}
				defer func() { _ = in.Umount() }()
			}
			s.work(ctx, in.WithContext(ctx))
		})
	}
	wg.Wait()
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	return nil
}

func (s *scanning) wake() {
	s.m.Lock()
	defer s.m.Unlock()
	s.turn.Broadcast()
}

// work reads folders until none is left.
func (s *scanning) work(ctx context.Context, in *smb2.Share) {
	for {
		s.m.Lock()
		for len(s.folders) == 0 && s.busy > 0 && ctx.Err() == nil && !s.ended {
			s.turn.Wait()
		}
		if len(s.folders) == 0 || ctx.Err() != nil || s.ended {
			s.turn.Broadcast()
			s.m.Unlock()
			return
		}
		dir := s.folders[len(s.folders)-1]
		s.folders = s.folders[:len(s.folders)-1]
		s.busy++
		s.m.Unlock()
		err := s.folder(ctx, in, dir)
		s.m.Lock()
		s.busy--
		if err != nil {
			s.ended = true
			s.stop(err)
		}
		s.turn.Broadcast()
		s.m.Unlock()
	}
}

// folder tells what is directly in a folder.
func (s *scanning) folder(ctx context.Context, in *smb2.Share, dir string) error {
	unread := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if lost(err) {
			return fmt.Errorf("the server went away: %s", plainSMB(err))
		}
		s.m.Lock()
		defer s.m.Unlock()
		return s.fn(server.Item{Path: dir, Folder: true, Err: fmt.Errorf("what is in it can't be seen: %s", plainSMB(err))})
	}
	f, err := in.Open(strings.ReplaceAll(dir, "/", `\`))
	if err != nil {
		return unread(err)
	}
	defer f.Close()
	seen := map[string]bool{}
	for {
		entries, err := f.ReaddirPlus(batch, everything)
		if err != nil && err != io.EOF {
			return unread(err)
		}
		if terr := s.tell(ctx, dir, entries, seen); terr != nil {
			return terr
		}
		if err == io.EOF || len(entries) == 0 {
			break
		}
	}
	s.m.Lock()
	defer s.m.Unlock()
	return s.fn(server.Item{Path: dir, Folder: true, Whole: true, Left: len(s.folders) + s.busy - 1})
}

// tell tells entries of a folder, and remembers the folders among them.
func (s *scanning) tell(ctx context.Context, dir string, entries []smb2.DirEntryPlus, seen map[string]bool) error {
	depth := 1
	if dir != "" {
		depth = strings.Count(dir, "/") + 2
	}
	s.m.Lock()
	defer s.m.Unlock()
	for i := range entries {
		e := &entries[i]
		name := e.Name()
		if name == "." || name == ".." || name == "" || strings.ContainsAny(name, "/\\\x00") {
			continue // no name of an item; a server that says so is not followed
		}
		if seen[name] {
			return fmt.Errorf("the server tells of %q twice in one folder: it can't be read", dir+"/"+name)
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
			x.Rules, x.Err = s.body(e.RawSecurityDescriptor)
		case e.Err != nil:
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if lost(e.Err) {
				return fmt.Errorf("the server went away: %s", plainSMB(e.Err))
			}
			x.Err = errors.New(plainSMB(e.Err))
		default:
			x.Err = errors.New("the server gave no descriptor")
		}
		x.Enter = folder && x.Err == nil && e.FileInfo.Mode()&os.ModeSymlink == 0 && (s.how.Depth == 0 || depth < s.how.Depth)
		if err := s.fn(x); err != nil {
			return err
		}
		if x.Enter {
			s.folders = append(s.folders, x.Path)
			s.turn.Signal()
		}
	}
	return nil
}

// body reads a descriptor; the same bytes are the same pointer, as long as
// there aren't too many.
func (s *scanning) body(raw []byte) (*rule.Descriptor, error) {
	if d := s.bodies[string(raw)]; d != nil {
		return d, nil
	}
	d, err := rules(raw)
	if err == nil {
		if len(s.bodies) >= mostBodies {
			clear(s.bodies)
		}
		s.bodies[string(raw)] = d
	}
	return d, err
}

// lost tells whether an error means that the connection is gone.
func lost(err error) bool {
	var re *smb2.ResponseError
	if errors.As(err, &re) { // the server answered, so it is there
		return false
	}
	var te *smb2.TransportError
	return errors.As(err, &te) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, os.ErrClosed)
}
