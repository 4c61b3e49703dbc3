package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask/expect"
)

// Expected prints which expectations hold, and why the others don't.
func (p *Printer) Expected(list []*expect.Expected) error {
	if list == nil {
		list = []*expect.Expected{}
	}
	if p.Format == JUnit {
		return p.junit(list)
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
			p.Line(S("%s", head))
			return
		}
		style := Good
		if !all {
			style = Bad
		}
		files := map[string]bool{}
		for _, e := range list {
			files[e.File] = true
		}
		p.Line(In(style, head))
		p.Blank()
		g := Grid{Cols: []Col{{"line", 0}, {"holds", 0}, {"expectation", 4}, {"because", 6}}}
		for _, e := range list {
			at := fmt.Sprint(e.Line)
			if len(files) > 1 {
				at = fmt.Sprintf("%s:%d", e.File, e.Line)
			}
			says := CI(Good, "yes")
			switch {
			case e.Error != "":
				says = CI(Bad, "can't be asked")
			case !e.Holds:
				says = CI(Bad, "no")
			}
			g.Rows = append(g.Rows, []Cell{C(at), says, C(e.Text), C(Against(e))})
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
	return yesNo(e.Holds)
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
		why, set := because(a.Because, serverOf(a.Where), a.Share)
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
