package run

import (
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"

	"tarnwold/internal/report/doc"
)

// bar shows how far long work has come, on a terminal only, and only where it
// takes long.
type bar struct {
	mu    sync.Mutex
	w     progress.Writer
	track *progress.Tracker
	timer *time.Timer
	done  bool
}

// soon is how long work takes before a person is told of it.
const soon = 600 * time.Millisecond

// Progress begins telling of work; total is how many steps it has, -1 where
// nobody knows.
func (a *App) Progress(total int, what string) *bar { return a.newBar(total, what, total > 0) }

// Counting is progress of work that is counted, though nobody knows up to what.
func (a *App) Counting(what string) *bar { return a.newBar(-1, what, true) }

func (a *App) newBar(total int, what string, speed bool) *bar {
	b := &bar{}
	if !IsTerminal(a.Err) || dumb() || a.Verbose {
		return b
	}
	b.track = &progress.Tracker{Message: doc.Clean(doc.Clip(what)), Total: int64(max(0, total))}
	b.timer = time.AfterFunc(soon, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.done {
			return
		}
		b.w = progress.NewWriter()
		b.w.SetOutputWriter(a.Err)
		b.w.SetAutoStop(false)
		b.w.SetTrackerLength(24)
		b.w.SetMessageLength(36)
		b.w.SetUpdateFrequency(120 * time.Millisecond)
		b.w.SetStyle(progress.StyleDefault)
		b.w.Style().Visibility.ETA = true
		b.w.Style().Visibility.Speed = speed
		b.w.AppendTracker(b.track)
		go b.w.Render()
	})
	return b
}

// Set says how many steps are done.
func (b *bar) Set(done int) {
	if b.track != nil {
		b.track.SetValue(int64(done))
	}
}

// Say says what is being done now.
func (b *bar) Say(what string) {
	if b.track != nil {
		b.track.UpdateMessage(doc.Clean(what))
	}
}

func (b *bar) End() {
	if b.track == nil {
		return
	}
	b.timer.Stop()
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.done {
		return
	}
	b.done = true
	if b.w != nil {
		b.track.MarkAsDone()
		b.w.Stop()
		for i := 0; b.w.IsRenderInProgress() && i < 100; i++ {
			time.Sleep(5 * time.Millisecond)
		}
	}
}
