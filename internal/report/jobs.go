package report

import (
	"strings"

	"tarnwold/internal/ask/census"
)

// Jobs prints what groups open, place by place.
func (p *Printer) Jobs(x *census.Jobs) error {
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
			p.Line(In(Strong, x.User.Name), S(" is in no group whose purpose is role."))
		}
		for i := range x.Jobs {
			if i > 0 {
				p.Blank()
			}
			p.job(&x.Jobs[i])
		}
		if len(x.Beyond) == 0 {
			return
		}
		p.Blank()
		p.Line(In(Strong, "Beyond the roles"), S(", %s has", x.User.Name))
		g := Grid{Cols: []Col{{"where", 4}, {"as", 0}, {"what", 5}}}
		for _, b := range x.Beyond {
			g.Rows = append(g.Rows, []Cell{C(b.Where), C(b.As), C(b.What)})
		}
		p.Grid(g)
	})
}

func (p *Printer) job(j *census.Job) {
	what := j.Purpose + " "
	if j.Purpose == "" {
		what = j.Kind + " "
	}
	line := []Span{In(Strong, what+j.Name)}
	if j.About != "" {
		line = append(line, S(": %s", j.About))
	}
	p.Line(line...)
	people := "Nobody is in it"
	if len(j.People) > 0 {
		people = Count(int64(len(j.People)), "person") + ": " + Some(j.People, 6)
	}
	p.Line(S("%s.", people))
	if len(j.Opens) == 0 {
		p.Line(S("It opens nothing that anybody hasn't."))
		return
	}
	g := Grid{Cols: []Col{{"where", 5}, {"level", 2}, {"by", 5}}}
	for _, o := range j.Opens {
		where := o.Where
		if o.Route == "local" {
			where += ", at the server"
		}
		by := o.Entry
		if len(o.By) > 1 {
			by += ", by way of " + strings.Join(o.By, " → ")
		}
		g.Rows = append(g.Rows, []Cell{C(where), CI(Good, o.Level), C(by)})
	}
	p.Grid(g)
	if j.More > 0 {
		p.Line(S("and %s more; --all shows them", Count(j.More, "line")))
	}
}
