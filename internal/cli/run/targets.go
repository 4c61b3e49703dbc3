package run

import (
	"context"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/place"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/report/doc"
)

// Targets are the flags that name many places at once.
type Targets struct {
	from, ownedBy, kind string
	plain               bool
}

func (f *Targets) Flags(c *cobra.Command, a *App) {
	c.Flags().StringVar(&f.from, "from", "", "a `file` with a place on each line, beside those named")
	c.Flags().StringVar(&f.ownedBy, "owned-by", "", "only what this `account` owns, at or below the places named")
	c.Flags().StringVar(&f.kind, "kind", "", "only this kind of item: folder or file")
	c.Flags().BoolVar(&f.plain, "plain", false, "take places as they stand: * ? [ { and \\ are letters like any other")
	_ = c.RegisterFlagCompletionFunc("owned-by", a.CompleteAccounts(0))
	_ = c.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions([]string{"folder", "file"}, cobra.ShellCompDirectiveNoFileComp))
}

// From is the file with places, or "".
func (f *Targets) From() string { return f.from }

// mostList is the most bytes of a list of places.
const mostList = 64 << 20

// Read gives what arguments and flags mean together.
func (f *Targets) Read(ctx context.Context, where []string) (plan.Targets, error) {
	x := plan.Targets{Where: where, Plain: f.plain, OwnedBy: f.ownedBy}
	switch f.kind {
	case "":
	case "folder":
		x.Kinds = estate.Folders
	case "file":
		x.Kinds = estate.Files
	default:
		return x, Misused("%q is neither folder nor file", doc.Clip(f.kind))
	}
	if f.from == "" {
		return x, nil
	}
	text, err := ReadFile(ctx, f.from, func(r io.Reader, _ string) ([]byte, error) {
		return io.ReadAll(io.LimitReader(r, mostList+1))
	})
	if err != nil {
		return x, err
	}
	if len(text) > mostList {
		return x, &format.Error{File: f.from, What: "it is larger than a list of places can be (64 MiB)"}
	}
	x.Said = strings.TrimSpace(strings.Join(where, ", ") + " from " + f.from)
	for i, line := range strings.Split(strings.TrimPrefix(string(text), "\ufeff"), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		parse := place.Parse
		if f.plain {
			parse = place.ParsePlain
		}
		if _, err := parse(line); err != nil {
			return x, &format.Error{File: f.from, Line: i + 1, What: err.Error()}
		}
		x.Where = append(x.Where, line)
	}
	if len(x.Where) == 0 {
		return x, Misused("%s names no place", f.from)
	}
	return x, nil
}

// Enough checks the number of arguments before the places, which may come
// from flags instead.
func (f *Targets) Enough(before int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if f.from != "" || f.ownedBy != "" {
			return cobra.MinimumNArgs(before)(c, args)
		}
		return cobra.MinimumNArgs(before+1)(c, args)
	}
}

// AnswerItems answers of the items that targets mean.
func AnswerItems[T any](a *App, c *cobra.Command, x plan.Targets, question func(*ask.Asker, []estate.Target) (T, error), print func(*doc.Printer, T) error) error {
	return Answer(a, c, func(k *ask.Asker) (got T, err error) {
		items, err := plan.On(k, a.Who()).Find(x)
		if err != nil {
			return got, err
		}
		return question(k, items)
	}, print)
}
