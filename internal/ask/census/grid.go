package census

import (
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Gridded is levels by place and account.
type Gridded struct {
	Where    string        `json:"where"`
	Route    string        `json:"route"`
	Accounts []ask.Account `json:"accounts"`
	More     int64         `json:"more"`            // rows beyond the limit
	POSIX    bool          `json:"posix,omitempty"` // rules are modes and lists
}

// GridRow is one place, or one of many alike.
type GridRow struct {
	Where  string     `json:"where"`
	Kind   string     `json:"kind"`
	Sealed bool       `json:"sealed"`
	Rules  string     `json:"rules"`
	Items  int64      `json:"items,omitempty"` // alike, where rows are distinct
	Cells  []GridCell `json:"cells"`
	Else   []string   `json:"who-else,omitempty"` // users with access whom no column covers
	Parts  []string   `json:"-"`
}

// GridCell is what one account has in one place.
type GridCell struct {
	Level   string `json:"level"`
	Own     bool   `json:"set-here,omitempty"` // an entry set here names the account
	Refused bool   `json:"refused,omitempty"`  // a deny entry takes something from it
}

// Marks writes a cell's marks behind its level: + for an entry set here, - for
// what a deny entry takes.
func (c GridCell) Marks() string {
	s := ""
	if c.Own {
		s += "+"
	}
	if c.Refused {
		s += "-"
	}
	return s
}

// Gridding says what a grid is of.
type Gridding struct {
	Where    string
	Depth    int      // layers of folders below WHERE
	For      []string // accounts; none: the groups that the rules there name
	Everyone bool     // every user there is
	// GroupsOnly leaves users out of those that the rules name.
	GroupsOnly bool
	Files      bool // files too
	Distinct   bool // the whole of it, each set of rules once
	Limit      int  // rows; 0: all
}

// spot is a place of a grid.
type spot struct {
	p     estate.Place
	items int64
}

// Grid answers for places down and accounts across, by one route. head is
// called first, then row with each place; what row is given lasts until it
// returns.
func Grid(k *ask.Asker, what Gridding, head func(*Gridded) error, row func(*GridRow) error) error {
	p, err := k.Place(what.Where)
	if err != nil {
		return err
	}
	out := &Gridded{Where: p.Via(), Route: "local", Accounts: []ask.Account{}}
	_, out.POSIX = k.T.Of(p.Strand).(*posix.Rules)
	if p.Share != nil {
		out.Route = p.Share.Address()
	}
	var spots []spot
	if what.Distinct {
		if spots, err = distinctSpots(k, p); err != nil {
			return err
		}
	} else {
		spots = layers(k, p, what.Depth, what.Files)
	}
	if what.Limit > 0 && len(spots) > what.Limit {
		out.More = int64(len(spots) - what.Limit)
		spots = spots[:what.Limit]
	}
	cols, err := columns(k, what, spots)
	if err != nil {
		return err
	}
	out.Accounts = across(k, cols)
	if err := head(out); err != nil {
		return err
	}
	x := newGridder(k, p, cols)
	for _, s := range spots {
		x.fill(s)
		if err := row(&x.row); err != nil {
			return err
		}
		if err := k.T.Context().Err(); err != nil {
			return err
		}
	}
	return k.T.Err()
}

// layers lists a place and the folders so many layers below it.
func layers(k *ask.Asker, top estate.Place, depth int, files bool) (out []spot) {
	out = append(out, spot{top, 1})
	if depth == 0 || !top.Folder || k.T.Err() != nil {
		return out
	}
	for _, c := range k.T.Within(top.Item) {
		if !c.Folder && !files {
			continue
		}
		p := top
		p.Item, p.Strand, p.Folder = c.Item, c.Strand, c.Folder
		p.Path = strings.TrimSuffix(top.Path, "/") + "/" + c.Name
		p.Trail = append([]int64{c.Strand}, top.Trail...)
		out = append(out, layers(k, p, depth-1, files)...)
	}
	return out
}

// distinctSpots gives one item of every set of items at or below a place that
// have the same rules under folders with the same rules.
func distinctSpots(k *ask.Asker, p estate.Place) ([]spot, error) {
	f, err := k.T.PartitionAt(p)
	if err != nil {
		return nil, err
	}
	type key struct {
		rules, above rule.Any
		folder, top  bool
	}
	at := map[key]int{}
	asks := p.Server.Traits.AsksFoldersAbove
	var out []spot
	for i := range f.Nodes {
		n := &f.Nodes[i]
		x := key{rules: n.Before, above: f.Over(i, false), folder: n.Folder, top: n.Parent < 0}
		if j, ok := at[x]; ok && !asks {
			out[j].items += n.Items
			continue
		}
		for _, item := range f.Some(k.T, i, 1) {
			s := spot{k.T.Place(item), n.Items}
			s.p.Share = p.Share
			at[x] = len(out)
			out = append(out, s)
		}
	}
	return out, k.T.Err()
}

// columns finds the accounts across.
func columns(k *ask.Asker, what Gridding, spots []spot) (cols []account.Account, err error) {
	if what.Everyone {
		return k.Directory().Users(), nil
	}
	for _, word := range what.For {
		users, is, err := k.Matching(word)
		if err != nil {
			return nil, err
		}
		if is {
			cols = append(cols, users...)
			continue
		}
		id, err := k.T.Who(word)
		if err != nil {
			return nil, err
		}
		a, ok := k.T.Account(id)
		if !ok {
			return nil, ask.Unfit("name users and groups", "%q is neither a user nor a group of the estate", word)
		}
		cols = append(cols, a)
	}
	if len(what.For) > 0 {
		return cols, nil
	}
	// The accounts that the rules name: groups, and users who are named themselves.
	seen := map[account.ID]bool{}
	for _, s := range spots {
		for _, e := range k.AsEntries(k.T.Of(s.p.Strand)).Rules.Entries {
			if a, ok := k.T.Account(e.Who); ok && !seen[e.Who] && (!what.GroupsOnly || a.Kind == account.Group) {
				seen[e.Who] = true
				cols = append(cols, a)
			}
		}
	}
	slices.SortFunc(cols, func(a, b account.Account) int {
		if a.Kind != b.Kind { // groups first
			return int(b.Kind) - int(a.Kind)
		}
		return ask.CmpText(a.Name, b.Name)
	})
	return cols, nil
}

// across names the columns. A user and a group may share a name, which is
// looked up then; of many users only those are.
func across(k *ask.Asker, cols []account.Account) []ask.Account {
	out := make([]ask.Account, 0, len(cols))
	groups := map[string]bool{}
	if len(cols) > 100 {
		for _, id := range k.Directory().All() {
			if a, _ := k.Directory().Account(id); a.Kind == account.Group {
				groups[estate.Key(a.Name)] = true
			}
		}
	}
	for _, c := range cols {
		if len(cols) > 100 && c.Kind == account.User && !groups[estate.Key(c.Name)] {
			out = append(out, ask.Account{Name: c.Name, ID: c.ID.Named().String(), Kind: c.Kind.String(), Shut: k.ShutOut()[c.ID]})
		} else {
			out = append(out, k.Account(c.ID))
		}
	}
	return out
}

// gridder answers row by row.
type gridder struct {
	k       *ask.Asker
	share   *estate.Share
	cols    []account.Account
	groups  []int // the columns of groups
	pop     *crowd.Population
	d       *crowd.Decider
	g       *ask.Scope
	server  *estate.Server
	covered crowd.Bits
	sc      crowd.Scratch
	column  map[account.ID]int
	at      []int // of every user: their column; -1
	row     GridRow
}

func newGridder(k *ask.Asker, p estate.Place, cols []account.Account) *gridder {
	x := &gridder{k: k, share: p.Share, cols: cols, g: k.NewScope(estate.NewPartition())}
	x.pop, x.server = k.Population(&p.Server), &p.Server
	x.d = x.g.Decider(x.g.Route(&p.Server, p.Share), x.pop)
	x.covered, x.column, x.at = x.pop.Empty(), map[account.ID]int{}, make([]int, len(x.pop.Users))
	for i := range x.at {
		x.at[i] = -1
	}
	for i, c := range cols {
		x.column[c.ID] = i
		if c.Kind == account.Group {
			x.groups = append(x.groups, i)
			x.covered.Or(x.pop.Holders(c.ID, p.Share == nil))
		} else if at, ok := x.pop.Place(c.ID); ok {
			x.at[at] = i
			x.covered.Set(at)
		}
	}
	x.row.Cells = make([]GridCell, len(cols))
	return x
}

// fill answers for one place.
func (x *gridder) fill(s spot) {
	k, p, row := x.k, s.p, &x.row
	rules := k.T.Of(p.Strand)
	d := k.AsEntries(rules)
	row.Where, row.Kind, row.Sealed, row.Rules, row.Items = p.By(x.share).String(), ask.Kind(p.Folder), d.Sealed(), ask.RulesAre(&d.Rules), s.items
	row.Parts, row.Else = parts(row.Where), nil
	if x, ok := rules.(*posix.Rules); ok { // a file's list or a folder without a default list is nothing to mark
		if row.Sealed = false; x.Default != nil {
			row.Rules = "hands a list down"
		}
	}
	q := x.question(p)
	others := x.pop.Empty()
	for _, c := range x.d.Classes(q, &x.sc) {
		level := x.g.Level(rules, c.Rights, p.Folder)
		c.Users.Each(func(i int) bool {
			if col := x.at[i]; col >= 0 {
				row.Cells[col] = GridCell{Level: level}
			}
			return true
		})
		if !ask.NothingOn(rules, c.Rights) {
			others.Or(c.Users)
		}
	}
	for _, col := range x.groups { // somebody who is in this group and in no other
		row.Cells[col] = GridCell{Level: x.g.Level(rules, verdict.Granted(k.Question(x.cols[col].ID, p, x.share)), p.Folder)}
	}
	for i := range q.Item.Steps {
		step := &q.Item.Steps[i]
		if _, classes := k.T.Of(p.Strand).(*posix.Rules); classes || !step.Refuses {
			continue
		}
		x.pop.Fits(step, x.share == nil).Each(func(i int) bool {
			if col := x.at[i]; col >= 0 {
				row.Cells[col].Refused = true
			}
			return true
		})
		for _, col := range x.groups {
			if k.Token(x.cols[col].ID, x.server, x.share == nil).Has(step.Who) {
				row.Cells[col].Refused = true
			}
		}
	}
	for _, e := range d.Rules.Entries {
		if col, ok := x.column[e.Who]; ok && e.Own() {
			row.Cells[col].Own = true
		}
	}
	for i := range others {
		others[i] &^= x.covered[i]
	}
	others.Each(func(i int) bool { row.Else = append(row.Else, x.pop.Users[i].Name); return true })
}

// question is a place's situation for everybody.
func (x *gridder) question(p estate.Place) crowd.Situation {
	k, tr := x.k, x.d.Traits
	how := tr.Reading()
	s := crowd.Situation{Item: k.Read(k.T.Of(p.Strand), how)}
	begins := x.share != nil && x.share.Begins(p.Path)
	switch {
	case begins && tr.ShareFolderAboveItself:
		s.Child = x.d.One(s.Item, right.DeleteChild)
	case !begins && len(p.Trail) > 1:
		s.Child = x.d.TakesOut(k.Read(k.T.Of(p.Trail[1]), how), s.Item.Owner)
	}
	if tr.AsksFoldersAbove {
		s.Gate = x.pop.All()
		for _, d := range k.Asked(p, x.share) {
			s.Gate = s.Gate.And(x.d.One(k.Read(d, tr.AboveReading()), right.Execute))
		}
	}
	return s
}

// Cells gives what accounts have in places by one route, a row a place: the cells that a
// grid of them would have. What row is given lasts until it returns.
func Cells(k *ask.Asker, places []estate.Place, cols []account.Account, row func(i int, cells []GridCell) error) error {
	if len(places) == 0 {
		return nil
	}
	x := newGridder(k, places[0], cols)
	for i, p := range places {
		x.fill(spot{p, 1})
		if err := row(i, x.row.Cells); err != nil {
			return err
		}
		if err := k.T.Context().Err(); err != nil {
			return err
		}
	}
	return k.T.Err()
}

// Text writes a cell as a grid has it: the level, and its marks.
func (c GridCell) Text() string {
	if m := c.Marks(); m != "" {
		return c.Level + " " + m
	}
	return c.Level
}
