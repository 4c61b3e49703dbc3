// Package changes says plans, servers and what was done as documents: what would
// change, who gains and loses, the guards, nights, requests, scans.
package changes

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tarnwold/core/right"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/confirm"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

// Outcome is a plan and what became of it.
type Outcome struct {
	*plan.Plan
	Kept    int64          `json:"kept-as"` // the journal's number; 0: not kept
	DryRun  bool           `json:"dry-run"`
	Forced  bool           `json:"forced"`
	Saved   string         `json:"saved-to,omitempty"`
	Refused bool           `json:"refused-by-guards"`
	Ended   []entry.Ended  `json:"ended,omitempty"`
	Loaded  *people.Loaded `json:"loaded,omitempty"`
	Taken   *intake.Taken  `json:"people,omitempty"`
	Made    *show.Shown    `json:"made,omitempty"`
	Brief   bool           `json:"-"` // the edits are too many to tell one by one
	// LDIF is the file that what is to be done in directories was written to.
	LDIF string `json:"ldif,omitempty"`
	// Outbound is what is written to real servers when it is kept.
	Outbound []plan.Outbound `json:"written-to,omitempty"`
	// Left is what is left out of that, and stays as it is.
	Left []live.LeftOut `json:"left-out,omitempty"`
	told int            // of them
	// Expects is what is to hold once it is kept, Expected whether it will.
	Expects  []expect.Expectation `json:"-"`
	Expected []*expect.Expected   `json:"expected,omitempty"`
	Request  *request.Request     `json:"request,omitempty"`
	// Closing is what a review comes to that is closed.
	Closing *confirm.Closing `json:"closing,omitempty"`
	// Unmended are the findings that mending leaves.
	Unmended []findings.Finding `json:"findings-left,omitempty"`
}

// WriteOutcome prints a plan and what became of it: as JSON one object; as CSV the
// impact, a line each.
func WriteOutcome(p *doc.Printer, o *Outcome) error {
	return p.Give(o, []string{"kind", "user", "through", "was", "becomes", "items", "from here on"}, func() (out [][]string) {
		for _, s := range o.Impact {
			for _, u := range s.Users {
				for _, r := range s.Routes {
					out = append(out, []string{s.Kind, u, r, s.Was, s.Is, fmt.Sprint(s.Items), strings.Join(s.Where, "; ")})
				}
			}
		}
		return out
	}, func() {
		Preview(p, o)
		Became(p, o)
	})
}

// Became says what became of a plan.
func Became(p *doc.Printer, o *Outcome) {
	for _, x := range o.Theirs {
		p.Line(doc.S("Note: who is in %s changes in the estate alone; %s goes by what it has itself, until it is done there too.", report.Some(x.Groups, 6), x.Server))
	}
	switch {
	case o.Kept != 0:
		leftOut(p, o.Left[o.told:]) // what was only seen when it was written
		p.Line(doc.S("Kept as change %d.", o.Kept))
	case o.Saved != "":
		p.Line(doc.S("Saved to %s; keep it with: tarnwold apply %s", o.Saved, o.Saved))
	case o.DryRun && o.Changes():
		p.Line(doc.S("Nothing was kept: this was a dry run."))
	}
	if o.LDIF != "" {
		p.Line(doc.S("Written to %s, for whoever may change the directory; once it is done there: tarnwold directory sync %s", o.LDIF, o.ToDo[0].Directory))
	}
	report.Unmended(p, o.Unmended)
}

func sign(s edit.Sign) doc.Cell {
	switch s {
	case edit.Comes:
		return doc.CI(doc.Good, string(s))
	case edit.Goes:
		return doc.CI(doc.Bad, string(s))
	}
	return doc.C(string(s))
}

// lineText says what comes, goes or changes.
func lineText(l edit.Line) string {
	switch l.What {
	case "entry", "audit":
		if l.FromAbove {
			return l.Text + " (from above)"
		}
		return l.Text
	case "owner":
		return "owner " + l.Text
	case "seal":
		return "the seal"
	case "mode", "list-entry":
		return l.Text
	case "default-list":
		return "the default list: what comes is given nothing"
	case "mark":
		return "the mark " + l.Text
	case "special":
		return "special bits: " + l.Text
	case "absence":
		return "absent rules: open to everyone"
	case "order":
		return "the order of the entries, a duplicate, or how they are inherited"
	case "membership":
		return l.Text
	case "last-day":
		return "last day: " + l.Text
	case "kept":
		return "to " + l.Text + "; it keeps its entries, and those from its old folder are stale until a reflow"
	case "kept-list":
		return "to " + l.Text + "; it keeps its owner, mode and list"
	case "renewed":
		return "to " + l.Text + "; it takes the entries of its new folder"
	case "copy":
		return l.Text
	case "known":
		return l.Text
	case "policy", "request", "keeper", "review", "about", "sign-on":
		return strings.TrimSpace(strings.ReplaceAll(strings.ReplaceAll(l.What, "about", "about it:"), "sign-on", "sign-on:") + " " + l.Text)
	case "account", "server", "share", "level", "tree", "item", "administrator", "read-only", "folder", "file":
		return strings.TrimSpace(strings.ReplaceAll(l.What, "read-only", "switched to read-only") + " " + l.Text)
	case "trait", "privilege":
		return l.Text
	case "configured":
		return "configured: " + report.Admitted(l.Text)
	}
	return strings.ReplaceAll(l.What, "-", " ") + " " + l.Text
}

// Preview prints what a plan would do.
func Preview(p *doc.Printer, o *Outcome) {
	if !o.Changes() {
		p.Line(doc.S("Nothing to do: %s.", o.Nothing))
		toDo(p, o)
		if o.Taken != nil {
			taken(p, o.Taken)
		}
		return
	}
	g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 3}, {Head: "", Weight: 0}, {Head: "what", Weight: 4}}}
	left := int64(0)
	if o.Brief || o.IsSo || o.Taken != nil {
		p.Line(doc.S("%s", o.Change))
	}
	for _, e := range o.Edits {
		if o.Brief {
			break
		}
		if len(g.Rows) >= report.MostEdits {
			left += max(1, e.Items)
			continue
		}
		where := e.Where
		if len(e.Lines) > 0 && e.Lines[0].Sign != edit.Moves && e.Kind == "item" && e.Lines[0].What != "copy" {
			where = report.Alike(e.Where, e.Items)
		}
		for i, l := range e.Lines {
			if i > 0 {
				where = ""
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(where), sign(l.Sign), doc.C(lineText(l))})
		}
	}
	p.Grid(g)
	if left += int64(o.Untold); left > 0 && !o.Brief {
		p.Line(doc.S("and %s more", report.Count(left, "item")))
	}
	if o.Closing != nil {
		closing(p, o.Closing)
	}
	for _, e := range o.Ended {
		p.Line(doc.S("Last day %s: %s, %s.", e.Until, e.What, e.Where))
	}
	if o.Handed > 0 {
		p.Line(doc.S("Handed down to %s below.", report.Count(o.Handed, "item")))
	}
	if l := o.Loaded; l != nil {
		for _, loop := range l.Loops {
			p.Line(doc.S("Groups in a circle, as the files have them; each is followed once: %s.", strings.Join(loop, " in ")))
		}
		for _, s := range l.Shared {
			p.Line(doc.S("%s; both are loaded.", s))
		}
		if len(l.Further) > 0 {
			p.Line(doc.S("Not known here, and kept with each user as it is: column %s.", strings.Join(l.Further, ", column ")))
		}
	}
	if o.Taken != nil {
		taken(p, o.Taken)
	}
	if o.Asks {
		impact(p, o.Plan)
	}
	for i, x := range o.NewItems {
		if i == mostNewItems {
			p.Line(doc.S("What new items get from now on: %s more; --format json has them all.", report.Count(int64(len(o.NewItems)-i), "line")))
			break
		}
		where := x.Where
		if x.More > 0 {
			where += fmt.Sprintf(" and %s more", report.Count(x.More, "folder"))
		}
		p.Line(doc.In(doc.Strong, "New "+x.Kind+"s"), doc.S(" in %s: %s %s → %s.", where, report.Some(x.Users, 4), x.Was, x.Is))
	}
	if o.NewUnasked > 0 {
		p.Line(doc.S("What new items get in %s more was not asked, for their rules change in too many ways.", report.Count(o.NewUnasked, "folder")))
	}
	for _, u := range o.Unmoved {
		says := "they had it already"
		if !u.Already {
			why, set := report.Because(&u.Because, "", strings.HasPrefix(u.Because.SetOn, "share "))
			says = why
			if set != "" {
				says += ", set on " + set
			}
		}
		p.Line(doc.S("No change for %s through %s: %s.", report.Some(u.Users, 4), u.Route, says))
	}
	for _, a := range o.Advice {
		p.Line(doc.S("%s: %s.", adviceHead(a), adviceText(a)))
	}
	for _, w := range o.Warnings {
		switch {
		case o.IsSo:
			p.Line(doc.In(doc.Bad, "Look:"), doc.S(" %s.", WarningText(w)))
		case o.Forced:
			p.Line(doc.In(doc.Bad, "Forced:"), doc.S(" %s.", WarningText(w)))
		case o.DryRun:
			p.Line(doc.In(doc.Bad, "Needs --force:"), doc.S(" %s.", WarningText(w)))
		}
	}
	if n := len(o.Expected); n > 0 {
		met := 0
		for _, e := range o.Expected {
			if e.Holds {
				met++
			}
		}
		style := doc.Good
		if met < n {
			style = doc.Bad
		}
		p.Line(doc.In(style, fmt.Sprintf("Expected of it: %d of %d hold.", met, n)))
	}
	for _, x := range o.Outbound {
		if x.Server == "" {
			continue
		}
		p.Line(doc.S("This goes to the real server "), doc.In(doc.Strong, x.Server), doc.S(": %s.", written(&x)))
	}
	leftOut(p, o.Left)
	o.told = len(o.Left)
	for i, x := range o.Directed {
		if i == 0 || x.Directory != o.Directed[i-1].Directory {
			n := 0
			for _, y := range o.Directed {
				if y.Directory == x.Directory {
					n++
				}
			}
			p.Line(doc.S("This goes to the directory "), doc.In(doc.Strong, x.Directory), doc.S(": %s.", report.Count(int64(n), "membership")))
		}
	}
	toDo(p, o)
	if o.Asks {
		p.Blank()
	}
}

// written counts what goes to a real server.
func written(o *plan.Outbound) string {
	members := o.Memberships()
	var out []string
	if n := len(o.Writes) - members; n > 0 {
		out = append(out, report.Count(int64(n), "descriptor"))
	}
	if members > 0 {
		out = append(out, report.Count(int64(members), "membership"))
	}
	return strings.Join(out, ", ")
}

// toDo tells what of a plan is to be done in directories, by others.
func toDo(p *doc.Printer, o *Outcome) {
	hint := ""
	if !o.Apart() {
		hint = "; --ldif FILE writes down what is to be changed there, and keeps the rest"
	}
	for i, x := range o.ToDo {
		if i > 0 && x.Directory == o.ToDo[i-1].Directory {
			continue
		}
		n := 0
		for _, y := range o.ToDo {
			if y.Directory == x.Directory {
				n++
			}
		}
		p.Line(doc.S("To be done in the directory "), doc.In(doc.Strong, x.Directory), doc.S(", which isn't written to from here: %s%s.", report.Count(int64(n), "membership"), hint))
	}
}

// mostLeft is how many items that are left out are told of one by one.
const mostLeft = 8

// mostNewItems is how many lines tell of what new items get.
const mostNewItems = 6

// leftOut tells what is left out of what goes to real servers.
func leftOut(p *doc.Printer, list []live.LeftOut) {
	for i, x := range list {
		if i == mostLeft {
			p.Line(doc.S("Left out, and as it is: %s more; --format json tells all.", report.Count(int64(len(list)-i), "item")))
			break
		}
		p.Line(doc.In(doc.Bad, "Left out, and as it is:"), doc.S(" %s: %s.", x.Where, x.Why))
	}
}

// taken says what of a directory's people was not taken as it stands there.
func taken(p *doc.Printer, t *intake.Taken) {
	for _, what := range slices.Sorted(maps.Keys(t.LeftOut)) {
		if n := t.LeftOut[what]; n > 0 {
			p.Line(doc.S("Left out: %s (%s).", what, format.Number(int64(n))))
		}
	}
	if n := len(t.Apart); n > 0 {
		p.Line(doc.S("Renamed, because others have the same names: %s.", report.Some(t.Apart, 4)))
	}
}

func adviceText(a plan.Advice) string {
	switch a.Kind {
	case "next-sign-on":
		return "who is signed on at a POSIX system keeps the groups they signed on with: there it counts from their next sign-on"
	case "gone-still-named":
		return fmt.Sprintf("%s isn't in the directory any more, and stays, shut and in none of its groups: %s", a.Who, a.Text)
	case "means":
		return fmt.Sprintf("here %s is %s", a.Who, a.Text)
	case "held-by-group":
		return fmt.Sprintf("%s is a user; %s, a group with that member, holds the same already", a.Who, a.Other)
	case "left":
		return a.Where + ": " + a.Text
	case "other-way":
		return "--by " + a.Other + ": " + a.Text
	case "beyond-roles":
		return fmt.Sprintf("beyond what a role gives, %s %s, and %s would too", a.Who, a.Text, a.Other)
	case "sees-there":
		return fmt.Sprintf("%s could read there already, and will see what others put in", a.Who)
	case "not-given":
		return fmt.Sprintf("%s %s; %s doesn't get that, for no group gives it", a.Who, a.Text, a.Other)
	case "owns-still":
		return fmt.Sprintf("%s still owns %s (the first is %s); hand them on with: %s", a.Who, a.Text, a.Where,
			report.Command([]string{"tarnwold", "owner", "--owned-by", a.Who, "--to", "WHO"}))
	case "shut-there":
		return fmt.Sprintf("who can sign on is said by directory %s: have %s disabled there", a.Where, a.Who)
	case "unwritten":
		return fmt.Sprintf("%s keeps audit entries and writes nothing down by them (its trait writes-audit: false); have it write with vfs_full_audit, and take that in with: tarnwold trail load FILE --server %s", a.Where, a.Where)
	case "written":
		return fmt.Sprintf("%s writes down what these entries ask for", a.Where)
	case "out-of-order":
		return fmt.Sprintf("the entries kept on %s stay in their order, which is not the usual one: in the usual one somebody's access would change", a.Where)
	}
	return fmt.Sprintf("%s is a user; an entry for a group outlasts the person", a.Who)
}

// adviceHead says what kind of thing is worth knowing.
func adviceHead(a plan.Advice) string {
	switch a.Kind {
	case "gone-still-named":
		return "Gone"
	case "left":
		return "Left"
	case "other-way":
		return "Or"
	case "unwritten":
		return "Look"
	case "not-given":
		return "Not given"
	case "means":
		return "Means"
	case "next-sign-on":
		return "Note"
	}
	return "Advice"
}

// WarningText says what a guard has against a plan.
func WarningText(w plan.Warning) string {
	switch w.Guard {
	case "locks-out":
		return fmt.Sprintf("you act as %s, who would lose %s on %s", strings.Join(w.Users, ", "), w.Rights, w.Where)
	case "overrules":
		verb := "hold"
		if len(w.Users) == 1 {
			verb = "holds"
		}
		return fmt.Sprintf("the deny entry overrules what %s %s now", report.Some(w.Users, 6), verb)
	case "opens":
		return fmt.Sprintf("%s would be open to everyone: %s for whoever can sign on, beyond what they had", w.Where, w.Rights)
	case "orphans":
		return fmt.Sprintf("nobody would be left who can change the rules of %s", w.Where)
	case "mail-group":
		return fmt.Sprintf("%s is a mail group, and a mail group carries no access", w.Who)
	case "kept":
		if strings.HasPrefix(w.Where, keeper.WhoKeeps) {
			return fmt.Sprintf("only %s may say %s, and you act as somebody else", report.Some(w.Users, 4), w.Where)
		}
		verb := "keep"
		if len(w.Users) == 1 {
			verb = "keeps"
		}
		return fmt.Sprintf("%s %s %s, and you act as somebody else", report.Some(w.Users, 4), verb, w.Where)
	case "laid-policy":
		return fmt.Sprintf("it breaks policy %s, on %s", w.Who, w.Where)
	case "own-request":
		return fmt.Sprintf("%s is on %s and would accept it themselves", w.Who, w.Where)
	case "expectation":
		return fmt.Sprintf("an expectation would not hold: %s; %s", w.Who, w.Where)
	case "may-not":
		says := fmt.Sprintf("you act as %s, who may not %s", strings.Join(w.Users, ", "), w.Where)
		if w.Because != nil {
			why, set := report.Because(w.Because, "", false)
			says += " (" + why
			if set != "" {
				says += ", set on " + set
			}
			says += ")"
		}
		return says
	case "loses-much":
		return fmt.Sprintf("%s would be gone at once, which may be a mistake where they are kept; --may-lose N allows N percent", w.Who)
	case "ends-early":
		return fmt.Sprintf("others set some of it to last longer: it is over by %s, but not today", w.Where)
	case "runs-as":
		return fmt.Sprintf("%s would run as its owner or group again, whoever starts it, and has been changed since it last did", w.Where)
	case "dead":
		return fmt.Sprintf("%s is an identifier that belongs to no account of the estate", w.Who)
	}
	return w.Guard
}

// mostShifts is how many lines of impact a table has.
const mostShifts = 12

// impact prints who gains and who loses what.
func impact(p *doc.Printer, o *plan.Plan) {
	p.Blank()
	if len(o.Impact) == 0 {
		p.Line(doc.S("Impact: nobody's access changes."))
		return
	}
	p.Line(doc.S("Impact: "), doc.In(doc.Strong, headline(o.Impact)), doc.S("."))
	g := doc.Grid{Cols: []doc.Col{{Head: "", Weight: 0}, {Head: "who", Weight: 3}, {Head: "was", Weight: 2}, {Head: "becomes", Weight: 2}, {Head: "through", Weight: 3}, {Head: "items", Weight: 0}, {Head: "from here on", Weight: 5}}}
	for i, s := range o.Impact {
		if i == mostShifts {
			break
		}
		kind := doc.C("change")
		switch s.Kind {
		case "gain":
			kind = doc.CI(doc.Good, "gain")
		case "lose":
			kind = doc.CI(doc.Bad, "lose")
		}
		where := doc.Cs(s.Where...)
		if s.More > 0 {
			where = append(where, doc.S("and %d more", s.More))
		}
		g.Rows = append(g.Rows, []doc.Cell{kind, doc.C(report.Some(s.Users, 4)), doc.C(s.Was), doc.C(s.Is), doc.Cs(s.Routes...), doc.C(fmt.Sprint(s.Items)), where})
	}
	p.Grid(g)
	if n := len(o.Impact) - mostShifts; n > 0 {
		p.Line(doc.S("and %s more of fewer people; --format json has them all", report.Count(int64(n), "line")))
	}
}

// headline counts the people of each kind of shift: "3 people gain read, 1
// person loses edit".
func headline(list []plan.Shift) string {
	var says []string
	for _, k := range []struct{ kind, one, many string }{{"gain", "gains", "gain"}, {"lose", "loses", "lose"}, {"change", "has other rights", "have other rights"}} {
		people, levels := map[string]bool{}, map[string]bool{}
		for _, s := range list {
			if s.Kind != k.kind {
				continue
			}
			level := s.Is
			if s.Kind == "lose" {
				level = s.Was
			}
			levels[level] = true
			for _, u := range s.Users {
				people[u] = true
			}
		}
		if len(people) == 0 {
			continue
		}
		verb := k.many
		if len(people) == 1 {
			verb = k.one
		}
		s := report.Count(int64(len(people)), "person") + " " + verb
		if k.kind != "change" {
			what := "rights"
			if len(levels) == 1 {
				for what = range levels {
				}
			}
			s += " " + what
		}
		says = append(says, s)
	}
	return strings.Join(says, ", ")
}

// Made says that an estate was made.
func Made(p *doc.Printer, path string) error {
	return p.Give(made{path}, []string{"estate"}, func() [][]string { return [][]string{{path}} }, func() {
		p.Line(doc.S("%s is a new, empty estate. Next: tarnwold load accounts FILE", path))
	})
}

// made is an estate that was made.
type made struct {
	Estate string `json:"estate"` // its file
}

// done is a change that was kept at once.
type done struct {
	Change string `json:"change"`
	KeptAs int64  `json:"kept-as"`
}

// Done says what was kept at once.
func Done(p *doc.Printer, what string, id int64) error {
	return p.Give(done{what, id}, []string{"change", "kept as"}, func() [][]string {
		return [][]string{{what, fmt.Sprint(id)}}
	}, func() {
		p.Line(doc.S("%s", what))
		p.Line(doc.S("Kept as change %d.", id))
	})
}

// Levels prints the levels there are.
func Levels(p *doc.Printer, list right.Levels) error {
	type level struct {
		Level  string `json:"level"`
		Folder string `json:"on-a-folder,omitempty"`
		File   string `json:"on-a-file,omitempty"`
		About  string `json:"about"`
		Own    bool   `json:"the-estates-own"`
	}
	mask := func(s right.Set) string {
		if s == 0 {
			return ""
		}
		return fmt.Sprintf("0x%x", uint32(s))
	}
	all := []level{}
	for _, l := range list {
		all = append(all, level{l.Name, mask(l.Folder), mask(l.File), l.About, !right.IsBuiltin(l.Name)})
	}
	return report.Rows(p, all, []string{"level", "on a folder", "on a file", "what it is for", "note"}, func(i int) []string {
		l := all[i]
		note, file := "", l.File
		if l.Own {
			note = "the estate's own"
		}
		if file == "" {
			file = "–"
		}
		return []string{l.Level, l.Folder, file, l.About, note}
	}, len(all))
}

// Level prints a level right by right.
func Level(p *doc.Printer, l right.Level) error {
	type one struct {
		Right  string `json:"right"`
		Folder bool   `json:"folder"`
		File   bool   `json:"file"`
		About  string `json:"allows"`
	}
	rights := []one{}
	for i := range right.Count {
		r := right.At(i)
		if l.Folder&r == 0 && l.File&r == 0 {
			continue
		}
		name := r.Names(false)[0]
		if other := r.Names(true)[0]; other != name {
			name += ", " + other
		}
		rights = append(rights, one{name, l.Folder&r != 0, l.File&r != 0, right.Sentence(r)})
	}
	if l.About != "" {
		p.Line(doc.In(doc.Strong, l.Name), doc.S(": %s", l.About))
		p.Blank()
	}
	var v any = rights
	if p.Format == doc.JSON {
		v = struct {
			About  string `json:"about"`
			Level  string `json:"level"`
			Rights []one  `json:"rights"`
		}{l.About, l.Name, rights}
	}
	return report.Rows(p, v, []string{"right", "folder", "file", "what it allows"}, func(i int) []string {
		x := rights[i]
		return []string{x.Right, report.YesNo(x.Folder), report.YesNo(x.File), x.About}
	}, len(rights))
}

// Record is one change of the journal and what it altered.
type Record struct {
	estate.Change
	Edits []edit.Description `json:"edits"`
}

func recordNote(r estate.Change) string {
	var notes []string
	if r.Undoes != 0 {
		notes = append(notes, fmt.Sprintf("undoes %d", r.Undoes))
	}
	if r.UndoneBy != 0 {
		notes = append(notes, fmt.Sprintf("undone by %d", r.UndoneBy))
	}
	if r.Forced != "" {
		notes = append(notes, "forced: "+r.Forced)
	}
	return strings.Join(notes, "; ")
}

// mostLog is how many changes a table of the journal has.
const mostLog = 100

// Log prints the journal.
func Log(p *doc.Printer, list []estate.Change, all bool) error {
	if list == nil {
		list = []estate.Change{}
	}
	return p.Give(list, []string{"change", "at", "by", "what", "note"}, func() (out [][]string) {
		for _, r := range list {
			out = append(out, []string{fmt.Sprint(r.ID), r.At, r.Actor, r.Summary, recordNote(r)})
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.S("no change fits"))
			return
		}
		g := doc.Grid{Cols: []doc.Col{{Head: "change", Weight: 0}, {Head: "at (" + estate.Zone() + ")", Weight: 0}, {Head: "by", Weight: 1}, {Head: "what", Weight: 6}, {Head: "note", Weight: 2}}}
		shown := list
		if len(list) > mostLog && !all {
			shown = list[:mostLog]
		}
		for _, r := range shown {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(fmt.Sprint(r.ID)), doc.C(report.At(r.At)), doc.C(r.Actor), doc.C(r.Summary), doc.C(recordNote(r))})
		}
		p.Grid(g)
		if n := len(list) - len(shown); n > 0 {
			p.Line(doc.S("and %s before these; --all lists them, --since DAY those from a day on", report.Count(int64(n), "change")))
		}
	})
}

// WriteChange prints one change.
func WriteChange(p *doc.Printer, r *Record) error {
	return p.Give(r, []string{"kind", "where", "sign", "what", "items"}, func() (out [][]string) {
		for _, e := range r.Edits {
			for _, l := range e.Lines {
				out = append(out, []string{e.Kind, e.Where, string(l.Sign), lineText(l), fmt.Sprint(e.Items)})
			}
		}
		return out
	}, func() {
		p.Line(doc.In(doc.Strong, fmt.Sprintf("change %d", r.ID)), doc.S(" by %s at %s (%s)", r.Actor, report.At(r.At), estate.Zone()))
		p.Line(doc.S("  %s", r.Command))
		p.Line(doc.S("  %s", r.Summary))
		if note := recordNote(r.Change); note != "" {
			p.Line(doc.S("  %s", note))
		}
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 3}, {Head: "", Weight: 0}, {Head: "what", Weight: 4}, {Head: "items", Weight: 0}}}
		for _, e := range r.Edits {
			where, items := report.Alike(e.Where, e.Items), ""
			if e.Items > 0 {
				items = fmt.Sprint(e.Items)
			}
			for _, l := range e.Lines {
				g.Rows = append(g.Rows, []doc.Cell{doc.C(where), sign(l.Sign), doc.C(lineText(l)), doc.C(items)})
				where, items = "", ""
			}
		}
		p.Grid(g)
	})
}

// proof is the journal's newest proof.
type proof struct {
	Change int64  `json:"change"`
	Proof  string `json:"proof"`
}

// Proof prints the journal's newest proof.
func Proof(p *doc.Printer, x estate.Proof) error {
	return p.Give(proof{x.Change, x.Hash}, []string{"change", "proof"}, func() [][]string {
		return [][]string{{fmt.Sprint(x.Change), x.Hash}}
	}, func() {
		p.Line(doc.S("change %d  %s", x.Change, x.Hash))
	})
}

// Faults prints what is wrong in an estate.
func Faults(p *doc.Printer, path string, list []estate.Fault) error {
	if list == nil {
		list = []estate.Fault{}
	}
	left := 0
	for _, f := range list {
		if !f.Repaired {
			left++
		}
	}
	return p.Give(list, []string{"what", "do", "repaired"}, func() (out [][]string) {
		for _, f := range list {
			out = append(out, []string{f.What, f.Do, report.YesNo(f.Repaired)})
		}
		return out
	}, func() {
		if len(list) == 0 {
			p.Line(doc.S("%s is whole: nothing is wrong.", path))
			return
		}
		for _, f := range list {
			if f.Repaired {
				p.Line(doc.In(doc.Good, "Repaired:"), doc.S(" %s.", f.What))
			}
		}
		if left == 0 {
			p.Line(doc.S("%s is whole: nothing is wrong any more.", path))
			return
		}
		p.Line(doc.In(doc.Bad, report.Count(int64(left), "fault")), doc.S(" in %s", path))
		for _, f := range list {
			if !f.Repaired {
				p.Line(doc.S("  %s: %s", f.What, f.Do))
			}
		}
	})
}
