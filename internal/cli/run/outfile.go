package run

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/newfile"
	"tarnwold/internal/report/doc"
)

// outFile is a file an answer is written to, by -o: beside it first, and into
// its place when it is whole.
type outFile struct {
	path string
	temp *newfile.File
	buf  *bufio.Writer
	out  io.Writer // where it is said that it was written
	Says string    // what is said of the answer besides, or ""
}

// Writing gives a question the flag -o.
func (a *App) Writing(c *cobra.Command) {
	c.Flags().StringVarP(&a.File.path, "out", "o", "", "write the answer to this `file` instead; its ending says how: .xlsx, .html, .csv, .json or .md")
}

// Checking lets -o write JUnit too.
func Checking(c *cobra.Command) {
	f := c.Flags().Lookup("out")
	f.Usage = strings.Replace(f.Usage, ".json or .md", ".json, .md, or .xml for JUnit", 1)
	_ = c.Flags().SetAnnotation("out", "checks", []string{"yes"})
}

// BeginFile takes what is printed to the file that is wanted.
func (a *App) BeginFile(c *cobra.Command) error {
	f := &a.File
	if f.path == "" {
		return nil
	}
	format, err := doc.FormatOf(f.path, c.Flags().Lookup("out").Annotations["checks"] != nil)
	if err != nil {
		return AsUsage(err)
	}
	if info, err := os.Lstat(f.path); err == nil && !info.Mode().IsRegular() {
		return fmt.Errorf("%s exists and is not a regular file", f.path)
	}
	if f.temp, err = newfile.Create(f.path); err != nil {
		return err
	}
	a.Format = format
	f.buf, f.out = bufio.NewWriterSize(f.temp, 1<<16), a.Out
	a.Out, a.Color = f.buf, false
	return nil
}

// endFile puts the file into its place, or takes it away again.
func (a *App) endFile(keep bool) error {
	f := &a.File
	if f.temp == nil {
		return nil
	}
	a.Out = f.out
	err := f.buf.Flush()
	if err == nil && keep {
		err = f.temp.Keep(0o600)
	}
	if derr := f.temp.Drop(); err == nil {
		err = derr
	}
	if err != nil || !keep {
		return err
	}
	if f.Says != "" {
		f.Says = ": " + f.Says
	}
	_, err = fmt.Fprintf(a.Out, "Written to %s%s\n", doc.Clean(f.path), doc.Clean(f.Says))
	return err
}
