package explain

import (
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// operands is what an act touches.
type operands struct {
	act        *verdict.Act
	item       *estate.Place // nil where the act makes it
	folder     estate.Place  // it is in, or is to be made in
	hasFolder  bool
	target     *estate.Place
	there      *estate.Place // what is replaced
	owner      account.ID
	folderKind bool
	where, to  string
	share      *estate.Share
}

// spots finds what an act touches.
func findOperands(k *ask.Asker, a *verdict.Act, where, to string) (*operands, error) {
	s := &operands{act: a}
	if a.To == verdict.NoTarget && to != "" {
		return nil, ask.Unfit("leave out --to", "%s has no destination", a.Name)
	}
	if a.To != verdict.NoTarget && to == "" {
		return nil, ask.Unfit("give it with --to", "%s needs a destination, or a new owner", a.Name)
	}
	if a.Takes == verdict.NewFile || a.Takes == verdict.NewFolder {
		in, name, err := vacant(k, where)
		if err != nil {
			return nil, err
		}
		s.folder, s.hasFolder, s.share, s.folderKind = in, true, in.Share, a.Takes == verdict.NewFolder
		s.where = within(in, name)
		return s, nil
	}
	p, err := k.Place(where)
	if err != nil {
		return nil, err
	}
	s.item, s.share, s.folderKind, s.where = &p, p.Share, p.Folder, p.Via()
	switch {
	case a.Takes == verdict.File && p.Folder:
		return nil, ask.Unfit("", "%s is a folder; %s is done to a file", p.Via(), a.Name)
	case a.Takes == verdict.Folder && !p.Folder:
		return nil, ask.Unfit("", "%s is a file; %s is done to a folder", p.Via(), a.Name)
	}
	top := len(p.Trail) == 1 || p.Share != nil && p.Share.Begins(p.Path)
	if a.To != verdict.NoTarget && a.To != verdict.NewOwner || a.Name == "delete" {
		if top {
			return nil, ask.Unfit("", "%s is the top of its tree or share: it can't be moved, renamed or deleted by this way in", p.Via())
		}
	}
	switch a.To {
	case verdict.NewOwner:
		if u, err := k.T.User(to); err == nil {
			s.owner = u.ID
		} else if s.owner, err = k.T.Who(to); err != nil {
			return nil, err
		}
		s.to = k.T.Name(s.owner)
	case verdict.NewName:
		if s.folder, err = k.T.At(p.Server, place.Dir(p.Path)); err != nil {
			return nil, err
		}
		s.hasFolder = true
		s.folder.Share = p.Share
		name := to
		if strings.ContainsAny(to, "/") {
			in, n, err := vacant(k, to)
			if err != nil {
				return nil, err
			}
			if in.Item != s.folder.Item {
				return nil, ask.Unfit("see: tarnwold try … move", "%s is in another folder than %s", to, p.Via())
			}
			name = n
		} else if err := estate.GoodItemName(name); err != nil {
			return nil, err
		} else if c, ok := k.T.Child(s.folder.Item, name); ok && c.Item != p.Item {
			return nil, ask.Unfit("see: tarnwold try … replace", "%s is there already", within(s.folder, name))
		}
		s.to = within(s.folder, name)
	case verdict.NewPlace, verdict.ThereIs:
		return s, landing(k, s, p, to)
	}
	return s, nil
}

func within(in estate.Place, name string) string {
	a := in.By(in.Share)
	if a.Share != "" {
		a.Path = strings.TrimPrefix(a.Path+"/"+name, "/")
	} else {
		a.Path = place.Join(a.Path, name)
	}
	return a.String()
}

// landing finds the folder something goes to, and whether that is free.
func landing(k *ask.Asker, s *operands, p estate.Place, to string) error {
	var in estate.Place
	at, err := k.Place(to)
	name := p.Name()
	switch {
	case err == nil && at.Folder: // into it, by its old name
		in = at
	case err == nil:
		if in, err = k.T.At(at.Server, place.Dir(at.Path)); err != nil {
			return err
		}
		in.Share = at.Share
		name = at.Name()
	default:
		if in, name, err = vacant(k, to); err != nil {
			return err
		}
	}
	if in.Server.ID != p.Server.ID || (in.Share == nil) != (p.Share == nil) || in.Share != nil && in.Share.ID != p.Share.ID {
		return ask.Unfit("programs copy it then, and delete what was copied", "%s and %s are not reached by one way in", p.Via(), to)
	}
	if p.Folder && place.Under(in.Path, p.Path) {
		return ask.Unfit("", "%s can't be put into itself", p.Via())
	}
	c, there := k.T.Child(in.Item, name)
	s.target, s.to = &in, within(in, name)
	switch {
	case there && c.Item == p.Item:
		return ask.Unfit("", "%s is there already", p.Via())
	case s.act.To == verdict.NewPlace && there:
		return ask.Unfit("see: tarnwold try … replace", "%s is there already", s.to)
	case s.act.To == verdict.ThereIs && !there:
		return ask.Unfit("see: tarnwold try … move", "%s is not there, so nothing is replaced", s.to)
	case s.act.To == verdict.ThereIs && c.Folder:
		return ask.Unfit("", "%s is a folder, which no file replaces", s.to)
	}
	if old, ok := k.T.In(in, name); ok && there {
		s.there = &old
	}
	return nil
}

// vacant splits the address of something that is not there yet into its
// folder and its name.
func vacant(k *ask.Asker, where string) (in estate.Place, name string, err error) {
	a, err := place.Parse(where)
	if err != nil {
		return in, "", err
	}
	name = place.Name(a.Path)
	switch {
	case a.Path == "" || a.Share == "" && name == "":
		return in, "", ask.Unfit("", "%s is not a name for a new item in a folder", a)
	case a.Share == "":
		a.Path = place.Dir(a.Path)
	default:
		a.Path = strings.TrimSuffix(a.Path[:len(a.Path)-len(name)], "/")
	}
	if err := estate.GoodItemName(name); err != nil {
		return in, "", err
	}
	if in, err = k.Place(a.String()); err != nil {
		return in, "", err
	}
	if !in.Folder {
		return in, "", ask.Unfit("", "%s is a file", in.Via())
	}
	if _, ok := k.T.Child(in.Item, name); ok {
		return in, "", ask.Unfit("", "%s is there already", within(in, name))
	}
	return in, name, nil
}

func (s *operands) server() *estate.Server {
	if s.item != nil {
		return &s.item.Server
	}
	return &s.folder.Server
}
