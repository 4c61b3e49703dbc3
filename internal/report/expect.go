package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/expect"
	"tarnwold/internal/report/doc"
)

// Expected prints which expectations hold, and why the others don't.
func Expected(p *doc.Printer, list []*expect.Expected) error {
	if list == nil {
		list = []*expect.Expected{}
	}
	if p.Format == doc.JUnit {
		return junit(p, list)
	}
	row := func(e *expect.Expected) []string {
		out := []string{e.File, fmt.Sprint(e.Line), e.Text, holds(e), "", "", "", "", againstSays(e), e.Error}
		if a := e.Against; a != nil {
			out[4], out[5], out[6], out[7] = a.User.Name, a.Where, fmt.Sprint(a.Users), fmt.Sprint(a.Items)
		}
		return out
	}
	return p.Give(list, []string{"file", "line", "expectation", "holds", "user", "where", "users", "items", "because", "error"}, func() (out [][]string) {
		for _, e := range list {
			out = append(out, row(e))
		}
		return out
	}, func() {
		head, all := ExpectedHead(list)
		if len(list) == 0 {
			p.Line(doc.S("%s", head))
			return
		}
		style := doc.Good
		if !all {
			style = doc.Bad
		}
		files := map[string]bool{}
		for _, e := range list {
			files[e.File] = true
		}
		p.Line(doc.In(style, head))
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "line", Weight: 0}, {Head: "holds", Weight: 0}, {Head: "expectation", Weight: 4}, {Head: "because", Weight: 6}}}
		for _, e := range list {
			at := fmt.Sprint(e.Line)
			if len(files) > 1 {
				at = fmt.Sprintf("%s:%d", e.File, e.Line)
			}
			says := doc.CI(doc.Good, "yes")
			switch {
			case e.Error != "":
				says = doc.CI(doc.Bad, "can't be asked")
			case !e.Holds:
				says = doc.CI(doc.Bad, "no")
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(at), says, doc.C(e.Text), doc.C(Against(e))})
		}
		p.Grid(g)
	})
}

// ExpectedHead counts the expectations that hold, in words, and says whether
// that is all of them.
func ExpectedHead(list []*expect.Expected) (head string, all bool) {
	hold, unasked := 0, 0
	for _, e := range list {
		if e.Holds {
			hold++
		}
		if e.Error != "" {
			unasked++
		}
	}
	head = fmt.Sprintf("%d of %d expectations", hold, len(list))
	switch {
	case len(list) == 0:
		head = "No expectations are in there"
	case hold == 1 && len(list) == 1:
		head = "The expectation holds"
	case hold == len(list):
		head = fmt.Sprintf("All %d expectations hold", hold)
	case hold == 1:
		head += " holds"
	default:
		head += " hold"
	}
	if unasked > 0 {
		head += fmt.Sprintf("; %d can't be asked", unasked)
	}
	return head, hold == len(list)
}

func holds(e *expect.Expected) string {
	if e.Error != "" {
		return ""
	}
	return YesNo(e.Holds)
}

// Against says why an expectation doesn't hold, or can't be asked.
func Against(e *expect.Expected) string {
	if e.Error != "" {
		return e.Error
	}
	return againstSays(e)
}

// againstSays says who goes against an expectation, and because of what.
func againstSays(e *expect.Expected) string {
	a := e.Against
	if a == nil {
		if e.Nobody {
			return "nobody is in what it names, so it asks nothing"
		}
		return ""
	}
	out := a.User.Name + map[bool]string{true: " can", false: " can't"}[a.Can] + ", on " + a.Where
	if a.Route == "local" {
		out += ", at the server"
	}
	if a.Because != nil {
		why, set := Because(a.Because, ServerOf(a.Where), a.Share)
		if a.Right != "" {
			why = a.Right + ": " + why
		}
		out += "; " + why
		if set != "" && a.Because.By == "entry" {
			out += ", set on " + set
		}
		if len(a.Because.Chain) > 1 && a.Because.By != "configuration" {
			out += ", by way of " + strings.Join(a.Because.Chain, " → ")
		}
	}
	switch more := a.Users - 1; {
	case more == 1:
		out += "; one more user alike"
	case more > 1:
		out += fmt.Sprintf("; %d more users", more)
	}
	if a.Items > 1 {
		out += fmt.Sprintf("; on %d items, counted route by route", a.Items)
	}
	return out
}

// junit writes expectations as JUnit's XML: a suite a file, a case a line.
func junit(p *doc.Printer, list []*expect.Expected) error {
	var names []string
	suites := map[string][]doc.CheckCase{}
	for _, e := range list {
		if suites[e.File] == nil {
			names = append(names, e.File)
		}
		c := doc.CheckCase{Name: fmt.Sprintf("line %d: %s", e.Line, e.Text), Error: e.Error}
		if !e.Holds && e.Error == "" {
			c.Fault = againstSays(e)
		}
		suites[e.File] = append(suites[e.File], c)
	}
	var all []doc.NamedCases
	for _, n := range names {
		all = append(all, doc.NamedCases{Name: n, Cases: suites[n]})
	}
	return p.JunitSuites(all)
}
