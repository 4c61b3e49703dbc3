package rule

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule/condition"
)

// Any is the rules of one item, of whatever kind: what they say, as steps, and
// what a child gets. Rules are values that nobody changes in place; the same
// rules are the same pointer wherever a change set holds them, so that ==
// tells them apart cheaply.
type Any interface {
	// Steps gives what the rules say, read as how asks.
	Steps(how Reading) []Step
	// Beneath gives the steps of a layer below that is asked besides: a right
	// has to be granted by both. nil: there is none.
	Beneath(how Reading) []Step
	// Owned gives the owner; zero where none is said.
	Owned() account.ID
	// Bounds gives what no step can say.
	Bounds(how Reading) Bounds
	// Listed gives what the rules list, read as entries, for those who look at
	// names and rights; a Step's Entry is a place in it. It decides nothing.
	Listed() *Descriptor
	// Same tells whether other rules are the same in everything.
	Same(o Any) bool
	// Stale tells whether what came from the folder above isn't what it
	// hands down now.
	Stale(parent Any, folder bool) bool
	// Renewing gives the rules with what the folder above hands down now.
	Renewing(parent Any, folder bool) Any
	// Following gives the rules after the folder above changed from one to
	// another: the difference comes and goes, all else stays.
	Following(from, to Any, folder bool) Any
}

// Settling is rules of which something holds only as long as the rest is as it was.
type Settling interface {
	// Normalized gives the rules as they are once they stand in the place of others.
	Normalized(before Any) Any
}

// Reading says how rules are to be read. It compares with ==.
type Reading struct {
	Owner         bool // owning brings read-acl and write-acl before any entry
	Into          bool // something is being added to a folder
	Adding        bool // and nothing counts there because of owning
	ObjectsRefuse bool // object entries that allow never count, those that refuse always do
	Labels        bool // a mandatory label takes from who is below it
	Conditions    bool // conditions of entries are evaluated; else one never grants, and always refuses
	BareGenerics  bool // generic bits count for what they stand for only once they were mapped
	FoldersKept   bool // a folder's read-only mark keeps it from being deleted, and does nothing else
	Served        Served
}

// Served says what an SMB server over a POSIX tree decides by before it asks
// the kernel besides.
type Served uint8

const (
	NotServed   Served = iota // no such server is asked
	ServedLists               // a descriptor made of each list
	ServedKept                // a descriptor kept beside the list; where there is none, one made of it
)

// Bounds is what holds whatever the steps say.
type Bounds struct {
	// OwnersOnly: who may add to a folder may take out of it only what they own.
	OwnersOnly bool
	// Never are rights that nobody has, not even an administrator.
	Never right.Set
	// Kept: the item isn't deleted, whoever may.
	Kept bool
}

// Source says where a step comes from.
type Source uint8

const (
	OfEntry   Source = iota // an entry of the list
	OfOwner                 // owning brings it
	OfAbsence               // absent rules open everything
	OfReach                 // whoever gets to an item sees what it is
	OfLabel                 // the item's mandatory label
)

// Step is one thing rules say: the first step that names somebody the user is
// and a right decides that right. Steps are all that a decision, with its
// reasons or for everyone at once, knows of rules.
type Step struct {
	Who     account.ID // zero: whoever asks
	Rights  right.Set  // of right.All
	Refuses bool
	If      *condition.Test // what has to be so for it to count; nil: nothing
	Source  Source
	Entry   int // the entry's place in the list; -1 where there is none
}

// List is rules compiled to steps, once for each reading.
type List struct {
	Steps   []Step
	Beneath []Step // what has to grant a right too; nil: nothing
	Owner   account.ID
	Bounds
}

// Absent tells whether the rules are absent, which opens everything.
func (l *List) Absent() bool {
	return len(l.Steps) == 1 && l.Steps[0].Source == OfAbsence
}

// Decides tells whether two lists decide alike, whatever entry says so.
func (l *List) Decides(o *List) bool {
	if l == o {
		return true
	}
	if l == nil || o == nil || l.Bounds != o.Bounds || l.Owner != o.Owner && l.OwnersOnly {
		return false
	}
	return (l.Beneath == nil) == (o.Beneath == nil) && slices.EqualFunc(l.Steps, o.Steps, Step.Alike) && slices.EqualFunc(l.Beneath, o.Beneath, Step.Alike)
}

// Fits tells whether the step is about who presents a token.
func (s *Step) Fits(t *account.Token) bool {
	return (s.Who.IsZero() || t.Has(s.Who)) && (s.If == nil || s.If.Counts(t, s.Refuses))
}

// Alike tells whether two steps decide alike.
func (s Step) Alike(o Step) bool {
	return s.Who == o.Who && s.Rights == o.Rights && s.Refuses == o.Refuses && s.If == o.If
}

// Reader compiles rules for one reading and remembers what it compiled.
type Reader struct {
	how   Reading
	known map[Any]*List
}

// NewReader makes a reader.
func NewReader(how Reading) *Reader { return &Reader{how: how, known: map[Any]*List{}} }

// Of gives rules compiled; nil for nil. One pointer always gives one list.
func (r *Reader) Of(a Any) *List {
	if a == nil {
		return nil
	}
	l, ok := r.known[a]
	if !ok {
		l = Compile(a, r.how)
		r.known[a] = l
	}
	return l
}

// Compile gives rules as a list of steps.
func Compile(a Any, how Reading) *List {
	return &List{Steps: a.Steps(how), Beneath: a.Beneath(how), Owner: a.Owned(), Bounds: a.Bounds(how)}
}

// stands tells whether an identifier means somebody in rules. A realm's own built-in
// group, or a machine's account, is named there by the identifier it has on every machine;
// what is called by the other came from whoever made the rules up, and no server knows it.
func stands(who account.ID) bool { return !who.Inner() }

// Steps reads a descriptor by [MS-DTYP] §2.5.3.2: absent rules open
// everything; else the owner's built-in rights stand before all entries, and
// every entry that takes effect on the item itself is a step, in stored order.
func (d *Descriptor) Steps(how Reading) []Step {
	if d.Rules.Absent {
		return []Step{{Rights: right.All, Source: OfAbsence, Entry: -1}}
	}
	steps := make([]Step, 0, len(d.Rules.Entries)+1)
	if how.Owner && !how.Adding && !d.Owner.IsZero() {
		if own := OwnersOwn(d); own != 0 && stands(d.Owner) {
			steps = append(steps, Step{Who: d.Owner, Rights: own, Source: OfOwner, Entry: -1})
		}
	}
	for i := range d.Rules.Entries {
		e := &d.Rules.Entries[i]
		var test *condition.Test
		if how.Conditions && e.conditional() {
			test = condition.NewTest(e.Extra.Tail, d.attributes())
		}
		if test == nil && !e.counts(how.ObjectsRefuse) {
			continue
		}
		who := e.Who
		if who == account.OwnerRights {
			if d.Owner.IsZero() || how.Adding {
				continue
			}
			who = d.Owner
		}
		if !stands(who) {
			continue
		}
		m := e.Rights
		if !how.BareGenerics {
			m = m.Map()
		}
		if m &= right.All; m != 0 {
			steps = append(steps, Step{Who: who, Rights: m, Refuses: e.Kind.Refuses(), If: test, Entry: i})
		}
	}
	return steps
}

// Beneath gives what the item's mandatory label lets through, where labels count.
func (d *Descriptor) Beneath(how Reading) []Step {
	if !how.Labels {
		return nil
	}
	return d.label()
}

// Bounds gives what the item's mark takes from everybody: entries say all else.
func (d *Descriptor) Bounds(how Reading) Bounds {
	if how.Into { // a folder's mark is on what is opened, not on what comes into it (measured)
		return Bounds{}
	}
	return Bounds{Never: d.Mark.refuses(how), Kept: d.Mark != 0}
}

// Listed gives the descriptor itself.
func (d *Descriptor) Listed() *Descriptor { return d }

// Owned gives the owner.
func (d *Descriptor) Owned() account.ID { return d.Owner }

// Same is Equal for rules of any kind.
func (d *Descriptor) Same(o Any) bool {
	x, ok := o.(*Descriptor)
	return ok && d.Equal(x)
}

// Stale is StaleUnder for rules of any kind; below rules of another kind nothing is.
func (d *Descriptor) Stale(parent Any, folder bool) bool {
	p, ok := parent.(*Descriptor)
	return ok && d.StaleUnder(p, folder)
}

// Renewing is Renewed for rules of any kind.
func (d *Descriptor) Renewing(parent Any, folder bool) Any {
	if p, ok := parent.(*Descriptor); ok {
		return d.Renewed(p, folder)
	}
	return d
}

// Following is Follow for rules of any kind.
func (d *Descriptor) Following(from, to Any, folder bool) Any {
	f, ok := from.(*Descriptor)
	t, also := to.(*Descriptor)
	if ok && also {
		return d.Follow(f, t, folder)
	}
	return d
}
