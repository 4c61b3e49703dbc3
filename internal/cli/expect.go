package cli

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/expectation"
	"tarnwold/internal/store"
)

func (a *app) expectCommand() *cobra.Command {
	return &cobra.Command{
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

Exit code 1 says that one doesn't hold, 3 that one can't be asked, for what it
names isn't there.`,
		Example: `  tarnwold expect wardrobe.expect
  tarnwold expect *.expect -o expect.xml
  tarnwold expect wardrobe.expect --format json`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var lines []expectation.Line
			var of []string
			for _, file := range args {
				list, err := readFile(c.Context(), file, expectation.Read)
				if err != nil {
					return err
				}
				for range list {
					of = append(of, file)
				}
				lines = append(lines, list...)
			}
			return a.expect(c, lines, of)
		},
	}
}

func (a *app) expect(c *cobra.Command, lines []expectation.Line, of []string) error {
	bar := a.progress(len(lines), "checking")
	out := make([]*ask.Expected, 0, len(lines))
	bad, unasked := 0, 0
	err := a.view(c.Context(), func(t *estate.Tx) error {
		x := ask.New(t).Expecting()
		for i := range lines {
			if c.Context().Err() != nil {
				return store.ErrStopped
			}
			l := &lines[i]
			got, err := x.Expect(expects(l, of[i]))
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
					column = 0
				}
				got.Error = (&format.Error{Column: column, What: got.Error}).Error()
				unasked++
			} else if !got.Holds {
				bad++
			}
			out = append(out, got)
			bar.set(i + 1)
		}
		return nil
	})
	bar.end()
	if err != nil {
		return err
	}
	p := a.printer()
	a.supposes(p)
	if err := p.Expected(out); err != nil {
		return err
	}
	switch {
	case unasked > 0:
		return &unanswered{unasked, len(out), "expectations"}
	case bad > 0:
		return errNo
	}
	return nil
}

// expects makes what is asked of a line.
func expects(l *expectation.Line, file string) *ask.Expectation {
	return &ask.Expectation{File: file, Line: l.Number, Text: l.Text, Names: l.Names, Everyone: l.Whose == expectation.Everyone,
		Named: l.Whose == expectation.Named || l.Whose == expectation.Only, Others: l.Whose == expectation.Only || l.Whose == expectation.NobodyBut,
		Cannot: l.Cannot, What: l.What, Where: l.Where, Below: l.Below, Through: l.Through, Local: l.Local}
}
