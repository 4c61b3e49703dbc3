// Package newfile writes files beside others so that nobody who may put links
// and files into the same folder can have something else written over, or
// read what isn't for them: the folder is opened once, the file is made new
// under a name that can't be guessed, never through a link, and takes its
// place whole.
package newfile

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// File is one that is being written.
type File struct {
	*os.File
	root       *os.Root
	temp, name string
	placed     bool
}

// Create begins a file that is to stand at a path. Until it is placed it has
// another name in the same folder; it is readable by nobody else.
func Create(path string) (*File, error) {
	root, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return nil, named(err, path)
	}
	f := &File{root: root, name: filepath.Base(path)}
	f.temp = "." + f.name + ".new-" + rand.Text()[:16]
	if f.File, err = root.OpenFile(f.temp, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600); err != nil {
		_ = root.Close()
		return nil, named(err, path)
	}
	return f, nil
}

// named lets an error tell of the file that was wanted, and not of its folder or
// the one beside it.
func named(err error, path string) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return &fs.PathError{Op: "open", Path: path, Err: pe.Err}
	}
	return err
}

// Place puts what was written so far into its place, in one step. What stands
// there goes, where it is a file; a link or the like is left, and refused. The
// file can be written on.
func (f *File) Place() error {
	if info, err := f.root.Lstat(f.name); err == nil && !info.Mode().IsRegular() {
		return &fs.PathError{Op: "write", Path: filepath.Join(f.root.Name(), f.name), Err: errors.New("it exists and is not a regular file")}
	}
	if err := f.root.Rename(f.temp, f.name); err != nil {
		return err
	}
	f.placed = true
	return nil
}

// Keep ends a file: it is on the disk, has these permissions, and stands in
// its place.
func (f *File) Keep(mode fs.FileMode) error {
	err := f.Chmod(mode)
	if err == nil {
		err = f.Sync()
	}
	if err == nil && !f.placed {
		err = f.Place()
	}
	return errors.Join(err, f.Drop())
}

// Drop ends a file; one that hasn't taken its place is gone. It may be called
// after Keep.
func (f *File) Drop() error {
	if f.root == nil {
		return nil
	}
	err := f.Close()
	if !f.placed {
		err = errors.Join(err, f.root.Remove(f.temp))
	}
	err = errors.Join(err, f.root.Close())
	f.root = nil
	return err
}

// Write writes a whole file.
func Write(path string, mode fs.FileMode, text []byte) error {
	f, err := Create(path)
	if err != nil {
		return err
	}
	if _, err := f.File.Write(text); err != nil {
		return errors.Join(err, f.Drop())
	}
	return f.Keep(mode)
}

// Open opens a file that was written so by the same user: no link, and no
// other's.
func Open(path string) (*os.File, error) {
	root, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	name := filepath.Base(path)
	named, err := root.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !named.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a regular file", path)
	}
	f, err := root.Open(name)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !os.SameFile(named, info) {
		err = fmt.Errorf("%s was replaced while it was opened", path)
	}
	if err == nil && !own(info) {
		err = fmt.Errorf("%s is another user's, or others may write it; it isn't read", path)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}
