package cli

import (
	"os"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func initCommand(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "init [FILE]",
		Short: "Make a new, empty estate",
		Example: `  tarnwold init
  tarnwold init playhouse.estate`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			path := a.EstatePath
			if len(args) == 1 {
				path = args[0]
			}
			if err := estate.Create(c.Context(), path); err != nil {
				return err
			}
			return changes.Made(a.Printer(), path)
		},
	}
}

// firstSteps says what to do next, to somebody at a terminal who said nothing else.
func firstSteps(a *run.App) error {
	p := a.Printer()
	if _, err := os.Stat(a.EstatePath); err != nil {
		p.Line(doc.S("There is no estate here yet (%s).", a.EstatePath))
		p.Line(doc.S("A tour on a made-up theatre: "), doc.In(doc.Strong, "tarnwold demo"))
		p.Line(doc.S("Your own server, or a tree of this machine, step by step: "), doc.In(doc.Strong, "tarnwold setup"))
		return p.Err()
	}
	p.Line(doc.S("The estate is %s.", a.EstatePath))
	p.Line(doc.S("A first look: "), doc.In(doc.Strong, "tarnwold findings --summary"), doc.S(". One answer: "), doc.In(doc.Strong, "tarnwold explain WHO WHERE"), doc.S(". Who gets in: "), doc.In(doc.Strong, "tarnwold who WHERE"))
	p.Line(doc.S("All commands: "), doc.In(doc.Strong, "tarnwold --help"))
	return p.Err()
}
