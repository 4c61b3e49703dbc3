package report

import (
	"strings"

	"tarnwold/internal/ask/census"
	"tarnwold/internal/report/doc"
)

// Jobs prints what groups open, place by place.
func Jobs(p *doc.Printer, x *census.Jobs) error {
	return p.Give(x, []string{"group", "where", "kind", "route", "level", "entry", "by"}, func() (out [][]string) {
		for _, j := range x.Jobs {
			for _, o := range j.Opens {
				out = append(out, []string{j.Name, o.Where, o.Kind, o.Route, o.Level, o.Entry, strings.Join(o.By, " → ")})
			}
		}
		for _, b := range x.Beyond {
			out = append(out, []string{"", b.Where, b.As, "", "", b.What, ""})
		}
		return out
	}, func() {
		if x.User != nil && len(x.Jobs) == 0 {
			p.Line(doc.In(doc.Strong, x.User.Name), doc.S(" is in no group whose purpose is role."))
		}
		for i := range x.Jobs {
			if i > 0 {
				p.Blank()
			}
			job(p, &x.Jobs[i])
		}
		if len(x.Beyond) == 0 {
			return
		}
		p.Blank()
		p.Line(doc.In(doc.Strong, "Beyond the roles"), doc.S(", %s has", x.User.Name))
		g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 4}, {Head: "as", Weight: 0}, {Head: "what", Weight: 5}}}
		for _, b := range x.Beyond {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(b.Where), doc.C(b.As), doc.C(b.What)})
		}
		p.Grid(g)
	})
}

func job(p *doc.Printer, j *census.Job) {
	what := j.Purpose + " "
	if j.Purpose == "" {
		what = j.Kind + " "
	}
	line := []doc.Span{doc.In(doc.Strong, what+j.Name)}
	if j.About != "" {
		line = append(line, doc.S(": %s", j.About))
	}
	p.Line(line...)
	people := "Nobody is in it"
	if len(j.People) > 0 {
		people = Count(int64(len(j.People)), "person") + ": " + Some(j.People, 6)
	}
	p.Line(doc.S("%s.", people))
	if len(j.Opens) == 0 {
		p.Line(doc.S("It opens nothing that anybody hasn't."))
		return
	}
	g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 5}, {Head: "level", Weight: 2}, {Head: "by", Weight: 5}}}
	for _, o := range j.Opens {
		where := o.Where
		if o.Route == "local" {
			where += ", at the server"
		}
		by := o.Entry
		if len(o.By) > 1 {
			by += ", by way of " + strings.Join(o.By, " → ")
		}
		g.Rows = append(g.Rows, []doc.Cell{doc.C(where), doc.CI(doc.Good, o.Level), doc.C(by)})
	}
	p.Grid(g)
	if j.More > 0 {
		p.Line(doc.S("and %s more; --all shows them", Count(j.More, "line")))
	}
}
