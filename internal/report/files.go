package report

import (
	"fmt"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/report/doc"
)

var filesHeads = []string{"user", "where", "route", "level"}

// FileCounts prints how many files there are to work with, folder by folder.
func FileCounts(p *doc.Printer, who ask.Account, list []census.FolderFiles) error {
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
		g := doc.Grid{Cols: []doc.Col{{Head: "folder", Weight: 4}, {Head: "route", Weight: 2}, {Head: "files", Weight: 0}}}
		for _, f := range list {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(f.Where), doc.C(f.Route), doc.C(fmt.Sprint(f.Files))})
		}
		p.Grid(g)
		FilesCounted(p, who, total)
	})
}

// FilesCounted says how many files somebody can work with, below a list of them.
func FilesCounted(p *doc.Printer, who ask.Account, total int64) {
	p.Line(doc.In(doc.Strong, who.Name), doc.S(" can work with %s, counted by route", Count(total, "file")))
	shutSays(p, &who)
}

// FilesHeads are the heads of a list of files.
func FilesHeads() []string { return filesHeads }
