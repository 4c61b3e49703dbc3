package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Keeper is an account that decides over the members of some groups, or over
// the rules at and below a place.
type Keeper struct {
	Who   string `json:"who"` // an identifier
	Name  string `json:"account"`
	Of    string `json:"of"`              // group:PATTERN, or the server's own path
	Place string `json:"place,omitempty"` // as it was named
}

func (k *Keeper) group() (pattern string, ok bool) { return strings.CutPrefix(k.Of, "group:") }

func (k *Keeper) id() ID {
	id, _ := acc.ParseID(k.Who)
	return id
}

// Keepers lists who keeps what, oldest first.
func Keepers(t *estate.Tx) ([]Keeper, error) {
	out, err := papersAs[Keeper](t, estate.KeeperPaper)
	for i := range out {
		if a, ok := t.Account(out[i].id()); ok {
			out[i].Name = t.Name(a.ID)
		}
	}
	return out, err
}

// keeperNames lists keepers by name, each once.
func keeperNames(list []Keeper) []string {
	out := []string{}
	for _, k := range list {
		if !slices.Contains(out, k.Name) {
			out = append(out, k.Name)
		}
	}
	return out
}

// keeping reads who keeps what.
func (d *Desk) keeping(who, of string) (Keeper, error) {
	a, err := d.t.Named(who, 0)
	if err != nil {
		return Keeper{}, err
	}
	k := Keeper{Who: a.ID.String(), Name: d.t.Name(a.ID)}
	if pattern, ok := strings.CutPrefix(of, "group:"); ok {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
			return k, &estate.Refused{Why: fmt.Sprintf("%q is no pattern of groups", of), Do: "write group:NAME, * and ? standing for any signs"}
		}
		k.Of = "group:" + estate.Key(pattern)
		k.Place = "group:" + pattern
		if !strings.ContainsAny(pattern, `*?[\`) {
			if _, err := d.t.Named("group:"+pattern, acc.Group); err != nil {
				return k, err
			}
		}
		return k, nil
	}
	if !place.Whole(of) {
		return k, &estate.Refused{Why: fmt.Sprintf("%q is neither a place nor groups", of), Do: "write an address, or group:NAME (quoted, where a pattern is in it)"}
	}
	at, err := d.k.Place(of)
	if err != nil {
		return k, err
	}
	k.Of, k.Place = at.By(nil).String(), at.Via()
	return k, nil
}

func (k *Keeper) key() string { return k.Who + " " + k.Of }

func (k *Keeper) edit(sign string) Edit {
	return Edit{Kind: "keeper", Where: k.said(), Lines: []Line{{Sign: sign, What: "keeper", Text: k.Name}}}
}

// said says what is kept.
func (k *Keeper) said() string {
	if pattern, ok := k.group(); ok {
		if k.Place != "" {
			pattern = strings.TrimPrefix(k.Place, "group:")
		}
		return "members of group " + pattern
	}
	return "rules of " + k.Place
}

// AddKeeper makes an account keep groups or places, one or several.
func (d *Desk) AddKeeper(who string, of []string) (*Plan, error) {
	p := d.begin("")
	p.Asks = false
	var said []string
	for _, x := range of {
		k, err := d.keeping(who, x)
		if err != nil {
			return nil, err
		}
		said = append(said, "the "+k.said())
		p.Change = k.Name + " keeps " + many(said)
		p.Nothing = k.Name + " keeps that already"
		before := d.t.Paper(estate.KeeperPaper, k.key())
		if before != "" || p.hasPaper(estate.KeeperPaper, k.key()) {
			continue
		}
		if err := p.paper(estate.KeeperPaper, k.key(), before, k, k.edit("comes")); err != nil {
			return nil, err
		}
	}
	return d.finish(p)
}

// hasPaper tells whether a plan writes something down already.
func (p *Plan) hasPaper(kind estate.PaperKind, key string) bool {
	return slices.ContainsFunc(p.work.papers, func(e paperEdit) bool { return e.kind == kind && e.name == key })
}

// RemoveKeeper ends that.
func (d *Desk) RemoveKeeper(who string, of []string) (*Plan, error) {
	p := d.begin("")
	p.Asks = false
	var said []string
	for _, x := range of {
		k, err := d.keeping(who, x)
		if err != nil {
			return nil, err
		}
		before := d.t.Paper(estate.KeeperPaper, k.key())
		if before == "" {
			return nil, d.keepsNot(&k)
		}
		if p.hasPaper(estate.KeeperPaper, k.key()) {
			continue
		}
		said = append(said, "the "+k.said())
		p.Change = k.Name + " keeps " + many(said) + " no more"
		if err := p.paper(estate.KeeperPaper, k.key(), before, nil, k.edit("goes")); err != nil {
			return nil, err
		}
	}
	return d.finish(p)
}

// keepsNot refuses to end what isn't, and says what is.
func (d *Desk) keepsNot(k *Keeper) error {
	all, err := Keepers(d.t)
	if err != nil {
		return err
	}
	var has []string
	for _, o := range all {
		if o.Who == k.Who {
			has = append(has, o.said())
		}
	}
	why := fmt.Sprintf("%s doesn't keep the %s", k.Name, k.said())
	if len(has) > 0 {
		why += ", but the " + many(has)
	}
	return &estate.Refused{Why: why}
}

// keeps knows who decides over what.
type keeps struct {
	d      *Desk
	all    []Keeper
	held   map[ID]*acc.Token
	people *acc.Directory // read once it is asked for
}

func (d *Desk) keeps() (*keeps, error) {
	all, err := Keepers(d.t)
	return &keeps{d: d, all: all, held: map[ID]*acc.Token{}}, err
}

// is tells whether a user is a keeper's account, or in it.
func (k *keeps) is(user ID, keepers []Keeper) bool {
	if user.IsZero() {
		return false
	}
	tok := k.held[user]
	if tok == nil {
		tok = acc.NewToken(k.d.t, user, acc.Traits{})
		k.held[user] = tok
	}
	return slices.ContainsFunc(keepers, func(o Keeper) bool { return tok.Has(o.id()) })
}

// group gives the keepers of a group; a group named as it is before patterns.
func (k *keeps) group(name string) (out []Keeper) {
	key := estate.Key(name)
	for _, exact := range []bool{true, false} {
		for _, o := range k.all {
			pattern, ok := o.group()
			if !ok || (pattern == key) != exact {
				continue
			}
			if fits, _ := path.Match(pattern, key); fits || exact {
				out = append(out, o)
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}

// place gives the keepers of a place: those of the nearest folder that has any,
// itself or above.
func (k *keeps) place(where string) (out []Keeper) {
	a, err := place.ParsePlain(where)
	if err != nil {
		return nil
	}
	longest := -1
	for _, o := range k.all {
		if _, ok := o.group(); ok {
			continue
		}
		b, err := place.ParsePlain(o.Of)
		if err != nil || estate.Key(b.Server) != estate.Key(a.Server) || !place.Under(estate.Key(a.Path), estate.Key(b.Path)) {
			continue
		}
		switch n := len(b.Path); {
		case n > longest:
			longest, out = n, []Keeper{o}
		case n == longest:
			out = append(out, o)
		}
	}
	return out
}

// server gives everybody who keeps a place of a server.
func (k *keeps) server(name string) (out []Keeper) {
	for _, o := range k.all {
		a, err := place.ParsePlain(o.Of)
		if _, group := o.group(); !group && err == nil && estate.Key(a.Server) == estate.Key(name) {
			out = append(out, o)
		}
	}
	return out
}

// keepersHold warns where who acts is no keeper of what a plan changes.
func (d *Desk) keepersHold(p *Plan) error {
	k, err := d.keeps()
	if err != nil || len(k.all) == 0 && len(p.work.papers) == 0 {
		return err
	}
	w := &p.work
	actor, _ := d.actor()
	warned := map[string]bool{}
	hold := func(said string, keepers []Keeper) {
		if len(keepers) == 0 || warned[said] || k.is(actor.ID, keepers) {
			return
		}
		warned[said] = true
		p.Warnings = append(p.Warnings, Warning{Guard: "kept", Users: keeperNames(keepers), Where: said})
	}
	// Who is in a group is in all the groups that it is in; where it has keepers
	// they say who, and else those of the groups above.
	climbed := map[ID]bool{}
	var group func(a account)
	group = func(a account) {
		if len(k.all) == 0 || climbed[a.ID] {
			return
		}
		climbed[a.ID] = true
		if keepers := k.group(a.Name); len(keepers) > 0 {
			hold("the members of "+d.accountName(a), keepers)
			return
		}
		for _, up := range d.t.GroupsOf(a.ID) {
			if in, ok := d.t.Account(up); ok {
				group(in)
			}
		}
	}
	at := func(where string) { hold("the rules of "+where, k.place(where)) }
	for _, e := range w.members {
		group(*e.group)
	}
	for _, e := range w.accounts { // a first group counts as any other
		var was, is ID
		if e.before != nil {
			was = e.before.Primary
		}
		if e.after != nil {
			is = e.after.Primary
		}
		if was == is {
			continue
		}
		for _, g := range []ID{was, is} {
			if a, ok := d.t.Account(g); ok {
				group(a)
			}
		}
	}
	for _, e := range w.admins {
		hold("places of "+e.server.Name+", whose administrators pass their rules", k.server(e.server.Name))
	}
	for _, s := range w.goes {
		for _, o := range k.server(s.Name) {
			hold("the rules of "+o.Place+", which goes with its server", k.place(o.Of))
		}
	}
	if len(w.goes) > 0 { // all else goes with it
		return d.t.Err()
	}
	for _, e := range w.servers {
		if e.before != nil && e.after != nil {
			hold("places of "+e.before.Name+", which its traits decide over", k.server(e.before.Name))
		}
	}
	for _, e := range w.shares {
		for _, sh := range []*estate.Share{e.before, e.after} {
			if sh != nil {
				at(estate.Place{Server: e.server, Path: sh.Folder}.String())
			}
		}
	}
	if f := w.forest; f != nil && len(k.all) > 0 {
		for _, n := range w.named {
			node := &f.Nodes[n]
			dated := slices.ContainsFunc(w.dates, func(e dateEdit) bool { return e.node == n })
			if !node.Changed() && !dated {
				continue
			}
			if f.Strand(n) == 0 {
				at(strings.TrimPrefix(d.where(p, n), "in "))
				continue
			}
			if err := f.Each(d.t, n, func(item int64) error {
				at(d.t.Where(item))
				return d.ctx.Err()
			}); err != nil {
				return err
			}
		}
		below := func(where string) { // what is kept within what moves or goes
			for _, o := range k.all {
				if _, group := o.group(); !group && underPlace(o.Of, where) {
					hold("the rules of "+o.Place, k.place(o.Of))
				}
			}
		}
		for _, m := range w.moved {
			at(d.t.Where(m.item))
			at(d.t.Where(m.folder))
			below(d.t.Where(m.item))
		}
		for i, item := range w.removed {
			if i < 1000 {
				at(d.t.Where(item))
				below(d.t.Where(item))
			}
		}
	}
	for _, e := range w.papers {
		if e.kind != estate.KeeperPaper {
			continue
		}
		for _, body := range []string{e.before, e.after} {
			var o Keeper
			if json.Unmarshal([]byte(body), &o) != nil {
				continue
			}
			if pattern, ok := o.group(); ok {
				hold("who keeps the "+o.said(), slices.DeleteFunc(slices.Clone(k.all), func(x Keeper) bool { return x.Of != "group:"+pattern }))
				if !strings.ContainsAny(pattern, `*?[\`) {
					hold("who keeps the "+o.said(), k.group(pattern))
				}
			} else {
				hold("who keeps the "+o.said(), k.place(o.Of))
			}
		}
	}
	for _, x := range p.keepers { // of whom nothing is said yet
		if !slices.ContainsFunc(p.Warnings, func(o Warning) bool {
			return o.Guard == x.Guard && slices.Equal(o.Users, x.Users) && !strings.Contains(o.Where, "members")
		}) {
			p.Warnings = append(p.Warnings, x)
		}
	}
	return d.t.Err()
}

// underPlace tells whether an address is another, or of something below it.
func underPlace(where, top string) bool {
	a, err := place.ParsePlain(where)
	b, berr := place.ParsePlain(top)
	return err == nil && berr == nil && estate.Key(a.Server) == estate.Key(b.Server) && place.Under(estate.Key(a.Path), estate.Key(b.Path))
}

// mostLooked is how many items of one node are looked at for one that is in a
// kept place; where there are more, it is taken that one is.
const mostLooked = 50_000

// keepersOfPlaces warns where a plan changes rules or anybody's access at or
// below a kept place, by whatever edit and from wherever: handed down from a
// folder above, through a share, by traits, by who is in a group. Who is in a
// kept group is its own keepers' to say, whatever that opens. moved tells of each node whether
// anybody's access to it changes.
func (d *Desk) keepersOfPlaces(p *Plan, moved []bool) error {
	k, err := d.keeps()
	if err != nil || p.ends {
		return err
	}
	actor, _ := d.actor()
	w := &p.work
	f := w.forest
	changed, _ := f.Changed()
	if len(w.members) > 0 && changed == 0 && len(w.shares)+len(w.admins)+len(w.servers)+len(w.accounts)+len(w.formers()) == 0 &&
		!slices.ContainsFunc(w.members, func(e memberEdit) bool { return len(k.group(e.group.Name)) == 0 }) {
		return nil
	}
	touched := map[int]bool{}
	for i := range f.Nodes {
		if f.Nodes[i].Changed() || moved[i] {
			touched[i] = true
		}
	}
	if len(touched) == 0 {
		return nil
	}
	said := map[string]bool{}
	for _, o := range k.all {
		if _, group := o.group(); group || said[o.Of] {
			continue
		}
		said[o.Of] = true
		keepers := k.place(o.Of)
		if k.is(actor.ID, keepers) {
			continue
		}
		at, err := d.t.FindText(o.Of)
		if err != nil {
			continue // it is there no more
		}
		in, err := d.touches(p, touched, at, func(where string) bool {
			return underPlace(where, o.Of) && slices.ContainsFunc(k.place(where), func(x Keeper) bool { return x.Of == o.Of })
		})
		if err != nil {
			return err
		}
		if in {
			p.keepers = append(p.keepers, Warning{Guard: "kept", Users: keeperNames(keepers), Where: "who gets in at " + o.Place})
		}
	}
	return d.t.Err()
}

// touches tells whether any of a plan's nodes has an item at or below a place
// that is meant.
func (d *Desk) touches(p *Plan, nodes map[int]bool, top estate.Place, meant func(where string) bool) (bool, error) {
	f := p.work.forest
	here := f.NodeFor(top.Item, top.Strand)
	roots := map[int]root{}
	for _, r := range p.work.roots {
		roots[r.node] = r
	}
	for n := range nodes {
		up := n
		for f.Nodes[up].Parent >= 0 {
			up = f.Nodes[up].Parent
		}
		r, ok := roots[up]
		if !ok || r.server.ID != top.Server.ID {
			continue
		}
		inside := false
		for _, path := range r.path { // as it is, and as it will be
			inside = inside || path != "" && place.Under(estate.Key(path), estate.Key(top.Path))
		}
		if !inside && (here < 0 || !within(f, n, here)) {
			continue
		}
		if f.Strand(n) == 0 {
			if meant(strings.TrimPrefix(d.where(p, n), "in ")) {
				return true, nil
			}
			continue
		}
		looked, found := 0, false
		err := f.Each(d.t, n, func(item int64) error {
			looked++
			if found = looked > mostLooked || meant(d.t.Where(item)); found {
				return errFound
			}
			return d.ctx.Err()
		})
		if found {
			return true, nil
		}
		if err != nil {
			return false, err
		}
	}
	return false, nil
}

var errFound = errors.New("found")

func init() { AddReview(Review{Laid: (*Desk).keepersOfPlaces, Done: (*Desk).governed}) }

// governed asks whether who acts may, on the server and by those who keep what
// the plan changes.
func (d *Desk) governed(p *Plan) error {
	if err := d.mayAct(p); err != nil || p.ends {
		return err
	}
	return d.keepersHold(p)
}

// Duty is two hands in one: somebody who could open a door to himself alone.
type Duty struct {
	// Kind: both-keys (he decides on a group's members and on a place that
	// group opens), own-request, administrator.
	Kind  string   `json:"kind"`
	Who   string   `json:"who"`
	Group string   `json:"group,omitempty"`
	Where string   `json:"where,omitempty"` // the place, or the server
	By    []string `json:"by"`              // the keeperships, or the request
	What  string   `json:"what,omitempty"`  // the entry by which the group opens the place
}

// Duties lists who holds two keys that should be in two hands.
func (d *Desk) Duties() ([]Duty, error) {
	out := []Duty{}
	k, err := d.keeps()
	if err != nil {
		return nil, err
	}
	dir := k.dir()
	users := func(id ID) (names []string) {
		if a, ok := dir.Account(id); ok && a.Kind == acc.User {
			return []string{d.t.Name(id)}
		}
		for _, m := range dir.MembersBelow(id) {
			if a, ok := dir.Account(m.ID); ok && a.Kind == acc.User {
				names = append(names, d.t.Name(m.ID))
			}
		}
		return names
	}
	// Groups that are kept, and all that hold them.
	type kept struct {
		group account
		by    map[string][]string // user → keeperships
		wide  map[ID]bool
	}
	var groups []kept
	for _, g := range d.t.Accounts(acc.Group) {
		by := map[string][]string{}
		for _, o := range k.group(g.Name) {
			for _, u := range users(o.id()) {
				by[u] = append(by[u], d.keptAs(&o, u))
			}
		}
		if len(by) > 0 {
			wide := map[ID]bool{}
			for _, id := range acc.NewToken(dir, g.ID, acc.Traits{}).IDs() {
				wide[id] = true
			}
			wide[g.ID] = true
			groups = append(groups, kept{g, by, wide})
		}
	}
	places := map[string]bool{}
	for _, o := range k.all {
		if _, ok := o.group(); ok || places[o.Of] {
			continue
		}
		places[o.Of] = true
		at, err := d.t.FindText(o.Of)
		if err != nil {
			continue // it is there no more
		}
		by := map[string][]string{}
		for _, o := range k.place(o.Of) {
			for _, u := range users(o.id()) {
				by[u] = append(by[u], d.keptAs(&o, u))
			}
		}
		named, err := d.opens(at)
		if err != nil {
			return nil, err
		}
		for _, g := range groups {
			for u, groupBy := range g.by {
				placeBy := by[u]
				if placeBy == nil {
					continue
				}
				for _, e := range named {
					if g.wide[e.Who] {
						out = append(out, Duty{Kind: "both-keys", Who: u, Group: d.t.Name(g.group.ID), Where: at.String(), By: slices.Concat(groupBy, placeBy),
							What: ask.Language(d.t).Write(e, true)})
						break
					}
				}
			}
		}
	}
	requests, err := Requests(d.t)
	if err != nil {
		return nil, err
	}
	for _, r := range requests {
		if r.State != Open {
			continue
		}
		for _, u := range r.People(d.t) {
			if k.is(u.ID, k.ofRequest(&r)) {
				out = append(out, Duty{Kind: "own-request", Who: d.t.Name(u.ID), Where: r.Where, By: []string{fmt.Sprintf("request %d", r.Number)}})
			}
		}
	}
	for _, s := range d.t.Servers() {
		by := map[string][]string{}
		var names []string
		add := func(id ID, how string) {
			for _, u := range users(id) {
				if by[u] == nil {
					names = append(names, u)
				}
				if !slices.Contains(by[u], how) {
					by[u] = append(by[u], how)
				}
			}
		}
		for _, id := range d.t.Administrators(s) {
			how := "the server's list"
			if a, ok := dir.Account(id); ok && a.Kind == acc.Group {
				how += ", by " + d.t.Name(id)
			}
			add(id, how)
		}
		for _, sh := range d.t.Shares(s) {
			if sh.Admission == nil {
				continue
			}
			for _, n := range sh.Admission.Administrators {
				if id, ok := d.k.Listed(n); ok {
					add(id, sh.Address()+"'s own configuration")
				}
			}
		}
		slices.Sort(names)
		for _, u := range names {
			out = append(out, Duty{Kind: "administrator", Who: u, Where: s.Name, By: by[u]})
		}
	}
	order := []string{"both-keys", "own-request", "administrator"}
	slices.SortStableFunc(out, func(a, b Duty) int {
		if c := slices.Index(order, a.Kind) - slices.Index(order, b.Kind); c != 0 {
			return c
		}
		if c := strings.Compare(a.Where, b.Where); c != 0 {
			return c
		}
		return strings.Compare(a.Who+a.Group, b.Who+b.Group)
	})
	return out, d.t.Err()
}

func (d *Desk) keptAs(o *Keeper, user string) string {
	s := "keeps the " + o.said()
	if o.Name != user {
		s += " as one of " + o.Name
	}
	return s
}

// opens lists the allow entries that count at and below a place, one an account.
func (d *Desk) opens(at estate.Place) (out []rule.Entry, err error) {
	f, err := d.t.CarveAt(at)
	if err != nil {
		return nil, err
	}
	seen, had := map[rule.Any]bool{}, map[ID]bool{}
	for i := range f.Nodes {
		a := f.Nodes[i].Before
		if a == nil || seen[a] {
			continue
		}
		seen[a] = true
		x := d.k.AsEntries(a)
		for _, e := range x.Rules.Entries {
			if e.Kind == rule.Allow && e.Rights.Map()&right.Access != 0 && !had[e.Who] {
				had[e.Who] = true
				out = append(out, e)
			}
		}
	}
	return out, d.t.Err()
}
