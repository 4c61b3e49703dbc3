package report

import (
	"fmt"
	"strings"
)

// Answer is a verdict in words.
type Answer struct {
	User    string   `json:"user"`
	Where   string   `json:"where"`
	Item    string   `json:"item"` // the server's own address
	Kind    string   `json:"kind"` // folder or file
	Owner   string   `json:"owner"`
	Route   string   `json:"route"` // //server/share, or local
	Granted string   `json:"granted"`
	Level   string   `json:"level"`
	ByFile  string   `json:"by-file"`            // what the files' side grants, as a level
	ByShare string   `json:"by-share,omitempty"` // what the share lets through
	Rights  []Right  `json:"rights"`
	Notes   []string `json:"notes,omitempty"`
}

// Right is the answer for one right.
type Right struct {
	Right   string  `json:"right"`
	Granted bool    `json:"granted"`
	File    Reason  `json:"file"`
	Share   *Reason `json:"share,omitempty"`
}

// Reason is what decided about a right in one place.
type Reason struct {
	Granted bool     `json:"granted"`
	Because string   `json:"because"` // one sentence, or the entry
	SetOn   string   `json:"set-on,omitempty"`
	Chain   []string `json:"chain,omitempty"` // from the user to the entry's account
}

// Verdict prints one answer in full.
func (p *Printer) Verdict(a *Answer) error {
	if p.Format == JSON {
		return p.Value(a)
	}
	level := Good(a.Level)
	if a.Level == "nothing" {
		level = Bad(a.Level)
	}
	route := "through " + a.Route
	if a.Route == "local" {
		route = "at the server itself"
	}
	p.Line("%s %s: %s", Strong(a.User), route, level)
	p.Line("  %s, a %s owned by %s", a.Item, a.Kind, a.Owner)
	if a.ByShare != "" {
		p.Line("  the %s's rules give %s; the share lets through %s", a.Kind, a.ByFile, a.ByShare)
	}
	for _, n := range a.Notes {
		p.Line("  %s", n)
	}
	p.Line("")
	type block struct {
		granted, because, set, chain string
		too                          string // why the share refuses it as well
		tooSet, tooChain             string
	}
	var order []block
	rights := map[block][]string{}
	for _, r := range a.Rights {
		why := r.File
		if !r.Granted && r.File.Granted && r.Share != nil {
			why = *r.Share
		}
		set := why.SetOn
		if set == a.Item {
			set = "here"
		}
		b := block{granted: Good("yes"), because: why.Because, set: set, chain: strings.Join(why.Chain, " → ")}
		if s := r.Share; s != nil && !r.File.Granted && !s.Granted {
			b.too, b.tooSet, b.tooChain = s.Because, s.SetOn, strings.Join(s.Chain, " → ")
		}
		if !r.Granted {
			b.granted = Bad("no")
		}
		if rights[b] == nil {
			order = append(order, b)
		}
		rights[b] = append(rights[b], r.Right)
	}
	g := Grid{Heads: []string{"granted", "rights", "because", "set on", "by way of"}, Wrap: map[string]int{"rights": 36, "because": 36, "set on": 44, "by way of": 24}}
	for _, yes := range []string{Good("yes"), Bad("no")} {
		for _, b := range order {
			if b.granted == yes {
				g.Rows = append(g.Rows, []string{b.granted, strings.Join(rights[b], ", "), b.because, b.set, b.chain})
				if b.too != "" {
					g.Rows = append(g.Rows, []string{"", Faint("the share refuses these too"), b.too, b.tooSet, b.tooChain})
				}
			}
		}
	}
	return p.Grid(g)
}

// Answers prints many answers as rows.
func (p *Printer) Answers(as []*Answer) error {
	if p.Format == JSON {
		return p.Value(as)
	}
	g := Grid{Heads: []string{"user", "where", "route", "granted", "level"}}
	for _, a := range as {
		g.Rows = append(g.Rows, []string{a.User, a.Where, a.Route, a.Granted, a.Level})
	}
	return p.Grid(g)
}

// Count writes a number with its noun: 1 item, 2,000 items.
func Count(n int64, noun string) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	if n == 1 {
		return s + " " + noun
	}
	if strings.HasSuffix(noun, "y") {
		return s + " " + strings.TrimSuffix(noun, "y") + "ies"
	}
	return s + " " + noun + "s"
}
