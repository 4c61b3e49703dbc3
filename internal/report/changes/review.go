package changes

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/estate"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/plan/confirm"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

// Reviews lists reviews, a line each.
func Reviews(p *doc.Printer, list []*confirm.Status) error {
	if list == nil {
		list = []*confirm.Status{}
	}
	return p.Give(list, []string{"review", "state", "of", "due", "parts", "rows", "answered"}, func() (out [][]string) {
		for _, s := range list {
			out = append(out, []string{s.Review, reviewState(s), reviewOf(s), s.Due, fmt.Sprint(len(s.Parts)), fmt.Sprint(s.Rows), fmt.Sprint(s.Answered)})
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.S("There is no review yet. One begins with: tarnwold review start NAME"))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "review", Weight: 2}, {Head: "state"}, {Head: "of", Weight: 4}, {Head: "due"}, {Head: "parts"}, {Head: "answered"}}}
		for _, s := range list {
			g.Rows = append(g.Rows, []doc.Cell{doc.CI(doc.Strong, s.Review), doc.CI(overdueIn(s.Overdue), reviewState(s)), doc.C(reviewOf(s)), doc.C(s.Due), doc.C(fmt.Sprint(len(s.Parts))), doc.C(answeredOf(s.Answered, s.Rows))})
		}
		p.Grid(g)
	})
}

func reviewState(s *confirm.Status) string {
	if s.Overdue {
		return "overdue"
	}
	return s.State
}

// overdueIn is how something is drawn that is overdue, or isn't.
func overdueIn(overdue bool) doc.Style {
	if overdue {
		return doc.Bad
	}
	return doc.Plain
}

func reviewOf(s *confirm.Status) string {
	if len(s.Of) == 0 {
		return "all that is kept"
	}
	return strings.Join(s.Of, ", ")
}

func answeredOf(n, of int) string {
	if n == of {
		return fmt.Sprintf("all %d", of)
	}
	return fmt.Sprintf("%d of %d", n, of)
}

// Review shows how far a review is, part by part.
func Review(p *doc.Printer, s *confirm.Status) error {
	return p.Give(s, []string{"part", "now", "mail", "rows", "answered", "keep", "take away", "ask"}, func() (out [][]string) {
		for _, x := range s.Parts {
			out = append(out, []string{x.Part, x.Now, strings.Join(x.Mail, " "), fmt.Sprint(x.Rows), fmt.Sprint(x.Answered), fmt.Sprint(x.Keep), fmt.Sprint(x.Take), fmt.Sprint(x.Ask)})
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, "Review "+s.Review), doc.S(" of %s, %s", s.Says, reviewState(s)))
		p.Line(doc.S("  begun on %s by %s", estate.Moment(s.Started), s.By))
		if s.Closed != "" {
			p.Line(doc.S("  closed on %s by %s", estate.Moment(s.Closed), s.ClosedBy))
		}
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "part of", Weight: 3}, {Head: "answered"}, {Head: "keep"}, {Head: "take away"}, {Head: "ask"}, {Head: "mail", Weight: 2}}}
		for _, x := range s.Parts {
			g.Rows = append(g.Rows, []doc.Cell{doc.CI(doc.Strong, partOf(x.Part, x.Now)), doc.CI(overdueIn(s.Overdue && x.Answered < x.Rows), answeredOf(x.Answered, x.Rows)), number(x.Keep), number(x.Take), number(x.Ask), doc.C(report.Some(x.Mail, 3))})
		}
		p.Grid(g)
		if s.State == confirm.Open {
			p.Line(doc.S("Each part as a page and a workbook: tarnwold review show %s --to FOLDER", s.Review))
		}
	})
}

// partOf says whose a part is; now is who somebody's manager is.
func partOf(part, now string) string {
	if now == "" {
		return part
	}
	return part + " (" + now + ")"
}

func number(n int) doc.Cell {
	if n == 0 {
		return nil
	}
	return doc.C(fmt.Sprint(n))
}

var partHeads = []string{"where", "who", "what", "until", "people", "answer", "note", "row"}

// Part shows the rows of a part; as a workbook it is to be answered and given back.
func Part(p *doc.Printer, x *confirm.PartRows) error {
	p.Title = fmt.Sprintf("Review %s: the part of %s", x.Review, x.Part)
	name, behind := workbook.BehindReview(x.Review, x.Who)
	p.Behind(name, func() [][]string { return behind })
	p.Choices(5, confirm.Keep, confirm.Take, confirm.Ask)
	return p.Outlined(func() *doc.Outline { return partOutline(x) }).Give(x, partHeads, func() (out [][]string) {
		for i := range x.Rows {
			r := &x.Rows[i]
			out = append(out, []string{r.Where, r.Who, r.What, r.Until, peopleText(r), r.Answer, r.Note, r.Key})
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, p.Title), doc.S(", %s", report.Count(int64(len(x.Rows)), "row")))
		goneLine(p, x)
		g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 4}, {Head: "who", Weight: 2}, {Head: "what", Weight: 3}, {Head: "until"}, {Head: "people"}, {Head: "answer"}, {Head: "note", Weight: 2}}}
		last := ""
		for i := range x.Rows[:min(len(x.Rows), mostPartRows)] {
			r := &x.Rows[i]
			where := r.Where
			if where == last {
				where = ""
			}
			last = r.Where
			g.Rows = append(g.Rows, []doc.Cell{doc.C(where), doc.C(r.Who), doc.C(r.What), doc.C(r.Until), doc.C(peopleText(r)), answerCell(r.Answer), doc.C(r.Note)})
		}
		p.Grid(g)
		if n := len(x.Rows) - mostPartRows; n > 0 {
			p.Line(doc.S("and %d more; -o FILE.xlsx has all of them", n))
		}
		if len(x.Above) == 0 {
			return
		}
		p.Blank()
		p.Line(doc.In(doc.Strong, "Also in, from above:"), doc.S(" confirmed where it is set"))
		g = doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 4}, {Head: "who", Weight: 2}, {Head: "what", Weight: 3}, {Head: "people"}, {Head: "set on", Weight: 4}}}
		for _, a := range x.Above {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(a.Where), doc.C(a.Who), doc.C(a.What), doc.C(peopleCount(a.People)), doc.C(setOn(a))})
		}
		p.Grid(g)
	})
}

// mostPartRows is how many rows of a part a table has.
const mostPartRows = 200

func goneLine(p *doc.Printer, x *confirm.PartRows) {
	if x.Gone > 0 {
		p.Line(doc.S("  %s not so any more and left out here", isAre(x.Gone)))
	}
}

func isAre(n int) string {
	if n == 1 {
		return "1 row is"
	}
	return fmt.Sprintf("%d rows are", n)
}

func setOn(a confirm.FromAbove) string {
	if a.SetOn == "" {
		return "nowhere now"
	}
	return a.SetOn
}

func peopleText(r *confirm.PartRow) string { return peopleCount(r.People) }

func peopleCount(n int) string {
	switch n {
	case -1:
		return "everyone"
	case -2:
		return ""
	}
	return fmt.Sprint(n)
}

func answerCell(a string) doc.Cell {
	switch a {
	case confirm.Take:
		return doc.CI(doc.Bad, a)
	case confirm.Keep:
		return doc.CI(doc.Good, a)
	}
	return doc.C(a)
}

func partOutline(x *confirm.PartRows) *doc.Outline {
	o := &doc.Outline{Title: fmt.Sprintf("Review %s: the part of %s", x.Review, x.Part), Heads: []string{"where, and who", "what", "until", "people", "answer", "note"}}
	line := "Is each of these still right? Put keep, take away or ask behind each row of the workbook, and give it back"
	if x.Due != "" {
		line += " by " + x.Due
	}
	o.Intro = []string{line + ".", "“People” counts whom a row is for, one by one or by groups in groups."}
	if x.Gone > 0 {
		o.Intro = append(o.Intro, isAre(x.Gone)+" not so any more and left out here.")
	}
	last := ""
	for i := range x.Rows {
		r := &x.Rows[i]
		if r.Where != last {
			o.Rows = append(o.Rows, doc.OutlineRow{Name: r.Where, Cells: []string{"", "", "", "", ""}, Group: true})
			last = r.Where
		}
		o.Rows = append(o.Rows, doc.OutlineRow{Depth: 1, Name: r.Who, Cells: []string{r.What, r.Until, peopleText(r), r.Answer, r.Note}, Bad: r.Answer == confirm.Take})
		if !slices.Contains(o.People, r.Who) && len(o.People) < 1000 {
			o.People = append(o.People, r.Who)
		}
	}
	if len(x.Above) > 0 {
		o.Rows = append(o.Rows, doc.OutlineRow{Name: "Also in, from above: confirmed where it is set", Cells: []string{"", "", "", "", ""}, Group: true})
		for _, a := range x.Above {
			o.Rows = append(o.Rows, doc.OutlineRow{Depth: 1, Name: a.Who, Cells: []string{a.What + ", set on " + setOn(a), "", peopleCount(a.People), "", "at " + a.Where}})
		}
	}
	return o
}

// closing tells what a review comes to.
func closing(p *doc.Printer, c *confirm.Closing) {
	p.Line(doc.S("Of %s: %d kept, %d taken away.", report.Count(int64(c.Rows), "row"), c.Kept, c.Taken))
	if c.Gone > 0 {
		says := "  1 was to be taken away and is not so any more."
		if c.Gone > 1 {
			says = fmt.Sprintf("  %d were to be taken away and are not so any more.", c.Gone)
		}
		p.Line(doc.S("%s", says))
	}
	for _, u := range c.Unanswered {
		p.Line(doc.In(doc.Bad, "  Not answered"), doc.S(" by %s: %s, which %s.", u.Part, report.Count(int64(u.Rows), "row"), stays(u.Rows)))
	}
	for _, x := range []struct {
		head string
		list []confirm.Settled
	}{{"Disagreed on, and left as it is", c.Disagreed}, {"Asked about, and left as it is", c.Asked}} {
		if len(x.list) == 0 {
			continue
		}
		p.Line(doc.In(doc.Strong, x.head+":"))
		g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 4}, {Head: "who", Weight: 2}, {Head: "what", Weight: 2}, {Head: "by", Weight: 1}, {Head: "note", Weight: 3}}}
		for _, s := range x.list[:min(len(x.list), 50)] {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(s.Where), doc.C(s.Who), doc.C(s.What), doc.C(s.By), doc.C(s.Note)})
		}
		p.Grid(g)
		if n := len(x.list) - 50; n > 0 {
			p.Line(doc.S("and %d more", n))
		}
	}
}

func stays(n int) string {
	if n == 1 {
		return "stays as it is"
	}
	return "stay as they are"
}

// Reminder is a part that isn't answered.
type Reminder struct {
	Review  string   `json:"review"`
	Part    string   `json:"part"`
	Now     string   `json:"now,omitempty"` // of somebody's manager: who that is
	Mail    []string `json:"mail"`
	Rows    int      `json:"rows"` // not answered
	Due     string   `json:"due,omitempty"`
	Overdue bool     `json:"overdue"`
}

// Reminders lists the parts that aren't answered.
func Reminders(p *doc.Printer, list []Reminder) error {
	if list == nil {
		list = []Reminder{}
	}
	return p.Give(list, []string{"review", "part", "now", "mail", "rows", "due"}, func() (out [][]string) {
		for _, r := range list {
			out = append(out, []string{r.Review, r.Part, r.Now, strings.Join(r.Mail, " "), fmt.Sprint(r.Rows), r.Due})
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.S("All that is open is answered."))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "review", Weight: 2}, {Head: "part of", Weight: 2}, {Head: "rows"}, {Head: "due"}, {Head: "mail", Weight: 3}}}
		for _, r := range list {
			g.Rows = append(g.Rows, []doc.Cell{doc.CI(doc.Strong, r.Review), doc.C(partOf(r.Part, r.Now)), doc.C(fmt.Sprint(r.Rows)), doc.CI(overdueIn(r.Overdue), r.Due), doc.C(report.Some(r.Mail, 3))})
		}
		p.Grid(g)
	})
}
