package changes

import (
	"fmt"
	"strings"
	"tarnwold/internal/estate/edit"

	"tarnwold/internal/format"
	"tarnwold/internal/live"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

// ServerStep is one thing that a test of a real server looked at.
type ServerStep struct {
	What  string `json:"what"`
	Works bool   `json:"works"`
	More  string `json:"more,omitempty"`
}

// ServerTest prints what works on a real server.
func ServerTest(p *doc.Printer, name string, steps []ServerStep) error {
	heads := []string{"works", "what", "more"}
	return p.Give(steps, heads, func() (out [][]string) {
		for _, s := range steps {
			out = append(out, []string{report.YesNo(s.Works), s.What, s.More})
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, name))
		g := doc.Grid{Cols: []doc.Col{{Head: "works", Weight: 0}, {Head: "what", Weight: 3}, {Head: "more", Weight: 5}}}
		for _, s := range steps {
			style := doc.Good
			if !s.Works {
				style = doc.Bad
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.CI(style, report.YesNo(s.Works)), doc.C(s.What), doc.C(s.More)})
		}
		p.Grid(g)
	})
}

var driftSays = map[string]string{"came": "is new", "went": "is gone", "rules": "has other rules",
	"share-came": "is a new share", "share-went": "is not a share any more", "share-folder": "is over another folder", "share-switch": "has its read-only switch changed", "share-rules": "has other rules of its own",
	"not-scanned": "isn't in the estate"}

// Drifted prints what is otherwise on a real server than in the estate.
func Drifted(p *doc.Printer, d *intake.Drift) error {
	heads := []string{"where", "what", "changed there", "comes or goes", "text"}
	return p.Give(d, heads, func() (out [][]string) {
		for _, l := range d.Lines {
			if len(l.Lines) == 0 {
				out = append(out, []string{l.Where, l.What, l.Changed, "", ""})
			}
			for _, x := range l.Lines {
				out = append(out, []string{l.Where, l.What, l.Changed, string(x.Sign), lineText(x)})
			}
		}
		return out
	}, func() {
		if len(d.Lines) == 0 {
			p.Line(doc.In(doc.Strong, d.Server), doc.S(" is as the estate has it: %s alike", report.Count(int64(d.Alike), "item")))
			return
		}
		since := ""
		if d.Since != "" {
			since = " since the scan of " + report.LocalTime(d.Since)
		}
		p.Line(doc.In(doc.Strong, d.Server), doc.S(": %s differ%s, %s alike", report.Count(int64(len(d.Lines)+d.More), "place"), since, report.Count(int64(d.Alike), "item")))
		p.Blank()
		Differs(p, d.Lines)
		if d.More > 0 {
			p.Line(doc.S("  and %s more; --all shows them, as --format csv does", report.Count(int64(d.More), "line")))
		}
	})
}

// Unfinished prints how far a change came whose writing was broken off.
func Unfinished(p *doc.Printer, u *live.Unfinished) error {
	return p.Give(u, []string{"state", "where"}, func() (out [][]string) {
		eachState(u, func(state, where string) { out = append(out, []string{state, where}) })
		return out
	}, func() {
		p.Line(doc.S("%s, by %s: unfinished", u.Summary, u.By))
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "", Weight: 0}, {Head: "where", Weight: 5}}}
		n := 0
		eachState(u, func(state, where string) {
			if n++; n <= report.MostEdits {
				g.Rows = append(g.Rows, []doc.Cell{doc.C(state), doc.C(where)})
			}
		})
		p.Grid(g)
		if n > report.MostEdits {
			p.Line(doc.S("  and %d more; --format csv shows all", n-report.MostEdits))
		}
		p.Line(doc.S("tarnwold resume finishes it, tarnwold undo takes it back."))
	})
}

// finished is a broken-off change that is finished.
type finished struct {
	Change string `json:"change"`
	KeptAs int64  `json:"kept-as"`
	Before int    `json:"written-before"` // items
	Now    int    `json:"written-now"`
}

// Finished says that a broken-off change is finished.
func Finished(p *doc.Printer, u *live.Unfinished, id int64) error {
	return p.Give(finished{u.Summary, id, len(u.Written), len(u.Left) + len(u.Partly)}, []string{"change", "kept as", "written before", "written now"}, func() [][]string {
		return [][]string{{u.Summary, fmt.Sprint(id), fmt.Sprint(len(u.Written)), fmt.Sprint(len(u.Left) + len(u.Partly))}}
	}, func() {
		p.Line(doc.S("%s: %s had been written, %d more are now.", u.Summary, report.Count(int64(len(u.Written)), "item"), len(u.Left)+len(u.Partly)))
		p.Line(doc.S("Kept as change %d.", id))
	})
}

// TakenBack says that a broken-off change is taken back.
func TakenBack(p *doc.Printer, u *live.Unfinished) error {
	return p.Give(u, []string{"state", "where"}, func() (out [][]string) {
		eachState(u, func(state, where string) { out = append(out, []string{state, where}) })
		return out
	}, func() {
		p.Line(doc.S("%s: %s that had been written as before again; nothing was kept.", u.Summary, report.Count(int64(len(u.Written)+len(u.Partly)), "item")))
		for i, where := range u.Other {
			if i == report.MostEdits {
				p.Line(doc.S("  and %d more", len(u.Other)-i))
				break
			}
			p.Line(doc.S("left as it is, because somebody else has changed it since: %s", where))
		}
	})
}

func eachState(u *live.Unfinished, fn func(state, where string)) {
	for _, l := range []struct {
		state string
		where []string
	}{{"written", u.Written}, {"half written", u.Partly}, {"not written", u.Left}, {"otherwise", u.Other}} {
		for _, w := range l.where {
			fn(l.state, w)
		}
	}
}

// Differs prints where a server has something else than the estate.
func Differs(p *doc.Printer, lines []intake.DriftLine) {
	if len(lines) == 0 {
		return
	}
	g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 5}, {Head: "on the server", Weight: 2}, {Head: "changed there", Weight: 0}, {Head: "", Weight: 0}, {Head: "", Weight: 5}}}
	for _, l := range lines {
		var signs, texts doc.Cell
		for _, x := range l.Lines {
			style, says := doc.Good, "has"
			switch x.Sign {
			case edit.Goes:
				style, says = doc.Bad, "hasn't"
			case edit.Changes:
				style, says = doc.Plain, "has another"
			}
			signs = append(signs, doc.Span{Text: says, Style: style})
			texts = append(texts, doc.Span{Text: lineText(x)})
		}
		g.Rows = append(g.Rows, []doc.Cell{doc.C(l.Where), doc.C(driftSays[l.What]), doc.C(report.LocalTime(l.Changed)), signs, texts})
	}
	p.Grid(g)
}

// Proved prints how answers stood up to a real server.
func Proved(p *doc.Printer, f *live.Proof) error {
	can := map[bool]string{true: "can", false: "can't"}
	return p.Give(f, []string{"user", "act", "where", "estate", "server", "server said"}, func() (out [][]string) {
		for _, d := range f.Differ {
			out = append(out, []string{d.User, d.Act, d.Where, can[d.Estate], can[d.Server], d.Said})
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, f.Server), doc.S(" was asked as %s on %s: %s tried, %s of them allowed", report.Some(f.Users, 6), report.Count(int64(f.Items), "item"), report.Count(int64(f.Tried), "act"), format.Number(int64(f.Allowed))))
		if f.Unproved > 0 {
			p.Line(doc.S("%s not tried: the connection alone refuses them, and trying would leave a trace", report.Count(int64(f.Unproved), "act")))
		}
		if len(f.Differ) == 0 {
			p.Line(doc.In(doc.Good, "Every answer is the server's."))
			return
		}
		p.Line(doc.In(doc.Bad, report.Count(int64(len(f.Differ)), "act")+" answered differently by the server:"))
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "user", Weight: 2}, {Head: "act", Weight: 0}, {Head: "where", Weight: 5}, {Head: "the estate", Weight: 0}, {Head: "the server", Weight: 0}, {Head: "said", Weight: 4}}}
		for _, d := range f.Differ {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(d.User), doc.C(d.Act), doc.C(d.Where), doc.C(can[d.Estate]), doc.C(can[d.Server]), doc.C(d.Said)})
		}
		p.Grid(g)
	})
}

// OtherTraits proposes a set of traits that fits what a server says of itself.
func OtherTraits(p *doc.Printer, server, set string, posix bool) {
	if posix {
		p.Line(doc.S("Note: %s says that it stands on a POSIX system, and its traits are %q: those that were measured fit it better: tarnwold server traits %s smb, or smb-domain for a domain's controller, smb-member for another machine of a domain", server, set, server))
		return
	}
	p.Line(doc.S("Note: %s says that it doesn't stand on a POSIX system, as those do that traits %q were measured on: tarnwold server traits %s specified", server, set, server))
}

// mostDiffering is how many memberships that are otherwise there are told one by one.
const mostDiffering = 3

// DiffersThere tells of a directory's groups that are otherwise on a machine.
func DiffersThere(p *doc.Printer, server string, list []string) {
	if len(list) == 0 {
		return
	}
	text := strings.Join(list[:min(len(list), mostDiffering)], ", ")
	if n := len(list) - mostDiffering; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	p.Line(doc.S("Note: on %s %s a directory hasn't, which has the say and was left as it is: %s", server, report.Count(int64(len(list)), "membership"), text))
}

// NoteText says what is worth knowing of what a scan met, beside the rules.
func NoteText(n live.Noted) string {
	says := map[string]string{
		"names":        "under several names (hard links): who changes one changes all",
		"capabilities": "with capabilities of its own, which let it do what its mode doesn't say",
		"immutable":    "marked immutable: nobody changes it until the mark is taken off",
		"append-only":  "marked append-only",
		"descriptor":   "with a security descriptor beside its lists, kept by an SMB server, whose shares may decide by that",
		"mount":        "where something is mounted, which was not gone into",
	}[string(n.What)]
	where := "at " + n.Where
	if n.Items > 1 {
		where = "the first at " + n.Where
	}
	return fmt.Sprintf("Note: %s %s (%s)", report.Count(int64(n.Items), "item"), says, where)
}
