package real

import (
	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/live"
	"tarnwold/internal/report/changes"
)

func ResumeCommand(a *run.App) *cobra.Command {
	var sign run.Signing
	var show bool
	c := &cobra.Command{
		Use:   "resume",
		Short: "Finish a change whose writing was broken off",
		Long: `Finish a change whose writing to real servers, or to directories, was broken off: by
the network, a kill, a server that went away. They are asked how each item and each
membership stands; what isn't written yet is written, and the change is kept. While
it is unfinished the estate takes no other change. tarnwold undo, without a number, takes it back
instead: every item is as it was before.`,
		Example: `  tarnwold resume --show
  tarnwold resume
  tarnwold undo`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.Pushing(c.Context(), &sign, "finishing", func(u *live.Push) error {
				if show {
					told, err := u.Look(c.Context())
					if err != nil {
						return err
					}
					return changes.Unfinished(a.Printer(), told)
				}
				told, id, err := u.Resume(c.Context())
				if err != nil {
					return err
				}
				return changes.Finished(a.Printer(), told, id)
			})
		},
	}
	sign.Flags(c)
	c.Flags().BoolVar(&show, "show", false, "say which items are in which state, and do nothing")
	return c
}
