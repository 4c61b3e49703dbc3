package run

import (
	"bufio"
	"context"
	"errors"
	"io"
	"os"

	"tarnwold/internal/format"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/store"
)

// InFile says in which file a row is wrong.
func InFile(file string, err error) error {
	var fe *format.Error
	if errors.As(err, &fe) && fe.File == "" {
		fe.File = file
	}
	return err
}

// ReadFile opens a file and reads it; Ctrl-C ends it at once, from a pipe too.
func ReadFile[T any](ctx context.Context, file string, read func(io.Reader, string) (T, error)) (out T, err error) {
	if info, err := os.Stat(file); err == nil && !info.Mode().IsRegular() {
		return read(&waiting{ctx: ctx, open: func() (io.ReadCloser, error) { return os.Open(file) }}, file)
	}
	f, err := os.Open(file)
	if err != nil {
		return out, err
	}
	defer f.Close()
	return read(&Stopping{ctx, f}, file)
}

// OpenSheet opens a sheet: CSV, or the first sheet of a workbook that isn't hidden.
func OpenSheet(r io.Reader, file string, allowed ...csvfile.Kind) (*csvfile.Reader, error) {
	in := bufio.NewReaderSize(r, 1<<16)
	if begins, _ := in.Peek(4); !workbook.Is(begins) {
		return csvfile.Open(in, file, allowed...)
	}
	sheets, err := workbook.Read(in, file)
	if err != nil {
		return nil, err
	}
	for _, s := range sheets {
		if !s.Hidden {
			return csvfile.OpenRows(s.Rows, file, allowed...)
		}
	}
	return nil, &format.Error{File: file, What: "all its sheets are hidden"}
}

// Stopping reads until its context is done.
type Stopping struct {
	Ctx context.Context
	R   io.Reader
}

func (s *Stopping) Read(b []byte) (int, error) {
	if s.Ctx.Err() != nil {
		return 0, store.ErrStopped
	}
	return s.R.Read(b)
}

// waiting opens and reads something that may keep one waiting at either, and
// stops waiting when its context is done.
type waiting struct {
	ctx  context.Context
	open func() (io.ReadCloser, error)
	got  chan chunk
	rest []byte
	err  error
}

type chunk struct {
	data []byte
	err  error
}

func (w *waiting) Read(b []byte) (int, error) {
	if w.got == nil {
		w.got = make(chan chunk, 1)
		go func() {
			r, err := w.open()
			if err != nil {
				w.got <- chunk{nil, err}
				return
			}
			defer r.Close()
			for {
				buf := make([]byte, 1<<16)
				n, err := r.Read(buf)
				select {
				case w.got <- chunk{buf[:n], err}:
				case <-w.ctx.Done():
					return
				}
				if err != nil {
					return
				}
			}
		}()
	}
	for len(w.rest) == 0 && w.err == nil {
		select {
		case <-w.ctx.Done():
			return 0, store.ErrStopped
		case c := <-w.got:
			w.rest, w.err = c.data, c.err
		}
	}
	n := copy(b, w.rest)
	w.rest = w.rest[n:]
	if n > 0 {
		return n, nil
	}
	return 0, w.err
}
