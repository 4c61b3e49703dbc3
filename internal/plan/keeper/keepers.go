// Package keeper knows who keeps what, and warns of every plan that isn't the
// keepers' own, or that who acts could not make on the server.
package keeper

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
)

// Keeper is an account that decides over the members of some groups, or over
// the rules at and below a place.
type Keeper struct {
	Who   string `json:"who"` // an identifier, with managerOf before it where it is whoever that user works for
	Name  string `json:"account"`
	Now   string `json:"now,omitempty"`   // of a user's manager: who that is at present
	Of    string `json:"of"`              // group:PATTERN, or the server's own path
	Place string `json:"place,omitempty"` // as it was named

	boss plan.ID // of a user's manager: who that is now; none where it isn't known
}

// WhoKeeps begins what a warning is about, where it is about keepers themselves.
const WhoKeeps = "who keeps the "

// managerOf marks a keeper who is whoever a user works for at the time.
const managerOf = "manager-of:"

// managerWords are how that is written.
const managerWords = "manager of "

// Written gives a keeper as it was written down, as they are now.
func Written(t *estate.Tx, who string) Keeper {
	k := Keeper{Who: who}
	k.now(t)
	return k
}

// Under gives the user whose manager a keeper is.
func (k *Keeper) Under() (plan.ID, bool) {
	text, ok := strings.CutPrefix(k.Who, managerOf)
	if !ok {
		return plan.ID{}, false
	}
	id, err := acc.ParseID(text)
	return id, err == nil
}

func (k *Keeper) Group() (pattern string, ok bool) { return strings.CutPrefix(k.Of, "group:") }

// ID is the account that keeps; zero where it is somebody's manager, and nobody is.
func (k *Keeper) ID() plan.ID {
	if _, ok := k.Under(); ok {
		return k.boss
	}
	id, _ := acc.ParseID(k.Who)
	return id
}

// now fills in what hangs on the moment: names, and who a manager is.
func (k *Keeper) now(t *estate.Tx) {
	under, ok := k.Under()
	if !ok {
		if a, ok := t.Account(k.ID()); ok {
			k.Name = t.Name(a.ID)
		}
		return
	}
	k.Name = "the manager of " + t.Name(under)
	if id, err := acc.ParseID(t.MetadataOf(under).Manager); err == nil {
		if a, ok := t.Account(id); ok && a.Kind == acc.User {
			k.boss, k.Now = a.ID, t.Name(a.ID)
		}
	}
}

// Hangs tells whether a keeper is named by an account, and how it is written.
func (k *Keeper) Hangs(a acc.Account) (who string, ok bool) {
	if under, manager := k.Under(); manager {
		return managerWords + a.Name, under == a.ID
	}
	return a.Name, k.ID() == a.ID
}

// Called is what a keeper is called, with who a manager is now.
func (k *Keeper) Called() string {
	switch _, manager := k.Under(); {
	case !manager:
		return k.Name
	case k.Now == "":
		return k.Name + " (nobody is known to be)"
	default:
		return k.Name + " (" + k.Now + ")"
	}
}

func init() {
	plan.AddRecordWords(estate.KeeperRecord, func(e *edit.Description, body string, sign edit.Sign) {
		var k Keeper
		if json.Unmarshal([]byte(body), &k) == nil {
			*e = k.Edit(sign)
		}
	})
}

// Keepers lists who keeps what, oldest first.
func Keepers(t *estate.Tx) ([]Keeper, error) {
	out, err := plan.RecordsAs[Keeper](t, estate.KeeperRecord)
	for i := range out {
		out[i].now(t)
	}
	return out, err
}

// KeeperNames lists keepers by name, each once.
func KeeperNames(list []Keeper) []string {
	out := []string{}
	for i := range list {
		if name := list[i].Called(); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// keeping reads who keeps what.
func keeping(d *plan.Planner, who, of string) (Keeper, error) {
	var k Keeper
	if n := len(managerWords); len(who) > n && strings.EqualFold(who[:n], managerWords) {
		a, err := d.T.Named(who[n:], acc.User)
		if err != nil {
			return k, err
		}
		k.Who = managerOf + a.ID.String()
	} else {
		a, err := d.T.Named(who, 0)
		if err != nil {
			return k, err
		}
		k.Who = a.ID.String()
	}
	k.now(d.T)
	k.Now = "" // what is written down holds longer than that
	if pattern, ok := strings.CutPrefix(of, "group:"); ok {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
			return k, &estate.Refused{Why: fmt.Sprintf("%q is not a pattern of groups", of), Do: "write group:NAME, * and ? standing for any characters"}
		}
		k.Of = "group:" + estate.Key(pattern)
		k.Place = "group:" + pattern
		if !strings.ContainsAny(pattern, `*?[\`) {
			if _, err := d.T.Named("group:"+pattern, acc.Group); err != nil {
				return k, err
			}
		}
		return k, nil
	}
	if !place.Whole(of) {
		return k, &estate.Refused{Why: fmt.Sprintf("%q is neither a place nor groups", of), Do: "write an address, or group:NAME (quoted, where a pattern is in it)"}
	}
	at, err := d.K.Place(of)
	if err != nil {
		return k, err
	}
	k.Of, k.Place = at.By(nil).String(), at.Via()
	return k, nil
}

func (k *Keeper) key() string { return k.Who + " " + k.Of }

func (k *Keeper) Edit(sign edit.Sign) edit.Description {
	return edit.Description{Kind: "keeper", Where: k.Said(), Lines: []edit.Line{{Sign: sign, What: "keeper", Text: k.Name}}}
}

// Said says what is kept.
func (k *Keeper) Said() string {
	if pattern, ok := k.Group(); ok {
		if k.Place != "" {
			pattern = strings.TrimPrefix(k.Place, "group:")
		}
		return "members of group " + pattern
	}
	return "rules of " + k.Place
}

// AddKeeper makes an account keep groups or places, one or several.
func AddKeeper(d *plan.Planner, who string, of []string) (*plan.Plan, error) {
	p := d.NewPlan("")
	p.Asks = false
	var said []string
	for _, x := range of {
		k, err := keeping(d, who, x)
		if err != nil {
			return nil, err
		}
		said = append(said, "the "+k.Said())
		p.Change = k.Name + " keeps " + plan.Many(said)
		p.Nothing = k.Name + " keeps that already"
		before := d.T.Record(estate.KeeperRecord, k.key())
		if before != "" || hasRecord(p, estate.KeeperRecord, k.key()) {
			continue
		}
		if err := p.SetRecord(estate.KeeperRecord, k.key(), before, k, k.Edit(edit.Comes)); err != nil {
			return nil, err
		}
	}
	return d.Evaluate(p)
}

// hasRecord tells whether a plan writes something down already.
func hasRecord(p *plan.Plan, kind estate.RecordKind, key string) bool {
	return slices.ContainsFunc(p.Work.Records, func(e edit.Record) bool { return e.Kind == kind && e.Name == key })
}

// RemoveKeeper ends that.
func RemoveKeeper(d *plan.Planner, who string, of []string) (*plan.Plan, error) {
	p := d.NewPlan("")
	p.Asks = false
	var said []string
	for _, x := range of {
		k, err := keeping(d, who, x)
		if err != nil {
			return nil, err
		}
		before := d.T.Record(estate.KeeperRecord, k.key())
		if before == "" {
			return nil, keepsNot(d, &k)
		}
		if hasRecord(p, estate.KeeperRecord, k.key()) {
			continue
		}
		said = append(said, "the "+k.Said())
		p.Change = k.Name + " keeps " + plan.Many(said) + " no more"
		if err := p.SetRecord(estate.KeeperRecord, k.key(), before, nil, k.Edit(edit.Goes)); err != nil {
			return nil, err
		}
	}
	return d.Evaluate(p)
}

// keepsNot refuses to end what isn't, and says what is.
func keepsNot(d *plan.Planner, k *Keeper) error {
	all, err := Keepers(d.T)
	if err != nil {
		return err
	}
	var has []string
	for _, o := range all {
		if o.Who == k.Who {
			has = append(has, o.Said())
		}
	}
	why := fmt.Sprintf("%s doesn't keep the %s", k.Name, k.Said())
	if len(has) > 0 {
		why += ", but the " + plan.Many(has)
	}
	return &estate.Refused{Why: why}
}

// Keeps knows who decides over what.
type Keeps struct {
	D      *plan.Planner
	All    []Keeper
	held   map[plan.ID]*acc.Token
	people *acc.Directory      // read once it is asked for
	places map[string][]Keeper // those of places, by placeKey; made once it is asked for
}

func Of(d *plan.Planner) (*Keeps, error) {
	all, err := Keepers(d.T)
	return &Keeps{D: d, All: all, held: map[plan.ID]*acc.Token{}}, err
}

// Is tells whether a user is a keeper's account, or in it.
func (k *Keeps) Is(user plan.ID, keepers []Keeper) bool {
	if user.IsZero() {
		return false
	}
	tok := k.held[user]
	if tok == nil {
		tok = acc.NewToken(k.D.T, user, acc.Traits{})
		k.held[user] = tok
	}
	return slices.ContainsFunc(keepers, func(o Keeper) bool { return !o.ID().IsZero() && tok.Has(o.ID()) })
}

// decides tells whether keepers have their say in a plan: one of them makes it, or it is
// made on their word.
func (k *Keeps) decides(p *plan.Plan, actor plan.ID, keepers []Keeper) bool {
	return k.Is(actor, keepers) || slices.ContainsFunc(p.OnWord, func(id plan.ID) bool { return k.Is(id, keepers) })
}

// Group gives the keepers of a group; a group named as it is before patterns.
func (k *Keeps) Group(name string) (out []Keeper) {
	key := estate.Key(name)
	for _, exact := range []bool{true, false} {
		for _, o := range k.All {
			pattern, ok := o.Group()
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

// Place gives the keepers of a place: those of the nearest folder that has any,
// itself or above.
func (k *Keeps) Place(where string) []Keeper {
	a, err := place.ParsePlain(where)
	if err != nil {
		return nil
	}
	return k.At(a)
}

// At is Place, of a server's own path.
func (k *Keeps) At(a place.Address) []Keeper {
	if k.places == nil {
		k.places = map[string][]Keeper{}
		for _, o := range k.All {
			if _, group := o.Group(); group {
				continue
			}
			if b, err := place.ParsePlain(o.Of); err == nil {
				key := placeKey(b)
				k.places[key] = append(k.places[key], o)
			}
		}
	}
	for len(k.places) > 0 {
		if here := k.places[placeKey(a)]; here != nil {
			return here
		}
		if up := place.Dir(a.Path); up != a.Path {
			a.Path = up
			continue
		}
		break
	}
	return nil
}

// placeKey is what places are known by, in whatever case.
func placeKey(a place.Address) string { return estate.Key(a.Server) + ":" + estate.Key(a.Path) }

// server gives everybody who keeps a place of a server.
func (k *Keeps) server(name string) (out []Keeper) {
	for _, o := range k.All {
		a, err := place.ParsePlain(o.Of)
		if _, group := o.Group(); !group && err == nil && estate.Key(a.Server) == estate.Key(name) {
			out = append(out, o)
		}
	}
	return out
}

// keepersHold warns where who acts is no keeper of what a plan changes.
func keepersHold(d *plan.Planner, p *plan.Plan) error {
	k, err := Of(d)
	if err != nil || len(k.All) == 0 && len(p.Work.Records) == 0 {
		return err
	}
	w := &p.Work
	actor, _ := d.ActingUser()
	warned := map[string]bool{}
	hold := func(said string, keepers []Keeper) {
		if len(keepers) == 0 || warned[said] || k.decides(p, actor.ID, keepers) {
			return
		}
		warned[said] = true
		p.Warnings = append(p.Warnings, plan.Warning{Guard: "kept", Users: KeeperNames(keepers), Where: said})
	}
	// Who is in a group is in all the groups that it is in; where it has keepers
	// they say who, and else those of the groups above.
	climbed := map[plan.ID]bool{}
	var group func(a acc.Account)
	group = func(a acc.Account) {
		if len(k.All) == 0 || climbed[a.ID] {
			return
		}
		climbed[a.ID] = true
		if keepers := k.Group(a.Name); len(keepers) > 0 {
			hold("the members of "+d.AccountName(a), keepers)
			return
		}
		for _, up := range d.T.GroupsOf(a.ID) {
			if in, ok := d.T.Account(up); ok {
				group(in)
			}
		}
	}
	at := func(where string) { hold("the rules of "+where, k.Place(where)) }
	for e := range w.All(false) {
		t := e.Touches()
		for _, g := range t.Groups {
			if g.Name == "" {
				g, _ = d.T.Account(g.ID)
			}
			if g.Name != "" {
				group(g)
			}
		}
		if t.Decides != "" {
			hold("places of "+t.Server.Name+", "+t.Decides, k.server(t.Server.Name))
		}
		if len(w.Goes) > 0 { // all else goes with it
			continue
		}
		for _, path := range t.Paths {
			at(estate.Place{Server: *t.Server, Path: path}.String())
		}
	}
	for _, s := range w.Goes {
		for _, o := range k.server(s.Name) {
			hold("the rules of "+o.Place+", which goes with its server", k.Place(o.Of))
		}
	}
	if len(w.Goes) > 0 { // all else goes with it
		return d.T.Err()
	}
	if f := w.Partition; f != nil && len(k.All) > 0 {
		for _, n := range w.Named {
			node := &f.Nodes[n]
			dated := slices.ContainsFunc(w.Dates, func(e edit.LastDays) bool { return e.Node == n })
			if !node.Changed() && !dated {
				continue
			}
			if f.Strand(n) == 0 {
				at(d.Nearest(p, n))
				continue
			}
			if err := f.Each(d.T, n, func(item int64) error {
				at(d.T.Where(item))
				return d.Ctx.Err()
			}); err != nil {
				return err
			}
		}
		below := func(where string) { // what is kept within what moves or goes
			for _, o := range k.All {
				if _, group := o.Group(); !group && underPlace(o.Of, where) {
					hold("the rules of "+o.Place, k.Place(o.Of))
				}
			}
		}
		for _, m := range w.Moved {
			at(d.T.Where(m.Item))
			at(d.T.Where(m.Folder))
			below(d.T.Where(m.Item))
		}
		for i, item := range w.Removed {
			if i < 1000 {
				at(d.T.Where(item))
				below(d.T.Where(item))
			}
		}
	}
	for _, e := range w.Records {
		if e.Kind == estate.MetadataRecord && len(k.All) > 0 {
			var was, is estate.Metadata
			_ = json.Unmarshal([]byte(e.Before), &was)
			_ = json.Unmarshal([]byte(e.After), &is)
			for _, o := range k.All { // whose manager somebody is decides what they keep
				if under, ok := o.Under(); ok && under.String() == e.Name && was.Manager != is.Manager {
					hold(WhoKeeps+o.Said(), slices.DeleteFunc(slices.Clone(k.All), func(x Keeper) bool { return x.Of != o.Of }))
				}
			}
			continue
		}
		if e.Kind != estate.KeeperRecord {
			continue
		}
		for _, body := range []string{e.Before, e.After} {
			var o Keeper
			if json.Unmarshal([]byte(body), &o) != nil {
				continue
			}
			if pattern, ok := o.Group(); ok {
				hold(WhoKeeps+o.Said(), slices.DeleteFunc(slices.Clone(k.All), func(x Keeper) bool { return x.Of != "group:"+pattern }))
				if !strings.ContainsAny(pattern, `*?[\`) {
					hold(WhoKeeps+o.Said(), k.Group(pattern))
				}
			} else {
				hold(WhoKeeps+o.Said(), k.Place(o.Of))
			}
		}
	}
	for _, x := range p.Keepers { // of whom nothing is said yet
		if !slices.ContainsFunc(p.Warnings, func(o plan.Warning) bool {
			return o.Guard == x.Guard && slices.Equal(o.Users, x.Users) && !strings.Contains(o.Where, "members")
		}) {
			p.Warnings = append(p.Warnings, x)
		}
	}
	return d.T.Err()
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
func keepersOfPlaces(d *plan.Planner, p *plan.Plan, moved []bool) error {
	k, err := Of(d)
	if err != nil || p.Ends {
		return err
	}
	actor, _ := d.ActingUser()
	w := &p.Work
	f := w.Partition
	changed, _ := f.Changed()
	if len(w.Members) > 0 && changed == 0 && len(w.Shares)+len(w.Admins)+len(w.Servers)+len(w.Accounts)+len(w.Formers()) == 0 &&
		!slices.ContainsFunc(w.Members, func(e edit.Membership) bool { return len(k.Group(e.Group.Name)) == 0 }) {
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
	for _, o := range k.All {
		if _, group := o.Group(); group || said[o.Of] {
			continue
		}
		said[o.Of] = true
		keepers := k.Place(o.Of)
		if k.decides(p, actor.ID, keepers) {
			continue
		}
		at, err := d.T.FindText(o.Of)
		if err != nil {
			continue // it is there no more
		}
		in, err := touches(d, p, touched, at, func(where string) bool {
			return underPlace(where, o.Of) && slices.ContainsFunc(k.Place(where), func(x Keeper) bool { return x.Of == o.Of })
		})
		if err != nil {
			return err
		}
		if in {
			what := "who gets in at "
			if !slices.Contains(moved, true) { // what is watched, say
				what = "the rules of "
			}
			p.Keepers = append(p.Keepers, plan.Warning{Guard: "kept", Users: KeeperNames(keepers), Where: what + o.Place})
		}
	}
	return d.T.Err()
}

// touches tells whether any of a plan's nodes has an item at or below a place
// that is meant.
func touches(d *plan.Planner, p *plan.Plan, nodes map[int]bool, top estate.Place, meant func(where string) bool) (bool, error) {
	f := p.Work.Partition
	here := f.NodeFor(top.Item, top.Strand)
	roots := map[int]plan.Root{}
	for _, r := range p.Work.Roots {
		roots[r.Node] = r
	}
	for n := range nodes {
		up := n
		for f.Nodes[up].Parent >= 0 {
			up = f.Nodes[up].Parent
		}
		r, ok := roots[up]
		if !ok || r.Server.ID != top.Server.ID {
			continue
		}
		inside := false
		for _, path := range r.Path { // as it is, and as it will be
			inside = inside || path != "" && place.Under(estate.Key(path), estate.Key(top.Path))
		}
		if !inside && (here < 0 || !plan.Within(f, n, here)) {
			continue
		}
		if f.Strand(n) == 0 {
			if meant(d.Nearest(p, n)) {
				return true, nil
			}
			continue
		}
		looked, found := 0, false
		err := f.Each(d.T, n, func(item int64) error {
			looked++
			if found = looked > mostLooked || meant(d.T.Where(item)); found {
				return errFound
			}
			return d.Ctx.Err()
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

func init() { plan.AddReview(plan.Review{Places: kept, Laid: keepersOfPlaces, Done: governed}) }

// kept lists the places that are kept.
func kept(d *plan.Planner) (out []estate.Target, err error) {
	k, err := Of(d)
	if err != nil {
		return nil, err
	}
	for _, o := range k.All {
		if _, group := o.Group(); group {
			continue
		}
		if at, err := d.T.FindText(o.Of); err == nil { // or it is there no more
			out = append(out, at.Target())
		}
	}
	return out, nil
}

// governed asks whether who acts may, on the server and by those who keep what
// the plan changes.
func governed(d *plan.Planner, p *plan.Plan) error {
	if err := mayAct(d, p); err != nil || p.Ends {
		return err
	}
	return keepersHold(d, p)
}

func (k *Keeps) Dir() *acc.Directory {
	if k.people == nil {
		k.people = k.D.T.Directory()
	}
	return k.people
}
