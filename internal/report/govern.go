package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/format/policy"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/plan/request"
)

// PolicyRead says what is in a policy that was only read.
func (p *Printer) PolicyRead(pol *policy.Policy) error {
	places, entries := 0, 0
	for _, b := range pol.Blocks {
		places += len(b.Where)
		entries += len(b.Entries)
	}
	says := map[string]any{"policy": pol.Name, "because": pol.Because, "places": places, "entries": entries, "expectations": len(pol.Expect)}
	return p.Give(says, []string{"policy", "places", "entries", "expectations"}, func() [][]string {
		return [][]string{{pol.Name, fmt.Sprint(places), fmt.Sprint(entries), fmt.Sprint(len(pol.Expect))}}
	}, func() {
		p.Line(In(Strong, pol.Name), S(" reads well: %s, %s, %s.", Count(int64(places), "place"), Count(int64(entries), "entry"), Count(int64(len(pol.Expect)), "expectation")))
		p.Line(S("With --on //SERVER/SHARE its names and places are looked up too."))
	})
}

// Policies prints the policies that are laid.
func (p *Printer) Policies(list []policies.PolicyStands) error {
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
			p.Line(S("No policy is laid."))
			return
		}
		g := Grid{Cols: []Col{{"policy", 2}, {"version", 0}, {"places", 0}, {"on", 4}, {"since", 0}, {"by", 0}, {"because", 5}}}
		for i := range list {
			cells := []Cell{}
			for k, s := range row(&list[i]) {
				if k == 3 {
					cells = append(cells, Cs(list[i].On...))
					continue
				}
				if k == 4 {
					s = At(s)
				}
				cells = append(cells, C(s))
			}
			g.Rows = append(g.Rows, cells)
		}
		p.Grid(g)
	})
}

// Policy prints one laid policy.
func (p *Printer) Policy(x *policies.PolicyStands) error {
	return p.Give(x, []string{"policy", "version", "where", "line"}, func() (out [][]string) {
		for _, l := range x.Places {
			out = append(out, []string{x.Name, fmt.Sprint(x.Version), l.Where, fmt.Sprint(l.Line)})
		}
		return out
	}, func() {
		p.Line(In(Strong, "policy "+x.Name), S(", version %d: %s", x.Version, x.Because))
		since := "Laid by " + x.By + ", " + At(x.Since)
		if x.Changed != "" {
			since += ", altered " + At(x.Changed)
		}
		var changes []string
		for _, c := range x.Changes {
			changes = append(changes, fmt.Sprint(c))
		}
		p.Line(S("%s (change %s).", since, strings.Join(changes, ", ")))
		p.Blank()
		g := Grid{Cols: []Col{{"laid on", 6}, {"by line", 0}}}
		for i, l := range x.Places {
			if i == mostEdits {
				break
			}
			g.Rows = append(g.Rows, []Cell{C(l.Where), C(fmt.Sprint(l.Line))})
		}
		p.Grid(g)
		if n := len(x.Places) - mostEdits; n > 0 {
			p.Line(S("and %s more", Count(int64(n), "place")))
		}
		p.Blank()
		for i, l := range strings.Split(strings.TrimRight(x.Text, "\n"), "\n") {
			p.Line(In(Faint, fmt.Sprintf("%4d  ", i+1)), S("%s", strings.TrimRight(l, "\r")))
		}
	})
}

// PolicyDrifts prints what is otherwise than laid policies want.
func (p *Printer) PolicyDrifts(list []*policies.PolicyDrift) error {
	if list == nil {
		list = []*policies.PolicyDrift{}
	}
	return p.Give(list, []string{"policy", "where", "what", "text", "change", "by", "at"}, func() (out [][]string) {
		for _, f := range list {
			for _, l := range f.Lines {
				out = append(out, []string{f.Policy, l.Where, l.Line.Sign, lineText(l.Line), changeText(l.Change), l.By, l.At})
			}
			for _, e := range f.Unmet {
				out = append(out, []string{f.Policy, "", "unmet", e.Text + ": " + Against(e), "", "", ""})
			}
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(S("No policy is laid."))
		}
		for i, f := range list {
			if i > 0 {
				p.Blank()
			}
			p.policyDrift(f)
		}
	})
}

func changeText(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func (p *Printer) policyDrift(f *policies.PolicyDrift) {
	if len(f.Lines)+len(f.Unmet) == 0 {
		p.Line(In(Good, "policy "+f.Policy), S(", version %d, is as it was laid on %s.", f.Version, Count(int64(f.Places), "place")))
		return
	}
	p.Line(In(Bad, "policy "+f.Policy), S(", version %d, is no longer as it was laid:", f.Version))
	if len(f.Lines) > 0 {
		g := Grid{Cols: []Col{{"where", 4}, {"", 0}, {"what", 5}, {"by change", 4}}}
		for i, l := range f.Lines {
			if i == mostEdits {
				break
			}
			by := "not known"
			if l.Change != 0 {
				by = fmt.Sprintf("%d, by %s, %s: %s", l.Change, l.By, At(l.At), l.What)
			}
			g.Rows = append(g.Rows, []Cell{C(l.Where), CI(Bad, offWords[l.Line.Sign]), C(lineText(l.Line)), C(by)})
		}
		p.Grid(g)
		if n := len(f.Lines) - mostEdits; n > 0 {
			p.Line(S("and %s more", Count(int64(n), "line")))
		}
	}
	for _, e := range f.Unmet {
		p.Line(In(Bad, "Expected: "), S("%s; %s", e.Text, Against(e)))
	}
}

// Keepers prints who keeps what.
func (p *Printer) Keepers(list []keeper.Keeper) error {
	if list == nil {
		list = []keeper.Keeper{}
	}
	return p.Give(list, []string{"account", "of"}, func() (out [][]string) {
		for _, k := range list {
			out = append(out, []string{k.Name, k.Place})
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(S("Nobody keeps anything: who may use this estate may change all of it."))
			return
		}
		g := Grid{Cols: []Col{{"who", 2}, {"decides over", 6}}}
		for _, k := range list {
			of := "the rules of " + k.Place + " and below"
			if g, ok := strings.CutPrefix(k.Place, "group:"); ok {
				of = "the members of " + g
			}
			g.Rows = append(g.Rows, []Cell{C(k.Name), C(of)})
		}
		p.Grid(g)
	})
}

var dutyKinds = map[string]string{
	"both-keys":     "decides on members and on rules of one door",
	"own-request":   "may accept a request of his own",
	"administrator": "passes all rules",
}

type exceptional[T any] struct {
	Found  []T      `json:"found"`
	Meant  int      `json:"meant-so"`
	Unused []string `json:"exceptions-unused"`
}

// Duties prints who holds two keys of one door.
func (p *Printer) Duties(list []request.Duty, meant int, unused []string) error {
	return p.Give(exceptional[request.Duty]{list, meant, unused}, []string{"kind", "who", "group", "where", "by"}, func() (out [][]string) {
		for _, d := range list {
			out = append(out, []string{d.Kind, d.Who, d.Group, d.Where, strings.Join(d.By, "; ")})
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(In(Good, "Nobody holds two keys of one door."))
		} else {
			people := map[string]bool{}
			for _, d := range list {
				people[d.Who] = true
			}
			verb := "hold"
			if len(people) == 1 {
				verb = "holds"
			}
			p.Line(In(Bad, fmt.Sprintf("%s %s more than one hand should", Count(int64(len(people)), "person"), verb)))
			p.Blank()
			g := Grid{Cols: []Col{{"who", 2}, {"what", 4}, {"where", 4}, {"by", 6}}}
			for _, d := range list {
				what := C(dutyKinds[d.Kind])
				if d.Group != "" {
					what = append(what, S("group %s: %s", d.Group, d.What))
				}
				g.Rows = append(g.Rows, []Cell{C(d.Who), what, C(d.Where), Cs(d.By...)})
			}
			p.Grid(g)
		}
		p.exceptions(meant, unused)
	})
}

// exceptions says how many were passed over, and which exceptions fit nothing.
func (p *Printer) exceptions(meant int, unused []string) {
	if meant > 0 {
		p.Line(S("%s meant so and passed over.", isAre(meant)))
	}
	for i, u := range unused {
		if i == 8 {
			p.Line(S("and %d more exceptions that fit nothing", len(unused)-i))
			break
		}
		p.Line(In(Faint, "No longer needed, or over: "), S("%s", u))
	}
}

func isAre(n int) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

// Requests prints requests.
func (p *Printer) Requests(list []request.Asked, all bool) error {
	row := func(x *request.Asked) []string {
		r := x.Request
		state := r.State
		if r.State == request.Open && x.Waiting > 0 {
			state = "open " + Count(int64(x.Waiting), "day")
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
			p.Line(S("%s", map[bool]string{true: "Nothing was ever asked for.", false: "No such request is open."}[all]))
			return
		}
		g := Grid{Cols: []Col{{"", 0}, {"state", 0}, {"for", 2}, {"level", 0}, {"where", 4}, {"until", 0}, {"why", 5}, {"decides", 2}}}
		for i := range list {
			r := row(&list[i])
			decides := r[9]
			if decides == "" {
				decides = "anybody"
			}
			if d := list[i].Decided; d != "" {
				decides = d + " did"
			}
			g.Rows = append(g.Rows, []Cell{C(r[0]), C(r[1]), C(r[2]), C(r[3]), C(r[4]), C(r[5]), C(r[6]), C(decides)})
		}
		p.Grid(g)
	})
}

// Request prints one request, with what would give it.
func (p *Printer) Request(x *request.Asked) error {
	return p.Give(x, mendHeads, func() (out [][]string) {
		if m := x.Mending; m != nil {
			for j := range m.Mends {
				y := &m.Mends[j]
				out = append(out, []string{m.Where, m.Route, m.Want, yesNo(m.Held), commands(y), strings.ReplaceAll(y.Counts, "-", " "), strings.Join(y.People, ", "),
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
		p.Line(In(Strong, fmt.Sprintf("Request %d", r.Number)), S(": %s on %s for %s%s", r.Level, r.Where, Some(r.Names(), 6), until))
		for _, w := range r.Who {
			p.Line(S("  %s: %s", w.Name, w.Why))
		}
		p.Line(S("Asked by %s, %s.", r.By, At(r.At)))
		if r.State != request.Open {
			p.Line(S("%s by %s, %s.", strings.ToUpper(r.State[:1])+r.State[1:], r.Decided, At(r.DecidedAt)), S("%s", andBecause(r.Because)))
			for _, h := range r.How {
				p.Line(S("  %s", h))
			}
			return
		}
		if len(x.Keepers) > 0 {
			p.Line(S("Decided by %s.", Some(x.Keepers, 6)))
		}
		if x.Gone != "" {
			p.Line(In(Bad, "It can't be looked at any more: "), S("%s", x.Gone))
			return
		}
		for _, e := range x.People {
			p.Blank()
			p.explained(e)
		}
		if x.Mending != nil {
			who := Some(r.Names(), 3)
			p.mending(who, x.Mending)
			if len(x.Mending.Mends) > 0 {
				p.Line(S("Take the first with: tarnwold request accept %d, another with --by and its number", r.Number))
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
