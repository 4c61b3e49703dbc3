package load

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
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/ldif"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

// Remember writes down what is not a change of the estate.
func Remember(a *run.App, ctx context.Context, fn func(t *estate.Tx) error) error {
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	return e.Note(ctx, fn)
}

// Shaping is how a directory's entries are read.
type Shaping struct {
	name, file string
	claims     []string
	Purposes   shape.Purposes
}

func (s *Shaping) Flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.name, "shape", "domain", "how its entries stand for accounts, a `shape`: "+strings.Join(shape.Names(), " or "))
	f.StringVar(&s.file, "shape-file", "", "a `file` that describes another shape, in JSON")
	f.StringArrayVar(&s.Purposes.Role, "role", nil, "groups of people by job: a `pattern` of names, or attribute=pattern")
	f.StringArrayVar(&s.Purposes.Access, "access", nil, "groups that carry entries: a `pattern` of names, or attribute=pattern")
	f.StringArrayVar(&s.Purposes.Mail, "mail", nil, "groups for mail alone: a `pattern` of names, or attribute=pattern")
	f.StringArrayVar(&s.claims, "claim", nil, "what conditions of entries ask of users, as `NAME=ATTRIBUTE`, or NAME:KIND=ATTRIBUTE where it isn't text")
	_ = c.RegisterFlagCompletionFunc("shape", cobra.FixedCompletions(shape.Names(), cobra.ShellCompDirectiveNoFileComp))
	c.MarkFlagsMutuallyExclusive("shape", "shape-file")
}

// Shape gives the shape that was named or described.
func (s *Shaping) Shape() (shape.Shape, error) {
	x, err := s.shape()
	for _, word := range s.claims {
		c, bad := shape.ParseClaim(word)
		if bad != nil {
			return x, run.Misused("--claim: %s", bad)
		}
		x.Claims = append(slices.Clip(x.Claims), c)
	}
	return x, err
}

func (s *Shaping) shape() (shape.Shape, error) {
	if err := s.Purposes.Good(); err != nil {
		return shape.Shape{}, run.Misused("%s", err)
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

// loadPeople takes in files of entries. Where they are the very ones that were
// taken in last, and nobody was changed since, there is nothing to be read.
func loadPeople(a *run.App, c *cobra.Command, k run.Keeping, files []string, s *Shaping) error {
	sh, err := s.Shape()
	if err != nil {
		return err
	}
	same, err := toldAgain(a, c.Context(), files, sh, s.Purposes)
	if err != nil {
		return err
	}
	if same && a.Format == doc.Table && a.Inner == nil {
		err := a.PreviewAndCommit(c, k, func(d *plan.Planner, _ *changes.Outcome) (*plan.Plan, error) {
			return intake.NothingTold(d, time.Now().Unix())
		})
		if !errors.Is(err, plan.ErrToldNoMore) {
			return err
		}
	}
	defer run.Sparing()()
	found, fingerprint, err := gathered(a, c, files, sh, s.Purposes)
	if err != nil {
		return err
	}
	var taken *plan.Plan
	err = a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
		o.Brief = true
		p, o.Taken, err = intake.TakePeople(d, found, intake.PeopleFrom{File: files[len(files)-1], Domain: "ldif", Fingerprint: fingerprint})
		taken = p
		return p, err
	})
	if err != nil || k.DryRun || a.Inner != nil || taken.Changes() {
		return err
	}
	return Remember(a, c.Context(), taken.Fingerprint().Remember)
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
	how, err := json.Marshal([]any{sh, p, run.Version})
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
func toldAgain(a *run.App, ctx context.Context, files []string, sh shape.Shape, p shape.Purposes) (bool, error) {
	size := int64(0)
	for _, file := range files {
		info, err := os.Stat(file)
		if err != nil || !info.Mode().IsRegular() { // reading it says what is wrong
			return false, nil
		}
		size += info.Size()
	}
	var last *plan.Fingerprint
	holds := false
	if err := a.View(ctx, func(t *estate.Tx) error {
		last = plan.LastFingerprint(t)
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
		_, err = io.Copy(sum, &run.Stopping{Ctx: ctx, R: f})
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
func gathered(a *run.App, c *cobra.Command, files []string, sh shape.Shape, p shape.Purposes) (*shape.People, *plan.Fingerprint, error) {
	g := shape.Gather(sh, files[len(files)-1], p, time.Now())
	want := append(sh.Attributes(), p.Attributes()...)
	sum, err := newSumming(sh, p)
	if err != nil {
		return nil, nil, err
	}
	for _, file := range files {
		bar := a.Counting("reading " + file)
		_, err := run.ReadFile(c.Context(), file, func(r io.Reader, name string) (struct{}, error) {
			return struct{}{}, ldif.NewReader(io.TeeReader(r, sum), name, want...).Each(g.Record)
		})
		bar.End()
		if err != nil {
			return nil, nil, run.InFile(file, err)
		}
		sum.next()
	}
	found, err := g.People()
	return found, &plan.Fingerprint{Sum: [32]byte(sum.Sum(nil)), Size: sum.size}, err
}
