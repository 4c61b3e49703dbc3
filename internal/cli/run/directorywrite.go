package run

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"tarnwold/internal/format/ldif"
	"tarnwold/internal/live"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/server/ldap"
)

// directories signs on to directories for a push.
func (a *App) directories(sign *Signing) live.DialDirectory {
	return func(ctx context.Context, name string) (live.Directory, error) {
		return a.groupsOf(ctx, sign, name)
	}
}

// groupsOf signs on to a directory for who is in its groups.
func (a *App) groupsOf(ctx context.Context, sign *Signing, name string) (*ldap.Groups, error) {
	x, c, err := a.DialDirectory(ctx, sign, name)
	if err != nil {
		return nil, err
	}
	return &ldap.Groups{Client: c, Shape: x.Shape}, nil
}

// writeLDIF writes down what of a plan is to be done in directories, as changes that
// whoever may can apply there. Each group is looked at there, for how it lists its members.
func (a *App) writeLDIF(ctx context.Context, k *Keeping, o *changes.Outcome) error {
	open := map[string]*ldap.Groups{}
	defer func() {
		for _, g := range open {
			g.Close()
		}
	}()
	by := map[string]*ldif.Record{}
	var order []string
	for _, w := range o.ToDo {
		g := open[w.Directory]
		if g == nil {
			var err error
			if g, err = a.groupsOf(ctx, &k.Sign, w.Directory); err != nil {
				return err
			}
			open[w.Directory] = g
		}
		attr, value, err := g.Lists(ctx, w.Listed())
		if err != nil {
			return fmt.Errorf("directory %s: %w", w.Directory, err)
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
