package cli

import (
	"fmt"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/change"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

// placesCommand makes a command that edits the places it is given.
func (a *app) placesCommand(c *cobra.Command, verb string, check func() error, nothing string, renew bool, edit func(t *estate.Tx, place estate.Place) change.Edit) *cobra.Command {
	var k keeping
	var f targets
	k.flags(c)
	f.flags(c, a)
	c.Args = f.enough(0)
	c.ValidArgsFunction = a.completePlaces
	c.RunE = func(c *cobra.Command, args []string) error {
		if check != nil {
			if err := check(); err != nil {
				return err
			}
		}
		return a.propose(c.Context(), k, func(t *estate.Tx) (*proposal, error) {
			places, err := f.find(t, args)
			if err != nil {
				return nil, err
			}
			p, err := over(t, places)
			if err != nil {
				return nil, err
			}
			p.forest.Renew, p.renews = renew, renew
			for i, n := range p.nodes {
				p.forest.Edits[n] = edit(t, p.places[i])
			}
			p.summary, p.nothing = verb+" "+f.places(args), nothing
			return p, p.forest.Work()
		})
	}
	return c
}

func (a *app) sealCommand() *cobra.Command {
	var keep, clear bool
	c := &cobra.Command{
		Use:   "seal WHERE…",
		Short: "Let an item take no entries from above any more",
		Long: `Seal an item: it takes no entries from above any more. --keep turns those it has
from above into its own, so that nobody's access changes; --clear drops them.`,
		Example: `  tarnwold seal //stagedoor/productions/Archive --keep
  tarnwold seal "//stagedoor/productions/Box Office/Ledgers" --clear --dry-run`,
	}
	c.Flags().BoolVar(&keep, "keep", false, "keep what comes from above, as own entries")
	c.Flags().BoolVar(&clear, "clear", false, "drop what comes from above")
	check := func() error {
		if keep == clear {
			return misused("say --keep or --clear: what becomes of the entries from above?")
		}
		return nil
	}
	return a.placesCommand(c, "seal", check, "it is sealed already", false, func(*estate.Tx, estate.Place) change.Edit {
		return func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) { return d.Seal(keep), nil }
	})
}

func (a *app) unsealCommand() *cobra.Command {
	var clear bool
	c := &cobra.Command{
		Use:   "unseal WHERE…",
		Short: "Let an item take entries from above again",
		Long: `Unseal an item: it takes entries from above again, behind its own, and everything
below it is renewed to match. --clear-own drops its own entries.`,
		Example: `  tarnwold unseal //stagedoor/productions/Casting --dry-run
  tarnwold unseal //stagedoor/productions/Casting --clear-own --dry-run`,
	}
	c.Flags().BoolVar(&clear, "clear-own", false, "drop the item's own entries")
	return a.placesCommand(c, "unseal", nil, "it is not sealed", true, func(_ *estate.Tx, place estate.Place) change.Edit {
		return func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			if parent == nil {
				return nil, &estate.Refused{Why: fmt.Sprintf("%s is the top of its tree: nothing is known above it", place)}
			}
			if !d.Sealed() && !clear {
				return d, nil
			}
			return d.Unseal(parent, folder, clear), nil
		}
	})
}

func (a *app) reflowCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "reflow WHERE…",
		Short: "Make an item and everything below match what is handed down",
		Long: `Renew the inherited entries of an item and everything below it, and report what
was stale: entries a server left behind when an item was moved or its owner
changed. Own entries and sealed items stay as they are.`,
		Example: "  tarnwold reflow //stagedoor/productions/Wardrobe",
	}
	return a.placesCommand(c, "reflow", nil, "nothing there is stale", true, func(*estate.Tx, estate.Place) change.Edit {
		return func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			if parent == nil {
				return d, nil
			}
			return d.Renewed(parent, folder), nil
		}
	})
}

// difference is one place that is not as its folder would have it.
type difference struct {
	Where string   `json:"where"`
	Kind  string   `json:"kind"`
	Why   []string `json:"why"`
	parts []string
}

func (a *app) differsCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "differs WHERE",
		Short: "Find every place below that differs from its folder",
		Long: `Find every place at or below a folder that is sealed, has entries of its own, is
stale (its inherited entries are not those its folder hands down now), or has
another owner than its folder.`,
		Example: `  tarnwold differs //stagedoor/productions
  tarnwold differs stagedoor:/srv/playhouse --format csv`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				place, err := t.Find(args[0])
				if err != nil {
					return err
				}
				limit := 200
				if all || a.format != report.Table {
					limit = 1 << 40
				}
				list, more := differences(t, place, limit)
				if t.Err() != nil {
					return t.Err()
				}
				return a.printDifferences(place, list, more)
			})
		},
	}
	c.Flags().BoolVar(&all, "all", false, "list every place, however many")
	return c
}

// differences lists what differs at or below a place, in order of the paths,
// and how many more there are beyond the limit.
func differences(t *estate.Tx, place estate.Place, limit int) (list []difference, more int64) {
	f := t.Below(place.Strand)
	lang := language(t)
	for i := range f.Nodes {
		n := &f.Nodes[i]
		d, parent := n.Before, f.Over(i)
		if n.Parent >= 0 {
			parent = f.Nodes[n.Parent].Before
		}
		why := whyDiffers(t, lang, d, parent, n.Folder)
		if len(why) == 0 {
			continue
		}
		for k, item := range t.Items(f.Strands[i], int(min(n.Items, int64(limit)))) {
			p := t.Place(item)
			if !estate.Under(p.Path, place.Path) {
				continue // of the same strand, elsewhere
			}
			if len(list) >= limit {
				more += n.Items - int64(k)
				break
			}
			rest := strings.TrimPrefix(strings.TrimPrefix(p.Path, place.Path), "/")
			var parts []string
			if rest != "" {
				parts = strings.Split(rest, "/")
			}
			list = append(list, difference{Where: p.String(), Kind: kindOf(p.Folder), Why: why, parts: parts})
		}
	}
	sort.Slice(list, func(i, j int) bool {
		a, b := list[i].parts, list[j].parts
		for k := 0; k < len(a) && k < len(b); k++ {
			if a[k] != b[k] {
				return a[k] < b[k]
			}
		}
		return len(a) < len(b)
	})
	return list, more
}

func whyDiffers(t *estate.Tx, lang rule.Language, d, parent *rule.Descriptor, folder bool) (why []string) {
	switch {
	case d.Rules.Absent:
		why = append(why, "rules absent: open to everyone")
	case d.Sealed() && len(d.Rules.Entries) == 0:
		why = append(why, "sealed, rules empty: closed to everyone")
	case d.Sealed():
		why = append(why, "sealed")
	}
	for _, e := range append(d.Rules.Own(), d.Audit.Own()...) {
		why = append(why, lang.Write(e, folder))
	}
	if parent == nil {
		return why
	}
	if d.Stale(parent, folder) {
		why = append(why, "stale"+whyStale(t, d, parent, folder))
	}
	if d.Owner != parent.Owner {
		why = append(why, "owner "+t.Name(d.Owner))
	}
	return why
}

// whyStale says what would have had to be otherwise for the entries to fit.
func whyStale(t *estate.Tx, d, parent *rule.Descriptor, folder bool) string {
	for _, e := range d.Rules.FromAbove() {
		if e.Who != d.Owner && !d.OwnedBy(e.Who).Stale(parent, folder) {
			return ": the owner changed afterwards, from " + t.Name(e.Who)
		}
	}
	return ": moved here, or the folder changed without handing down"
}

func (a *app) printDifferences(place estate.Place, list []difference, more int64) error {
	p := a.printer()
	switch p.Format {
	case report.JSON:
		return p.Value(append([]difference{}, list...))
	case report.CSV:
		g := report.Grid{Heads: []string{"where", "kind", "why"}}
		for _, d := range list {
			g.Rows = append(g.Rows, []string{d.Where, d.Kind, strings.Join(d.Why, "; ")})
		}
		return p.Grid(g)
	}
	if len(list) == 0 {
		p.Line("Nothing at or below %s differs from its folder.", place)
		return nil
	}
	p.Line("%s", report.Strong(place.String()))
	g := report.Grid{Heads: []string{"place", "differs by"}, Wrap: map[string]int{"differs by": 72}}
	var at []string
	for _, d := range list {
		same := 0
		for same < len(at) && same < len(d.parts)-1 && at[same] == d.parts[same] {
			same++
		}
		for ; same < len(d.parts)-1; same++ {
			g.Rows = append(g.Rows, []string{strings.Repeat("   ", same+1) + report.Faint(d.parts[same]+"/"), ""})
		}
		name := "(the folder itself)"
		if len(d.parts) > 0 {
			name = d.parts[len(d.parts)-1]
			if d.Kind == "folder" {
				name += "/"
			}
		}
		why := make([]string, len(d.Why))
		for i, w := range d.Why {
			switch {
			case strings.HasPrefix(w, "stale"), strings.HasPrefix(w, "deny "), strings.HasPrefix(w, "rules absent"):
				w = report.Bad(w)
			case strings.HasPrefix(w, "sealed"):
				w = report.Strong(w)
			}
			why[i] = w
		}
		g.Rows = append(g.Rows, []string{strings.Repeat("   ", len(d.parts)) + name, strings.Join(why, "\n")})
		at = d.parts
	}
	if err := p.Grid(g); err != nil {
		return err
	}
	if more > 0 {
		p.Line("and %s more; --all lists them", report.Count(more, "place"))
	}
	return nil
}
