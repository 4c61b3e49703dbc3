package asks

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/expectation"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/store"
)

func ExpectCommand(a *run.App) *cobra.Command {
	var from string
	var depth int
	c := &cobra.Command{
		Use:   "expect FILE…",
		Short: "Check what is expected of the estate: who can and who cannot do what where",
		Long: `Check what is expected of the estate, kept in files, one a line; # begins a
comment. Places are relative to the line "at" before them.

  at //stagedoor/productions
  ines can edit Wardrobe/Fittings
  lark cannot read "Box Office/Ledgers"
  only board, warden can read "Board Papers" and below
  nobody but warden can change-rules Casting and below
  everyone can list Scripts

Before can or cannot stand users or groups, of which every member is meant;
after it a level, rights joined by commas, or an act. "only" says that those
named can and nobody else can; "nobody but" that nobody else can. Both look at
everybody by every route; "through //server/share" or "at the server" at the end
of a line narrows it. For create and make-folder the place is the folder that
something is made in. A name with blanks, and one that is a word of the
language, stands in quotes.

--write WHERE writes what holds today of a folder and the folders in it, as a
start for a file of one's own: who can read, who can edit, who has all of it.

Exit code 1 says that one doesn't hold, 3 that one can't be asked, for what it
names isn't there.`,
		Example: `  tarnwold expect wardrobe.expect
  tarnwold expect *.expect -o expect.xml
  tarnwold expect wardrobe.expect --format json
  tarnwold expect --write //stagedoor/productions --depth 2 > start.expect`,
		Args: func(c *cobra.Command, args []string) error {
			if from != "" && len(args) > 0 {
				return fmt.Errorf("--write writes a file of expectations, and checks none")
			}
			if from != "" {
				return nil
			}
			return cobra.MinimumNArgs(1)(c, args)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if from != "" {
				return writeExpectations(a, c, from, depth)
			}
			lines, of, err := ReadExpectations(c.Context(), args, true)
			if err != nil {
				return err
			}
			return checkExpectations(a, c, lines, of)
		},
	}
	c.Flags().StringVar(&from, "write", "", "write what holds today at and below this `place`")
	c.Flags().IntVar(&depth, "depth", 1, "how many layers of folders below it --write looks at")
	_ = c.RegisterFlagCompletionFunc("write", a.CompletePlaces)
	return c
}

// ReadExpectations reads files of expectations, and says which each is of. Where some is
// so, a file without any is refused.
func ReadExpectations(ctx context.Context, files []string, some bool) (lines []expectation.Line, of []string, err error) {
	for _, file := range files {
		list, err := run.ReadFile(ctx, file, expectation.Read)
		if err != nil {
			return nil, nil, err
		}
		if len(list) == 0 && some { // nothing that is expected would always hold
			return nil, nil, &format.Error{File: file, Line: 1, What: "the file has no expectations; write lines like: wardrobe can edit //server/share"}
		}
		for range list {
			of = append(of, file)
		}
		lines = append(lines, list...)
	}
	return lines, of, nil
}

// writeExpectations prints a file of what holds today.
func writeExpectations(a *run.App, c *cobra.Command, where string, depth int) error {
	switch {
	case a.Format != doc.Table:
		return run.Misused("--write writes expectations, and takes no --format or -o")
	case depth < 0:
		return run.Misused("--depth is %d; wanted 0 or more", depth)
	}
	var list []expect.Expectation
	var top string
	err := a.View(c.Context(), func(t *estate.Tx) (err error) {
		k := ask.New(t)
		p, err := k.Place(where)
		if err != nil {
			return err
		}
		top = p.Via()
		list, err = expect.Expectable(k, where, depth)
		return err
	})
	if err != nil {
		return err
	}
	var b strings.Builder
	b.WriteString("# What holds today; keep the lines that must stay so\n")
	b.WriteString("at " + expectation.Quote(top) + "\n")
	for i := range list {
		e := &list[i]
		l := expectation.Line{Names: e.Names, What: e.What, Below: e.Below, Where: expectation.Relative(e.Where, top)}
		switch {
		case e.Everyone:
			l.Whose = expectation.Everyone
		case e.Named && e.Others:
			l.Whose = expectation.Only
		case e.Others:
			l.Whose = expectation.NobodyBut
		}
		b.WriteString(l.Write() + "\n")
	}
	_, err = io.WriteString(a.Out, b.String())
	return err
}

func checkExpectations(a *run.App, c *cobra.Command, lines []expectation.Line, of []string) error {
	bar := a.Progress(len(lines), "checking")
	out := make([]*expect.Expected, 0, len(lines))
	bad, unasked := 0, 0
	err := a.View(c.Context(), func(t *estate.Tx) error {
		x := expect.NewExpecting(ask.New(t))
		for i := range lines {
			if c.Context().Err() != nil {
				return store.ErrStopped
			}
			l := &lines[i]
			got, err := x.Expect(review.Expects(l, of[i]))
			if err != nil {
				return err
			}
			if got.Error != "" {
				column := l.WhereAt
				switch got.Part {
				case "name":
					column = l.NamesAt[got.Index]
				case "what":
					column = l.WhatAt
				case "through":
					column = l.ThroughAt
				}
				got.Error = (&format.Error{Column: column, What: got.Error}).Error()
				unasked++
			} else if !got.Holds {
				bad++
			}
			out = append(out, got)
			bar.Set(i + 1)
		}
		return nil
	})
	bar.End()
	if err != nil {
		return err
	}
	a.File.Says, _ = report.ExpectedHead(out)
	p := a.Printer()
	a.Supposes(p)
	if err := report.Expected(p, out); err != nil {
		return err
	}
	switch {
	case unasked > 0:
		return &run.Unanswered{Rows: unasked, Of: len(out), What: "expectations"}
	case bad > 0:
		return run.ErrNo
	}
	return nil
}
