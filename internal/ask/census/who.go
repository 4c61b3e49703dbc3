// Package census answers for everybody at once: who has access, what somebody
// reaches, levels by place and account, two users side by side.
package census

import (
	"math/bits"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/crowd"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Having is everyone who has access to a place.
type Having struct {
	Where  string      `json:"where"`
	Item   string      `json:"item"`
	Kind   string      `json:"kind"`
	Owner  ask.Account `json:"owner"`
	Can    string      `json:"can,omitempty"`
	Rules  string      `json:"rules"` // present, absent (open to everyone) or empty (closed)
	Routes []HavingWay `json:"routes"`
	// Differ: the routes don't give everybody the same.
	Differ bool `json:"routes-differ"`
	// BelowAsked: all below was looked at, however much it is.
	BelowAsked bool `json:"-"`
}

// HavingWay is everyone who has access by one route.
type HavingWay struct {
	Route string `json:"route"`
	// Open is everyone, some, one or nobody: how many of all users have access.
	Open  string `json:"open-to"`
	Users int    `json:"users"`
	Of    int    `json:"of"`
	// Stopped is how many users the share gives less than the item's rules do.
	Stopped int           `json:"stopped-by-the-share,omitempty"`
	Special []string      `json:"special-accounts"` // everyone@ and the like, where an entry for one gives access
	Levels  []HavingLevel `json:"levels"`
	// Shut are those of them that can't sign on.
	Shut []string `json:"shut,omitempty"`
	// NotCounted is what the server's configuration has of the share that changes an
	// answer and isn't counted in this one.
	NotCounted []string `json:"not-counted,omitempty"`
	// AsSpecified: the server is taken to do as the standards say, and none like it was
	// measured.
	AsSpecified bool `json:"as-specified,omitempty"`
	// Below is what is below a folder and open to others; nil: nothing is.
	Below *OpenBelow `json:"below,omitempty"`
}

// HavingLevel is everyone who has one level.
type HavingLevel struct {
	Level   string  `json:"level"`
	Granted string  `json:"granted"`
	Users   int     `json:"users"`
	By      []ByWay `json:"by"`

	mask right.Set
}

// ByWay is those who have a level in one way.
type ByWay struct {
	ask.Reason
	Right string `json:"right"` // the one the reason is about
	// Account is whom the entry names; Whole: all who hold it have the level so.
	Account *ask.Account `json:"account,omitempty"`
	Whole   bool         `json:"whole,omitempty"`
	Users   []string     `json:"users"`
}

// Who tells everyone with access to a place, or those who can do something there.
// below lists what is open below a folder to people who can't have that itself.
func Who(k *ask.Asker, where, canDo string, below bool) (*Having, error) {
	p, err := k.Place(where)
	if err != nil {
		return nil, err
	}
	c, err := k.Can(canDo)
	if err != nil {
		return nil, err
	}
	if c != nil && !c.Of(p.Folder) {
		return nil, ask.Unfit("", "%s is a %s, and %s doesn't apply to those", p.Via(), ask.Kind(p.Folder), canDo)
	}
	defer k.T.NumbersOf(p.Server)()
	d := k.AsEntries(k.T.Of(p.Strand))
	out := &Having{Where: p.Via(), Item: p.String(), Kind: ask.Kind(p.Folder), Owner: k.Account(d.Owner), Can: canDo, Rules: ask.RulesAre(&d.Rules), Routes: []HavingWay{}}
	pop, of := peopleFor(k, p, c)
	var before []right.Set
	for i, sh := range k.Routes(p) {
		w, each := having(k, p, sh, c, pop)
		w.Of = of
		w.open()
		out.Routes = append(out.Routes, *w)
		if i > 0 && !slices.Equal(before, each) {
			out.Differ = true
		}
		before = each
	}
	if err := beyond(k, p, c, out, below); err != nil {
		return nil, err
	}
	return out, k.T.Err()
}

// having is Who by one route; it gives each user's rights too.
func having(k *ask.Asker, p estate.Place, sh *estate.Share, c *ask.Can, pop *crowd.Population) (*HavingWay, []right.Set) {
	g := &ask.Scope{K: k}
	way := g.Route(&p.Server, sh)
	d := g.Decider(way, pop)
	// Core's own question for one user says what counts by this route.
	var somebody account.ID
	if len(pop.Users) > 0 {
		somebody = pop.Users[0].ID
	}
	q, s := k.Question(somebody, p, sh), Situation(k, d, somebody, p, sh, false)
	out := &HavingWay{Route: way.Name, NotCounted: k.NotCountedOn(p, sh), AsSpecified: p.Server.Traits.AsSpecified, Levels: []HavingLevel{}, Special: []string{}}
	each := make([]right.Set, len(pop.Users))
	var sc crowd.Scratch
	classes := d.Classes(s, &sc)
	if sh != nil {
		out.Stopped = stopped(k, way, pop, s, classes)
	}
	x := &attributing{k: k, p: p, sh: sh, pop: pop, d: d, q: q, somebody: somebody, desc: k.T.Of(p.Strand), above: k.T.Above(p)}
	for _, class := range classes {
		if !ask.NothingOn(x.desc, class.Rights) { // what opens nothing makes no difference
			class.Users.Each(func(i int) bool { each[i] = class.Rights; return true })
		}
		users := class.Users
		if c != nil {
			users = x.those(users, c, class.Rights, s)
		}
		if n := users.Len(); n > 0 && (c != nil || !ask.NothingOn(x.desc, class.Rights)) {
			out.Users += n
			for id := range k.ShutOut() {
				if i, ok := pop.Place(id); ok && users.Has(i) {
					out.Shut = append(out.Shut, pop.Users[i].Name)
				}
			}
			out.Levels = append(out.Levels, HavingLevel{Level: ask.LevelOn(k.Lang.Levels, x.desc, class.Rights, p.Folder), Granted: ask.Mask(class.Rights), Users: n,
				By: x.by(users, class.Rights), mask: class.Rights})
		}
	}
	slices.SortFunc(out.Levels, func(a, b HavingLevel) int {
		if n := bits.OnesCount32(uint32(b.mask)) - bits.OnesCount32(uint32(a.mask)); n != 0 {
			return n
		}
		return int(b.mask) - int(a.mask)
	})
	slices.Sort(out.Shut)
	for _, l := range out.Levels {
		for _, b := range l.By {
			if b.Account != nil && (b.Account.Kind == "special" || b.Account.Kind == "domain-users") && !slices.Contains(out.Special, b.Account.Name) {
				out.Special = append(out.Special, b.Account.Name)
			}
		}
	}
	return out, each
}

// open says in a word whom it is open to.
func (w *HavingWay) open() {
	switch {
	case w.Users == 0:
		w.Open = "nobody"
	case w.Users == w.Of && w.Of > 1:
		w.Open = "everyone"
	case w.Users == 1:
		w.Open = "one"
	default:
		w.Open = "some"
	}
}

// peopleFor gives the population that is asked about a place, and how many users there
// are in all: of a file that nobody gets anything on whom nothing names, only those
// who may hold a name.
func peopleFor(k *ask.Asker, p estate.Place, c *ask.Can) (*crowd.Population, int) {
	if c == nil || c.Act == nil {
		if dir := concerned(k, p); dir != nil {
			return crowd.NewPopulation(dir, p.Server.Traits.Traits, nil), k.T.CountUsersOn(p.Server)
		}
	}
	pop := k.Population(&p.Server)
	return pop, pop.All().Len()
}

// concerned finds everybody who may hold a name that counts on a file; nil where others
// get something there too, or somebody is taken for somebody else.
func concerned(k *ask.Asker, p estate.Place) *account.Directory {
	if p.Folder {
		return nil
	}
	names := map[account.ID]bool{}
	asks := false // what an entry gives hangs on more than whom it names
	note := func(a rule.Any) {
		d := a.Listed()
		names[d.Owner] = true
		if _, classes := a.(*posix.Rules); classes { // elsewhere the group decides nothing
			names[d.Group] = true
		}
		for _, e := range d.Rules.Entries {
			names[e.Who] = true
			asks = asks || e.Asks()
		}
	}
	own := k.T.Of(p.Strand)
	note(own)
	for _, up := range k.T.Above(p) {
		note(up)
	}
	for _, id := range k.Administrators(&p.Server) {
		names[id] = true
	}
	for _, power := range p.Server.Traits.Counting() {
		names[power.Who] = true
	}
	for _, sh := range k.Routes(p) {
		if sh != nil {
			if sh.Admission.Says() {
				return nil
			}
			note(sh.Descriptor)
		}
		q := k.Question(account.ID{}, p, sh) // of whom nothing is known
		granted := verdict.Granted(q)
		q.Share = nil
		if !ask.NothingOn(own, granted) || !ask.NothingOn(own, verdict.Granted(q)) {
			return nil
		}
	}
	if asks {
		return nil
	}
	var ids []account.ID
	for id := range names {
		_, special := account.SpecialName(id)
		_, builtin := id.Builtin()
		if _, rid, domain := id.Domain(); domain && rid == account.DomainUsersRID {
			return nil
		}
		if (!special || builtin) && !id.IsZero() {
			ids = append(ids, id)
		}
	}
	return k.T.HoldersAlone(ids)
}

// stopped counts the users who would have more if the share limited nobody.
func stopped(k *ask.Asker, w *ask.Route, pop *crowd.Population, s crowd.Situation, classes []crowd.Class) (n int) {
	var sc crowd.Scratch
	people, self := k.Populations(pop, w.Traits, w.Share, k.T)
	free := crowd.NewDecider(crowd.Route{Traits: w.Traits, Administrators: k.Administrators(w.Server), People: people, Self: self})
	for _, a := range free.Classes(s, &sc) {
		for _, b := range classes {
			if a.Rights&^b.Rights != 0 && !right.Nothing(a.Rights) {
				n += a.Users.And(b.Users).Len()
			}
		}
	}
	return n
}

// those keeps the users who can do what is asked for: all of a level, or an act.
func (x *attributing) those(users crowd.Bits, c *ask.Can, granted right.Set, s crowd.Situation) crowd.Bits {
	if c.Act == nil {
		if granted.Has(c.Rights(x.desc, x.p.Folder)) {
			return users
		}
		return nil
	}
	top := len(x.p.Trail) == 1 || x.sh != nil && x.sh.Begins(x.p.Path)
	return users.And(c.Holding(x.k, x.d, s, x.desc, x.k.Above(x.p), x.p.Folder, top, func(above bool) crowd.Situation {
		in := x.p
		if above {
			in = x.k.FolderOf(x.p)
		}
		return Situation(x.k, x.d, x.somebody, in, x.sh, true)
	}))
}

// Situation is all that the answer for everybody depends on in a place, as the
// question for one of them has it; adding: as it is asked when something is
// added to the folder.
func Situation(k *ask.Asker, d *crowd.Decider, somebody account.ID, p estate.Place, sh *estate.Share, adding bool) crowd.Situation {
	q := k.Question(somebody, p, sh)
	if adding {
		q = k.Adding(somebody, p, sh)
	}
	s := crowd.Situation{Item: q.Item}
	if q.Parent != nil {
		s.Child = d.TakesOut(q.Parent, q.Item.Owner)
	}
	if q.Traits.AsksFoldersAbove {
		s.Gate = slices.Clone(d.People.All())
		for _, l := range q.Above {
			s.Gate = s.Gate.And(d.One(l, right.Execute))
		}
	}
	return s
}

// attributing says in which ways users of one class have what they have.
type attributing struct {
	k        *ask.Asker
	p        estate.Place
	sh       *estate.Share
	pop      *crowd.Population
	d        *crowd.Decider
	q        *verdict.Question
	somebody account.ID // whose question it is; all that counts of it is the place's
	desc     rule.Any
	above    []rule.Any
}

// by parts users who are granted the same by what grants them the right that
// says most of it.
func (x *attributing) by(users crowd.Bits, granted right.Set) (out []ByWay) {
	k := x.k
	left := slices.Clone(users)
	take := func(of crowd.Bits, r ask.Reason, one right.Set, who account.ID) {
		hit := left.And(of)
		n := hit.Len()
		if n == 0 {
			return
		}
		for i := range left {
			left[i] &^= hit[i]
		}
		w := ByWay{Reason: r, Right: one.Names(x.p.Folder)[0], Users: make([]string, 0, n)}
		if !who.IsZero() {
			if _, ok := x.desc.(*posix.Rules); ok {
				who = k.T.AccountOf(who)
			}
			a := k.Account(who)
			w.Account = &a
			holders := x.d.People.Holders(who, x.sh == nil)
			w.Whole = holders.Len() == n
		}
		hit.Each(func(i int) bool { w.Users = append(w.Users, x.pop.Users[i].Name); return true })
		out = append(out, w)
	}
	if admins := x.d.Passing(); admins != nil {
		take(admins, ask.Reason{Granted: true, By: "administrator"}, telling(granted, strongest), account.ID{})
	}
	for left.Len() > 0 {
		one := telling(granted, needed)
		if one == 0 {
			break
		}
		undecided := x.pop.All()
		for i := range x.q.Item.Steps {
			s := &x.q.Item.Steps[i]
			if s.Rights&one == 0 {
				continue
			}
			h := x.d.People.Fits(s, x.sh == nil)
			hit := undecided.And(h)
			undecided = undecided.And(undecided) // a set of its own
			for j := range undecided {
				undecided[j] &^= hit[j]
			}
			if s.Refuses {
				continue
			}
			var r ask.Reason
			switch s.Source {
			case rule.OfEntry:
				r = ask.Reason{Granted: true, By: "entry"}
				k.EntryReason(&r, ask.Ruling(x.desc, x.q.Traits), s.Entry, x.p.Folder, x.p, 0, x.above)
				take(hit, r, one, s.Who)
			case rule.OfOwner:
				take(hit, ask.Reason{Granted: true, By: "owner"}, one, s.Who)
			default:
				take(hit, ask.Reason{Granted: true, By: "absent"}, one, account.ID{})
			}
		}
		for _, p := range x.q.Traits.Counting() {
			if p.File&one != 0 {
				take(x.d.People.Holders(p.Who, x.sh == nil), ask.Privileged(p.Privilege), one, p.Who)
			}
		}
		granted &^= one // what is left has that right in another way: above, naming
		if one == right.Delete {
			take(left, ask.Reason{Granted: true, By: "above"}, one, account.ID{})
		}
		if l := k.ListsOf(x.sh); one == right.Execute && l != nil && l.Runs {
			take(left, ask.Reason{Granted: true, By: "running"}, one, account.ID{})
		}
		if one == right.ReadAttributes {
			take(left, ask.Reason{Granted: true, By: "naming"}, one, account.ID{})
		}
	}
	return out
}
