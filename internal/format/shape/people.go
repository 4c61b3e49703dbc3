package shape

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"tarnwold/core/account"
	"tarnwold/internal/format"
	"tarnwold/internal/format/ldif"
)

// Purposes says which groups are for what: patterns of names, or attribute=value.
type Purposes struct {
	Role   []string `json:"role,omitempty"`
	Access []string `json:"access,omitempty"`
	Mail   []string `json:"mail,omitempty"`
}

// Person is a user or a group of a directory.
type Person struct {
	account.Account
	DN    string
	Line  int
	First int64  // gid of a user's first group; account.NoPOSIX: not said
	Shut  string // why they can't sign on: disabled, expired, locked out and so on; empty: they can
	// Limits says how else their signing on is limited; empty: it isn't.
	Limits string
	Has    account.Claims // those that the shape tells of
	// Details are those that the shape tells of; the manager is the first part of a name in
	// the directory, where Manager isn't somebody's place in People (-1).
	Details format.Details
	Manager int32
	Known   bool // it wasn't read now: others name it as a member
}

// People is everybody in a directory.
type People struct {
	People  []Person
	Members [][2]int32 // group, member: places in People
	// Left counts what was left out: computers, names elsewhere, and the like.
	Left    map[string]int
	Changed string   // the highest of what grows with every change
	Former  bool     // the shape tells of identifiers that accounts had elsewhere
	Claims  []Claim  // it tells of these claims of users, and of no others
	Details []string // and of these details
	// Until is when somebody's state changes next without a word of the directory: who
	// hasn't yet expires, or a lock may end. Seconds since 1970; 0: nobody's.
	Until int64
}

const (
	disabledBit = 0x2         // ADS_UF_ACCOUNTDISABLE ([MS-ADTS] §2.2.16)
	lockedBit   = 0x10        // ADS_UF_LOCKOUT, told in the state alone
	neverBit    = 0x10000     // ADS_UF_DONT_EXPIRE_PASSWD
	outrunBit   = 0x800000    // ADS_UF_PASSWORD_EXPIRED, told in the state alone
	lockLasts   = 60          // seconds until a lock is looked at again: how long one lasts isn't told
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

// People makes people and memberships of what was gathered.
func (g *Gathering) People() (*People, error) {
	s := &g.shape
	out := &People{Former: s.History != "", Claims: s.Claims, Details: s.told(), Left: map[string]int{}, People: make([]Person, 0, len(g.order))}
	known := map[string]int32{} // who was read before: by key of the name
	byName := map[string]int32{}
	var from []*Entry
	for _, x := range g.order {
		e := x.Entry
		if e == nil {
			continue
		}
		p := Person{DN: e.DN, Line: e.Line, Manager: -1, First: account.NoPOSIX, Account: account.Account{POSIX: account.NoPOSIX}}
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
		out.People = append(out.People, Person{Account: a, Manager: -1, First: account.NoPOSIX, Known: true})
		return known[key], true
	}
	// A member of another domain, or a special account, is named by its identifier
	// alone ([MS-ADTS] §6.1.1.4.13).
	foreign := func(dn string) (int32, bool) {
		first := ldif.First(dn)
		id, err := account.ParseID(first)
		if err != nil || s.SID == "" || !strings.HasPrefix(first, "S-1-") {
			return 0, false
		}
		at, ok := known[id.String()]
		if !ok {
			at = int32(len(out.People))
			known[id.String()] = at
			out.People = append(out.People, Person{Account: account.Account{ID: id, POSIX: account.NoPOSIX}, Manager: -1, First: account.NoPOSIX, Known: true})
		}
		return at, true
	}
	n := 0
	for _, e := range from {
		for _, attr := range s.Lists() {
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
	boss := s.details()["manager"]
	for i, e := range from {
		if out.People[i].Kind != account.Group {
			if dn := e.first(boss); dn != "" {
				if key, err = ldif.AppendKey(key[:0], dn); err != nil {
					continue
				}
				if x := g.entries[string(key)]; x != nil && x.at >= 0 {
					out.People[i].Manager = x.at
				} else if at, ok := know(string(key)); ok {
					out.People[i].Manager = at
				}
			}
			continue
		}
		clear(seen)
		for _, attr := range s.Members {
			for _, dn := range e.Attrs.Of(attr) {
				if dn == "" {
					continue
				}
				if key, err = ldif.AppendKey(key[:0], dn); err != nil {
					out.Left["members whose names can't be read"]++
					continue
				}
				x := g.entries[string(key)]
				if x != nil && x.at >= 0 {
					join(i, x.at)
				} else if m, ok := know(string(key)); ok {
					join(i, m)
				} else if m, ok := foreign(dn); ok {
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
	s := &g.shape
	names := s.UserName
	if p.Kind == account.Group {
		names = s.GroupName
	}
	for _, a := range names {
		if p.Name = e.first(a); p.Name != "" {
			break
		}
	}
	p.Name = strings.Clone(p.Name) // and nothing of the rest of the entry, which may be long
	number := func(attr string, bits int) (int64, error) {
		v := e.first(attr)
		if v == "" {
			return account.NoPOSIX, nil
		}
		n, err := strconv.ParseInt(v, 10, 64)
		if err != nil || bits == 32 && (n < 0 || n >= 1<<32-1) {
			return 0, g.wrong(e, "%s: %q is not a number for it", attr, format.Clip(v))
		}
		return n, nil
	}
	if v := e.first(s.SID); v != "" {
		if p.ID, err = identifier(v); err != nil {
			return 0, g.wrong(e, "%s: it is not an identifier", s.SID)
		}
	}
	if s.History != "" {
		var former []account.ID
		for _, v := range e.Attrs.Of(s.History) {
			id, err := identifier(v)
			if err != nil {
				return 0, g.wrong(e, "%s: it is not an identifier", s.History)
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
	id := s.UID
	if p.Kind == account.Group {
		id = s.GID
	}
	if id != "" {
		if p.POSIX, err = number(id, 32); err != nil {
			return 0, err
		}
	}
	if p.Kind == account.User && s.GID != "" {
		if p.First, err = number(s.GID, 32); err != nil {
			return 0, err
		}
	}
	if p.Kind == account.User && s.FirstRID != "" {
		rid, err := number(s.FirstRID, 32)
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
		n, err := number(s.Type, 64)
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
	g.details(p, e)
	ends := func(at time.Time) {
		if day := at.UTC().Format(time.DateOnly); p.Details.Ends == "" || day < p.Details.Ends {
			p.Details.Ends = day
		}
		switch {
		case !g.now.Before(at):
			p.Shut = cmp.Or(p.Shut, "expired")
		case until == 0 || at.Unix() < until:
			until = at.Unix()
		}
	}
	if err := g.claims(p, e); err != nil {
		return 0, err
	}
	locked, err := g.state(p, e, number)
	if err != nil {
		return 0, err
	}
	if locked {
		until = g.now.Unix() + lockLasts
	}
	if n, err := number(s.Ends, 64); err != nil {
		return 0, err
	} else if s.Ends != "" && n > 0 && n != 1<<63-1 { // both ends of the range: never
		ends(time.Unix(n/10_000_000-sinceSystem, 0))
	}
	if n, err := number(s.EndsDay, 64); err != nil {
		return 0, err
	} else if s.EndsDay != "" && n > 0 && n < 1<<24 {
		ends(time.Unix(n*86400, 0))
	}
	return until, nil
}

// told lists which details a shape tells of.
func (s *Shape) told() (names []string) {
	format.EachDetail(func(name, _ string) {
		if s.details()[name] != "" || name == "ends" && s.Ends+s.EndsDay != "" {
			names = append(names, name)
		}
	})
	return names
}

// details gives a user those that the shape tells of; what can't be kept is left out, for
// a directory may say anything there.
func (g *Gathering) details(p *Person, e *Entry) {
	for name, attr := range g.shape.details() {
		text := strings.TrimSpace(e.first(attr))
		if name == "manager" && text != "" {
			text = ldif.First(text)
		}
		if text != "" && format.GoodDetail(name, text) == nil {
			*p.Details.Of(name) = strings.Clone(text)
		}
	}
}

// mostValues is how many values a claim may have.
const mostValues = 1000

// claims gives a user those that the shape tells of.
func (g *Gathering) claims(p *Person, e *Entry) error {
	has := map[string]account.Claim{}
	for _, from := range g.shape.Claims {
		one := has[strings.ToLower(from.Name)]
		for _, text := range e.Attrs.Of(from.Attribute) {
			v, err := from.value(text)
			if err != nil {
				return g.wrong(e, "%s, for claim %s: %v", from.Attribute, from.Name, err)
			}
			if !slices.Contains(one.Values, v) {
				one.Values = append(one.Values, v)
			}
		}
		if len(one.Values) > mostValues {
			return g.wrong(e, "%s: more than %d values", from.Attribute, mostValues)
		}
		if len(one.Values) > 0 {
			has[strings.ToLower(from.Name)] = one
		}
	}
	p.Has = account.NewClaims(has)
	return nil
}

// value reads a value as directories have it.
func (c *Claim) value(text string) (v account.Value, err error) {
	switch c.Kind {
	case account.BoolClaim: // RFC 4517 §3.3.3
		text = map[string]string{"TRUE": "yes", "FALSE": "no"}[strings.ToUpper(text)]
	case account.SIDClaim:
		id, err := identifier(text)
		return account.Value{Kind: c.Kind, ID: id}, err
	case account.OctetClaim:
		return account.Value{Kind: c.Kind, Text: text}, nil
	case account.TextClaim:
		if !utf8.ValidString(text) {
			return v, fmt.Errorf("it is not text in UTF-8")
		}
	}
	return account.ParseValue(c.Kind, text)
}

// state gives a user what keeps them from signing on now, but for the end of their
// account, and tells whether they are locked out, which ends by itself.
func (g *Gathering) state(p *Person, e *Entry, number func(string, int) (int64, error)) (locked bool, err error) {
	s := &g.shape
	var bits, now, set int64
	for _, x := range []struct {
		attr string
		to   *int64
	}{{s.Control, &bits}, {s.State, &now}, {s.PassSet, &set}} {
		if *x.to, err = number(x.attr, 64); err != nil {
			return false, err
		}
	}
	told, stated := bits != account.NoPOSIX, now != account.NoPOSIX
	locked = stated && now&lockedBit != 0
	switch {
	case told && bits&disabledBit != 0:
		p.Shut = "disabled"
	case locked:
		p.Shut = "locked out"
	case set == 0 && (stated && now&outrunBit != 0 || !stated && told && bits&neverBit == 0):
		p.Shut = "the password has to be changed first"
	case stated && now&outrunBit != 0:
		p.Shut = "the password has expired"
	}
	if hours := e.first(s.Hours); len(hours) == weekBytes {
		switch {
		case strings.Count(hours, "\x00") == weekBytes:
			p.Shut = cmp.Or(p.Shut, "at no hour of the week")
		case strings.Count(hours, "\xff") != weekBytes:
			p.Limits = "at certain hours of the week"
		}
	}
	return locked && p.Shut == "locked out", nil
}

// weekBytes holds a bit for each hour of a week.
const weekBytes = 168 / 8

// purpose tells what a group is for, by the first pattern that fits.
func (g *Gathering) purpose(name string, e *Entry) account.Purpose {
	fits := func(list []string) bool {
		for _, p := range list {
			if attr, want, ok := strings.Cut(p, "="); ok {
				if slices.ContainsFunc(e.Attrs.Of(attr), func(v string) bool { yes, _ := path.Match(strings.ToLower(want), strings.ToLower(v)); return yes }) {
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
				return fmt.Errorf("%q is not a pattern", format.Clip(x))
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
