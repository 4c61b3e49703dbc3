package server

import (
	"context"
	"slices"
	"strings"
	"sync"
)

// Walk reads a tree's folders by several workers, the newest found first, and
// tells what they find one at a time.
type Walk struct {
	how  Reading
	fn   func(Item) error
	stop context.CancelCauseFunc

	m       sync.Mutex
	turn    sync.Cond
	folders []string // whose insides are still to be read; the newest first
	busy    int
	ended   bool
	left    int             // folders known of that aren't told whole, nor left unread
	whole   map[string]bool // those that were told whole by a worker that hasn't returned
}

// StartWalk begins a walk: with folders that are known, or else with a tree's
// top, as it says whether to enter it. The context is done, by its cause, once
// a worker has failed; end is called when all have returned.
func StartWalk(ctx context.Context, how Reading, top func() (Item, error), fn func(Item) error) (w *Walk, walking context.Context, end func(), err error) {
	w = &Walk{how: how, fn: fn, folders: slices.Clone(how.From), left: len(how.From), whole: map[string]bool{}}
	w.turn.L = &w.m
	if how.From == nil {
		x, err := top()
		if err != nil {
			return nil, nil, nil, err
		}
		if err := w.Tell(x); err != nil {
			return nil, nil, nil, err
		}
	}
	ctx, w.stop = context.WithCancelCause(ctx)
	woken := context.AfterFunc(ctx, func() {
		w.m.Lock()
		defer w.m.Unlock()
		w.turn.Broadcast()
	})
	return w, ctx, func() { woken(); w.stop(nil) }, nil
}

// Work has one worker read folders until none is left.
func (w *Walk) Work(ctx context.Context, folder func(dir string) error) {
	for {
		w.m.Lock()
		for len(w.folders) == 0 && w.busy > 0 && ctx.Err() == nil && !w.ended {
			w.turn.Wait()
		}
		if len(w.folders) == 0 || ctx.Err() != nil || w.ended {
			w.turn.Broadcast()
			w.m.Unlock()
			return
		}
		dir := w.folders[len(w.folders)-1]
		w.folders = w.folders[:len(w.folders)-1]
		w.busy++
		w.m.Unlock()
		err := folder(dir)
		w.m.Lock()
		w.busy--
		if !w.whole[dir] { // it can't be read
			w.left--
		}
		delete(w.whole, dir)
		if err != nil {
			w.ended = true
			w.stop(err)
		}
		w.turn.Broadcast()
		w.m.Unlock()
	}
}

// Tell tells items, and remembers the folders to enter among them.
func (w *Walk) Tell(items ...Item) error {
	w.m.Lock()
	defer w.m.Unlock()
	for _, x := range items {
		if err := w.fn(x); err != nil {
			return err
		}
		if x.Enter {
			w.folders = append(w.folders, x.Path)
			w.left++
			w.turn.Signal()
		}
	}
	return nil
}

// Whole tells that all that is directly in a folder has been told.
func (w *Walk) Whole(dir string) error {
	w.m.Lock()
	defer w.m.Unlock()
	if !w.whole[dir] {
		w.whole[dir] = true
		w.left--
	}
	return w.fn(Item{Path: dir, Folder: true, Whole: true, Left: w.left})
}

// Below tells whether folders directly in one are entered too.
func (w *Walk) Below(dir string) bool {
	depth := 1
	if dir != "" {
		depth = strings.Count(dir, "/") + 2
	}
	return w.how.Depth == 0 || depth < w.how.Depth
}
