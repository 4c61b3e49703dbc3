// Package report says typed answers as documents: what is drawn comes ready from
// ask and plan, how it looks is doc's, and nothing is decided here.
package report

import (
	"slices"
	"strings"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/report/doc"
)

var explainHeads = []string{"user", "where", "route", "granted", "level", "error"}

func explainRow(e *explain.Explained) []string {
	return []string{e.User.Name, e.Where, e.Route, e.Granted, e.Level, e.Error}
}

// Explained prints answers in full, route by route; as rows where there are
// many.
func Explained(p *doc.Printer, list []*explain.Explained, rows bool) error {
	if list == nil {
		list = []*explain.Explained{}
	}
	each := func() (out [][]string) {
		for _, e := range list {
			out = append(out, explainRow(e))
		}
		return out
	}
	return p.Give(list, explainHeads, each, func() {
		if rows {
			p.Grid(doc.PlainGrid([]doc.Col{{Head: "user", Weight: 1}, {Head: "where", Weight: 4}, {Head: "route", Weight: 2}, {Head: "granted", Weight: 0}, {Head: "level", Weight: 2}, {Head: "error", Weight: 3}}, each()))
			return
		}
		for i, e := range list {
			if i > 0 {
				p.Blank()
			}
			DrawExplained(p, e)
		}
		for _, e := range list {
			if e.AsSpecified {
				asSpecified(p)
				break
			}
		}
	})
}

// asSpecified says, once in an answer, what it rests on.
func asSpecified(p *doc.Printer) {
	p.Blank()
	p.Line(doc.In(doc.Faint, "As the published standards specify such a server; none was measured. tarnwold prove finds out on a real one."))
}

// Rights asks for every right in an explanation, beside the acts.
func Rights(p *doc.Printer, all bool) *doc.Printer { p.Rights = all; return p }

// doing says an act as people do, of a file or folder at hand.
var doing = map[string]string{"read": "open", "save": "save", "list": "see what is in it", "create": "put files into it", "make-folder": "make folders in it",
	"rename": "rename", "delete": "delete", "change-rules": "change its rules", "take-owner": "take it over"}

// canSays answers in one sentence: can open and save; can't rename or delete.
func canSays(e *explain.Explained) []doc.Span {
	var can, cant []string
	for _, a := range e.Acts {
		if a.Allowed {
			can = append(can, doing[a.Act])
		} else {
			cant = append(cant, doing[a.Act])
		}
	}
	var out []doc.Span
	switch {
	case len(can) == 0:
		return []doc.Span{doc.In(doc.Bad, "can do nothing with it")}
	case len(cant) == 0:
		return []doc.Span{doc.In(doc.Good, "can do everything: "+doc.Join(can, "and"))}
	}
	out = append(out, doc.In(doc.Good, "can "+doc.Join(can, "and")), doc.S("; "), doc.In(doc.Bad, "can't "+doc.Join(cant, "or")))
	return out
}

// notCounted says what a share's configuration has that an answer doesn't count.
func notCounted(p *doc.Printer, list []string) {
	for _, x := range list {
		if policy, central := strings.CutPrefix(x, ask.CentralPolicy); central {
			p.Line(doc.S("  "), doc.In(doc.Bad, "a central access policy stands over it ("+policy+"), which no answer counts"))
			continue
		}
		if name, by := strings.CutPrefix(x, ask.BySignOn); by {
			p.Line(doc.S("  "), doc.In(doc.Bad, "an entry for "+name+" counts for whoever signs on that way, and here for nobody"))
			continue
		}
		p.Line(doc.S("  "), doc.In(doc.Bad, "the configuration has \""+x+"\", which no answer counts"))
	}
}

func DrawExplained(p *doc.Printer, e *explain.Explained) {
	style := doc.Good
	if e.Nothing() {
		style = doc.Bad
	}
	route := " through " + e.Route + " "
	if e.Route == "local" {
		route = " at the server itself "
	}
	p.Line(append([]doc.Span{doc.In(doc.Strong, e.User.Name), doc.S("%s", route)}, canSays(e)...)...)
	shutSays(p, &e.User)
	notCounted(p, e.NotCounted)
	for _, f := range e.NotKnown {
		p.Line(doc.S("  "), doc.In(doc.Bad, "not known: "+f+", which the condition of an entry asks for"))
	}
	if s := doorSays(e); s != "" {
		p.Line(doc.S("  "), doc.In(doc.Bad, s))
	}
	p.Line(doc.S("  "), doc.In(style, e.Level), doc.S(" on %s, a %s owned by %s", e.Item, e.Kind, e.Owner.Name))
	if e.ByShare != "" && e.Door.Open {
		p.Line(doc.S("  the %s's rules give %s; the share lets through %s", e.Kind, e.ByFile, e.ByShare))
	}
	switch {
	case e.Nothing() && e.Granted == "0x20080":
		p.Line(doc.S("  whoever gets to it sees its size, times and mode; that opens nothing"))
	case e.Nothing() && e.Granted != "0x0":
		p.Line(doc.S("  the server shows size and times to whoever can name an item; that opens nothing"))
	}
	if e.NotAtOnce {
		p.Line(doc.S("  "), doc.In(doc.Bad, "can't open it to read and to write at once: no one group has both"))
	}
	if e.Marked {
		says := "it is marked read-only: nobody writes to it, and it isn't deleted"
		if e.Kind == "folder" { // what comes into it isn't stopped
			says = "it is marked read-only, and isn't deleted"
		}
		p.Line(doc.S("  %s", says))
	}
	for _, m := range e.Marks {
		p.Line(doc.S("  %s", markWords[m].is))
	}
	if e.Group {
		p.Line(doc.S("  asked for somebody who is in this group and in no other"))
	}
	switch e.Rules {
	case "absent":
		p.Line(doc.S("  its rules are absent, which opens it to everyone"))
	case "empty":
		p.Line(doc.S("  its rules are empty, which closes it to everyone"))
	}
	p.Blank()
	if p.Rights {
		explainedRights(p, e)
	} else {
		explainedActs(p, e)
	}
}

// explainedActs says of each act because of what.
func explainedActs(p *doc.Printer, e *explain.Explained) {
	type block struct {
		can               bool
		because, set, way string
	}
	var order []block
	acts := map[block][]string{}
	lacks := map[block][]string{} // the rights that nothing grants
	for _, a := range e.Acts {
		n := &a.Decides
		b := block{can: a.Allowed}
		lack := ""
		if n.Reason != nil {
			b.because, b.set = Because(n.Reason, e.Server, n.Share)
			b.way = strings.Join(n.Reason.Chain, " → ")
			if n.Reason.By == "nothing" {
				lack, b.because = n.Right, ""
				if n.Share {
					b.because = " of the share lets %s through"
				} else {
					b.because = " grants %s"
				}
				if n.On == "folder" && n.Where != e.Where {
					b.because += " on the folder above"
				}
				if n.Reason.Nearest != "" {
					b.because += "; nearest is " + n.Reason.Nearest + ", and " + e.User.Name + " is not " + inOr(n.Reason)
				}
			}
		}
		if b.set == e.Item {
			b.set = "here"
		}
		if acts[b] == nil {
			order = append(order, b)
		}
		acts[b] = append(acts[b], doing[a.Act])
		if lack != "" && !slices.Contains(lacks[b], lack) {
			lacks[b] = append(lacks[b], lack)
		}
	}
	g := doc.Grid{Cols: []doc.Col{{Head: "can", Weight: 0}, {Head: "do", Weight: 3}, {Head: "because", Weight: 4}, {Head: "set on", Weight: 4}, {Head: "by way of", Weight: 3}}}
	for _, yes := range []bool{true, false} {
		for _, b := range order {
			if b.can != yes {
				continue
			}
			can := doc.CI(doc.Good, "yes")
			if !yes {
				can = doc.CI(doc.Bad, "no")
			}
			why := b.because
			if l := lacks[b]; l != nil {
				why = "no entry" + strings.Replace(why, "%s", doc.Join(l, "or"), 1)
			}
			g.Rows = append(g.Rows, []doc.Cell{can, doc.C(strings.Join(acts[b], ", ")), doc.C(why), doc.C(b.set), doc.C(b.way)})
		}
	}
	p.Grid(g)
}

// inOr says of an account that an entry names what somebody isn't.
func inOr(r *ask.Reason) string {
	if r.MissedUser {
		return r.Missed
	}
	return "in " + r.Missed
}

// explainedRights says of each right because of what.
func explainedRights(p *doc.Printer, e *explain.Explained) {
	type block struct {
		granted               bool
		because, set, chain   string
		too, tooSet, tooChain string // why the share refuses it as well
	}
	var order []block
	rights := map[block][]string{}
	for _, r := range e.Rights {
		why, share := &r.File, false
		if !r.Granted && r.File.Granted && r.Share != nil {
			why, share = r.Share, true
		}
		b := block{granted: r.Granted, chain: strings.Join(why.Chain, " → ")}
		b.because, b.set = Because(why, e.Server, share)
		if b.set == e.Item {
			b.set = "here"
		}
		if s := r.Share; s != nil && !r.File.Granted && !s.Granted {
			b.too, b.tooSet = Because(s, e.Server, true)
			b.tooChain = strings.Join(s.Chain, " → ")
		}
		if rights[b] == nil {
			order = append(order, b)
		}
		rights[b] = append(rights[b], r.Right)
	}
	g := doc.Grid{Cols: []doc.Col{{Head: "granted", Weight: 0}, {Head: "rights", Weight: 4}, {Head: "because", Weight: 4}, {Head: "set on", Weight: 4}, {Head: "by way of", Weight: 3}}}
	for _, yes := range []bool{true, false} {
		for _, b := range order {
			if b.granted != yes {
				continue
			}
			granted := doc.CI(doc.Good, "yes")
			if !yes {
				granted = doc.CI(doc.Bad, "no")
			}
			g.Rows = append(g.Rows, []doc.Cell{granted, doc.C(strings.Join(rights[b], ", ")), doc.C(b.because), doc.C(b.set), doc.C(b.chain)})
			if b.too != "" {
				g.Rows = append(g.Rows, []doc.Cell{doc.C(""), doc.CI(doc.Faint, "the share refuses these too"), doc.C(b.too), doc.C(b.tooSet), doc.C(b.tooChain)})
			}
		}
	}
	p.Grid(g)
}
