package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/report/doc"
)

// mendSays says what would have to change first.
func mendSays(m *explain.Mend) string {
	switch m.Do {
	case "take-away":
		return fmt.Sprintf("%q would have to go from %s", m.Entry, m.Where)
	case "share-allows":
		return fmt.Sprintf("the rules of %s would have to allow %s %s", m.Where, m.Who, strings.ReplaceAll(m.Right, ",", " and "))
	case "share-switch":
		return fmt.Sprintf("%s would have to be switched from read-only", m.Where)
	case "configuration":
		if m.Entry == ask.NoMachine {
			return fmt.Sprintf("the server's configuration would have to let machines connect to %s", m.Where)
		}
		if m.Entry == "" {
			return fmt.Sprintf("the server's configuration would have to let %s connect to %s", m.Who, m.Where)
		}
		return fmt.Sprintf("%s would have to go from a list in the server's configuration of %s", m.Entry, m.Where)
	case "sticky":
		return fmt.Sprintf("%s would have to own it, or the folder %s, or that folder not be sticky", m.Who, m.Where)
	case "owners-alone":
		return fmt.Sprintf("%s would have to own %s", m.Who, m.Where)
	case "root-alone":
		return "root would have to do it"
	case "never-runs":
		return fmt.Sprintf("%s would have to have execute for somebody", m.Where)
	case "mark":
		return MarkMend(m.Entry, m.Where)
	case "privilege":
		return fmt.Sprintf("%s would have to have %s on %s", m.Who, m.Right, m.Where)
	case "administrator":
		return fmt.Sprintf("%s would have to be an administrator of %s", m.Who, m.Where)
	}
	return fmt.Sprintf("an entry would have to allow %s %s on %s", m.Who, m.Right, m.Where)
}

// missing says in words what an act lacks, or has.
func missing(n *explain.Needed, server string) string {
	switch n.On {
	case "mark":
		return markWhy(n.Reason.Entry)
	case "connection":
		if n.Held {
			return "the connection lets changes through"
		}
		why, _ := Because(n.Reason, server, true)
		return why
	case "owner":
		if n.Held {
			return "who is to own it may"
		}
		return "only an administrator gives ownership to somebody else"
	}
	if n.Reason == nil {
		return n.Where + " gives " + n.Right
	}
	why, set := Because(n.Reason, server, n.Share)
	if n.Held {
		return fmt.Sprintf("%s on %s: %s", n.Right, n.Where, why)
	}
	if set != "" && n.Reason.By == "entry" {
		why += ", set on " + set
	}
	return fmt.Sprintf("no %s on %s: %s", n.Right, n.Where, why)
}

func triedBecause(t *explain.Tried) string {
	for i := range t.Needs {
		if n := &t.Needs[i]; n.Held == t.Allowed {
			return missing(n, ServerOf(t.Where))
		}
	}
	return ""
}

// ServerOf tells the server of an address.
func ServerOf(where string) string {
	s := strings.TrimPrefix(where, "//")
	if i := strings.IndexAny(s, "/:"); i >= 0 {
		s = s[:i]
	}
	return s
}

// TriedMany prints the answers to many trials.
func TriedMany(p *doc.Printer, list []*explain.Tried) error {
	if list == nil {
		list = []*explain.Tried{}
	}
	row := func(t *explain.Tried) []string {
		allowed := YesNo(t.Allowed)
		if t.Error != "" {
			allowed = ""
		}
		return []string{t.User.Name, t.Act, t.Where, t.To, allowed, triedBecause(t), t.Error}
	}
	return p.Give(list, []string{"user", "act", "where", "to", "allowed", "because", "error"}, func() (out [][]string) {
		for _, t := range list {
			out = append(out, row(t))
		}
		return out
	}, func() {
		g := doc.Grid{Cols: []doc.Col{{Head: "user", Weight: 1}, {Head: "act", Weight: 1}, {Head: "where", Weight: 4}, {Head: "to", Weight: 3}, {Head: "allowed", Weight: 0}, {Head: "because", Weight: 4}, {Head: "error", Weight: 3}}}
		for _, t := range list {
			var r []doc.Cell
			for i, s := range row(t) {
				switch {
				case i == 4 && s == "yes":
					r = append(r, doc.CI(doc.Good, s))
				case i == 4 || i == 6:
					r = append(r, doc.CI(doc.Bad, s))
				default:
					r = append(r, doc.C(s))
				}
			}
			g.Rows = append(g.Rows, r)
		}
		p.Grid(g)
	})
}

// Tried prints the answer to one trial.
func Tried(p *doc.Printer, t *explain.Tried) error {
	if p.Format == doc.CSV {
		return TriedMany(p, []*explain.Tried{t})
	}
	return p.Give(t, nil, nil, func() {
		verdict, style := "yes", doc.Good
		if !t.Allowed {
			verdict, style = "no", doc.Bad
		}
		words := []doc.Span{doc.In(style, verdict), doc.S(": %s %s %s %s", t.User.Name, map[bool]string{true: "can", false: "can't"}[t.Allowed], t.Act, t.Where)}
		if t.To != "" {
			words = append(words, doc.S(" to %s", t.To))
		}
		p.Line(words...)
		shutSays(p, &t.User)
		notCounted(p, t.NotCounted)
		if t.Mend != nil {
			p.Line(doc.S("  first to change: %s", mendSays(t.Mend)))
		}
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "held", Weight: 0}, {Head: "needs", Weight: 2}, {Head: "on", Weight: 4}, {Head: "because", Weight: 4}, {Head: "set on", Weight: 4}, {Head: "by way of", Weight: 3}}}
		type block struct{ held, on, why, set, chain string }
		var order []block
		rights := map[block][]string{}
		for i := range t.Needs {
			n := &t.Needs[i]
			b := block{held: YesNo(n.Held), on: n.Where}
			if n.Reason != nil {
				b.why, b.set = Because(n.Reason, ServerOf(t.Where), n.Share)
				b.chain = strings.Join(n.Reason.Chain, " → ")
			}
			if b.set == b.on {
				b.set = "there"
			}
			needs := n.Right
			switch {
			case n.On == "connection":
				needs = "a connection that isn't read-only"
			case n.On == "owner":
				if needs = "an administrator, or who owns it already"; t.AsSpecified {
					needs = "who may restore, or who owns it already"
				}
			case n.On == "kernel" && n.Right == "delete":
				needs = "that the kernel lets it go"
			case n.On == "kernel":
				needs = "that the kernel lets it be changed"
			case n.On == "names":
				needs = "that the server sees the names there"
			case n.On == "share" && n.Right == "":
				needs = "nothing, for no share is on the way"
			}
			if rights[b] == nil {
				order = append(order, b)
			}
			rights[b] = append(rights[b], needs)
		}
		for _, b := range order {
			held := doc.CI(doc.Good, b.held)
			if b.held == "no" {
				held = doc.CI(doc.Bad, b.held)
			}
			g.Rows = append(g.Rows, []doc.Cell{held, doc.C(strings.Join(rights[b], ", ")), doc.C(b.on), doc.C(b.why), doc.C(b.set), doc.C(b.chain)})
		}
		p.Grid(g)
		if t.AsSpecified {
			asSpecified(p)
		}
	})
}
