package report

import (
	"tarnwold/internal/ask"
	"tarnwold/internal/report/doc"
)

// What is said of users nobody can sign on as: all that an answer tells of
// them is what they could.
const (
	shutOne   = "; this is what they could do otherwise"
	shutCount = "; counted all the same"
	shutCells = "; their cells are what they could"
)

func shutWords(who *ask.Account) string { return who.Name + " can't sign on: " + who.Shut }

func shutNames(names []string) string { return Some(names, 6) + " can't sign on" }

// shutOf gives the names of those of accounts that can't sign on.
func shutOf(list []ask.Account) (out []string) {
	for i := range list {
		if list[i].Shut != "" {
			out = append(out, list[i].Name)
		}
	}
	return out
}

// shutSays says it of one user.
func shutSays(p *doc.Printer, who *ask.Account) {
	if who.Shut != "" {
		p.Line(doc.In(doc.Bad, "  "+shutWords(who)), doc.S(shutOne))
	}
	limited(p, who)
}

// limited says how a user's signing on is limited beside.
func limited(p *doc.Printer, who *ask.Account) {
	if who.Limits != "" {
		p.Line(doc.S("  signs on only %s", who.Limits))
	}
}

// shutSome says it of several; then is what becomes of them in the answer.
func shutSome(p *doc.Printer, names []string, then string) {
	if len(names) > 0 {
		p.Line(doc.In(doc.Bad, "  "+shutNames(names)), doc.S("%s", then))
	}
}

func outlineShut(o *doc.Outline, who *ask.Account) {
	if who.Shut != "" {
		o.Intro = append(o.Intro, shutWords(who)+shutOne+".")
	}
}

func outlineShutSome(o *doc.Outline, names []string, then string) {
	if len(names) > 0 {
		o.Intro = append(o.Intro, shutNames(names)+then+".")
	}
}
