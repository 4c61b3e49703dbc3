package report

import (
	"fmt"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/report/doc"
)

var filesHeads = []string{"user", "where", "route", "level"}

// FileCounts prints how many files there are to work with, folder by folder.
func FileCounts(p *doc.Printer, who ask.Account, list []census.FolderFiles, sizes bool) error {
	type counted struct {
		User    ask.Account          `json:"user"`
		Folders []census.FolderFiles `json:"folders"`
	}
	var total, bytes, unknown int64
	for _, f := range list {
		total, unknown = total+f.Files, unknown+f.Unknown
		if f.Bytes != nil {
			bytes += *f.Bytes
		}
	}
	heads := []string{"user", "where", "route", "files"}
	if sizes {
		heads = append(heads, "bytes", "files of unknown size")
	}
	return p.Give(counted{who, list}, heads, func() (out [][]string) {
		for i, f := range list {
			out = append(out, []string{who.Name, f.Where, f.Route, fmt.Sprint(f.Files)})
			if sizes {
				out[i] = append(out[i], fmt.Sprint(*f.Bytes), fmt.Sprint(f.Unknown))
			}
		}
		return out
	}, func() {
		g := doc.Grid{Cols: []doc.Col{{Head: "folder", Weight: 4}, {Head: "route", Weight: 2}, {Head: "files", Weight: 0}}}
		if sizes {
			g.Cols = append(g.Cols, doc.Col{Head: "size", Weight: 0})
		}
		for _, f := range list {
			row := []doc.Cell{doc.C(f.Where), doc.C(f.Route), doc.C(fmt.Sprint(f.Files))}
			if sizes {
				row = append(row, doc.C(size(*f.Bytes, f.Unknown, f.Files)))
			}
			g.Rows = append(g.Rows, row)
		}
		p.Grid(g)
		FilesCounted(p, who, total)
		if sizes {
			sized(p, bytes, unknown, total)
		}
	})
}

// FilesCounted says how many files somebody can work with, below a list of them.
func FilesCounted(p *doc.Printer, who ask.Account, total int64) {
	p.Line(doc.In(doc.Strong, who.Name), doc.S(" can work with %s, counted by route", Count(total, "file")))
	shutSays(p, &who)
}

// FilesHeads are the heads of a list of files.
func FilesHeads() []string { return filesHeads }

// size writes how large files are, in units of a thousand.
func size(bytes, unknown, files int64) string {
	if files > 0 && unknown == files {
		return "unknown"
	}
	text, n := fmt.Sprintf("%d B", bytes), float64(bytes)
	for _, unit := range []string{"kB", "MB", "GB", "TB", "PB"} {
		if n /= 1000; n < 1 {
			break
		}
		text = fmt.Sprintf("%.1f %s", n, unit)
	}
	if unknown > 0 {
		text = "at least " + text
	}
	return text
}

// sized sums sizes up, and says of which files none is known.
func sized(p *doc.Printer, bytes, unknown, files int64) {
	if unknown < files {
		p.Line(doc.S("together %s", size(bytes, unknown, files)))
	}
	if unknown > 0 {
		p.Line(doc.In(doc.Faint, fmt.Sprintf("of %s the size isn't known: a scan of a real server tells it", Count(unknown, "file"))))
	}
}

// OwnerSizes prints how much each account owns.
func OwnerSizes(p *doc.Printer, list []census.OwnerFiles) error {
	return p.Give(list, []string{"account", "kind", "files", "bytes", "files of unknown size"}, func() (out [][]string) {
		for _, o := range list {
			out = append(out, []string{o.Name, o.Kind, fmt.Sprint(o.Files), fmt.Sprint(o.Bytes), fmt.Sprint(o.Unknown)})
		}
		return out
	}, func() {
		g := doc.Grid{Cols: []doc.Col{{Head: "owner", Weight: 2}, {Head: "files", Weight: 0}, {Head: "size", Weight: 0}, {Head: "", Weight: 2}}}
		var files, bytes, unknown int64
		for _, o := range list {
			note := ""
			if o.Shut != "" {
				note = "can't sign on: " + o.Shut
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(o.Name), doc.C(fmt.Sprint(o.Files)), doc.C(size(o.Bytes, o.Unknown, o.Files)), doc.CI(doc.Faint, note)})
			files, bytes, unknown = files+o.Files, bytes+o.Bytes, unknown+o.Unknown
		}
		p.Grid(g)
		p.Line(doc.In(doc.Strong, Count(int64(len(list)), "owner")), doc.S(", %s", Count(files, "file")))
		sized(p, bytes, unknown, files)
	})
}
