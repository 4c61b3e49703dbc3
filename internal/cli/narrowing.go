package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/verdict"
	"tarnwold/internal/report"
)

// shownLines is how many lines a table shows where there may be thousands.
const shownLines = 200

// narrowing are the flags of questions about much of the estate.
type narrowing struct {
	can, under string
	all        bool
}

func (n *narrowing) flags(c *cobra.Command, a *app, under bool) {
	c.Flags().StringVar(&n.can, "can", "", "only who or what has this `level`, rights or act")
	_ = c.RegisterFlagCompletionFunc("can", a.completeCan)
	if under {
		c.Flags().StringVar(&n.under, "under", "", "only at and below this `place`")
		_ = c.RegisterFlagCompletionFunc("under", a.completePlaces)
	}
}

func (n *narrowing) limit(a *app) int {
	if n.all || a.format != report.Table {
		return 0
	}
	return shownLines
}

func allFlag(c *cobra.Command, all *bool) {
	c.Flags().BoolVar(all, "all", false, "every line in the table, not the first 200 of each")
}

func (a *app) completeCan(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	out, d := a.completeLevels(c, args, begun)
	for i := range verdict.Acts {
		if x := &verdict.Acts[i]; strings.HasPrefix(x.Name, begun) {
			out = append(out, x.Name+"\t"+x.About)
		}
	}
	return out, d
}
