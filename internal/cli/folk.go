package cli

import (
	"io"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/format/ldif"
	"tarnwold/internal/format/shape"
)

// tight is how much memory may grow before it is collected where people are read
// by the hundred thousand, in percent.
const tight = 60

// sparing has memory collected sooner until the function it gives is called.
func sparing() func() {
	was := debug.SetGCPercent(tight)
	return func() { debug.SetGCPercent(was) }
}

// shaping is how a directory's entries are read.
type shaping struct {
	name, file string
	purposes   shape.Purposes
}

func (s *shaping) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.name, "shape", "domain", "how its entries stand for accounts, a `shape`: "+strings.Join(shape.Names(), " or "))
	f.StringVar(&s.file, "shape-file", "", "a `file` that describes another shape, in JSON")
	f.StringArrayVar(&s.purposes.Role, "role", nil, "groups of people by job: a `pattern` of names, or attribute=pattern")
	f.StringArrayVar(&s.purposes.Access, "access", nil, "groups that carry entries: a `pattern` of names, or attribute=pattern")
	f.StringArrayVar(&s.purposes.Mail, "mail", nil, "groups for mail alone: a `pattern` of names, or attribute=pattern")
	_ = c.RegisterFlagCompletionFunc("shape", cobra.FixedCompletions(shape.Names(), cobra.ShellCompDirectiveNoFileComp))
	c.MarkFlagsMutuallyExclusive("shape", "shape-file")
}

// shape gives the shape that was named or described.
func (s *shaping) shape() (shape.Shape, error) {
	if err := s.purposes.Good(); err != nil {
		return shape.Shape{}, misused("%s", err)
	}
	if s.file != "" {
		f, err := os.Open(s.file)
		if err != nil {
			return shape.Shape{}, err
		}
		defer f.Close()
		return shape.Read(f, s.file)
	}
	x, ok := shape.Named(s.name)
	if !ok {
		return x, &estate.NotFound{What: "shape", Name: s.name, Near: shape.Names()}
	}
	return x, nil
}

// gathered reads files of entries, one after the other: a later one may change
// what an earlier one has.
func (a *app) gathered(c *cobra.Command, files []string, s *shaping) (*shape.Folk, error) {
	sh, err := s.shape()
	if err != nil {
		return nil, err
	}
	g := shape.Gather(sh, files[len(files)-1], s.purposes, time.Now())
	want := append(sh.Attributes(), s.purposes.Attributes()...)
	for _, file := range files {
		bar := a.counting("reading " + file)
		_, err := readFile(c.Context(), file, func(r io.Reader, name string) (struct{}, error) {
			return struct{}{}, ldif.NewReader(r, name, want...).Each(g.Record)
		})
		bar.end()
		if err != nil {
			return nil, inFile(file, err)
		}
	}
	return g.Folk()
}
