package cli

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/format/ldif"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report"
)

// tight is how much memory may grow before it is collected where people are read
// by the hundred thousand, in percent.
const tight = 100

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

// loadFolk takes in files of entries. Where they are the very ones that were
// taken in last, and nobody was changed since, there is nothing to be read.
func (a *app) loadFolk(c *cobra.Command, k keeping, files []string, s *shaping) error {
	sh, err := s.shape()
	if err != nil {
		return err
	}
	same, err := a.toldAgain(c.Context(), files, sh, s.purposes)
	if err != nil {
		return err
	}
	if same && a.format == report.Table && a.inner == nil {
		err := a.carry(c, k, func(d *plan.Desk, _ *report.Outcome) (*plan.Plan, error) {
			return intake.NothingTold(d, time.Now().Unix())
		})
		if !errors.Is(err, plan.ErrToldNoMore) {
			return err
		}
	}
	defer sparing()()
	folk, telling, err := a.gathered(c, files, sh, s.purposes)
	if err != nil {
		return err
	}
	var taken *plan.Plan
	err = a.carry(c, k, func(d *plan.Desk, o *report.Outcome) (p *plan.Plan, err error) {
		o.Brief = true
		p, o.Taken, err = intake.TakeFolk(d, folk, intake.FolkFrom{File: files[len(files)-1], Domain: "ldif", Telling: telling})
		taken = p
		return p, err
	})
	if err != nil || k.dryRun || a.inner != nil || taken.Changes() {
		return err
	}
	return a.remember(c.Context(), taken.Told().Remember)
}

// summing sums files of entries that are written to it one after the other.
type summing struct {
	hash.Hash
	size, before int64
}

// newSumming begins a sum: how files are read, and by which build of the program,
// counts too.
func newSumming(sh shape.Shape, p shape.Purposes) (*summing, error) {
	s := &summing{Hash: sha256.New()}
	how, err := json.Marshal([]any{sh, p, Version})
	if err != nil {
		return nil, err
	}
	info, _ := debug.ReadBuildInfo()
	fmt.Fprintf(s.Hash, "%s\n%v\n", how, info)
	return s, nil
}

func (s *summing) Write(b []byte) (int, error) {
	s.size += int64(len(b))
	return s.Hash.Write(b)
}

// next ends one file and begins the next.
func (s *summing) next() {
	fmt.Fprintf(s.Hash, "\n%d\n", s.size-s.before)
	s.before = s.size
}

// toldAgain tells whether files are, byte for byte, those that were taken in last,
// and whether that holds still.
func (a *app) toldAgain(ctx context.Context, files []string, sh shape.Shape, p shape.Purposes) (bool, error) {
	size := int64(0)
	for _, file := range files {
		info, err := os.Stat(file)
		if err != nil || !info.Mode().IsRegular() { // reading it says what is wrong
			return false, nil
		}
		size += info.Size()
	}
	var last *plan.Telling
	holds := false
	if err := a.view(ctx, func(t *estate.Tx) error {
		last = plan.LastTelling(t)
		holds = last.Holds(t, time.Now().Unix())
		return t.Err()
	}); err != nil || !holds || last.Size != size {
		return false, err
	}
	sum, err := newSumming(sh, p)
	if err != nil {
		return false, err
	}
	for _, file := range files {
		f, err := os.Open(file)
		if err != nil {
			return false, nil
		}
		_, err = io.Copy(sum, &stopping{ctx, f})
		f.Close()
		if err != nil {
			return false, err
		}
		sum.next()
	}
	return [32]byte(sum.Sum(nil)) == last.Sum, nil
}

// gathered reads files of entries, one after the other: a later one may change
// what an earlier one has.
func (a *app) gathered(c *cobra.Command, files []string, sh shape.Shape, p shape.Purposes) (*shape.Folk, *plan.Telling, error) {
	g := shape.Gather(sh, files[len(files)-1], p, time.Now())
	want := append(sh.Attributes(), p.Attributes()...)
	sum, err := newSumming(sh, p)
	if err != nil {
		return nil, nil, err
	}
	for _, file := range files {
		bar := a.counting("reading " + file)
		_, err := readFile(c.Context(), file, func(r io.Reader, name string) (struct{}, error) {
			return struct{}{}, ldif.NewReader(io.TeeReader(r, sum), name, want...).Each(g.Record)
		})
		bar.end()
		if err != nil {
			return nil, nil, inFile(file, err)
		}
		sum.next()
	}
	folk, err := g.Folk()
	return folk, &plan.Telling{Sum: [32]byte(sum.Sum(nil)), Size: sum.size}, err
}
