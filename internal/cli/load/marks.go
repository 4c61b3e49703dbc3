package load

import (
	"bufio"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report/changes"
)

func loadMarks(a *run.App) *cobra.Command {
	var k run.Keeping
	var at string
	var off bool
	c := &cobra.Command{
		Use:   "marks FILE",
		Short: "Load which items carry the read-only mark, from a list of paths",
		Long: `Load which folders and files carry the read-only mark, from a file with a path a
line, below the place named by --at. Nobody writes to what is marked, not even
an administrator, and it isn't deleted, whatever its rules say. A scan over SMB takes
the marks in by itself.`,
		Example: "  tarnwold load marks readonly.txt --at stagedoor:/srv/playhouse\n  tarnwold load marks readonly.txt --at stagedoor:/srv/playhouse --off",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			to, err := serversOwn(at)
			if err != nil {
				return err
			}
			list, err := run.ReadFile(c.Context(), args[0], readMarks)
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
				o.Brief = true
				return intake.Marks(d, args[0], to, list, off)
			})
		},
	}
	k.PlainFlags(c)
	c.Flags().StringVar(&at, "at", "", "where the paths begin, as `SERVER:/FOLDER`")
	c.Flags().BoolVar(&off, "off", false, "the items carry the mark no more")
	_ = c.MarkFlagRequired("at")
	return c
}

// readMarks reads paths, one a line.
func readMarks(r io.Reader, file string) (out []intake.MarkedPath, err error) {
	in := bufio.NewScanner(r)
	in.Buffer(make([]byte, 4096), 1<<20)
	for n := 1; in.Scan(); n++ {
		line := strings.TrimSuffix(in.Text(), "\r")
		if n == 1 {
			line = strings.TrimPrefix(line, "\ufeff")
		}
		if line == "" {
			continue
		}
		out = append(out, intake.MarkedPath{Line: n, Path: line})
	}
	if err := in.Err(); err != nil {
		return nil, &format.Error{File: file, Line: len(out) + 1, What: "the line is too long, or can't be read: " + err.Error()}
	}
	return out, nil
}
