package report

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/ask/findings"
	"tarnwold/internal/format"
	"tarnwold/internal/report/doc"
)

// findingWords says of each kind of finding what it is, and why it matters.
var findingWords = map[string]struct{ head, why string }{
	"rules-absent":         {"Rules absent", "Absent rules are open to everyone, wholly, though they look like empty ones, which are closed."},
	"open-to-everyone":     {"Open to everyone", "Whoever can sign on gets in, guests and test accounts too, and no list says who that is."},
	"nobody-in-charge":     {"Nobody in charge", "Nobody can change the rules, so a mistake in them can't be corrected from a client."},
	"nobody-owns":          {"Owned by nobody", "The owner's identifier belongs to nobody; whoever is given it next owns all of this and can change its rules."},
	"owner-left":           {"Owned by somebody who has left", "An owner may always read and change the rules, and nobody looks after what a person who has left owns."},
	"group-unknown":        {"An owning group nobody knows", "Its number belongs to no group; whoever's group is given it next has what the group's bits give."},
	"home-open":            {"Homes that others read", "The mode lets people in whom the home's owner never named."},
	"home-of-nobody":       {"Homes of nobody", "It stands among homes and no user is called so: a person has left, or was renamed, and their files are still here."},
	"runs-as-root":         {"Programs that run as root", "Whoever starts one does so as the one who passes all rules; such programs belong to the system, not to a share."},
	"administrators-alone": {"Open to administrators alone", "Nobody else opens it, though people open the folder it is in: access was lost, or was never given."},
	"stranger-in-home":     {"Strangers in homes", "Somebody else is named in a user's home: they see what its owner takes for their own."},
	"opens-further":        {"Open to more than the folder above", "Whoever keeps something confidential goes by the folder it is in; what is open to more there is missed."},
	"runs-as-others":       {"Programs that run as others", "Whoever may write one decides what is done as its owner or group when anybody starts it."},
	"passes-by-privilege":  {"Passing rules by a privilege", "Neither a share's limits nor an owner's rules stop them, and no folder's list shows who they are."},
	"not-counted":          {"What no answer counts", "It changes who may do what there, and answers say so; check it on the server."},
	"otherwise-there":      {"Different on the server", "A scan or a proof saw it: the server does something other than the answers here say."},
	"stale":                {"Stale inheritance", "Its inherited entries are not those the folder above hands down: it was moved here, and keeps its old access."},
	"out-of-order":         {"Out of order", "The first entry that fits decides, and other programs sort entries when they save them: access changes then."},
	"dead-identifier":      {"Dead identifiers", "No account has them any more; they open nothing, and hide what does."},
	"mail-group":           {"Mail groups in rules", "A mail group carries no access, though whoever set the entry believes it does."},
	"single-user":          {"Entries for single users", "They outlast the person's job, and nobody finds them when it changes; a group is cleaned up in one place."},
	"idle-entry":           {"Entries that change nothing", "Another entry grants or denies the same already; whoever removes that one believes the access is gone."},
	"idle-deny":            {"Deny entries that deny nobody", "They take nothing from anybody, and surprise the first person who is let in later."},
	"out-of-sight":         {"Open but out of sight", "Whoever knows the path can open it, but it can't be reached by browsing: people ask the helpdesk, or give up."},
	"share-too-wide":       {"Shares wider than needed", "The share lets through more than anybody can use below it, so it doesn't catch a mistake in the rules there."},
	"share-too-narrow":     {"Shares narrower than needed", "The rules below grant what the share lets nobody use: it looks granted and never works."},
	"last-day-over":        {"Past their last day", "It was to end, and still grants something until tarnwold expire takes it away."},
	"account-ends":         {"Accounts that end soon", "What they own and what names them is easier handed on while they can be asked."},
	"never-reviewed":       {"Kept, and never reviewed", "Others were: here nobody has confirmed yet that what is set, or who is in it, is still right."},
	"group-in-circle":      {"Groups in a circle", "Everybody in one is in all of them, and servers differ in how far they follow."},
	"empty-group":          {"Empty groups", "Nobody is in them; an entry for one opens nothing, until somebody puts a person there for another reason."},
	"unused-group":         {"Groups that nothing names", "Being in one grants nothing: people are added in vain, or it is a leftover."},
	"twin-groups":          {"Groups with the same members", "Two lists to keep for one set of people; sooner or later they differ by mistake."},
	"unused-level":         {"Levels nobody uses", "No entry has exactly their rights; without them there is less to choose from."},
}

// mostOfKind is how many findings of a kind a table has.
const mostOfKind = 12

// Findings is what was found, and what was passed over.
type Findings struct {
	List   []findings.Finding
	Meant  int
	Unused []string
	Since  string // only what is new since then
	All    bool
	Of     int  // how many there are, where the list is cut to the top ones; else 0
	Tried  bool // the mends that are shown were tried
	ofKind map[string]int
}

// Top cuts the list to the n most telling: of each of the gravest kinds the one that
// touches the most, then the next of each.
func (x *Findings) Top(n int) {
	x.Of, x.ofKind = len(x.List), map[string]int{}
	order, of := make([]int, len(x.List)), make([]int, len(x.List)) // which of its kind each is
	for i := range x.List {
		x.ofKind[x.List[i].Kind]++
		if order[i] = i; i > 0 && x.List[i-1].Kind == x.List[i].Kind {
			of[i] = of[i-1] + 1
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return of[a] - of[b] })
	order = order[:min(n, len(order))]
	slices.Sort(order)
	list := make([]findings.Finding, len(order))
	for i, at := range order {
		list[i] = x.List[at]
	}
	x.List = list
}

// Shown calls fn with each finding that a table shows, or all of them.
func (x *Findings) Shown(all bool, fn func(f *findings.Finding) error) error {
	n := 0
	for i := range x.List {
		if n++; i > 0 && x.List[i-1].Kind != x.List[i].Kind {
			n = 1
		}
		if n > mostOfKind && !all {
			continue
		}
		if err := fn(&x.List[i]); err != nil {
			return err
		}
	}
	return nil
}

func findingHeads(tried bool) []string {
	heads := []string{"kind", "where", "more places", "account", "what", "other", "items", "users", "mend", "server", "keepers"}
	if tried {
		heads = append(heads, "effect")
	}
	return heads
}

// TrialText says what a mend was seen to do.
func TrialText(t *findings.Trial) string {
	var parts []string
	switch {
	case t == nil:
		return ""
	case !t.Done:
		return "not tried: " + t.Why
	case len(t.Gains)+len(t.Loses) == 0:
		return "nobody's access changes"
	}
	for _, x := range []struct {
		who  []string
		what [2]string
	}{{t.Gains, [2]string{"gains", "gain"}}, {t.Loses, [2]string{"loses", "lose"}}} {
		if n := len(x.who); n > 0 {
			parts = append(parts, Some(x.who, 3)+" "+x.what[min(n-1, 1)])
		}
	}
	return strings.Join(parts, "; ")
}

// Head counts the findings, in words.
func (x *Findings) Head() string {
	new := ""
	if x.Since != "" {
		new = " new since " + x.Since
	}
	if len(x.List) == 0 {
		return "Nothing was found" + new + "."
	}
	if x.Of > len(x.List) {
		return "The " + map[bool]string{true: "", false: fmt.Sprint(len(x.List), " ")}[len(x.List) == 1] + "most telling of " + Count(int64(x.Of), "finding") + new
	}
	return Count(int64(len(x.List)), "finding") + new
}

// WriteFindings prints what is probably wrong.
func WriteFindings(p *doc.Printer, x *Findings) error {
	if p.Format == doc.JUnit {
		return p.JunitCases("findings", findingCases(x.List))
	}
	type found struct {
		Exceptional[findings.Finding]
		Since string `json:"since,omitempty"`
		Of    int    `json:"of,omitempty"` // how many there are in all, where only the top ones are listed
	}
	return p.Outlined(func() *doc.Outline { return findingsOutline(x) }).Give(found{Exceptional[findings.Finding]{x.List, x.Meant, x.Unused}, x.Since, x.Of},
		findingHeads(x.Tried), func() (out [][]string) {
			for i := range x.List {
				f := &x.List[i]
				out = append(out, []string{f.Kind, f.Where, fmt.Sprint(f.More), f.Who, f.What, f.Other, fmt.Sprint(f.Items), fmt.Sprint(f.Users), CommandText(f.Commands), f.Server, strings.Join(f.Keepers, ", ")})
				if x.Tried {
					out[i] = append(out[i], TrialText(f.Tried))
				}
			}
			return out
		}, func() {
			style := doc.Good
			if len(x.List) > 0 {
				style = doc.Bad
			}
			p.Line(doc.In(style, x.Head()))
			for from := 0; from < len(x.List); {
				to := from
				for to < len(x.List) && x.List[to].Kind == x.List[from].Kind {
					to++
				}
				findingsOf(p, x, x.List[from:to])
				from = to
			}
			if x.Meant > 0 || len(x.Unused) > 0 {
				p.Blank()
				Exceptions(p, x.Meant, x.Unused)
			}
		})
}

// OfKind counts the findings of a kind.
type OfKind struct {
	Kind     string `json:"kind"`
	What     string `json:"what"`
	Findings int    `json:"findings"`
	Items    int64  `json:"items"`      // all that they touch
	Users    int    `json:"most-users"` // that one of them touches
}

// FindingsSummary prints a line for each kind of finding, for a first look.
func FindingsSummary(p *doc.Printer, x *Findings) error {
	list := []OfKind{}
	for i := range x.List {
		f := &x.List[i]
		if n := len(list); n == 0 || list[n-1].Kind != f.Kind {
			list = append(list, OfKind{Kind: f.Kind, What: findingWords[f.Kind].head})
		}
		k := &list[len(list)-1]
		k.Findings++
		k.Items += f.Items
		k.Users = max(k.Users, f.Users)
	}
	rows := func() (out [][]string) {
		for _, k := range list {
			out = append(out, []string{k.What, k.Kind, fmt.Sprint(k.Findings), fmt.Sprint(k.Items), fmt.Sprint(k.Users)})
		}
		return out
	}
	heads := []string{"what", "kind", "findings", "items", "most users"}
	return p.Give(list, heads, rows, func() {
		p.Line(doc.S("%s", x.Head()))
		if len(list) == 0 {
			return
		}
		p.Blank()
		g := doc.Grid{Cols: []doc.Col{{Head: "what", Weight: 4}, {Head: "kind", Weight: 3}, {Head: "findings", Weight: 0}, {Head: "touches", Weight: 2}}}
		for _, k := range list {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(k.What), doc.CI(doc.Faint, k.Kind), doc.C(format.Number(int64(k.Findings))), doc.C(Touches(&findings.Finding{Items: k.Items}))})
		}
		p.Grid(g)
		p.Line(doc.S("One kind by itself: tarnwold findings --kind %s", list[0].Kind))
	})
}

func CommandText(list [][]string) string {
	var out []string
	for _, c := range list {
		out = append(out, Command(c))
	}
	return strings.Join(out, " && ")
}

// commandCell has a command a line.
func commandCell(list [][]string) (out doc.Cell) {
	for _, c := range list {
		out = append(out, doc.Span{Text: Command(c)})
	}
	return out
}

func findingsOf(p *doc.Printer, x *Findings, list []findings.Finding) {
	all, tried := x.All, x.Tried
	w := findingWords[list[0].Kind]
	p.Blank()
	count := fmt.Sprint(len(list))
	if n := x.ofKind[list[0].Kind]; n > len(list) {
		count = fmt.Sprintf("%d of %d", len(list), n)
	}
	p.Line(doc.In(doc.Strong, w.head), doc.S(" (%s): %s", list[0].Kind, count))
	p.Line(doc.In(doc.Faint, w.why))
	g := doc.Grid{Cols: []doc.Col{{Head: "where", Weight: 4}, {Head: "what", Weight: 4}, {Head: "touches", Weight: 2}, {Head: "mended by", Weight: 6}}}
	if tried {
		g.Cols = append(g.Cols, doc.Col{Head: "effect", Weight: 3})
	}
	for i := range list {
		if i == mostOfKind && !all {
			break
		}
		f := &list[i]
		row := []doc.Cell{doc.C(Alike(f.Where, f.More+1)), doc.C(FindingText(f)), doc.C(Touches(f)), commandCell(f.Commands)}
		if tried {
			row = append(row, doc.C(TrialText(f.Tried)))
		}
		g.Rows = append(g.Rows, row)
	}
	p.Grid(g)
	if n := len(list) - mostOfKind; n > 0 && !all {
		p.Line(doc.S("and %d more; --all shows them, as --format csv does", n))
	}
}

// FindingText says what is found, beside where.
func FindingText(f *findings.Finding) string {
	switch f.Kind {
	case "dead-identifier":
		if strings.HasPrefix(f.What, "allow") || strings.HasPrefix(f.What, "deny") {
			return f.What
		}
		return f.Who + " in " + f.What
	case "group-unknown":
		return "group " + f.Who
	case "home-open":
		return "home of " + f.Who
	case "runs-as-root":
		return "runs as " + f.Who
	case "nobody-owns", "owner-left", "home-of-nobody":
		return strings.TrimSpace("owner " + f.Who)
	case "single-user":
		if f.Other != "" {
			return f.What + "; " + f.Other + " holds the same"
		}
		return f.What
	case "runs-as-others":
		return "runs as " + f.What + ", and others may write it"
	case "stranger-in-home":
		return f.What + ", in the home of " + f.Other
	case "idle-entry":
		return f.What + "; because of " + f.Other
	case "share-too-wide":
		return "lets through " + f.What
	case "share-too-narrow":
		s := "lets nobody use " + f.What
		if f.Other != "" {
			s += "; " + f.Other
		}
		return s
	case "twin-groups":
		return "and " + f.Other
	case "last-day-over":
		return strings.TrimSpace(f.Who + " " + f.What)
	}
	return f.What
}

func Touches(f *findings.Finding) string {
	var out []string
	if f.Items > 0 {
		out = append(out, Count(f.Items, "item"))
	}
	if f.Users > 0 {
		out = append(out, Count(int64(f.Users), "user"))
	}
	return strings.Join(out, ", ")
}

func findingCases(list []findings.Finding) (out []doc.CheckCase) {
	for i := range list {
		f := &list[i]
		out = append(out, doc.CheckCase{Name: strings.TrimSpace(f.Kind + ": " + Alike(f.Where, f.More+1) + " " + FindingText(f)), Fault: findingWords[f.Kind].why + " Mended by: " + CommandText(f.Commands)})
	}
	return out
}

// Unmended prints the findings that a plan of mends leaves.
func Unmended(p *doc.Printer, list []findings.Finding) {
	if len(list) == 0 || p.Format != doc.Table {
		return
	}
	p.Blank()
	p.Line(doc.In(doc.Strong, Count(int64(len(list)), "finding")), doc.S(" more, whose mends change somebody's access, or that somebody has to choose for. Look at each first, with --dry-run:"))
	g := doc.Grid{Cols: []doc.Col{{Head: "kind", Weight: 0}, {Head: "where", Weight: 4}, {Head: "mended by", Weight: 6}}}
	for i := range list {
		if i == MostEdits {
			break
		}
		g.Rows = append(g.Rows, []doc.Cell{doc.C(list[i].Kind), doc.C(Alike(list[i].Where, list[i].More+1)), commandCell(list[i].Commands)})
	}
	p.Grid(g)
	if n := len(list) - MostEdits; n > 0 {
		p.Line(doc.S("and %d more", n))
	}
}

// findingsOutline is findings as a page shows them.
func findingsOutline(x *Findings) *doc.Outline {
	o := &doc.Outline{Title: "What is probably wrong", Heads: []string{"where", "what", "touches", "mended by"}, Picks: []string{"Kind", "Server", "Keeper"}}
	o.Intro = append(o.Intro, Count(int64(len(x.List)), "finding")+".")
	if x.Since != "" {
		o.Intro = append(o.Intro, "Only what is new since "+x.Since+".")
	}
	if x.Meant > 0 {
		o.Intro = append(o.Intro, isAre(x.Meant)+" meant so and passed over.")
	}
	for i := range x.List {
		f := &x.List[i]
		o.People = append(append(o.People, f.Who), f.Keepers...)
		if i == 0 || x.List[i-1].Kind != f.Kind {
			w := findingWords[f.Kind]
			n := 0
			for _, o := range x.List {
				if o.Kind == f.Kind {
					n++
				}
			}
			o.Rows = append(o.Rows, doc.OutlineRow{Name: w.head, Cells: []string{w.why, Count(int64(n), "finding") + " in all", ""}, Group: true})
		}
		o.Rows = append(o.Rows, doc.OutlineRow{Depth: 1, Name: Alike(f.Where, f.More+1), Cells: []string{FindingText(f), Touches(f), CommandText(f.Commands)},
			Under: [][]string{{findingWords[f.Kind].head}, orNone(f.Server), orNone(f.Keepers...)}})
	}
	return o
}

// orNone puts what belongs to nobody in particular under a name too.
func orNone(names ...string) []string {
	if len(names) == 0 || names[0] == "" {
		return []string{"none"}
	}
	return names
}

type Exceptional[T any] struct {
	Found  []T      `json:"found"`
	Meant  int      `json:"meant-so"`
	Unused []string `json:"exceptions-unused"`
}

// Exceptions says how many were passed over, and which exceptions fit nothing.
func Exceptions(p *doc.Printer, meant int, unused []string) {
	if meant > 0 {
		p.Line(doc.S("%s meant so and passed over.", isAre(meant)))
	}
	for i, u := range unused {
		if i == 8 {
			p.Line(doc.S("and %d more exceptions that match nothing", len(unused)-i))
			break
		}
		p.Line(doc.In(doc.Faint, "Matches nothing, or has ended: "), doc.S("%s", u))
	}
}

// FindingHead says what a kind of finding is.
func FindingHead(kind string) string { return findingWords[kind].head }
