package cli

import (
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/report/doc"
)

// backedUp is what a backup is of.
type backedUp struct {
	File   string `json:"file"`
	Change int64  `json:"change"` // the newest it has
	Bytes  int64  `json:"bytes"`
}

func backupCommand(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "backup FILE",
		Short: "Back up the estate to a new file, while others work",
		Long: `Write the estate, journal and all, into a new file as it stands at one moment. Others
may read and change the estate meanwhile. The file is there whole or not at all, nobody
else can read it, and what exists already is not overwritten. It is an estate of its
own: tarnwold check --estate FILE looks whether it is whole, and to go back to it is to put
it in the estate's place.`,
		Example: "  tarnwold backup /var/backups/playhouse-2026-11-30.estate",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			e, done, err := a.Open(ctx)
			if err != nil {
				return err
			}
			defer done()
			bar := a.Progress(-1, "writing "+args[0])
			err = e.Backup(ctx, args[0])
			bar.End()
			if err != nil {
				return err
			}
			b, err := estate.Open(ctx, args[0])
			if err != nil {
				return err
			}
			defer b.Close()
			out := backedUp{File: args[0], Bytes: size(args[0])}
			if err := b.View(ctx, func(t *estate.Tx) error {
				out.Change = t.Head()
				return t.Err()
			}); err != nil {
				return err
			}
			p := a.Printer()
			return p.Give(out, []string{"file", "change", "bytes"}, func() [][]string {
				return [][]string{{out.File, strconv.FormatInt(out.Change, 10), strconv.FormatInt(out.Bytes, 10)}}
			}, func() {
				p.Line(doc.S("%s holds the estate as of change %d (%s bytes).", out.File, out.Change, format.Number(out.Bytes)))
			})
		},
	}
}

// compacted is what compacting came to.
type compacted struct {
	Before int64 `json:"bytes-before"`
	After  int64 `json:"bytes-after"`
}

func compactCommand(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "compact",
		Short: "Shrink the estate's file to what it holds",
		Long: `Shrink the estate's file to what it holds, after much of it went: a server that was
removed, say. It takes as much room beside the file while it works, and nobody else may be
using the estate. Nothing that the estate says changes, and nothing of its journal.`,
		Example: "  tarnwold compact",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			e, done, err := a.Open(c.Context())
			if err != nil {
				return err
			}
			defer done()
			out := compacted{Before: size(e.Path())}
			bar := a.Progress(-1, "compacting")
			err = e.Compact(c.Context())
			bar.End()
			if err != nil {
				return err
			}
			out.After = size(e.Path())
			p := a.Printer()
			return p.Give(out, []string{"bytes before", "bytes after"}, func() [][]string {
				return [][]string{{strconv.FormatInt(out.Before, 10), strconv.FormatInt(out.After, 10)}}
			}, func() {
				p.Line(doc.S("%s bytes, %s before.", format.Number(out.After), format.Number(out.Before)))
			})
		},
	}
}

// size is a file's, with what of it stands in the log beside it; 0 where it can't be told.
func size(file string) (n int64) {
	for _, f := range []string{file, file + "-wal"} {
		if info, err := os.Stat(f); err == nil {
			n += info.Size()
		}
	}
	return n
}
