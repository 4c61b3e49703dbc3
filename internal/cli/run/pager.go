package run

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tarnwold/internal/report/doc"
)

// pager stands between an answer and the terminal: what is longer than the screen goes to
// a program that shows it page by page. What fits is written as it is, at the end.
type pager struct {
	out  *os.File
	rows int
	by   string // the program, as a shell takes it
	held bytes.Buffer
	seen int // lines
	c    *exec.Cmd
	in   io.WriteCloser
	off  bool // it couldn't be started: the terminal it is
}

// usual is what shows pages where PAGER says nothing: it ends by itself where all fits, lets
// colours through, and leaves what was shown.
const usual = "less -FRX"

// BeginPager has a question's answer shown page by page where somebody sits at a terminal.
func (a *App) BeginPager(c *cobra.Command) {
	out, ok := a.Out.(*os.File)
	by, said := os.LookupEnv("PAGER")
	switch {
	case !ok || !IsTerminal(out) || !a.Asks || a.NoPager || !a.Yes("pager") || dumb() || a.Inner != nil || c.Annotations["asks"] == "" || c.Name() == "questions":
		return
	case said && (strings.TrimSpace(by) == "" || by == "cat"):
		return
	case !said:
		by = usual
	}
	if _, err := exec.LookPath(strings.Fields(by)[0]); err != nil {
		return // it would show nothing
	}
	_, rows, err := term.GetSize(int(out.Fd()))
	if err != nil || rows < 3 {
		return
	}
	a.Out = &pager{out: out, rows: rows, by: by}
}

// endPager writes what is held, or waits until whoever reads has read.
func (a *App) endPager() {
	p, ok := a.Out.(*pager)
	if !ok {
		return
	}
	a.Out = p.out
	if p.c == nil {
		_, _ = p.out.Write(p.held.Bytes())
		return
	}
	_ = p.in.Close()
	_ = p.c.Wait()
}

func (p *pager) Write(b []byte) (int, error) {
	switch {
	case p.off:
		return p.out.Write(b)
	case p.c != nil:
		n, err := p.in.Write(b)
		if err != nil { // who reads has seen enough
			err = syscall.EPIPE
		}
		return n, err
	}
	p.held.Write(b)
	if p.seen += bytes.Count(b, []byte("\n")); p.seen < p.rows-1 {
		return len(b), nil
	}
	p.c = exec.Command("sh", "-c", p.by)
	p.c.Stdout, p.c.Stderr = p.out, os.Stderr
	in, err := p.c.StdinPipe()
	if err == nil {
		err = p.c.Start()
	}
	if err != nil {
		p.c, p.off = nil, true
		_, err := p.out.Write(p.held.Bytes())
		p.held.Reset()
		return len(b), err
	}
	p.in = in
	if _, err := in.Write(p.held.Bytes()); err != nil {
		return len(b), syscall.EPIPE
	}
	p.held.Reset()
	return len(b), nil
}

// dumb tells whether the terminal does nothing but print.
func dumb() bool { return os.Getenv("TERM") == "dumb" }

// Paints tells whether what is written may be coloured.
func Paints(out any) bool { return IsTerminal(out) && os.Getenv("NO_COLOR") == "" && !dumb() }

// screen gives the terminal that is written to, with a pager before it or not.
func screen(w any) (*os.File, bool) {
	if p, ok := w.(*pager); ok {
		return p.out, true
	}
	f, ok := w.(*os.File)
	return f, ok && term.IsTerminal(int(f.Fd()))
}

// printer prints to what may be a terminal, as wide as that is.
func printer(w io.Writer, format doc.Format) *doc.Printer {
	p := &doc.Printer{W: w, Format: format}
	var f *os.File
	if f, p.Screen = screen(w); p.Screen {
		if wide, _, err := term.GetSize(int(f.Fd())); err == nil {
			p.Width = wide
		}
	}
	return p
}
