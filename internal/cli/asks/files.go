package asks

import (
	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

func FilesCommand(a *run.App) *cobra.Command {
	var n run.Narrowing
	var count, sizes bool
	c := &cobra.Command{
		Use:   "files WHO",
		Short: "List the files someone can work with, or count them by folder",
		Long: `List the files someone can really work with, one a line, by every route: those
they can read, or with --can those they have a level or rights on or can do an act
to. --count counts them folder by folder, with --sizes how large they are as well.`,
		Example: `  tarnwold files bram --under //stagedoor/productions
  tarnwold files ines --can save --count
  tarnwold files ines --can delete --count --sizes`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: run.CompleteInOrder(a.CompleteAccounts(account.User)),
		RunE: func(c *cobra.Command, args []string) error {
			if count {
				var who ask.Account
				return run.Answer(a, c, func(k *ask.Asker) (list []census.FolderFiles, err error) {
					who, list, err = census.FileCounts(k, args[0], n.Can, n.Under, sizes)
					return list, err
				}, func(p *doc.Printer, list []census.FolderFiles) error { return report.FileCounts(p, who, list, sizes) })
			}
			if sizes {
				return run.Misused("--sizes goes with --count")
			}
			return files(a, c, args[0], n)
		},
	}
	n.Flags(c, a, true)
	c.Flags().BoolVar(&count, "count", false, "count them folder by folder instead")
	c.Flags().BoolVar(&sizes, "sizes", false, "how large they are, folder by folder, as far as a scan recorded it")
	return c
}

// files streams a list of files, which may be of millions.
func files(a *run.App, c *cobra.Command, who string, n run.Narrowing) error {
	return a.View(c.Context(), func(t *estate.Tx) error {
		u, err := t.User(who)
		if err != nil {
			return err
		}
		p, k := a.Printer(), ask.New(t)
		of := k.Account(u.ID)
		a.Supposes(p)
		var s *doc.Stream
		begin := func() {
			if s == nil {
				heads, wide := report.FilesHeads(), []int{}
				if p.Format == doc.Table { // the address says the route
					heads, wide = []string{"level", "file"}, []int{18}
				}
				before := map[string]any{"user": of.Name}
				if of.Shut != "" {
					before["shut"] = of.Shut
				}
				s = p.Stream(heads, wide, "files", before)
			}
		}
		_, err = census.Files(k, who, n.Can, n.Under, func(f census.File) error {
			begin()
			if p.Format == doc.Table {
				return s.Row(f, f.Level, f.Where)
			}
			return s.Row(f, u.Name, f.Where, f.Route, f.Level)
		})
		if err != nil {
			return err
		}
		begin()
		if err := s.End(); err != nil {
			return err
		}
		report.FilesCounted(p, of, int64(s.Rows()))
		return p.Err()
	})
}
