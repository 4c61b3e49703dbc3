package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/estate"
	"tarnwold/internal/format/ldif"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/server/ldap"
)

// dialled is a directory with which a connection is open.
type dialled struct {
	client *ldap.Client
	shape  shape.Shape
}

// dialAll opens a connection with each directory that is to be changed; what it gives
// closes them, and is to be called whatever comes.
func (a *App) dialAll(ctx context.Context, k *Keeping, writes []plan.DirectoryWrite) (open map[string]dialled, hangUp func(), err error) {
	open = map[string]dialled{}
	hangUp = func() {
		for _, d := range open {
			d.client.Close()
		}
	}
	for _, w := range writes {
		if _, is := open[w.Directory]; is {
			continue
		}
		x, c, err := a.DialDirectory(ctx, &k.Sign, w.Directory)
		if err != nil {
			return open, hangUp, err
		}
		open[w.Directory] = dialled{c, x.Shape}
	}
	return open, hangUp, nil
}

// keepThere keeps a plan and changes memberships in directories with it: the
// estate's change is made first and isn't committed before each membership was
// read back there. Where that fails, what was done there is taken back; where it is
// broken off in between, the directory is ahead, and the next sync says so.
func (a *App) keepThere(ctx context.Context, e *estate.Estate, k *Keeping, o *changes.Outcome, m estate.Meta) (int64, error) {
	open, hangUp, err := a.dialAll(ctx, k, o.Directed)
	defer hangUp()
	if err != nil {
		return 0, err
	}
	var done []func() error
	back := func(err error) error {
		for _, undo := range slices.Backward(done) {
			if more := undo(); more != nil {
				err = fmt.Errorf("%w; and not all of what was done there could be taken back: %w", err, more)
			}
		}
		done = nil
		return err
	}
	n, err := e.Change(ctx, m, func(t *estate.Tx) (string, error) {
		said, err := o.Keep(t)
		if err != nil || t.Err() != nil {
			return said, err
		}
		for _, w := range o.Directed {
			undo, err := putThere(ctx, open[w.Directory], w)
			if err != nil {
				return "", back(fmt.Errorf("directory %s: %w", w.Directory, err))
			}
			done = append(done, undo)
		}
		return said, nil
	})
	if err != nil && len(done) > 0 {
		err = back(err)
	}
	return n, err
}

// putThere makes one membership come or go in a directory, reads it back, and
// gives what takes that back.
func putThere(ctx context.Context, at dialled, w plan.DirectoryWrite) (func() error, error) {
	c, s := at.client, at.shape
	lists := append(slices.Clone(s.Members), s.MemberIDs...)
	read := func() (*shape.Entry, error) { return c.One(ctx, w.Group, append(lists, "objectClass")...) }
	now, err := read()
	if err != nil {
		return nil, err
	}
	byName := func(attr string) bool {
		return slices.ContainsFunc(s.MemberIDs, func(o string) bool { return strings.EqualFold(o, attr) })
	}
	same := func(attr, v string) bool {
		if byName(attr) {
			return strings.EqualFold(v, w.Name)
		}
		x, err1 := ldif.Key(v)
		y, err2 := ldif.Key(w.Member)
		return err1 == nil && err2 == nil && x == y
	}
	has := func(e *shape.Entry) (attr, value string, ok bool) {
		for _, attr := range lists {
			for _, v := range e.Attrs.Of(attr) {
				if same(attr, v) {
					return attr, v, true
				}
			}
		}
		return "", "", false
	}
	attr, value, there := has(now)
	switch {
	case w.Goes && !there:
		return nil, &estate.Refused{Why: fmt.Sprintf("%s isn't listed in %s there", w.Name, w.Group), Do: "tarnwold directory sync " + w.Directory}
	case !w.Goes && there:
		return nil, &estate.Refused{Why: fmt.Sprintf("%s is listed in %s there already", w.Name, w.Group), Do: "tarnwold directory sync " + w.Directory}
	case !w.Goes:
		if attr = listOf(now, s); attr == "" {
			return nil, errors.New("nothing says how it lists its members")
		}
		if value = w.Member; byName(attr) {
			value = w.Name
		}
	}
	change := func(goes bool) error {
		if goes {
			return c.Members(ctx, w.Group, attr, nil, []string{value})
		}
		return c.Members(ctx, w.Group, attr, []string{value}, nil)
	}
	if err := change(w.Goes); err != nil {
		return nil, err
	}
	undo := func() error { return change(!w.Goes) }
	if now, err = read(); err == nil {
		if _, _, there := has(now); there != w.Goes {
			return undo, nil
		}
		err = fmt.Errorf("it says that it did it, and %s of %s is as before", attr, w.Group)
	}
	return nil, errors.Join(err, undo())
}

// writeLDIF writes down what of a plan is to be done in directories, as changes that
// whoever may can apply there. Each group is looked at there, for how it lists its members.
func (a *App) writeLDIF(ctx context.Context, k *Keeping, o *changes.Outcome) error {
	open, hangUp, err := a.dialAll(ctx, k, o.ToDo)
	defer hangUp()
	if err != nil {
		return err
	}
	by := map[string]*ldif.Record{}
	var order []string
	for _, w := range o.ToDo {
		c, s := open[w.Directory].client, open[w.Directory].shape
		lists := append(slices.Clone(s.Members), s.MemberIDs...)
		now, err := c.One(ctx, w.Group, append(lists, "objectClass")...)
		if err != nil {
			return fmt.Errorf("directory %s: %w", w.Directory, err)
		}
		attr := listOf(now, s)
		if attr == "" {
			return fmt.Errorf("directory %s: nothing says how %s lists its members", w.Directory, w.Group)
		}
		value := w.Member
		if slices.ContainsFunc(s.MemberIDs, func(o string) bool { return strings.EqualFold(o, attr) }) {
			value = w.Name
		}
		do := ldif.Add
		if w.Goes {
			do = ldif.Delete
		}
		r := by[w.Group]
		if r == nil {
			r = &ldif.Record{DN: w.Group, Change: ldif.Modify}
			by[w.Group] = r
			order = append(order, w.Group)
		}
		at := slices.IndexFunc(r.Parts, func(p ldif.Part) bool { return p.Do == do && p.Name == attr })
		if at < 0 {
			at = len(r.Parts)
			r.Parts = append(r.Parts, ldif.Part{Do: do, Name: attr})
		}
		r.Parts[at].Values = append(r.Parts[at].Values, value)
	}
	var list []ldif.Record
	for _, dn := range order {
		list = append(list, *by[dn])
	}
	var text bytes.Buffer
	if err := ldif.Write(&text, list); err != nil {
		return err
	}
	if err := writeNew(k.ldif, text.Bytes()); err != nil {
		return err
	}
	o.LDIF = k.ldif
	return nil
}

// listOf gives the attribute by which a group lists its members: that which it has,
// else that of its class.
func listOf(e *shape.Entry, s shape.Shape) string {
	for _, attr := range append(slices.Clone(s.Members), s.MemberIDs...) {
		if len(e.Attrs.Of(attr)) > 0 {
			return attr
		}
	}
	for _, x := range [][2]string{{"groupOfUniqueNames", "uniqueMember"}, {"groupOfNames", "member"}, {"group", "member"}, {"posixGroup", "memberUid"}} {
		if slices.ContainsFunc(e.Attrs.Of("objectclass"), func(c string) bool { return strings.EqualFold(c, x[0]) }) {
			return x[1]
		}
	}
	if len(s.Members) > 0 {
		return s.Members[0]
	}
	return ""
}
