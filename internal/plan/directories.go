package plan

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/store"
)

// Directory is a directory whose people the estate has: how it is reached, as its
// protocol's package writes it, and how its entries are read.
type Directory struct {
	Name     string          `json:"name"`
	Link     json.RawMessage `json:"link"`
	Shape    shape.Shape     `json:"shape"`
	Purposes shape.Purposes  `json:"purposes"`
	Writes   bool            `json:"writes"` // memberships are changed there too
}

// Directories lists the directories, oldest first.
func Directories(t *estate.Tx) ([]Directory, error) {
	return papersAs[Directory](t, estate.DirectoryPaper)
}

// DirectoryNamed finds a directory.
func DirectoryNamed(t *estate.Tx, name string) (*Directory, error) {
	x, err := paperAs[Directory](t, estate.DirectoryPaper, name)
	if err != nil || x != nil {
		return x, err
	}
	all, err := Directories(t)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(all))
	for i := range all {
		names[i] = all[i].Name
	}
	return nil, &estate.NotFound{What: "directory", Name: name, Near: estate.Nearest(name, names)}
}

// AddDirectory writes down a directory. Nobody comes by that alone.
func (d *Desk) AddDirectory(x Directory) (*Plan, error) {
	p := d.begin("directory %s added", x.Name)
	p.Asks = false
	if err := estate.GoodName("directory", x.Name); err != nil {
		return nil, err
	}
	if d.t.Paper(estate.DirectoryPaper, x.Name) != "" {
		return nil, &estate.Refused{Why: fmt.Sprintf("there is a directory %q already", x.Name), Do: "tarnwold directory remove " + x.Name}
	}
	e := Edit{Kind: "directory", Where: "directory " + x.Name, Lines: []Line{{Sign: "comes", What: "directory", Text: "shape " + x.Shape.Name}}}
	if err := p.paper(estate.DirectoryPaper, x.Name, "", x, e); err != nil {
		return nil, err
	}
	return d.finish(p)
}

// RemoveDirectory forgets a directory. Its people stay, and are the estate's own.
func (d *Desk) RemoveDirectory(name string) (*Plan, error) {
	x, err := DirectoryNamed(d.t, name)
	if err != nil {
		return nil, err
	}
	p := d.begin("directory %s removed", x.Name)
	p.Asks = false
	if err := p.paper(estate.DirectoryPaper, x.Name, d.t.Paper(estate.DirectoryPaper, name), nil, Edit{Kind: "directory", Where: "directory " + x.Name, Lines: []Line{{Sign: "goes", What: "directory"}}}); err != nil {
		return nil, err
	}
	for _, row := range d.t.Papers(estate.ParticularsPaper) {
		var was Particulars
		if err := json.Unmarshal([]byte(row.Body), &was); err != nil || store.Key(was.Directory) != store.Key(x.Name) {
			continue
		}
		is := was
		is.Directory, is.Entry = "", ""
		e := Edit{Kind: "account", Where: d.particularsOf(row.Name), Lines: []Line{{Sign: "goes", What: "entry", Text: "in a directory: " + was.Entry}}}
		var after any
		if is != (Particulars{}) {
			after = is
		}
		if err := p.paper(estate.ParticularsPaper, row.Name, row.Body, after, e); err != nil {
			return nil, err
		}
	}
	return d.finish(p)
}

// Kept counts the accounts that a directory has, and those of them that are shut.
func Kept(t *estate.Tx, directory string) (users, groups, shut int) {
	for _, row := range t.Papers(estate.ParticularsPaper) {
		var is Particulars
		if json.Unmarshal([]byte(row.Body), &is) != nil || store.Key(is.Directory) != store.Key(directory) {
			continue
		}
		id, err := acc.ParseID(row.Name)
		if err != nil {
			continue
		}
		if a, ok := t.Account(id); ok && a.Kind == acc.User {
			users++
		} else if ok {
			groups++
		}
		if is.Shut {
			shut++
		}
	}
	return users, groups, shut
}

// elsewhere refuses what a directory keeps: memberships of its groups, and its
// accounts' going, which the next sync would take back. Undoing is of the estate,
// and what a directory or a server told is so already.
func (d *Desk) elsewhere(p *Plan) error {
	w := &p.work
	if w.fromDirectory || p.IsSo || p.Undoes != 0 || len(w.members) == 0 && len(w.accounts) == 0 {
		return nil
	}
	kept := func(a account) error {
		at := ParticularsOf(d.t, a.ID)
		if at.Directory == "" || at.Why == goneWhy {
			return nil
		}
		return &estate.Refused{Why: fmt.Sprintf("%s is kept in directory %s, as %s; what is changed here alone the next sync would take back", d.t.Name(a.ID), at.Directory, at.Entry),
			Do: fmt.Sprintf("change it there, and then: tarnwold directory sync %s", at.Directory)}
	}
	seen := map[ID]bool{}
	for _, e := range w.members {
		if e.was != nil && e.is != nil || seen[e.group.ID] { // another last day
			continue
		}
		seen[e.group.ID] = true
		if err := kept(e.group); err != nil {
			return err
		}
	}
	for _, e := range w.accounts {
		if e.after == nil {
			if err := kept(*e.before); err != nil {
				return err
			}
		}
	}
	return nil
}

// DirectoryUsers lists the users a directory has, by their names there.
func DirectoryUsers(t *estate.Tx, directory string) (out []KeptUser) {
	for _, row := range t.Papers(estate.ParticularsPaper) {
		var is Particulars
		if json.Unmarshal([]byte(row.Body), &is) != nil || store.Key(is.Directory) != store.Key(directory) || is.Why == goneWhy {
			continue
		}
		if id, err := acc.ParseID(row.Name); err == nil {
			if a, ok := t.Account(id); ok && a.Kind == acc.User {
				out = append(out, KeptUser{a, is.Entry})
			}
		}
	}
	slices.SortFunc(out, func(a, b KeptUser) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// DirectoryPeople lists everybody a directory has, users and groups.
func DirectoryPeople(t *estate.Tx, directory string) (out []KeptUser) {
	for _, row := range t.Papers(estate.ParticularsPaper) {
		var is Particulars
		if json.Unmarshal([]byte(row.Body), &is) != nil || store.Key(is.Directory) != store.Key(directory) || is.Entry == "" {
			continue
		}
		if id, err := acc.ParseID(row.Name); err == nil {
			if a, ok := t.Account(id); ok {
				out = append(out, KeptUser{a, is.Entry})
			}
		}
	}
	return out
}

// KeptUser is a user with his name in a directory.
type KeptUser struct {
	acc.Account
	Entry string
}

// goneWhy says of a user that the directory he was kept in hasn't him any more.
const goneWhy = "gone from the directory"
