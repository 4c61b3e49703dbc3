package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

// shown is what show answers, as JSON.
type shown struct {
	Where   string       `json:"where"`
	Item    string       `json:"item"`
	Kind    string       `json:"kind"`
	Owner   string       `json:"owner"`
	Group   string       `json:"group,omitempty"`
	Sealed  bool         `json:"sealed"`
	Rules   string       `json:"rules"` // absent, empty or present
	Entries []shownEntry `json:"entries"`
	Shares  []string     `json:"shares"`
}

type shownEntry struct {
	Entry string `json:"entry"`
	Own   bool   `json:"own"`
	From  string `json:"from"`
	Note  string `json:"note,omitempty"`
}

func (a *app) showCommand() *cobra.Command {
	var audit bool
	c := &cobra.Command{
		Use:   "show WHERE",
		Short: "Show an item's owner and rules, and where each entry comes from",
		Example: `  tarnwold show //stagedoor/productions/Wardrobe
  tarnwold show stagedoor:/srv/playhouse/Casting
  tarnwold show "//stagedoor/productions/Box Office/Ledgers" --audit`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				place, err := t.Find(args[0])
				if err != nil {
					return err
				}
				if audit {
					return a.printAudit(t, place)
				}
				return a.printItem(t, place)
			})
		},
	}
	c.Flags().BoolVar(&audit, "audit", false, "show the audit entries instead: what the server writes down")
	return c
}

func (a *app) printAudit(t *estate.Tx, place estate.Place) error {
	d := t.Of(place.Strand)
	p := a.printer()
	p.Line("%s, a %s", report.Strong(place.Via()), kindOf(place.Folder))
	if len(d.Audit.Entries) == 0 {
		p.Line("  no audit entries: nothing is written down")
	}
	g := report.Grid{Heads: []string{"#", "entry", "set on"}}
	for i, e := range d.Audit.Entries {
		from := "here"
		if !e.Own() {
			from = "above"
		}
		g.Rows = append(g.Rows, []string{fmt.Sprint(i + 1), language(t).Write(e, place.Folder), from})
	}
	return p.Grid(g)
}

func (a *app) printItem(t *estate.Tx, place estate.Place) error {
	d := t.Of(place.Strand)
	s := shown{Where: place.Via(), Item: place.String(), Kind: kindOf(place.Folder), Owner: t.Name(d.Owner), Sealed: d.Sealed(), Rules: "present", Entries: []shownEntry{}, Shares: []string{}}
	if !d.Group.IsZero() {
		s.Group = t.Name(d.Group)
	}
	switch {
	case d.Rules.Absent:
		s.Rules = "absent"
	case len(d.Rules.Entries) == 0:
		s.Rules = "empty"
	}
	lang, above, days := language(t), t.Above(place), t.Deadlines(place.Item, d)
	for _, e := range d.Rules.Entries {
		from, note := origin(place, above, e)
		if _, _, ok := e.Who.Domain(); ok || !account.Open(e.Who) {
			if k := known(t, e.Who); k == "unknown to the estate" || note == "" && len(k) > 10 {
				note = k
			}
		}
		text := lang.Write(e, place.Folder)
		if until := days[e]; until != "" {
			text += " until " + until
		}
		s.Entries = append(s.Entries, shownEntry{text, e.Own(), from, note})
	}
	for _, sh := range t.Through(place) {
		s.Shares = append(s.Shares, sh.Address(place.Server))
	}
	p := a.printer()
	if p.Format == report.JSON {
		return p.Value(s)
	}
	p.Line("%s, a %s", report.Strong(s.Where), s.Kind)
	if s.Where != s.Item {
		p.Line("  at the server: %s", s.Item)
	}
	p.Line("  owner %s, group %s", s.Owner, s.Group)
	switch {
	case s.Sealed:
		p.Line("  sealed: takes no entries from above")
	case len(place.Folders) > 1:
		p.Line("  takes entries from %s", place.Server.Name+":"+place.Folders[1])
	default:
		p.Line("  the top of its tree")
	}
	for _, sh := range s.Shares {
		p.Line("  reached through %s", sh)
	}
	ruleLine(p, &d.Rules, "it")
	if p.Format == report.Table {
		p.Line("")
	}
	g := report.Grid{Heads: []string{"#", "entry", "set on", "note"}, Wrap: map[string]int{"entry": 64, "note": 40}}
	for i, e := range s.Entries {
		if d.Rules.Entries[i].Kind.Refuses() {
			e.Entry = report.Bad(e.Entry)
		}
		g.Rows = append(g.Rows, []string{fmt.Sprint(i + 1), e.Entry, e.From, e.Note})
	}
	return p.Grid(g)
}

func kindOf(folder bool) string {
	if folder {
		return "folder"
	}
	return "file"
}

// origin says where an entry of a place is set.
func origin(place estate.Place, above []*rule.Descriptor, e rule.Entry) (from, note string) {
	if e.Own() {
		return "here", ""
	}
	at, _, ok := rule.Origin(e, place.Folder, above)
	if !ok {
		return "from above, nowhere now", "stale: no folder above hands it down"
	}
	return place.Server.Name + ":" + place.Folders[at+1], ""
}
