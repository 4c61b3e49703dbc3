package changes

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/format"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

// TrailLoaded says what a load of a trail brought.
func TrailLoaded(p *doc.Printer, list []intake.TrailLoad) error {
	return p.Give(list, []string{"file", "read", "new", "passed over", "users unknown", "places unknown"}, func() (out [][]string) {
		for _, x := range list {
			out = append(out, []string{x.File, fmt.Sprint(x.Read), fmt.Sprint(x.New), fmt.Sprint(x.Passed), fmt.Sprint(x.Unknown), fmt.Sprint(x.Off)})
		}
		return out
	}, func() {
		for _, x := range list {
			p.Line(doc.S("%s: %s read, %s new.", x.File, report.Count(x.Read, "try"), format.Number(x.New)))
			if x.Passed > 0 {
				p.Line(doc.S("  %s passed over, which tell of nothing anybody did.", report.Count(int64(x.Passed), "line")))
			}
			if x.Unknown > 0 {
				p.Line(doc.S("  %s by users the estate doesn't know.", format.Number(x.Unknown)))
			}
			if x.Off > 0 {
				p.Line(doc.S("  %s of places the estate doesn't know.", format.Number(x.Off)))
			}
		}
	})
}

// Trail prints who tried what.
func Trail(p *doc.Printer, x *intake.Trail) error {
	return p.Give(x, []string{"user", "act", "where", "result", "times", "first", "last", "because", "as of", "command"}, func() (out [][]string) {
		for i := range x.List {
			t := &x.List[i]
			out = append(out, []string{t.Who, t.Act, t.Where, t.Result, fmt.Sprint(t.Times), t.First, t.Last, trailBecause(t), t.AsOf, report.Command(t.Request)})
		}
		return out
	}, func() {
		if len(x.List) == 0 {
			p.Line(doc.S("The trail holds nothing of that."))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "times", Weight: 0}, {Head: "who", Weight: 2}, {Head: "act", Weight: 0}, {Head: "where", Weight: 5}, {Head: "result", Weight: 0}, {Head: "last", Weight: 0}, {Head: "because", Weight: 6}}}
		for i := range x.List {
			t := &x.List[i]
			res := doc.CI(doc.Good, t.Result)
			if t.Result != "granted" {
				res = doc.CI(doc.Bad, t.Result)
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(format.Number(t.Times)), doc.C(t.Who), doc.C(t.Act), doc.C(t.Where), res, doc.C(report.At(t.Last)), doc.C(trailBecause(t))})
		}
		p.Grid(g)
		if x.More > 0 {
			p.Line(doc.S("and %s more; --all shows them, as --format csv does", report.Count(x.More, "line")))
		}
		if slices.ContainsFunc(x.List, func(t intake.Tried) bool { return t.AsOf == "now" }) {
			p.Line(doc.In(doc.Faint, "The estate knew nothing yet when some of it was tried: the reasons of that are as of now."))
		}
		told := 0
		for i := range x.List {
			t := &x.List[i]
			if t.Request == nil {
				continue
			}
			if told == 0 {
				p.Blank()
			}
			if told++; told > 8 {
				p.Line(doc.S("and more; --format json has them all"))
				break
			}
			times := "once"
			if t.Times > 1 {
				times = fmt.Sprintf("%s times", format.Number(t.Times))
			}
			p.Line(doc.In(doc.Strong, t.Who), doc.S(" was refused %s, and asked for nothing: %s", times, report.Command(t.Request)))
		}
	})
}

// trailBecause says why something was refused, as the estate was then.
func trailBecause(t *intake.Tried) string {
	if t.Result == "granted" {
		return ""
	}
	if t.Fault != "" {
		return t.Fault
	}
	if t.Then == nil {
		return ""
	}
	if t.Then.Allowed {
		return "the rules allowed it: it failed for another reason, or they were others on the server"
	}
	if !t.Then.Door.Open {
		return "the share refuses the connection"
	}
	for i := range t.Then.Needs {
		n := &t.Then.Needs[i]
		if n.Held {
			continue
		}
		out := "it needs " + n.Right
		if n.On != "item" && n.Where != "" {
			out += " on " + n.Where
		}
		if n.Reason != nil {
			why, set := report.Because(n.Reason, report.ServerOf(t.Where), n.Share)
			out = n.Right + ": " + why
			if set != "" && n.Reason.By == "entry" {
				out += ", set on " + set
			}
			if len(n.Reason.Chain) > 1 {
				out += ", by way of " + strings.Join(n.Reason.Chain, " → ")
			}
		}
		if t.Asked != 0 {
			out += fmt.Sprintf("; asked for in request %d", t.Asked)
		}
		return out
	}
	return "it isn't possible there"
}

// Unused prints who has access and doesn't use it.
func Unused(p *doc.Printer, x *entry.Unused) error {
	return p.Give(x, []string{"user", "has", "last used", "by"}, func() (out [][]string) {
		for _, u := range x.Users {
			out = append(out, []string{u.User, u.Has, u.Last, strings.Join(u.By, ", ")})
		}
		return out
	}, func() {
		p.Line(doc.S("%d of %s with access to ", len(x.Users), report.Count(int64(x.Of), "user")), doc.In(doc.Strong, x.Where), doc.S(" used nothing there since %s, as far as the trail tells", x.Since))
		p.Line(doc.In(doc.Faint, fmt.Sprintf("The trail of the server goes from %s to %s.", report.At(x.From), report.At(x.To))))
		if x.From[:len(x.Since)] > x.Since {
			p.Line(doc.In(doc.Bad, "It begins after "+x.Since+": what was before isn't known."))
		}
		p.Blank()
		if len(x.Users) == 0 {
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "user", Weight: 2}, {Head: "has", Weight: 0}, {Head: "last used", Weight: 0}, {Head: "by", Weight: 6}}}
		for _, u := range x.Users {
			last := "never"
			if u.Last != "" {
				last = report.At(u.Last)
			}
			by := strings.Join(u.By, ", ")
			if by == "" {
				by = "themselves, as owner or administrator"
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(u.User), doc.C(u.Has), doc.C(last), doc.C(by)})
		}
		p.Grid(g)
	})
}
