package changes

import (
	"fmt"
	"strings"
	"tarnwold/internal/estate/edit"

	"tarnwold/internal/ask/findings"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

// Night is what one night's look at everything found.
type Night struct {
	Day      string          `json:"day"`
	At       string          `json:"at"` // RFC 3339, UTC
	Estate   string          `json:"estate"`
	Since    string          `json:"since,omitempty"` // the night it is compared with
	Sections []*NightSection `json:"sections"`
	Page     string          `json:"page,omitempty"`
}

// NightSection is one thing that is looked at.
type NightSection struct {
	Name  string      `json:"name"`
	Title string      `json:"title"`
	Items []NightItem `json:"items"`
	Fine  []string    `json:"fine,omitempty"` // what is as it should be, in a few words
	Gone  []string    `json:"gone,omitempty"` // what was there the night before, and is no more
}

// NightItem is one thing to look at.
type NightItem struct {
	Key     string `json:"key"`
	Where   string `json:"where"`
	Text    string `json:"text"`
	Mended  string `json:"mended-by,omitempty"`
	New     bool   `json:"new,omitempty"`     // not there the night before
	Trouble bool   `json:"trouble,omitempty"` // it could not be done
}

// Section begins a section.
func (n *Night) Section(name, title string) *NightSection {
	s := &NightSection{Name: name, Title: title, Items: []NightItem{}}
	n.Sections = append(n.Sections, s)
	return s
}

// Add adds a thing to look at. key tells it from others, night after night.
func (s *NightSection) Add(key, where, text string, trouble bool) {
	s.Items = append(s.Items, NightItem{Key: key, Where: where, Text: text, Trouble: trouble})
}

// Meant says how many were passed over by an exception.
func (s *NightSection) Meant(n int) {
	if n > 0 {
		s.Fine = append(s.Fine, fmt.Sprintf("%d meant so", n))
	}
}

// AddFinding adds a finding.
func (s *NightSection) AddFinding(key string, f *findings.Finding) {
	text := report.FindingHead(f.Kind)
	if more := report.FindingText(f); more != "" {
		text += ": " + more
	}
	if t := report.Touches(f); t != "" {
		text += " (" + t + ")"
	}
	s.Items = append(s.Items, NightItem{Key: key, Where: report.Alike(f.Where, f.More+1), Text: text, Mended: report.CommandText(f.Commands)})
}

// AddTaken adds each thing a change took in that somebody did elsewhere: what
// it was, who gains and loses by all of it, and what takes it back; of items that
// merely came and went it gives how many. An undone is the change it was kept
// as, 0 where nothing was.
func (s *NightSection) AddTaken(from string, p *plan.Plan, undo int64) (came int64) {
	for i := range p.Edits {
		e := &p.Edits[i]
		if e.Kind == "item" && len(e.Lines) > 0 && (e.Lines[0].What == "folder" || e.Lines[0].What == "file") {
			came += max(1, e.Items)
			continue
		}
		var says []string
		for _, l := range e.Lines {
			says = append(says, lineText(l)+" "+string(l.Sign))
		}
		text := strings.Join(says, ", ")
		var moved []string
		for _, x := range p.Impact {
			moved = append(moved, ShiftText(&x))
			if len(moved) == 4 && len(p.Impact) > 5 {
				moved = append(moved, fmt.Sprintf("%d more", len(p.Impact)-4))
				break
			}
		}
		if len(moved) > 0 {
			text += "; by all that was taken in with it: " + strings.Join(moved, ", ")
		}
		back := ""
		if undo != 0 {
			back = fmt.Sprintf("tarnwold undo %d", undo)
		}
		s.Items = append(s.Items, NightItem{Key: from + e.Where + text, Where: report.Alike(e.Where, e.Items), Text: text, Mended: back})
	}
	for _, w := range p.Warnings {
		s.Add(from+w.Guard+w.Where, from, WarningText(w), false)
	}
	return came
}

// ShiftText says who gains or loses what.
func ShiftText(x *plan.Shift) string {
	verb := map[string]string{"gain": "gains", "lose": "loses", "change": "has other rights"}[x.Kind]
	if len(x.Users) != 1 {
		verb = map[string]string{"gain": "gain", "lose": "lose", "change": "have other rights"}[x.Kind]
	}
	return fmt.Sprintf("%s %s (%s → %s)", report.Some(x.Users, 3), verb, x.Was, x.Is)
}

// offWords say of what a policy wants what is otherwise.
var offWords = map[edit.Sign]string{edit.Goes: "is gone", edit.Comes: "is there too", edit.Changes: "differs"}

// Off says what is otherwise than a policy wants.
func Off(policy string, l *policies.PolicyOff) string {
	s := fmt.Sprintf("policy %s: %s %s", policy, lineText(l.Line), offWords[l.Line.Sign])
	if l.Change != 0 {
		s += fmt.Sprintf(", by change %d, %s", l.Change, l.By)
	}
	return s
}

// DutyText says which two keys somebody holds.
func DutyText(d *request.Duty) string {
	s := dutyKinds[d.Kind]
	if d.Group != "" {
		s += ": group " + d.Group
	}
	if d.Where != "" {
		s += ", " + d.Where
	}
	return s + " (" + strings.Join(d.By, "; ") + ")"
}

// Compare marks what is new since the night before; nil: there was none.
func (n *Night) Compare(last *Night) {
	if last == nil {
		return
	}
	n.Since = last.Day
	for _, s := range n.Sections {
		was := map[string]string{}
		for _, o := range last.Sections {
			if o.Name == s.Name {
				for _, x := range o.Items {
					was[x.Key] = x.Where + ": " + x.Text
				}
			}
		}
		for i := range s.Items {
			x := &s.Items[i]
			_, had := was[x.Key]
			x.New = !had
			delete(was, x.Key)
		}
		for _, o := range last.Sections {
			for _, x := range o.Items {
				if text, gone := was[x.Key]; gone && o.Name == s.Name {
					s.Gone = append(s.Gone, text)
				}
			}
		}
	}
}

// Left counts what is left to look at.
func (n *Night) Left() (c int) { return n.count(func(*NightItem) bool { return true }) }

// Trouble counts what could not be done.
func (n *Night) Trouble() int { return n.count(func(x *NightItem) bool { return x.Trouble }) }

func (n *Night) fresh() int { return n.count(func(x *NightItem) bool { return x.New }) }

func (n *Night) count(fit func(*NightItem) bool) (c int) {
	for _, s := range n.Sections {
		for i := range s.Items {
			if fit(&s.Items[i]) {
				c++
			}
		}
	}
	return c
}

func (s *NightSection) words() string {
	fresh, bad := 0, 0
	for i := range s.Items {
		if s.Items[i].New {
			fresh++
		}
		if s.Items[i].Trouble {
			bad++
		}
	}
	if len(s.Items) == 0 {
		return "fine"
	}
	out := fmt.Sprintf("%d to look at", len(s.Items))
	if bad > 0 {
		out += fmt.Sprintf(", %d could not be done", bad)
	}
	if fresh > 0 {
		out += fmt.Sprintf(", %d new", fresh)
	}
	if len(s.Gone) > 0 {
		out += fmt.Sprintf(", %d no more", len(s.Gone))
	}
	return out
}

// mostNew is how many new things a summary tells one by one.
const mostNew = 20

// WriteNight prints the short summary of a night.
func WriteNight(p *doc.Printer, n *Night) error {
	return p.Give(n, []string{"section", "where", "what", "new", "trouble", "mend"}, func() (out [][]string) {
		for _, s := range n.Sections {
			for _, x := range s.Items {
				out = append(out, []string{s.Name, x.Where, x.Text, report.YesNo(x.New), report.YesNo(x.Trouble), x.Mended})
			}
		}
		return out
	}, func() {
		head, style := "All is as it should be", doc.Good
		if left := n.Left(); left > 0 {
			head, style = report.Count(int64(left), "thing")+" to look at", doc.Bad
			if n.Since != "" {
				head += fmt.Sprintf(", %d new since %s", n.fresh(), n.Since)
			}
		}
		p.Line(doc.In(style, head), doc.S("; the whole is in %s", n.Page))
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "what", Weight: 3}, {Head: "state", Weight: 3}, {Head: "beside", Weight: 6}}}
		for _, s := range n.Sections {
			words := doc.C(s.words())
			if len(s.Items) > 0 {
				words = doc.CI(doc.Bad, s.words())
			}
			g.Rows = append(g.Rows, []doc.Cell{doc.C(s.Title), words, doc.C(strings.Join(s.Fine, "; "))})
		}
		p.Grid(g)
		if n.Since == "" || n.fresh() == 0 {
			return
		}
		p.Blank()
		p.Line(doc.In(doc.Strong, "New since "+n.Since))
		g = doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 4}, {Head: "what", Weight: 7}}}
		told := 0
		for _, s := range n.Sections {
			for _, x := range s.Items {
				if x.New && told < mostNew {
					told++
					g.Rows = append(g.Rows, []doc.Cell{doc.C(x.Where), doc.C(x.Text)})
				}
			}
		}
		p.Grid(g)
		if more := n.fresh() - told; more > 0 {
			p.Line(doc.S("and %d more", more))
		}
	})
}

// NightPage writes the whole of a night as a page.
func NightPage(p *doc.Printer, n *Night) error {
	o := &doc.Outline{Title: "The night of " + n.Day, Heads: []string{"where", "what", "state", "mended by"}}
	intro := "All is as it should be."
	if left := n.Left(); left > 0 {
		intro = report.Count(int64(left), "thing") + " to look at"
		if t := n.Trouble(); t > 0 {
			intro += fmt.Sprintf(", %d of them could not be done", t)
		}
		intro += "."
	}
	o.Intro = append(o.Intro, intro)
	if n.Since != "" {
		o.Intro = append(o.Intro, fmt.Sprintf("%d new since %s.", n.fresh(), n.Since))
	}
	o.Intro = append(o.Intro, "The estate "+n.Estate+", at "+report.At(n.At)+".")
	row := func(x *NightItem) doc.OutlineRow {
		mark := ""
		if x.New {
			mark = "new"
		}
		if x.Trouble {
			mark = strings.TrimSpace(mark + " not done")
		}
		return doc.OutlineRow{Depth: 1, Name: x.Where, Cells: []string{x.Text, mark, x.Mended}, Bad: x.Trouble}
	}
	if n.fresh() > 0 {
		o.Rows = append(o.Rows, doc.OutlineRow{Name: "New since " + n.Since, Cells: []string{report.Count(int64(n.fresh()), "thing"), "", ""}, Group: true})
		for _, s := range n.Sections {
			for i := range s.Items {
				if s.Items[i].New {
					o.Rows = append(o.Rows, row(&s.Items[i]))
				}
			}
		}
	}
	for _, s := range n.Sections {
		words := s.words()
		if len(s.Fine) > 0 {
			words += "; " + strings.Join(s.Fine, "; ")
		}
		o.Rows = append(o.Rows, doc.OutlineRow{Name: s.Title, Cells: []string{words, "", ""}, Group: true})
		for i := range s.Items {
			o.Rows = append(o.Rows, row(&s.Items[i]))
		}
		for _, g := range s.Gone {
			o.Rows = append(o.Rows, doc.OutlineRow{Depth: 1, Name: g, Cells: []string{"no more", "", ""}})
		}
	}
	return p.Page(o)
}
