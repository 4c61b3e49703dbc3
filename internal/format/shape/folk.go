package shape

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
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
	Name   string // in lower case
	Values []string
}

// Of gives the values of an attribute, whose name is in lower case.
func (a Attrs) Of(name string) []string {
	for i := range a {
		if a[i].Name == name {
			return a[i].Values
		}
	}
	return nil
}

// Set gives an attribute other values; none: it goes.
func (a *Attrs) Set(name string, values []string) {
	i := slices.IndexFunc(*a, func(x Attr) bool { return x.Name == name })
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

// first gives the first value of an attribute, whose name is in lower case.
func (e *Entry) first(attr string) string {
	if v := e.Attrs.Of(attr); attr != "" && len(v) > 0 {
		return v[0]
	}
	return ""
}

// Purposes says which groups are for what: patterns of names, or attribute=value.
type Purposes struct {
	Role, Access, Mail []string
}

// Person is a user or a group of a directory.
type Person struct {
	account.Account
	DN    string
	Line  int
	First int64  // gid of a user's first group; account.NoPOSIX: not said
	Shut  string // disabled or expired; empty: he can sign on
	Known bool   // it wasn't read now: others name it as a member
}

// Folk is everybody in a directory.
type Folk struct {
	People  []Person
	Members [][2]int32 // group, member: places in People
	// Left counts what was left out: computers, names elsewhere, and the like.
	Left    map[string]int
	Changed string // the highest of what grows with every change
	Former  bool   // the shape tells of identifiers that accounts had elsewhere
	Until   int64  // when somebody expires next who hasn't yet: seconds since 1970; 0: nobody does
}

// Gathering gathers entries.
type Gathering struct {
	shape    Shape
	low      Shape // with the names of attributes in lower case
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
	return &Gathering{shape: s, low: s.lower(), file: file, entries: map[string]*slot{}, purposes: p, now: now}
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

// Know tells of somebody who was read before, and isn't now: who lists him as a
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
		for _, attr := range append(slices.Clone(g.low.Members), g.low.MemberIDs...) {
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
		return g.wrong(e, "newrdn %q: it is no part of a name", format.Clip(x.NewRDN))
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
				n.Attrs.Set(strings.ToLower(typ), []string{v})
			}
		} else {
			n.DN = now
		}
	}
	for _, n := range g.entries {
		for _, attr := range g.low.Members {
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

const (
	disabledBit = 0x2         // ADS_UF_ACCOUNTDISABLE ([MS-ADTS] §2.2.16)
	securityBit = 0x80000000  // GROUP_TYPE_SECURITY_ENABLED (§2.2.12)
	sinceSystem = 11644473600 // seconds from 1601 to 1970
)

func (g *Gathering) is(e *Entry, classes []string) bool {
	for _, c := range e.Attrs.Of("objectclass") {
		if slices.ContainsFunc(classes, func(o string) bool { return strings.EqualFold(o, c) }) {
			return true
		}
	}
	return false
}

// Folk makes people and memberships of what was gathered.
func (g *Gathering) Folk() (*Folk, error) {
	s := &g.low
	out := &Folk{Former: s.History != "", Left: map[string]int{}, People: make([]Person, 0, len(g.order))}
	known := map[string]int32{} // who was read before: by key of the name
	byName := map[string]int32{}
	var from []*Entry
	for _, x := range g.order {
		e := x.Entry
		if e == nil {
			continue
		}
		p := Person{DN: e.DN, Line: e.Line, First: account.NoPOSIX, Account: account.Account{POSIX: account.NoPOSIX}}
		switch {
		case g.is(e, s.Leave):
			out.Left["computers"]++
			continue
		case g.is(e, s.User):
			p.Kind = account.User
		case g.is(e, s.Group):
			p.Kind = account.Group
		default:
			out.Left["entries of other kinds"]++
			continue
		}
		ends, err := g.fill(&p, e)
		if err != nil {
			return nil, err
		}
		if ends > 0 && (out.Until == 0 || ends < out.Until) {
			out.Until = ends
		}
		if p.Name == "" {
			out.Left["entries without a name"]++
			continue
		}
		x.at = int32(len(out.People))
		if p.Kind == account.User && len(s.MemberIDs) > 0 {
			byName[strings.ToLower(p.Name)] = int32(len(out.People))
		}
		out.People = append(out.People, p)
		from = append(from, e)
		if c := e.first(s.Changed); later(c, out.Changed) {
			out.Changed = strings.Clone(c)
		}
	}
	knownName := map[string]string{} // of users, the key of the name
	for key, a := range g.known {
		if a.Kind == account.User {
			knownName[strings.ToLower(a.Name)] = key
		}
	}
	know := func(key string) (int32, bool) {
		if at, ok := known[key]; ok {
			return at, true
		}
		a, ok := g.known[key]
		if !ok {
			return 0, false
		}
		known[key] = int32(len(out.People))
		out.People = append(out.People, Person{Account: a, First: account.NoPOSIX, Known: true})
		return known[key], true
	}
	n := 0
	for _, e := range from {
		for _, attr := range append(slices.Clone(s.Members), s.MemberIDs...) {
			n += len(e.Attrs.Of(attr))
		}
	}
	out.Members = make([][2]int32, 0, n)
	seen := map[[2]int32]bool{}
	join := func(group int, member int32) {
		pair := [2]int32{int32(group), member}
		if !seen[pair] {
			seen[pair] = true
			out.Members = append(out.Members, pair)
		}
	}
	var key []byte
	var err error
	for i, e := range from {
		if out.People[i].Kind != account.Group {
			continue
		}
		clear(seen)
		for _, attr := range s.Members {
			for _, dn := range e.Attrs.Of(attr) {
				if dn == "" {
					continue
				}
				if key, err = ldif.AppendKey(key[:0], dn); err != nil {
					out.Left["members whose names are no names"]++
					continue
				}
				x := g.entries[string(key)]
				if x != nil && x.at >= 0 {
					join(i, x.at)
				} else if m, ok := know(string(key)); ok {
					join(i, m)
				} else if x != nil {
					out.Left["members of other kinds"]++
				} else {
					out.Left["members that aren't there"]++
				}
			}
		}
		for _, attr := range s.MemberIDs {
			for _, name := range e.Attrs.Of(attr) {
				if m, ok := byName[strings.ToLower(name)]; ok {
					join(i, m)
				} else if m, ok := know(knownName[strings.ToLower(name)]); ok {
					byName[strings.ToLower(name)] = m
					join(i, m)
				} else {
					out.Left["members that aren't there"]++
				}
			}
		}
	}
	return out, nil
}

// later compares what grows with every change: numbers by value, times by text.
func later(a, b string) bool {
	x, err1 := strconv.ParseUint(a, 10, 64)
	y, err2 := strconv.ParseUint(b, 10, 64)
	if err1 == nil && err2 == nil {
		return x > y
	}
	return a > b
}

// mostFormer is how many identifiers an account may have had; a token holds about
// a thousand ([MS-KILE] §3.3.5.6.4.1).
const mostFormer = 1000

// identifier reads one in binary, or in text.
func identifier(v string) (account.ID, error) {
	id, n, err := account.FromBinary([]byte(v))
	if err != nil || n != len(v) {
		return account.ParseID(v)
	}
	return id, nil
}

// fill gives a person what an entry says of it, and tells when it expires; 0:
// never, or it has.
func (g *Gathering) fill(p *Person, e *Entry) (until int64, err error) {
	s, low := &g.shape, &g.low
	names := low.UserName
	if p.Kind == account.Group {
		names = low.GroupName
	}
	for _, a := range names {
		if p.Name = e.first(a); p.Name != "" {
			break
		}
	}
	p.Name = strings.Clone(p.Name) // and nothing of the rest of the entry, which may be long
	number := func(attr, low string, bits int) (int64, error) {
		v := e.first(low)
		if v == "" {
			return account.NoPOSIX, nil
		}
		n, err := strconv.ParseInt(v, 10, 64)
		if err != nil || bits == 32 && (n < 0 || n >= 1<<32-1) {
			return 0, g.wrong(e, "%s: %q is no number for it", attr, format.Clip(v))
		}
		return n, nil
	}
	if v := e.first(low.SID); v != "" {
		if p.ID, err = identifier(v); err != nil {
			return 0, g.wrong(e, "%s: it is no identifier", s.SID)
		}
	}
	if s.History != "" {
		var former []account.ID
		for _, v := range e.Attrs.Of(low.History) {
			id, err := identifier(v)
			if err != nil {
				return 0, g.wrong(e, "%s: it is no identifier", s.History)
			}
			if id != p.ID {
				former = append(former, id)
			}
		}
		if len(former) > mostFormer {
			return 0, g.wrong(e, "%s: more than %d", s.History, mostFormer)
		}
		p.Former = account.NewFormer(former)
	}
	id, lowID := s.UID, low.UID
	if p.Kind == account.Group {
		id, lowID = s.GID, low.GID
	}
	if id != "" {
		if p.POSIX, err = number(id, lowID, 32); err != nil {
			return 0, err
		}
	}
	if p.Kind == account.User && s.GID != "" {
		if p.First, err = number(s.GID, low.GID, 32); err != nil {
			return 0, err
		}
	}
	if p.Kind == account.User && s.FirstRID != "" {
		rid, err := number(s.FirstRID, low.FirstRID, 32)
		if err != nil {
			return 0, err
		}
		if d, _, ok := p.ID.Domain(); ok && rid != account.NoPOSIX {
			p.Primary = d.Child(uint32(rid))
		}
	}
	if p.Kind == account.Group {
		p.Purpose = g.purpose(p.Name, e)
	}
	if s.Type != "" && p.Kind == account.Group {
		n, err := number(s.Type, low.Type, 64)
		if err != nil {
			return 0, err
		}
		if n != account.NoPOSIX && uint32(n)&securityBit == 0 {
			p.Purpose = account.Mail // whatever it is called: it is in no token
		}
	}
	if p.Kind == account.Group {
		return 0, nil
	}
	if n, err := number(s.Control, low.Control, 64); err != nil {
		return 0, err
	} else if s.Control != "" && n != account.NoPOSIX && n&disabledBit != 0 {
		p.Shut = "disabled"
	}
	ends := func(at time.Time) {
		switch {
		case !g.now.Before(at):
			p.Shut = cmp.Or(p.Shut, "expired")
		case until == 0 || at.Unix() < until:
			until = at.Unix()
		}
	}
	if n, err := number(s.Ends, low.Ends, 64); err != nil {
		return 0, err
	} else if s.Ends != "" && n > 0 && n != 1<<63-1 { // both ends of the range: never
		ends(time.Unix(n/10_000_000-sinceSystem, 0))
	}
	if n, err := number(s.EndsDay, low.EndsDay, 64); err != nil {
		return 0, err
	} else if s.EndsDay != "" && n > 0 && n < 1<<24 {
		ends(time.Unix(n*86400, 0))
	}
	return until, nil
}

// purpose tells what a group is for, by the first pattern that fits.
func (g *Gathering) purpose(name string, e *Entry) account.Purpose {
	fits := func(list []string) bool {
		for _, p := range list {
			if attr, want, ok := strings.Cut(p, "="); ok {
				if slices.ContainsFunc(e.Attrs.Of(strings.ToLower(attr)), func(v string) bool { yes, _ := path.Match(strings.ToLower(want), strings.ToLower(v)); return yes }) {
					return true
				}
				continue
			}
			if yes, _ := path.Match(strings.ToLower(p), strings.ToLower(name)); yes {
				return true
			}
		}
		return false
	}
	switch {
	case fits(g.purposes.Mail):
		return account.Mail
	case fits(g.purposes.Role):
		return account.Role
	case fits(g.purposes.Access):
		return account.Access
	}
	return account.Unsaid
}

// Good checks the patterns.
func (p *Purposes) Good() error {
	for _, l := range [][]string{p.Role, p.Access, p.Mail} {
		for _, x := range l {
			if _, want, ok := strings.Cut(x, "="); ok {
				x = want
			}
			if _, err := path.Match(strings.ToLower(x), ""); err != nil {
				return fmt.Errorf("%q is no pattern", format.Clip(x))
			}
		}
	}
	return nil
}

// Attributes lists the attributes that patterns look at.
func (p *Purposes) Attributes() (out []string) {
	for _, l := range [][]string{p.Role, p.Access, p.Mail} {
		for _, x := range l {
			if attr, _, ok := strings.Cut(x, "="); ok {
				out = append(out, attr)
			}
		}
	}
	return out
}
