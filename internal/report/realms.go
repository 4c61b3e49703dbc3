package report

import (
	"tarnwold/internal/ask/show"
	"tarnwold/internal/format"
	"tarnwold/internal/report/doc"
)

// Realms prints where accounts belong.
func Realms(p *doc.Printer, list []show.Realm) error {
	heads := []string{"realm", "kind", "users", "groups", "built-in groups", "takes accounts from"}
	rows := func() (out [][]string) {
		for _, r := range list {
			from := r.From
			if from != "" {
				from = "directory " + from + ", by " + map[string]string{"number-and-name": "number and name", "number": "number"}[r.By]
			}
			out = append(out, []string{r.Name, r.Kind, format.Number(r.Users), format.Number(r.Groups), format.Number(r.Builtin), from})
		}
		return out
	}
	return p.Give(list, heads, rows, func() { p.Grid(doc.PlainGrid(doc.Heads(heads...), rows())) })
}
