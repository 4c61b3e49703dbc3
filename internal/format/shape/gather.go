package shape

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tarnwold/core/account"
	"tarnwold/internal/format"
	"tarnwold/internal/format/ldif"
)

// Entry is an entry as it was read.
type Entry struct {
	DN    string
	Line  int // in a file; 0: elsewhere
	Attrs Attrs
}

// Attrs is the attributes of an entry, few of which are read.
type Attrs []Attr

// Attr is one attribute with its values.
type Attr struct {
	Name   string
	Values []string
}

// Of gives the values of an attribute, by its name in any case.
func (a Attrs) Of(name string) []string {
	for i := range a {
		if strings.EqualFold(a[i].Name, name) {
			return a[i].Values
		}
	}
	return nil
}

// Set gives an attribute other values; none: it goes.
func (a *Attrs) Set(name string, values []string) {
	i := slices.IndexFunc(*a, func(x Attr) bool { return strings.EqualFold(x.Name, name) })
	switch {
	case len(values) == 0 && i >= 0:
		*a = slices.Delete(*a, i, i+1)
	case len(values) == 0:
	case i >= 0:
		(*a)[i].Values = values
	default:
		*a = append(*a, Attr{name, values})
	}
}

// first gives the first value of an attribute; "": none.
func (e *Entry) first(attr string) string {
	if v := e.Attrs.Of(attr); attr != "" && len(v) > 0 {
		return v[0]
	}
	return ""
}

// Gathering gathers entries.
type Gathering struct {
	shape    Shape
	file     string
	entries  map[string]*slot // by key of the name
	order    []*slot
	purposes Purposes
	now      time.Time
	known    map[string]account.Account // by key of the name
}

// slot is an entry with the key of its name; without one that went.
type slot struct {
	key string
	*Entry
	at int32 // its place among the people; -1: it is none of them
}

// Gather begins to gather entries of a shape; file names them in errors.
func Gather(s Shape, file string, p Purposes, now time.Time) *Gathering {
	return &Gathering{shape: s, file: file, entries: map[string]*slot{}, purposes: p, now: now}
}

func (g *Gathering) wrong(e *Entry, what string, args ...any) error {
	w := fmt.Sprintf(what, args...)
	if e.Line == 0 {
		w = format.Clip(e.DN) + ": " + w
	}
	return &format.Error{File: g.file, Line: e.Line, What: w}
}

// Put takes an entry.
func (g *Gathering) Put(e *Entry) error {
	key, err := ldif.Key(e.DN)
	if err != nil {
		return g.wrong(e, "%q: %v", format.Clip(e.DN), err)
	}
	if _, ok := g.entries[key]; ok {
		return g.wrong(e, "%s is there already", format.Clip(e.DN))
	}
	x := &slot{key: key, Entry: e, at: -1}
	g.entries[key] = x
	g.order = append(g.order, x)
	return nil
}

// Record takes an entry of a file, or what one says of a change.
func (g *Gathering) Record(x *ldif.Record) error {
	e := &Entry{DN: x.DN, Line: x.Line}
	if x.Change == ldif.None || x.Change == ldif.Add {
		e.Attrs = make(Attrs, len(x.Parts))
		for i, p := range x.Parts {
			e.Attrs[i] = Attr{p.Name, p.Values}
		}
		return g.Put(e)
	}
	key, err := ldif.Key(x.DN)
	if err != nil {
		return g.wrong(e, "%q: %v", format.Clip(x.DN), err)
	}
	old := g.entries[key]
	if old == nil {
		return g.wrong(e, "%s isn't there to be changed", format.Clip(x.DN))
	}
	switch x.Change {
	case ldif.Delete:
		old.Entry = nil
		delete(g.entries, key)
	case ldif.Modify:
		for _, p := range x.Parts {
			has := old.Attrs.Of(p.Name)
			switch {
			case p.Do == ldif.Delete && len(p.Values) == 0:
				old.Attrs.Set(p.Name, nil)
			case p.Do == ldif.Modify:
				old.Attrs.Set(p.Name, p.Values)
			case p.Do == ldif.Add:
				old.Attrs.Set(p.Name, append(slices.Clone(has), p.Values...))
			default:
				gone := map[string]bool{}
				for _, v := range p.Values {
					gone[same(v)] = true
				}
				old.Attrs.Set(p.Name, slices.DeleteFunc(slices.Clone(has), func(v string) bool { return gone[same(v)] }))
			}
		}
	case ldif.Rename:
		return g.rename(e, key, x)
	}
	return nil
}

// Know tells of somebody who was read before, and isn't now: who lists them as a
// member means that account.
func (g *Gathering) Know(dn string, a account.Account) error {
	key, err := ldif.Key(dn)
	if err != nil {
		return g.wrong(&Entry{DN: dn}, "%q: %v", format.Clip(dn), err)
	}
	if g.known == nil {
		g.known = map[string]account.Account{}
	}
	g.known[key] = a
	return nil
}

// Unknown tells whether anything that was gathered lists members, so that it is to
// know who was read before.
func (g *Gathering) Unknown() bool {
	for _, x := range g.order {
		for _, attr := range g.shape.Lists() {
			if x.Entry != nil && len(x.Attrs.Of(attr)) > 0 {
				return true
			}
		}
	}
	return false
}

// same gives a value as it is compared: names by their key.
func same(v string) string {
	if k, err := ldif.Key(v); err == nil && strings.Contains(v, "=") {
		return k
	}
	return strings.ToLower(v)
}

// rename gives an entry, and everything below it, another name; who lists it as
// a member lists the new one, as directories keep it.
func (g *Gathering) rename(e *Entry, key string, x *ldif.Record) error {
	levels, err := ldif.Split(key)
	if err != nil || len(levels) == 0 {
		return g.wrong(e, "%s has no part that could change", format.Clip(x.DN))
	}
	above := ldif.Join(levels[1:])
	_, up, _ := strings.Cut(x.DN, ",")
	if x.Moves {
		if above, err = ldif.Key(x.NewSuperior); err != nil {
			return g.wrong(e, "newsuperior %q: %v", format.Clip(x.NewSuperior), err)
		}
		up = x.NewSuperior
	}
	first, err := ldif.Key(x.NewRDN)
	if err != nil || first == "" {
		return g.wrong(e, "newrdn %q: it is not part of a name", format.Clip(x.NewRDN))
	}
	to := first
	if above != "" {
		to += "," + above
	}
	if _, ok := g.entries[to]; ok && to != key {
		return g.wrong(e, "%s is there already", format.Clip(x.NewRDN))
	}
	moved := map[string]string{}
	for _, n := range g.order {
		k := n.key
		if n.Entry == nil || k != key && !strings.HasSuffix(k, ","+key) {
			continue
		}
		now := strings.TrimSuffix(k, key) + to
		moved[k] = now
		delete(g.entries, k)
		n.key, g.entries[now] = now, n
		if k == key {
			n.DN = x.NewRDN
			if up != "" {
				n.DN += "," + up
			}
			if typ, v, ok := strings.Cut(x.NewRDN, "="); ok {
				n.Attrs.Set(typ, []string{v})
			}
		} else {
			n.DN = now
		}
	}
	for _, n := range g.entries {
		for _, attr := range g.shape.Members {
			values := n.Attrs.Of(attr)
			for i, v := range values {
				if k, err := ldif.Key(v); err == nil && moved[k] != "" {
					values[i] = moved[k]
				}
			}
		}
	}
	return nil
}
