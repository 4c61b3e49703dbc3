package plan

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/server"
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
	return RecordsAs[Directory](t, estate.DirectoryRecord)
}

// DirectoryNamed finds a directory.
func DirectoryNamed(t *estate.Tx, name string) (*Directory, error) {
	x, err := RecordAs[Directory](t, estate.DirectoryRecord, name)
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
func (d *Planner) AddDirectory(x Directory) (*Plan, error) {
	p := d.NewPlan("directory %s added", x.Name)
	p.Asks = false
	if err := estate.GoodName("directory", x.Name); err != nil {
		return nil, err
	}
	if d.T.Record(estate.DirectoryRecord, x.Name) != "" {
		return nil, &estate.Refused{Why: fmt.Sprintf("there is a directory %q already", x.Name), Do: "tarnwold directory remove " + x.Name}
	}
	e := edit.Description{Kind: "directory", Where: "directory " + x.Name, Lines: []edit.Line{{Sign: edit.Comes, What: "directory", Text: "shape " + x.Shape.Name}}}
	if err := p.SetRecord(estate.DirectoryRecord, x.Name, "", x, e); err != nil {
		return nil, err
	}
	p.Work.Cursor = &SyncCursor{Directory: x.Name} // another of that name may have been read before
	return d.Evaluate(p)
}

// SetDirectory changes how a directory is reached, and whether it is written to. Its people
// stay; what it tells is read whole the next time, where another part of it may be read.
func (d *Planner) SetDirectory(name string, set func(*Directory) (said []string, whole bool, err error)) (*Plan, error) {
	x, err := DirectoryNamed(d.T, name)
	if err != nil {
		return nil, err
	}
	before := d.T.Record(estate.DirectoryRecord, x.Name)
	said, whole, err := set(x)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("directory %s: %s", x.Name, strings.Join(said, ", "))
	p.Asks, p.Nothing = false, "it is so already"
	if len(said) == 0 {
		return d.Evaluate(p)
	}
	e := edit.Description{Kind: "directory", Where: "directory " + x.Name}
	for _, s := range said {
		e.Lines = append(e.Lines, edit.Line{Sign: edit.Changes, What: "directory", Text: s})
	}
	if err := p.SetRecord(estate.DirectoryRecord, x.Name, before, x, e); err != nil {
		return nil, err
	}
	if whole {
		p.Work.Cursor = &SyncCursor{Directory: x.Name}
	}
	return d.Evaluate(p)
}

// RemoveDirectory forgets a directory. Its people stay, and are the estate's own.
func (d *Planner) RemoveDirectory(name string) (*Plan, error) {
	x, err := DirectoryNamed(d.T, name)
	if err != nil {
		return nil, err
	}
	p := d.NewPlan("directory %s removed", x.Name)
	p.Asks = false
	if err := p.SetRecord(estate.DirectoryRecord, x.Name, d.T.Record(estate.DirectoryRecord, name), nil, edit.Description{Kind: "directory", Where: "directory " + x.Name, Lines: []edit.Line{{Sign: edit.Goes, What: "directory"}}}); err != nil {
		return nil, err
	}
	d.T.EachParticular(func(was *estate.Particular) {
		if store.Key(was.Directory) != store.Key(x.Name) || err != nil {
			return
		}
		is := was.Metadata
		is.Directory, is.Entry = "", ""
		e := edit.Description{Kind: "account", Where: d.MetadataOf(was.ID.String()), Lines: []edit.Line{{Sign: edit.Goes, What: "entry", Text: "in a directory: " + was.Entry}}}
		err = p.SetMetadata(was.ID, was.Body, was.Metadata, is, e)
	})
	if err != nil {
		return nil, err
	}
	return d.Evaluate(p)
}

// Kept is an account that a directory has, and what is written down of it.
type Kept struct {
	acc.Account
	estate.Metadata
}

// KeptIn lists everybody a directory has, and who it had and rules still name.
func KeptIn(t *estate.Tx, directory string) (out []Kept) {
	t.EachParticular(func(p *estate.Particular) {
		if store.Key(p.Directory) != store.Key(directory) {
			return
		}
		if a, ok := t.Account(p.ID); ok {
			out = append(out, Kept{a, p.Metadata})
		}
	})
	return out
}

// Gone tells whether the directory hasn't it any more.
func (k *Kept) Gone() bool { return k.Why == GoneWhy }

// DirectoryWrite is a membership that comes or goes in a directory.
type DirectoryWrite struct {
	Directory string `json:"directory"`
	Group     string `json:"group"`  // its name there
	Member    string `json:"member"` // its name there
	Name      string `json:"name"`   // what the member is called
	Goes      bool   `json:"goes"`
	group     ID
}

// Listed is the membership as the directory has it.
func (w *DirectoryWrite) Listed() server.Listed {
	return server.Listed{Group: w.Group, Member: w.Member, Name: w.Name}
}

// Same tells whether two are the same membership of the same directory, and both come or go.
func (w *DirectoryWrite) Same(o *DirectoryWrite) bool {
	return w.Directory == o.Directory && w.Group == o.Group && w.Member == o.Member && w.Goes == o.Goes
}

// OriginDirectory is where a change came from that only took in what a directory
// had; its name comes after.
const OriginDirectory = "directory "

// TookIn tells whether a change took in what a directory had, or took that back,
// or made it again: its words, which anybody may choose, have no part in that.
func (d *Planner) TookIn(change int64, origins ...string) bool {
	for change != 0 {
		is := d.T.Origin(change)
		if slices.ContainsFunc(origins, func(o string) bool { return strings.HasPrefix(is, o) }) {
			return true
		}
		r, err := d.T.ChangeNumbered(change)
		if err != nil {
			return false
		}
		change = r.Undoes
	}
	return false
}

// OriginPeople is where a change came from that took people in from a file.
const OriginPeople = "people"

// OriginAccounts is where a change came from that took in a list of accounts.
const OriginAccounts = "accounts"

// inDirectories calls fn with each membership of a plan that a directory keeps, and gives
// a refusal where an account that one keeps is to go. Taking back what came from a
// directory is the estate's affair alone, and what a directory or a server told is so already.
func (d *Planner) inDirectories(p *Plan, fn func(i int, x *Directory, w DirectoryWrite)) error {
	w := &p.Work
	if d.T.Supposed() || w.FromDirectory || p.IsSo || len(w.Members) == 0 && len(w.Accounts) == 0 || d.TookIn(p.Undoes, OriginDirectory) {
		return nil
	}
	known := map[string]*Directory{}
	of := d.T.MetadataOf
	if len(w.Members)+len(w.Accounts) >= ManyPeople {
		all := map[ID]Metadata{}
		d.T.EachParticular(func(p *estate.Particular) { all[p.ID] = p.Metadata })
		of = func(id ID) Metadata { return all[id] }
	}
	kept := func(a account) (Metadata, *Directory, error) {
		at := of(a.ID)
		if at.Directory == "" || at.Why == GoneWhy {
			return Metadata{}, nil, nil
		}
		x := known[at.Directory]
		if x == nil {
			var err error
			if x, err = DirectoryNamed(d.T, at.Directory); err != nil {
				return at, nil, err
			}
			known[at.Directory] = x
		}
		return at, x, nil
	}
	for i := range w.Members {
		e := &w.Members[i]
		if e.Was != nil && e.Is != nil { // another last day
			continue
		}
		at, x, err := kept(*e.Group)
		if err != nil {
			return err
		}
		if x == nil {
			continue
		}
		m := of(e.Member.ID)
		if store.Key(m.Directory) != store.Key(at.Directory) || m.Entry == "" {
			return &estate.Refused{Why: fmt.Sprintf("%s is kept in directory %s, which doesn't have %s", d.T.Name(e.Group.ID), x.Name, d.AccountName(*e.Member))}
		}
		fn(i, x, DirectoryWrite{x.Name, at.Entry, m.Entry, e.Member.Name, e.Is == nil, e.Group.ID})
	}
	for _, e := range w.Accounts {
		if e.After != nil {
			continue
		}
		if at, x, err := kept(*e.Before); err != nil || x != nil {
			if err == nil {
				err = &estate.Refused{Why: fmt.Sprintf("%s is kept in directory %s, as %s; what is changed here alone the next sync would take back", d.T.Name(e.Before.ID), at.Directory, at.Entry),
					Do: fmt.Sprintf("change it there, and then: tarnwold directory sync %s", at.Directory)}
			}
			return err
		}
	}
	return nil
}

// elsewhere finds which memberships of a plan are changed in directories: those of a
// directory that was added so, from here.
func (d *Planner) elsewhere(p *Plan) error {
	return d.inDirectories(p, func(_ int, x *Directory, w DirectoryWrite) {
		if x.Writes {
			p.Directed = append(p.Directed, w)
		} else {
			p.ToDo = append(p.ToDo, w)
		}
	})
}

// leaveToDirectories takes the memberships that directories keep out of a plan, to be told beside it.
func (d *Planner) leaveToDirectories(p *Plan) error {
	if !d.Apart {
		return nil
	}
	out := map[int]bool{}
	err := d.inDirectories(p, func(i int, _ *Directory, w DirectoryWrite) {
		p.ToDo = append(p.ToDo, w)
		out[i] = true
	})
	if err != nil || len(out) == 0 {
		return err
	}
	var left []edit.Membership
	for i, e := range p.Work.Members {
		if !out[i] {
			left = append(left, e)
		}
	}
	p.Work.Members, p.Work.Apart = left, true
	p.Nothing = "all of it is to be done in a directory"
	return nil
}

// Apart tells whether what is to be done in directories was taken out of the plan.
func (p *Plan) Apart() bool { return p.Work.Apart }

// InDirectory refuses to keep a plan here that a directory doesn't take from here.
func (p *Plan) InDirectory() error {
	if len(p.ToDo) == 0 {
		return nil
	}
	w := p.ToDo[0]
	does := "joins"
	if w.Goes {
		does = "leaves"
	}
	more := ""
	if n := len(p.ToDo) - 1; n > 0 {
		more = fmt.Sprintf(" (and %s more)", format.Count(int64(n), "membership"))
	}
	return &estate.Refused{Why: fmt.Sprintf("%s %s %s%s in directory %s, which isn't written to from here; what is changed here alone the next sync would take back", w.Name, does, w.Group, more, w.Directory),
		Do: fmt.Sprintf("change it there, and then: tarnwold directory sync %s; --ldif FILE writes down what is to be changed there and keeps the rest, --dry-run shows it all", w.Directory)}
}

// GoneWhy says of a user that the directory they were kept in hasn't them any more.
const GoneWhy = "gone from the directory"

// ManyPeople is how many accounts and memberships a change altered from which on
// all there are are read at once.
var ManyPeople = 100
