package cli

import (
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// targets are the flags that name many places at once.
type targets struct {
	from, ownedBy, kind string
}

func (f *targets) flags(c *cobra.Command, a *app) {
	c.Flags().StringVar(&f.from, "from", "", "a `file` with a place on each line, beside those named")
	c.Flags().StringVar(&f.ownedBy, "owned-by", "", "only what this `account` owns, at or below the places named")
	c.Flags().StringVar(&f.kind, "kind", "", "only this kind of item: folder or file")
	_ = c.RegisterFlagCompletionFunc("owned-by", a.completeAccounts(0))
	_ = c.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions([]string{"folder", "file"}, cobra.ShellCompDirectiveNoFileComp))
}

// find gives the places that arguments, patterns and flags mean together.
func (f *targets) find(t *estate.Tx, where []string) ([]estate.Place, error) {
	if f.kind != "" && f.kind != "folder" && f.kind != "file" {
		return nil, misused("%q is neither folder nor file", f.kind)
	}
	if f.from != "" {
		text, err := readFile(f.from, func(r io.Reader, _ string) ([]byte, error) { return io.ReadAll(r) })
		if err != nil {
			return nil, err
		}
		for i, line := range strings.Split(string(text), "\n") {
			line = strings.TrimSpace(line)
			if line == "" || strings.HasPrefix(line, "#") {
				continue
			}
			if _, err := estate.ParseAddress(line); err != nil {
				return nil, &format.Error{File: f.from, Line: i + 1, What: err.Error()}
			}
			where = append(where, line)
		}
	}
	if len(where) == 0 && f.ownedBy == "" {
		return nil, misused("no place is named")
	}
	var all []estate.Place
	for _, w := range where {
		ps, err := t.Match(w)
		if err != nil {
			return nil, err
		}
		all = append(all, ps...)
	}
	if f.ownedBy != "" {
		owner, err := t.Who(f.ownedBy)
		if err != nil {
			return nil, err
		}
		roots := all
		all = nil
		for _, r := range roots {
			all = append(all, t.Owned(owner, &r.Server, r.Path)...)
		}
		if len(where) == 0 {
			all = t.Owned(owner, nil, "")
		}
	}
	seen := map[int64]bool{}
	var out []estate.Place
	for _, p := range all {
		if seen[p.Item] || f.kind != "" && f.kind != kindOf(p.Folder) {
			continue
		}
		seen[p.Item] = true
		out = append(out, p)
	}
	if len(out) == 0 {
		return nil, &estate.Refused{Why: "nothing fits " + strings.Join(append(where, f.ownedBy, f.kind), " ")}
	}
	return out, t.Err()
}

// enough checks the number of arguments before the places, which may come
// from flags instead.
func (f *targets) enough(before int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if f.from != "" || f.ownedBy != "" {
			return cobra.MinimumNArgs(before)(c, args)
		}
		return cobra.MinimumNArgs(before+1)(c, args)
	}
}

func writeNew(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		f.Close()
		os.Remove(path)
		return err
	}
	return f.Close()
}
