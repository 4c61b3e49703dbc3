package live

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"syscall"
)

// scratch is a file for what a scan holds while it runs: format.Scratch.
type scratch struct {
	f   *os.File
	end int64
}

// newScratch makes a scratch file in a folder. Where that can be, nobody sees
// it and nothing is left of it however the process ends.
func newScratch(dir string) (*scratch, error) {
	f, err := os.CreateTemp(dir, ".tarnwold-*")
	if err != nil {
		return nil, err
	}
	if runtime.GOOS != "windows" {
		if err := os.Remove(f.Name()); err != nil {
			return nil, errors.Join(err, f.Close())
		}
	}
	return &scratch{f: f}, nil
}

func (s *scratch) Put(b []byte) (int64, error) {
	at := s.end
	n, err := s.f.WriteAt(b, at)
	s.end += int64(n)
	if errors.Is(err, syscall.ENOSPC) {
		return at, fmt.Errorf("the disk is full: there is no room beside the estate for what a scan holds while it runs")
	}
	return at, err
}

func (s *scratch) Get(b []byte, at int64) error {
	_, err := s.f.ReadAt(b, at)
	return err
}

func (s *scratch) close() error {
	err := s.f.Close()
	if runtime.GOOS == "windows" {
		err = errors.Join(err, os.Remove(s.f.Name()))
	}
	return err
}
