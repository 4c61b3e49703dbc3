package verdict

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/proptest"
)

var (
	dom   = account.NewID(5, 21, 9, 9, 9)
	alice = dom.Child(1001)
	bob   = dom.Child(1002)
	crew  = dom.Child(2001)
	who   = []account.ID{alice, bob, crew, account.Everyone, account.Network, account.OwnerRights, account.Creator}
)

func token() *account.Token { return tokenOf() }

// tokenOf is a token with others beside: members of what is built in, mostly.
func tokenOf(special ...account.ID) *account.Token {
	d := account.NewDirectory()
	d.Add(account.Account{ID: alice, Kind: account.User, POSIX: account.NoPOSIX})
	d.Join(crew, alice)
	return account.NewToken(d, alice, account.Traits{}, append(special, account.Everyone, account.Network)...)
}

func anyDescriptor(t *rapid.T) *rule.Descriptor {
	d := &rule.Descriptor{Mark: rule.Mark(max(0, rapid.IntRange(-3, 2).Draw(t, "mark"))), Owner: rapid.SampledFrom([]account.ID{alice, bob, crew, {}}).Draw(t, "owner"), Audit: rule.Rules{Absent: true}}
	d.Rules.Absent = rapid.IntRange(0, 9).Draw(t, "absent") == 0
	for range rapid.IntRange(0, 2).Draw(t, "labels") {
		d.Audit.Absent = false
		d.Audit.Entries = append(d.Audit.Entries, rule.Entry{Kind: rapid.SampledFrom([]rule.Kind{rule.Label, rule.Label, rule.Audit}).Draw(t, "label"), Flags: rapid.SampledFrom([]rule.Flags{0, 0, rule.InheritOnly}).Draw(t, "label flags"),
			Rights: right.Set(rapid.Uint32Range(0, 7).Draw(t, "policy")), Who: rapid.SampledFrom([]account.ID{account.NewID(16, 0x1000), account.NewID(16, 0x2000), account.NewID(16, 0x3000), account.NewID(16, 0x4000), account.Everyone}).Draw(t, "level")})
	}
	if d.Rules.Absent {
		return d
	}
	for range rapid.IntRange(0, 6).Draw(t, "entries") {
		d.Rules.Entries = append(d.Rules.Entries, rule.Entry{
			Kind:   rapid.SampledFrom([]rule.Kind{rule.Allow, rule.Allow, rule.Deny, rule.AllowObject, rule.DenyObject}).Draw(t, "kind"),
			Flags:  rapid.SampledFrom([]rule.Flags{0, 0, rule.Inherited, rule.InheritOnly | rule.ObjectInherit}).Draw(t, "flags"),
			Rights: right.Set(rapid.SampledFrom([]uint32{0x1, 0x2, 0x40, 0x10000, 0x1200a9, 0x1f01ff, 0x80000000}).Draw(t, "rights")),
			Who:    rapid.SampledFrom(who).Draw(t, "who"),
		})
		if e := &d.Rules.Entries[len(d.Rules.Entries)-1]; e.Kind.HasObject() {
			e.Extra.Object = rapid.SampledFrom([]string{"\x00\x00\x00\x00", "\x01\x00\x00\x000123456789abcdef"}).Draw(t, "object")
		}
	}
	return d
}

// asked is a question with the descriptors it was made from.
type asked struct {
	Question
	item, parent, shareRules *rule.Descriptor
	above                    []*rule.Descriptor
}

func anyQuestion(t *rapid.T) *asked {
	tr, err := NamedTraits(rapid.SampledFrom(TraitNames()).Draw(t, "traits"))
	require.NoError(t, err)
	flip := func(name string, b *bool) {
		if rapid.IntRange(0, 3).Draw(t, name) == 0 {
			*b = !*b
		}
	}
	flip("asks above", &tr.AsksFoldersAbove)
	flip("opens connection", &tr.ShareOpensConnection)
	flip("absent refuses", &tr.AbsentShareRefuses)
	flip("folder marks keep", &tr.FolderMarksKeep)
	flip("bare generics", &tr.BareGenerics)
	flip("share owner", &tr.ShareOwnerRights)
	flip("objects", &tr.ObjectEntriesRefuse)
	flip("privileges pass", &tr.PrivilegesPass)
	flip("whole for takers", &tr.ShareWholeForTakers)
	flip("taking counts", &tr.TakingCounts)
	flip("default privileges", &tr.DefaultPrivileges)
	flip("labels", &tr.LabelsCount)
	flip("as specified", &tr.AsSpecified)
	if rapid.IntRange(0, 2).Draw(t, "privileges") == 0 {
		held := map[Privilege][]account.ID{}
		for _, p := range Privileges() {
			held[p] = rapid.SliceOfN(rapid.SampledFrom([]account.ID{alice, bob, crew, account.Network}), 0, 1).Draw(t, string(p))
		}
		tr.Powers = NewPowers(held)
	}
	q := &asked{item: anyDescriptor(t)}
	q.Token, q.Traits, q.Administrator = tokenOf(rapid.SampledFrom([][]account.ID{nil, nil, {builtinAdministrators}, {account.NewID(5, 32, 551)}}).Draw(t, "built-in groups")...), &tr, rapid.IntRange(0, 9).Draw(t, "admin") == 0
	q.Item = rule.Compile(q.item, tr.Reading())
	if rapid.Bool().Draw(t, "parent") {
		q.parent = anyDescriptor(t)
		q.above = []*rule.Descriptor{q.parent, anyDescriptor(t)}
		q.Parent = rule.Compile(q.parent, tr.Reading())
		for _, d := range q.above {
			q.Above = append(q.Above, rule.Compile(d, tr.Reading()))
		}
	}
	if rapid.Bool().Draw(t, "share") {
		q.shareRules = anyDescriptor(t)
		if rapid.Bool().Draw(t, "plain share") { // so that each kind of door is met
			rights := rapid.SampledFrom([]right.Set{0, right.ReadData, right.WriteData, right.ReadData | right.WriteData, right.All}).Draw(t, "gives")
			q.shareRules = &rule.Descriptor{Rules: rule.Rules{Entries: []rule.Entry{{Rights: rights, Who: account.Everyone}}}}
		}
		q.Share = &Share{Rules: rule.Compile(q.shareRules, tr.ShareReading()), ReadOnly: rapid.Bool().Draw(t, "read-only")}
	}
	return q
}

// oneRight decides a single right by the standard's words, entry by entry, as
// slowly and plainly as can be ([MS-DTYP] §2.5.3.2).
func oneRight(d *rule.Descriptor, has func(account.ID) bool, r right.Set, owner, objectsRefuse, bare bool) bool {
	if d.Rules.Absent {
		return true
	}
	owns := !d.Owner.IsZero() && has(d.Owner)
	if owner && owns && (r == right.ReadACL || r == right.WriteACL) {
		limited := false
		for _, e := range d.Rules.Entries {
			limited = limited || e.Who == account.OwnerRights && e.Flags&rule.InheritOnly == 0
		}
		if !limited {
			return true
		}
	}
	for _, e := range d.Rules.Entries {
		says := e.Rights.Map()
		if bare {
			says = e.Rights
		}
		if e.Flags&rule.InheritOnly != 0 || says&r == 0 {
			continue
		}
		if objectsRefuse && e.Kind == rule.AllowObject {
			continue
		}
		if !objectsRefuse && e.Kind.HasObject() && e.Extra.Object[0]&1 != 0 {
			continue
		}
		if has(e.Who) && e.Who != account.OwnerRights || e.Who == account.OwnerRights && owns {
			return e.Kind == rule.Allow || e.Kind == rule.AllowObject
		}
	}
	return false
}

// labelTakes tells whether the mandatory label of an item takes a right from a token, by
// the words of [MS-DTYP] §2.5.3.3: who isn't as trustworthy as the item gets what its
// policies leave.
func labelTakes(d *rule.Descriptor, has func(account.ID) bool, r right.Set) bool {
	mine := 0x2000
	if has(builtinAdministrators) {
		mine = 0x3000
	}
	for _, e := range d.Audit.Entries {
		if e.Kind != rule.Label || e.Flags&rule.InheritOnly != 0 {
			continue
		}
		for level := 0x1000; level <= 0x4000; level += 0x1000 {
			if e.Who != account.NewID(16, uint32(level)) || mine >= level {
				continue
			}
			left := right.Set(0)
			if e.Rights&1 == 0 {
				left |= right.GenericWrite.Map()
			}
			if e.Rights&2 == 0 {
				left |= right.GenericRead.Map()
			}
			if e.Rights&4 == 0 {
				left |= right.GenericExecute.Map()
			}
			return !left.Has(r)
		}
		return false
	}
	return false
}

// writeProtected: a folder's mark takes writing only where nothing else is said of it.
func writeProtected(d *rule.Descriptor, tr *Traits) bool {
	return d.Mark == rule.ReadOnly || d.Mark == rule.ReadOnlyFolder && !tr.FolderMarksKeep
}

func TestEachRightByTheStandardsWords(t *testing.T) {
	doors, powers, labelled := map[ConnectionWhy]int{}, map[Privilege]int{}, 0
	one := func(t *rapid.T) {
		q := anyQuestion(t)
		has, tr := q.Token.Has, q.Traits
		power := func(r right.Set, share bool) bool {
			held := tr.Powers.Held()
			if tr.Powers == nil && tr.DefaultPrivileges {
				held = map[Privilege][]account.ID{TakeOwnership: {builtinAdministrators}, Backup: {builtinAdministrators, account.NewID(5, 32, 551)}, Restore: {builtinAdministrators, account.NewID(5, 32, 551)}}
			}
			for p, who := range held {
				file, lets, _ := p.Gives()
				if gives := map[bool]right.Set{true: lets, false: file}[share]; !slices.ContainsFunc(who, has) || !gives.Has(r) {
					continue
				}
				if tr.PrivilegesPass || tr.TakingCounts && p == TakeOwnership && !share {
					return true
				}
			}
			return false
		}
		rules := func(r right.Set) bool {
			return oneRight(q.shareRules, has, r, tr.ShareOwnerRights, tr.ObjectEntriesRefuse, false)
		}
		if (tr.PrivilegesPass || tr.TakingCounts) && tr.ShareWholeForTakers && q.Share != nil && slices.ContainsFunc(tr.Held().List(), func(p Power) bool {
			return p.Privilege == TakeOwnership && p.Who.String() == "S-1-5-32-544" && has(p.Who)
		}) {
			ruled := rules
			rules = func(r right.Set) bool {
				for i := range right.Count {
					if one := right.At(i); one != right.WriteOwner && !ruled(one) {
						return false
					}
				}
				return ruled(r)
			}
		}
		if q.Share != nil && tr.AbsentShareRefuses && q.shareRules.Rules.Absent {
			rules = func(right.Set) bool { return false }
		}
		byShare := func(r right.Set) bool { return power(r, true) || rules(r) }
		refused, readOnly := false, q.Share != nil && q.Share.ReadOnly
		if q.Share != nil {
			reads, writes := byShare(right.ReadData), byShare(right.WriteData)
			refused = tr.ShareOpensConnection && (!reads && !writes || readOnly && !reads)
			readOnly = readOnly || tr.ShareOpensConnection && !writes
			if tr.AbsentShareRefuses && q.shareRules.Rules.Absent {
				refused = refused || !power(right.ReadData, true) && !power(right.WriteData, true)
			}
		}
		kept := q.Share != nil && q.Share.ReadOnly // write-data and append-data, whatever privilege lets
		lets := func(r right.Set) bool {
			return power(r, true) && !(kept && (r == right.WriteData || r == right.AppendData))
		}
		share := func(r right.Set) bool {
			return q.Share == nil || !refused && (lets(r) || rules(r) && !(readOnly && tr.ReadOnlyTakes.Has(r)))
		}
		var want right.Set
		for i := range right.Count {
			r := right.At(i)
			item := func(d *rule.Descriptor, r right.Set) bool {
				return oneRight(d, has, r, true, tr.ObjectEntriesRefuse, tr.BareGenerics) && !(tr.LabelsCount && labelTakes(d, has, r))
			}
			file := item(q.item, r)
			file = file || r == right.ReadAttributes && tr.NamingShowsAttributes
			file = file || r == right.Delete && q.parent != nil && share(right.DeleteChild) && item(q.parent, right.DeleteChild)
			file = file || power(r, false)
			if tr.AsksFoldersAbove {
				for _, d := range q.above {
					file = file && item(d, right.Execute)
				}
			}
			file = file || q.Administrator && tr.AdministratorsPass
			file = file && !(writeProtected(q.item, tr) && (r == right.WriteData || r == right.AppendData))
			if file && share(r) {
				want |= r
			}
		}
		require.Equal(t, want, Granted(&q.Question))
		v := Decide(&q.Question)
		doors[v.Door.Why]++
		require.Equal(t, want, v.Granted, "with reasons it is the same decision")
		require.Equal(t, refused, v.Door.Refused)
		require.Equal(t, !refused && readOnly, v.Door.ReadOnly)
		for _, f := range v.Findings {
			require.Equal(t, want.Has(f.Right), f.Granted)
			if f.File.Source == ByEntry {
				e := q.item.Rules.Entries[f.File.Entry]
				require.True(t, e.Rights.Map().Has(f.Right), "the entry named speaks of the right")
				require.Equal(t, f.FileOK, !e.Kind.Refuses(), "and decided it")
				require.False(t, tr.LabelsCount && f.FileOK && labelTakes(q.item, has, f.Right))
				require.True(t, has(f.File.Who))
			}
			require.Equal(t, f.File.Source == ByMark, writeProtected(q.item, tr) && (f.Right == right.WriteData || f.Right == right.AppendData) &&
				(f.File.Source != ByTraverse), "%v", f)
			if f.File.Source == ByLabel {
				labelled++
				require.True(t, tr.LabelsCount && !f.FileOK && labelTakes(q.item, has, f.Right) && oneRight(q.item, has, f.Right, true, tr.ObjectEntriesRefuse, tr.BareGenerics))
			}
			if f.File.Source == Nothing {
				require.False(t, f.FileOK)
			}
			for i, b := range []Because{f.File, f.Share} {
				if b.Source == ByPrivilege {
					powers[b.Privilege]++
					file, share, _ := b.Privilege.Gives()
					require.True(t, power(f.Right, i == 1) && []right.Set{file, share}[i].Has(f.Right) && has(b.Who))
				}
			}
			if f.File.Source == ByPrivilege {
				require.False(t, oneRight(q.item, has, f.Right, true, tr.ObjectEntriesRefuse, tr.BareGenerics) && !(tr.LabelsCount && labelTakes(q.item, has, f.Right)), "rules alone give it")
			}
			if f.Share.Source == ByPrivilege {
				require.False(t, rules(f.Right) && !(v.Door.ReadOnly && tr.ReadOnlyTakes.Has(f.Right)), "the share's rules alone let it through")
			}
			require.Equal(t, f.ShareOK, share(f.Right) || q.Share == nil)
			if f.Share.Source == ByPrivilege {
				require.True(t, f.ShareOK)
			}
			if f.ShareOK && q.Share != nil {
				require.NotContains(t, []Source{ByReadOnly, ByConnection, ByTaking, Nothing}, f.Share.Source)
			}
			if f.FileOK {
				require.NotContains(t, []Source{ByTraverse, Nothing}, f.File.Source)
			}
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		for range 8 { // each another world
			one(t)
		}
	})
	for why := Open; why <= NotWriting; why++ {
		proptest.Reached(t, doors[why], 0, fmt.Sprint("doors of kind ", why))
	}
	proptest.Reached(t, labelled, 40, "a label that takes something")
	for _, p := range Privileges() {
		proptest.Reached(t, powers[p], 0, string(p))
	}
}

func TestAbsentAndEmptyAreOpposites(t *testing.T) {
	tr, err := NamedTraits("plain")
	require.NoError(t, err)
	q := &Question{Token: token(), Traits: &tr, Item: rule.Compile(&rule.Descriptor{Rules: rule.Rules{Absent: true}}, tr.Reading())}
	require.Equal(t, right.All, Granted(q))
	q.Item = rule.Compile(&rule.Descriptor{}, tr.Reading())
	require.Zero(t, Granted(q))
}

// bench makes a list of 20 entries and a user of 50 groups; the last entry decides.
func bench() *Question {
	d := account.NewDirectory()
	d.Add(account.Account{ID: alice, Kind: account.User, POSIX: account.NoPOSIX})
	for i := range 50 {
		d.Join(dom.Child(uint32(3000+i)), alice)
	}
	item := &rule.Descriptor{Owner: bob}
	for i := range 18 {
		item.Rules.Entries = append(item.Rules.Entries, rule.Entry{Who: dom.Child(uint32(9000 + i)), Rights: right.All})
	}
	item.Rules.Entries = append(item.Rules.Entries,
		rule.Entry{Who: dom.Child(3010), Rights: 0x1200a9}, rule.Entry{Who: dom.Child(3049), Rights: right.All})
	tr, _ := NamedTraits("smb")
	return &Question{Token: account.NewToken(d, alice, tr.Traits, account.Everyone), Item: rule.Compile(item, tr.Reading()), Traits: &tr}
}

func TestGrantedAllocatesNothing(t *testing.T) {
	q := bench()
	require.Zero(t, testing.AllocsPerRun(100, func() { Granted(q) }))
}

var sink right.Set

func BenchmarkGranted(b *testing.B) {
	q := bench()
	b.ReportAllocs()
	for b.Loop() {
		sink |= Granted(q)
	}
}

func BenchmarkDecide(b *testing.B) {
	q := bench()
	b.ReportAllocs()
	for b.Loop() {
		v := Decide(q)
		sink |= v.Granted
	}
}
