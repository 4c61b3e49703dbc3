package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/report/changes"
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

func versionCommand(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Say which tarnwold this is",
		Example: "  tarnwold version",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			v := run.Version
			if info, ok := debug.ReadBuildInfo(); ok && v == "" {
				v = info.Main.Version
			}
			fmt.Fprintf(a.Out, "tarnwold %s, %s %s/%s\n", v, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return nil
		},
	}
}
