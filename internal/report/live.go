package report

import (
	"fmt"
	"time"

	"tarnwold/internal/format"
	"tarnwold/internal/live"
	"tarnwold/internal/plan/intake"
)

// localTime writes a moment of RFC 3339 as people here read it.
func localTime(at string) string {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return at
	}
	return t.Local().Format("2006-01-02 15:04")
}

// ServerStep is one thing that a test of a real server looked at.
type ServerStep struct {
	What  string `json:"what"`
	Works bool   `json:"works"`
	More  string `json:"more,omitempty"`
}

// ServerTest prints what works on a real server.
func (p *Printer) ServerTest(name string, steps []ServerStep) error {
	heads := []string{"works", "what", "more"}
	return p.Give(steps, heads, func() (out [][]string) {
		for _, s := range steps {
			out = append(out, []string{yesNo(s.Works), s.What, s.More})
		}
		return out
	}, func() {
		p.Line(In(Strong, name))
		g := Grid{Cols: []Col{{"works", 0}, {"what", 3}, {"more", 5}}}
		for _, s := range steps {
			style := Good
			if !s.Works {
				style = Bad
			}
			g.Rows = append(g.Rows, []Cell{CI(style, yesNo(s.Works)), C(s.What), C(s.More)})
		}
		p.Grid(g)
	})
}

var driftSays = map[string]string{"came": "is new", "went": "is gone", "rules": "has other rules",
	"share-came": "is a new share", "share-went": "is no share any more", "share-folder": "stands over another folder", "share-switch": "is switched otherwise", "share-rules": "has other rules of its own",
	"not-scanned": "isn't in the estate"}

// Drifted prints what is otherwise on a real server than in the estate.
func (p *Printer) Drifted(d *intake.Drift) error {
	heads := []string{"where", "what", "changed there", "comes or goes", "text"}
	return p.Give(d, heads, func() (out [][]string) {
		for _, l := range d.Lines {
			if len(l.Lines) == 0 {
				out = append(out, []string{l.Where, l.What, l.Changed, "", ""})
			}
			for _, x := range l.Lines {
				out = append(out, []string{l.Where, l.What, l.Changed, x.Sign, lineText(x)})
			}
		}
		return out
	}, func() {
		if len(d.Lines) == 0 {
			p.Line(In(Strong, d.Server), S(" is as the estate has it: %s alike", Count(int64(d.Alike), "item")))
			return
		}
		since := ""
		if d.Since != "" {
			since = " since the scan of " + localTime(d.Since)
		}
		p.Line(In(Strong, d.Server), S(": %s differ%s, %s alike", Count(int64(len(d.Lines)+d.More), "place"), since, Count(int64(d.Alike), "item")))
		p.Blank()
		p.Differs(d.Lines)
		if d.More > 0 {
			p.Line(S("  and %s more; --all shows them, as --format csv does", Count(int64(d.More), "line")))
		}
	})
}

// Unfinished prints how far a change came whose writing was broken off.
func (p *Printer) Unfinished(u *live.Unfinished) error {
	return p.Give(u, []string{"state", "where"}, func() (out [][]string) {
		eachState(u, func(state, where string) { out = append(out, []string{state, where}) })
		return out
	}, func() {
		p.Line(S("%s, by %s: unfinished", u.Summary, u.By))
		p.Blank()
		g := Grid{Cols: []Col{{"", 0}, {"where", 5}}}
		n := 0
		eachState(u, func(state, where string) {
			if n++; n <= mostEdits {
				g.Rows = append(g.Rows, []Cell{C(state), C(where)})
			}
		})
		p.Grid(g)
		if n > mostEdits {
			p.Line(S("  and %d more; --format csv shows all", n-mostEdits))
		}
		p.Line(S("tarnwold resume finishes it, tarnwold undo takes it back."))
	})
}

// Finished says that a broken-off change is finished.
func (p *Printer) Finished(u *live.Unfinished, id int64) error {
	return p.Give(map[string]any{"change": u.Summary, "kept-as": id, "written-before": len(u.Written), "written-now": len(u.Left) + len(u.Partly)}, []string{"change", "kept as", "written before", "written now"}, func() [][]string {
		return [][]string{{u.Summary, fmt.Sprint(id), fmt.Sprint(len(u.Written)), fmt.Sprint(len(u.Left) + len(u.Partly))}}
	}, func() {
		p.Line(S("%s: %s had been written, %d more are now.", u.Summary, Count(int64(len(u.Written)), "item"), len(u.Left)+len(u.Partly)))
		p.Line(S("Kept as change %d.", id))
	})
}

// TakenBack says that a broken-off change is taken back.
func (p *Printer) TakenBack(u *live.Unfinished) error {
	return p.Give(u, []string{"state", "where"}, func() (out [][]string) {
		eachState(u, func(state, where string) { out = append(out, []string{state, where}) })
		return out
	}, func() {
		p.Line(S("%s: %s that had been written as before again; nothing was kept.", u.Summary, Count(int64(len(u.Written)+len(u.Partly)), "item")))
		for i, where := range u.Other {
			if i == mostEdits {
				p.Line(S("  and %d more", len(u.Other)-i))
				break
			}
			p.Line(S("left alone, for somebody else has changed it since: %s", where))
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
func (p *Printer) Differs(lines []intake.DriftLine) {
	if len(lines) == 0 {
		return
	}
	g := Grid{Cols: []Col{{"where", 5}, {"on the server", 2}, {"changed there", 0}, {"", 0}, {"", 5}}}
	for _, l := range lines {
		var signs, texts Cell
		for _, x := range l.Lines {
			style, says := Good, "has"
			switch x.Sign {
			case "goes":
				style, says = Bad, "hasn't"
			case "changes":
				style, says = Plain, "has another"
			}
			signs = append(signs, Span{Text: says, Style: style})
			texts = append(texts, Span{Text: lineText(x)})
		}
		g.Rows = append(g.Rows, []Cell{C(l.Where), C(driftSays[l.What]), C(localTime(l.Changed)), signs, texts})
	}
	p.Grid(g)
}

// Proved prints how answers stood up to a real server.
func (p *Printer) Proved(f *live.Proof) error {
	can := map[bool]string{true: "can", false: "can't"}
	return p.Give(f, []string{"user", "act", "where", "estate", "server", "server said"}, func() (out [][]string) {
		for _, d := range f.Differ {
			out = append(out, []string{d.User, d.Act, d.Where, can[d.Estate], can[d.Server], d.Said})
		}
		return out
	}, func() {
		p.Line(In(Strong, f.Server), S(" was asked as %s on %s: %s tried, %s of them allowed", Some(f.Users, 6), Count(int64(f.Items), "item"), Count(int64(f.Tried), "act"), format.Number(int64(f.Allowed))))
		if f.Unproved > 0 {
			p.Line(S("%s not tried: the connection alone refuses them, and trying would leave a trace", Count(int64(f.Unproved), "act")))
		}
		if len(f.Differ) == 0 {
			p.Line(In(Good, "Every answer is the server's."))
			return
		}
		p.Line(In(Bad, Count(int64(len(f.Differ)), "act")+" answered otherwise by the server:"))
		p.Blank()
		g := Grid{Cols: []Col{{"user", 2}, {"act", 0}, {"where", 5}, {"the estate", 0}, {"the server", 0}, {"said", 4}}}
		for _, d := range f.Differ {
			g.Rows = append(g.Rows, []Cell{C(d.User), C(d.Act), C(d.Where), C(can[d.Estate]), C(can[d.Server]), C(d.Said)})
		}
		p.Grid(g)
	})
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
	return fmt.Sprintf("Note: %s %s (%s)", Count(int64(n.Items), "item"), says, where)
}
