package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/uses"
)

var usesHeads = []string{"account", "where", "as", "what"}

// UsedAs prints everywhere an account is named.
func (p *Printer) UsedAs(who string, list []uses.UsedAs) error {
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
	return p.outlined(func() *Outline { return usesOutline(who, rows()) }).Give(list, usesHeads, rows, func() {
		if len(list) == 0 {
			p.Line(S("nothing names %s", who))
			return
		}
		g := Grid{Cols: []Col{{"account", 2}, {"where", 5}, {"as", 0}, {"what", 4}}}
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
			g.Rows = append(g.Rows, []Cell{C(name), C(where), C(strings.ReplaceAll(u.As, "-", " ")), C(u.What)})
		}
		p.Grid(g)
	})
}
