package report

import (
	"fmt"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
)

var filesHeads = []string{"user", "where", "route", "level"}

// FileCounts prints how many files there are to work with, folder by folder.
func (p *Printer) FileCounts(who ask.Account, list []census.FolderFiles) error {
	type counted struct {
		User    ask.Account          `json:"user"`
		Folders []census.FolderFiles `json:"folders"`
	}
	var total int64
	for _, f := range list {
		total += f.Files
	}
	return p.Give(counted{who, list}, []string{"user", "where", "route", "files"}, func() (out [][]string) {
		for _, f := range list {
			out = append(out, []string{who.Name, f.Where, f.Route, fmt.Sprint(f.Files)})
		}
		return out
	}, func() {
		g := Grid{Cols: []Col{{"folder", 4}, {"route", 2}, {"files", 0}}}
		for _, f := range list {
			g.Rows = append(g.Rows, []Cell{C(f.Where), C(f.Route), C(fmt.Sprint(f.Files))})
		}
		p.Grid(g)
		p.FilesCounted(who, total)
	})
}

// FilesCounted says how many files somebody can work with, below a list of them.
func (p *Printer) FilesCounted(who ask.Account, total int64) {
	p.Line(In(Strong, who.Name), S(" can work with %s, counted by route", Count(total, "file")))
	p.shutSays(&who)
}

// FilesHeads are the heads of a list of files.
func FilesHeads() []string { return filesHeads }
