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
	p.work.read = &Reading{Directory: x.Name} // another of that name may have been read before
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
	d.t.EachParticular(func(was *estate.Particular) {
		if store.Key(was.Directory) != store.Key(x.Name) || err != nil {
			return
		}
		is := was.Particulars
		is.Directory, is.Entry = "", ""
		e := Edit{Kind: "account", Where: d.particularsOf(was.ID.String()), Lines: []Line{{Sign: "goes", What: "entry", Text: "in a directory: " + was.Entry}}}
		err = p.particulars(was.ID, was.Body, was.Particulars, is, e)
	})
	if err != nil {
		return nil, err
	}
	return d.finish(p)
}

// Kept is an account that a directory has, and what is written down of it.
type Kept struct {
	acc.Account
	estate.Particulars
}

// KeptIn lists everybody a directory has, and who it had and rules still name.
func KeptIn(t *estate.Tx, directory string) (out []Kept) {
	t.EachParticular(func(p *estate.Particular) {
		if store.Key(p.Directory) != store.Key(directory) {
			return
		}
		if a, ok := t.Account(p.ID); ok {
			out = append(out, Kept{a, p.Particulars})
		}
	})
	return out
}

// Gone tells whether the directory hasn't it any more.
func (k *Kept) Gone() bool { return k.Why == goneWhy }

// DirectoryWrite is a membership that comes or goes in a directory.
type DirectoryWrite struct {
	Directory string `json:"directory"`
	Group     string `json:"group"`  // its name there
	Member    string `json:"member"` // its name there
	Name      string `json:"name"`   // what the member is called
	Goes      bool   `json:"goes"`
}

// originDirectory is where a change came from that only took in what a directory
// had; its name comes after.
const originDirectory = "directory "

// tookIn tells whether a change took in what a directory had, or took that back,
// or made it again: its words, which anybody may choose, have no part in that.
func (d *Desk) tookIn(change int64, origins ...string) bool {
	for change != 0 {
		is := d.t.Origin(change)
		if slices.ContainsFunc(origins, func(o string) bool { return strings.HasPrefix(is, o) }) {
			return true
		}
		r, err := d.t.Record(change)
		if err != nil {
			return false
		}
		change = r.Undoes
	}
	return false
}

// originPeople is where a change came from that took people in from a file.
const originPeople = "people"

// elsewhere finds what of a plan a directory keeps: memberships of its groups are
// changed there too where it was added so, and are refused else, as its accounts'
// going is: the next sync would take it back. Taking back what came from it is the
// estate's affair alone, and what a directory or a server told is so already.
func (d *Desk) elsewhere(p *Plan) error {
	w := &p.work
	if w.fromDirectory || p.IsSo || len(w.members) == 0 && len(w.accounts) == 0 || d.tookIn(p.Undoes, originDirectory) {
		return nil
	}
	known := map[string]*Directory{}
	of := d.t.ParticularsOf
	if len(w.members)+len(w.accounts) >= manyPeople {
		all := map[ID]Particulars{}
		d.t.EachParticular(func(p *estate.Particular) { all[p.ID] = p.Particulars })
		of = func(id ID) Particulars { return all[id] }
	}
	kept := func(a account) (Particulars, *Directory, error) {
		at := of(a.ID)
		if at.Directory == "" || at.Why == goneWhy {
			return Particulars{}, nil, nil
		}
		x := known[at.Directory]
		if x == nil {
			var err error
			if x, err = DirectoryNamed(d.t, at.Directory); err != nil {
				return at, nil, err
			}
			known[at.Directory] = x
		}
		return at, x, nil
	}
	refused := func(a account, at Particulars) error {
		return &estate.Refused{Why: fmt.Sprintf("%s is kept in directory %s, as %s; what is changed here alone the next sync would take back", d.t.Name(a.ID), at.Directory, at.Entry),
			Do: fmt.Sprintf("change it there, and then: tarnwold directory sync %s", at.Directory)}
	}
	for _, e := range w.members {
		if e.was != nil && e.is != nil { // another last day
			continue
		}
		at, x, err := kept(*e.group)
		if err != nil {
			return err
		}
		if x == nil {
			continue
		}
		if !x.Writes {
			return refused(*e.group, at)
		}
		m := of(e.member.ID)
		if store.Key(m.Directory) != store.Key(at.Directory) || m.Entry == "" {
			return &estate.Refused{Why: fmt.Sprintf("%s is kept in directory %s, which doesn't have %s", d.t.Name(e.group.ID), x.Name, d.accountName(*e.member))}
		}
		p.Directed = append(p.Directed, DirectoryWrite{x.Name, at.Entry, m.Entry, e.member.Name, e.is == nil})
	}
	for _, e := range w.accounts {
		if e.after != nil {
			continue
		}
		if at, x, err := kept(*e.before); err != nil || x != nil {
			if err == nil {
				err = refused(*e.before, at)
			}
			return err
		}
	}
	return nil
}

// goneWhy says of a user that the directory he was kept in hasn't him any more.
const goneWhy = "gone from the directory"
