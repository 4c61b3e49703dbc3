package entry

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/plan"
)

// nothing is what a cell of a grid says where an account has no level.
const nothing = "nothing"

// Regridded is a grid that was given back, as a plan and what is to come of it.
type Regridded struct {
	Plan  *plan.Plan
	cells []regridCell
}

// regridCell is one cell that is to say something else.
type regridCell struct {
	*workbook.Changed
	at      estate.Place
	who     acc.Account
	now     string // what it says now, with its marks
	nothing bool
	what    right.What
}

// Regrid makes a plan of what was changed in a grid: in each cell the account's own allow
// entries there are replaced by one of the level that is written, or go where nothing is. A
// cell that says something else now than when the grid was written is refused.
func Regrid(d *plan.Planner, changed []workbook.Changed, from string) (*Regridded, error) {
	out := &Regridded{}
	for i := range changed {
		c, err := readCell(d, &changed[i])
		if err != nil {
			return nil, err
		}
		out.cells = append(out.cells, c)
	}
	if err := out.eachNow(d.K, func(c *regridCell, now census.GridCell) error {
		c.now = now.Text()
		if c.Was != "" && c.now != c.Was && !c.is(d.K, now.Level) {
			return c.Wrong("%s had %q at %s when the grid was written, and has %q now; write the grid again", c.Who, c.Was, c.Where, c.now)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	p := d.NewPlan("grid %s: %s changed", from, format.Count(int64(len(changed)), "cell"))
	p.Nothing = "each of those levels is so already"
	b := d.Bundle(p)
	edits := map[string]*plan.ItemEdit{}
	for i := range out.cells {
		c := &out.cells[i]
		if level, _ := unmarked(c.now); c.is(d.K, level) {
			continue
		}
		key := c.who.ID.String() + "\x00" + c.level()
		edit, ok := edits[key]
		if !ok {
			e := c.edit(d)
			edit = &e
			edits[key] = edit
		}
		b.Item(estate.Target{Item: c.at.Item, Strand: c.at.Strand, Folder: c.at.Folder}, edit)
	}
	if err := b.Done(); err != nil {
		return nil, err
	}
	p, err := d.Evaluate(p)
	out.Plan = p
	return out, err
}

// unmarked takes the marks off what a cell says.
func unmarked(text string) (level string, marked bool) {
	for _, m := range []string{" +-", " +", " -"} {
		if l, ok := strings.CutSuffix(text, m); ok {
			return strings.TrimSpace(l), true
		}
	}
	return text, false
}

// level is what the cell says, as a level is typed: of "read r-- + delete" on a POSIX tree
// the level alone.
func (c *regridCell) level() string {
	l, _ := unmarked(c.Is)
	if word, _, ok := bits(l); ok && word != "" {
		return word
	}
	return strings.ReplaceAll(l, " + ", ",")
}

// bits finds the permissions in what a cell of a POSIX tree says, and the level before them.
func bits(level string) (word, rwx string, ok bool) {
	var before []string
	for _, w := range strings.Fields(level) {
		if len(w) == 3 && strings.Contains("r-", w[:1]) && strings.Contains("w-", w[1:2]) && strings.Contains("x-", w[2:]) {
			return strings.Join(before, " "), w, true
		}
		before = append(before, w)
	}
	return level, "", false
}

// is tells whether a level is the one that the cell is to say.
func (c *regridCell) is(k *ask.Asker, level string) bool {
	r, ok := k.T.Of(c.at.Strand).(*posix.Rules)
	if !ok || c.nothing {
		return level == c.wanted(k)
	}
	_, has, ok := bits(level)
	return ok && has == posix.Means(c.what).On(r).String()
}

// readCell finds the place, the account and the level of a cell.
func readCell(d *plan.Planner, x *workbook.Changed) (c regridCell, err error) {
	c = regridCell{Changed: x}
	if c.at, err = d.K.Place(x.Where); err != nil {
		return c, x.NoPlace(err)
	}
	id, err := d.RuleAccount(cmp.Or(x.ID, x.Who), x.Where)
	if err != nil {
		return c, x.Nobody(err)
	}
	var ok bool
	if c.who, ok = d.T.Account(id); !ok {
		return c, x.Nobody(fmt.Errorf("%s is neither a user nor a group of the estate", x.Who))
	}
	level := c.level()
	if c.nothing = strings.EqualFold(level, nothing); c.nothing {
		return c, nil
	}
	if c.what, err = d.Level(level); err != nil {
		return c, x.Wrong("%v, or write %s", err, nothing)
	}
	return c, nil
}

// wanted is what the cell is to say, without marks.
func (c *regridCell) wanted(k *ask.Asker) string {
	if c.nothing {
		return nothing
	}
	set := c.what.File
	if c.at.Folder {
		set = c.what.Folder
	}
	return ask.LevelOn(k.Lang.Levels, k.T.Of(c.at.Strand), set, c.at.Folder)
}

// edit is the edit that makes the cell so.
func (c *regridCell) edit(d *plan.Planner) plan.ItemEdit {
	who := c.who.ID.Named()
	if c.nothing {
		return TakingEdit(d, rule.Which{Who: who, Kinds: []rule.Kind{rule.Allow}})
	}
	return replacingEdit(d, Entry{Kind: rule.Allow, Who: c.Who, What: c.level()}, rule.Line{Kind: rule.Allow, Who: who, What: c.what, Scope: rule.Tree}, true)
}

// eachNow asks what each of the cells says, route by route.
func (g *Regridded) eachNow(k *ask.Asker, fn func(c *regridCell, now census.GridCell) error) error {
	type route struct{ server, share int64 }
	of := map[route][]*regridCell{}
	var order []route
	for i := range g.cells {
		c := &g.cells[i]
		r := route{server: c.at.Server.ID}
		if c.at.Share != nil {
			r.share = c.at.Share.ID
		}
		if of[r] == nil {
			order = append(order, r)
		}
		of[r] = append(of[r], c)
	}
	for _, r := range order {
		var places []estate.Place
		var cols []acc.Account
		row, col := map[int64]int{}, map[plan.ID]int{}
		in := map[int][]*regridCell{} // by row
		for _, c := range of[r] {
			if _, ok := row[c.at.Item]; !ok {
				row[c.at.Item] = len(places)
				places = append(places, c.at)
			}
			if _, ok := col[c.who.ID]; !ok {
				col[c.who.ID] = len(cols)
				cols = append(cols, c.who)
			}
			in[row[c.at.Item]] = append(in[row[c.at.Item]], c)
		}
		if err := census.Cells(k, places, cols, func(i int, cells []census.GridCell) error {
			for _, c := range in[i] {
				if err := fn(c, cells[col[c.who.ID]]); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// mostUnmet is how many cells are told of that can't be as they are to be.
const mostUnmet = 5

// Unmet tells, of an estate in which the plan was kept, which cells don't say what was
// written there; nil: all do.
func (g *Regridded) Unmet(k *ask.Asker) error {
	for i := range g.cells { // as it is there
		c := &g.cells[i]
		at, err := k.Place(c.Where)
		if err != nil {
			return err
		}
		c.at = at
	}
	type miss struct {
		order int
		err   error
	}
	var unmet []miss
	order := map[*regridCell]int{}
	for i := range g.cells {
		order[&g.cells[i]] = i
	}
	if err := g.eachNow(k, func(c *regridCell, now census.GridCell) error {
		if !c.is(k, now.Level) {
			unmet = append(unmet, miss{order[c], c.Wrong("%s would have %s at %s, not %s: %s", c.Who, now.Level, c.Where, c.level(), c.because(now))})
		}
		return nil
	}); err != nil || len(unmet) == 0 {
		return err
	}
	slices.SortFunc(unmet, func(a, b miss) int { return a.order - b.order })
	var all []error
	for _, m := range unmet[:min(len(unmet), mostUnmet)] {
		all = append(all, m.err)
	}
	if n := len(unmet) - mostUnmet; n > 0 {
		all = append(all, fmt.Errorf("and %d more", n))
	}
	if len(all) == 1 {
		return all[0]
	}
	return &Unmet{all}
}

// because says where to look for what stands against a cell.
func (c *regridCell) because(now census.GridCell) string {
	switch {
	case now.Refused:
		return "a deny entry takes something from it"
	case c.at.Share != nil:
		return "it comes from above, or the share " + c.at.Share.Address() + " limits it; seal the folder, or change it there"
	}
	return "it comes from above; seal the folder, or change it there"
}

// Unmet lists what is wrong with several cells.
type Unmet struct{ All []error }

func (e *Unmet) Error() string {
	says := make([]string, len(e.All))
	for i, x := range e.All {
		says[i] = x.Error()
	}
	return strings.Join(says, "\n")
}

func (e *Unmet) Unwrap() []error { return e.All }
