package changes

import (
	"fmt"
	"strings"

	"tarnwold/internal/format/policy"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

// policyRead is what is in a policy that was only read.
type policyRead struct {
	Because      string `json:"because"`
	Entries      int    `json:"entries"`
	Expectations int    `json:"expectations"`
	Places       int    `json:"places"`
	Policy       string `json:"policy"`
}

// PolicyRead says what is in a policy that was only read.
func PolicyRead(p *doc.Printer, pol *policy.Policy) error {
	places, entries := 0, 0
	for _, b := range pol.Blocks {
		places += len(b.Where)
		entries += len(b.Entries)
	}
	says := policyRead{pol.Because, entries, len(pol.Expect), places, pol.Name}
	return p.Give(says, []string{"policy", "places", "entries", "expectations"}, func() [][]string {
		return [][]string{{pol.Name, fmt.Sprint(places), fmt.Sprint(entries), fmt.Sprint(len(pol.Expect))}}
	}, func() {
		p.Line(doc.In(doc.Strong, pol.Name), doc.S(" reads well: %s, %s, %s.", report.Count(int64(places), "place"), report.Count(int64(entries), "entry"), report.Count(int64(len(pol.Expect)), "expectation")))
		p.Line(doc.S("With --on //SERVER/SHARE its names and places are looked up too."))
	})
}

// Policies prints the policies that are laid.
func Policies(p *doc.Printer, list []policies.PolicyStands) error {
	if list == nil {
		list = []policies.PolicyStands{}
	}
	row := func(x *policies.PolicyStands) []string {
		return []string{x.Name, fmt.Sprint(x.Version), fmt.Sprint(len(x.Places)), strings.Join(x.On, "; "), x.Since, x.By, x.Because}
	}
	return p.Give(list, []string{"policy", "version", "places", "on", "since", "by", "because"}, func() (out [][]string) {
		for i := range list {
			out = append(out, row(&list[i]))
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.S("No policy is laid."))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "policy", Weight: 2}, {Head: "version", Weight: 0}, {Head: "places", Weight: 0}, {Head: "on", Weight: 4}, {Head: "since", Weight: 0}, {Head: "by", Weight: 0}, {Head: "because", Weight: 5}}}
		for i := range list {
			cells := []doc.Cell{}
			for k, s := range row(&list[i]) {
				if k == 3 {
					cells = append(cells, doc.Cs(list[i].On...))
					continue
				}
				if k == 4 {
					s = report.At(s)
				}
				cells = append(cells, doc.C(s))
			}
			g.Rows = append(g.Rows, cells)
		}
		p.Grid(g)
	})
}

// Policy prints one laid policy.
func Policy(p *doc.Printer, x *policies.PolicyStands) error {
	return p.Give(x, []string{"policy", "version", "where", "line"}, func() (out [][]string) {
		for _, l := range x.Places {
			out = append(out, []string{x.Name, fmt.Sprint(x.Version), l.Where, fmt.Sprint(l.Line)})
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, "policy "+x.Name), doc.S(", version %d: %s", x.Version, x.Because))
		since := "Laid by " + x.By + ", " + report.At(x.Since)
		if x.Changed != "" {
			since += ", altered " + report.At(x.Changed)
		}
		var changes []string
		for _, c := range x.Changes {
			changes = append(changes, fmt.Sprint(c))
		}
		p.Line(doc.S("%s (change %s).", since, strings.Join(changes, ", ")))
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "laid on", Weight: 6}, {Head: "by line", Weight: 0}}}
		for i, l := range x.Places {
			if i == report.MostEdits {
				break
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(l.Where), doc.C(fmt.Sprint(l.Line))})
		}
		p.Grid(g)
		if n := len(x.Places) - report.MostEdits; n > 0 {
			p.Line(doc.S("and %s more", report.Count(int64(n), "place")))
		}
		p.Blank()
		for i, l := range strings.Split(strings.TrimRight(x.Text, "\n"), "\n") {
			p.Line(doc.In(doc.Faint, fmt.Sprintf("%4d  ", i+1)), doc.S("%s", strings.TrimRight(l, "\r")))
		}
	})
}

// PolicyDrifts prints what is otherwise than laid policies want.
func PolicyDrifts(p *doc.Printer, list []*policies.PolicyDrift) error {
	if list == nil {
		list = []*policies.PolicyDrift{}
	}
	return p.Give(list, []string{"policy", "where", "what", "text", "change", "by", "at"}, func() (out [][]string) {
		for _, f := range list {
			for _, l := range f.Lines {
				out = append(out, []string{f.Policy, l.Where, string(l.Line.Sign), lineText(l.Line), changeText(l.Change), l.By, l.At})
			}
			for _, e := range f.Unmet {
				out = append(out, []string{f.Policy, "", "unmet", e.Text + ": " + report.Against(e), "", "", ""})
			}
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.S("No policy is laid."))
		}
		for i, f := range list {
			if i > 0 {
				p.Blank()
			}
			policyDrift(p, f)
		}
	})
}

func changeText(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func policyDrift(p *doc.Printer, f *policies.PolicyDrift) {
	if len(f.Lines)+len(f.Unmet) == 0 {
		p.Line(doc.In(doc.Good, "policy "+f.Policy), doc.S(", version %d, is as it was laid on %s.", f.Version, report.Count(int64(f.Places), "place")))
		return
	}
	p.Line(doc.In(doc.Bad, "policy "+f.Policy), doc.S(", version %d, is no longer as it was laid:", f.Version))
	if len(f.Lines) > 0 {
		g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 4}, {Head: "", Weight: 0}, {Head: "what", Weight: 5}, {Head: "by change", Weight: 4}}}
		for i, l := range f.Lines {
			if i == report.MostEdits {
				break
			}
			by := "not known"
			if l.Change != 0 {
				by = fmt.Sprintf("%d, by %s, %s: %s", l.Change, l.By, report.At(l.At), l.What)
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(l.Where), doc.CI(doc.Bad, offWords[l.Line.Sign]), doc.C(lineText(l.Line)), doc.C(by)})
		}
		p.Grid(g)
		if n := len(f.Lines) - report.MostEdits; n > 0 {
			p.Line(doc.S("and %s more", report.Count(int64(n), "line")))
		}
	}
	for _, e := range f.Unmet {
		p.Line(doc.In(doc.Bad, "Expected: "), doc.S("%s; %s", e.Text, report.Against(e)))
	}
}

// Keepers prints who keeps what.
func Keepers(p *doc.Printer, list []keeper.Keeper) error {
	if list == nil {
		list = []keeper.Keeper{}
	}
	return p.Give(list, []string{"account", "of", "now"}, func() (out [][]string) {
		for _, k := range list {
			out = append(out, []string{k.Name, k.Place, k.Now})
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.S("There are no keepers: whoever may use this estate may change all of it."))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "who", Weight: 2}, {Head: "decides over", Weight: 6}}}
		for _, k := range list {
			of := "the rules of " + k.Place + " and below"
			if g, ok := strings.CutPrefix(k.Place, "group:"); ok {
				of = "the members of " + g
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(k.Called()), doc.C(of)})
		}
		p.Grid(g)
	})
}

var dutyKinds = map[string]string{
	"both-keys":     "decides both who is in a group and what it opens",
	"own-request":   "may accept a request of their own",
	"administrator": "passes all rules",
}

// Duties prints who holds two keys of one door.
func Duties(p *doc.Printer, list []request.Duty, meant int, unused []string) error {
	return p.Give(report.Exceptional[request.Duty]{Found: list, Meant: meant, Unused: unused}, []string{"kind", "who", "group", "where", "by"}, func() (out [][]string) {
		for _, d := range list {
			out = append(out, []string{d.Kind, d.Who, d.Group, d.Where, strings.Join(d.By, "; ")})
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.In(doc.Good, "Nobody has conflicting duties."))
		} else {
			people := map[string]bool{}
			for _, d := range list {
				people[d.Who] = true
			}
			verb := "hold"
			if len(people) == 1 {
				verb = "holds"
			}
			p.Line(doc.In(doc.Bad, fmt.Sprintf("%s %s conflicting duties", report.Count(int64(len(people)), "person"), verb)))
			p.Blank()
			g := doc.Grid{Cols: []doc.Col{{Head: "who", Weight: 2}, {Head: "what", Weight: 4}, {Head: "where", Weight: 4}, {Head: "by", Weight: 6}}}
			for _, d := range list {
				what := doc.C(dutyKinds[d.Kind])
				if d.Group != "" {
					what = append(what, doc.S("group %s: %s", d.Group, d.What))
				}
				g.Rows = append(g.Rows, []doc.Cell{doc.C(d.Who), what, doc.C(d.Where), doc.Cs(d.By...)})
			}
			p.Grid(g)
		}
		report.Exceptions(p, meant, unused)
	})
}

// Requests prints requests.
func Requests(p *doc.Printer, list []request.Asked, all bool) error {
	row := func(x *request.Asked) []string {
		r := x.Request
		state := r.State
		if r.State == request.Open && x.Waiting > 0 {
			state = "open " + report.Count(int64(x.Waiting), "day")
		}
		return []string{fmt.Sprint(r.Number), state, strings.Join(r.Names(), ", "), r.Level, r.Where, r.Until, strings.Join(r.Reasons(), "; "), r.By, r.At, strings.Join(x.Keepers, ", ")}
	}
	return p.Give(list, []string{"request", "state", "for", "level", "where", "until", "why", "asked by", "asked at", "decides"}, func() (out [][]string) {
		for i := range list {
			out = append(out, row(&list[i]))
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.S("%s", map[bool]string{true: "There are no requests.", false: "No open request matches."}[all]))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "", Weight: 0}, {Head: "state", Weight: 0}, {Head: "for", Weight: 2}, {Head: "level", Weight: 0}, {Head: "where", Weight: 4}, {Head: "until", Weight: 0}, {Head: "why", Weight: 5}, {Head: "decides", Weight: 2}}}
		for i := range list {
			r := row(&list[i])
			decides := r[9]
			if decides == "" {
				decides = "anybody"
			}
			if d := list[i].Decided; d != "" {
				decides = d + " did"
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(r[0]), doc.C(r[1]), doc.C(r[2]), doc.C(r[3]), doc.C(r[4]), doc.C(r[5]), doc.C(r[6]), doc.C(decides)})
		}
		p.Grid(g)
	})
}

// Request prints one request, with what would give it.
func Request(p *doc.Printer, x *request.Asked) error {
	return p.Give(x, mendHeads, func() (out [][]string) {
		if m := x.Mending; m != nil {
			for j := range m.Mends {
				y := &m.Mends[j]
				out = append(out, []string{m.Where, m.Route, m.Want, report.YesNo(m.Held), commands(y), strings.ReplaceAll(y.Counts, "-", " "), strings.Join(y.People, ", "),
					fmt.Sprint(y.Items), strings.Join(y.Loses, ", "), guards(y)})
			}
		}
		return out
	}, func() {
		r := x.Request
		until := ""
		if r.Until != "" {
			until = " until " + r.Until
		}
		p.Line(doc.In(doc.Strong, fmt.Sprintf("Request %d", r.Number)), doc.S(": %s on %s for %s%s", r.Level, r.Where, report.Some(r.Names(), 6), until))
		for _, w := range r.Who {
			p.Line(doc.S("  %s: %s", w.Name, w.Why))
		}
		p.Line(doc.S("Asked by %s, %s.", r.By, report.At(r.At)))
		if r.State != request.Open {
			p.Line(doc.S("%s by %s, %s.", strings.ToUpper(r.State[:1])+r.State[1:], r.Decided, report.At(r.DecidedAt)), doc.S("%s", andBecause(r.Because)))
			for _, h := range r.How {
				p.Line(doc.S("  %s", h))
			}
			return
		}
		if len(x.Keepers) > 0 {
			p.Line(doc.S("Decided by %s.", report.Some(x.Keepers, 6)))
		}
		if x.Gone != "" {
			p.Line(doc.In(doc.Bad, "It can't be worked out any more: "), doc.S("%s", x.Gone))
			return
		}
		for _, e := range x.People {
			p.Blank()
			report.DrawExplained(p, e)
		}
		if x.Mending != nil {
			who := report.Some(r.Names(), 3)
			mending(p, who, x.Mending)
			if len(x.Mending.Mends) > 0 {
				p.Line(doc.S("Take the first with: tarnwold request accept %d, another with --by and its number", r.Number))
			}
		}
	})
}

func andBecause(s string) string {
	if s == "" {
		return ""
	}
	return " " + s
}
