// Zipped writes a folder as a zip archive: for systems that have no tar.
package main

import (
	"archive/zip"
	"fmt"
	"os"
	"path/filepath"
)

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "usage: zipped FILE.zip IN FOLDER, the folder below IN")
		os.Exit(2)
	}
	if err := write(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, "zipped:", err)
		os.Exit(1)
	}
}

func write(file, in, folder string) (err error) {
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	defer func() {
		if cerr := out.Close(); err == nil {
			err = cerr
		}
	}()
	z := zip.NewWriter(out)
	root, err := os.OpenRoot(in)
	if err != nil {
		return err
	}
	defer root.Close()
	err = filepath.WalkDir(filepath.Join(in, folder), func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, err := filepath.Rel(in, path)
		if err != nil {
			return err
		}
		body, err := root.ReadFile(name)
		if err != nil {
			return err
		}
		w, err := z.CreateHeader(&zip.FileHeader{Name: filepath.ToSlash(name), Method: zip.Deflate})
		if err == nil {
			_, err = w.Write(body)
		}
		return err
	})
	if err != nil {
		return err
	}
	return z.Close()
}
