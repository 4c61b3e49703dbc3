package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/uses"
	"tarnwold/internal/report/doc"
)

var usesHeads = []string{"account", "where", "as", "what"}

// UsedAs prints everywhere an account is named.
func UsedAs(p *doc.Printer, who string, list []uses.UsedAs) error {
	what := func(u *uses.UsedAs) string {
		if u.Items <= 1 {
			return u.What
		}
		alike := Count(u.Items, "item") + " alike"
		if u.What == "" {
			return alike
		}
		return u.What + ", " + alike
	}
	rows := func() (out [][]string) {
		for i := range list {
			u := &list[i]
			out = append(out, []string{u.Account.Name, u.Where, u.As, what(u)})
		}
		return out
	}
	return p.Outlined(func() *doc.Outline { return usesOutline(who, rows()) }).Give(list, usesHeads, rows, func() {
		if len(list) == 0 {
			p.Line(doc.S("nothing names %s", who))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "account", Weight: 2}, {Head: "where", Weight: 5}, {Head: "as", Weight: 0}, {Head: "what", Weight: 4}}}
		last := ""
		for i := range list {
			u := &list[i]
			name := u.Account.Name
			if len(u.Through) > 1 {
				name = strings.Join(u.Through, " → ")
			}
			if name == last {
				name = ""
			} else {
				last = name
			}
			where := u.Where
			if u.Items > 1 {
				where += " and " + fmt.Sprint(u.Items-1) + " like it"
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(name), doc.C(where), doc.C(strings.ReplaceAll(u.As, "-", " ")), doc.C(u.What)})
		}
		p.Grid(g)
	})
}
