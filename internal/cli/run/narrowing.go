package run

import (
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/verdict"
	"tarnwold/internal/report/doc"
)

// ShownLines is how many lines a table shows where there may be thousands.
const ShownLines = 200

// Narrowing are the flags of questions about much of the estate.
type Narrowing struct {
	Can, Under string
	All        bool
}

func (n *Narrowing) Flags(c *cobra.Command, a *App, under bool) {
	c.Flags().StringVar(&n.Can, "can", "", "only who or what has this `level`, rights or act")
	_ = c.RegisterFlagCompletionFunc("can", a.completeCan)
	if under {
		c.Flags().StringVar(&n.Under, "under", "", "only at and below this `place`")
		_ = c.RegisterFlagCompletionFunc("under", a.CompletePlaces)
	}
}

func (n *Narrowing) Limit(a *App) int {
	if n.All || a.Format != doc.Table {
		return 0
	}
	return ShownLines
}

func AllFlag(c *cobra.Command, all *bool) {
	c.Flags().BoolVar(all, "all", false, "every line in the table, not the first 200 of each")
}

func (a *App) completeCan(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	out, d := a.CompleteLevels(c, args, begun)
	for i := range verdict.Acts {
		if x := &verdict.Acts[i]; strings.HasPrefix(x.Name, begun) {
			out = append(out, x.Name+"\t"+x.About)
		}
	}
	return out, d
}
