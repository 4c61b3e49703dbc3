package verdict

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

var (
	dom   = account.NewID(5, 21, 9, 9, 9)
	alice = dom.Child(1001)
	bob   = dom.Child(1002)
	crew  = dom.Child(2001)
	who   = []account.ID{alice, bob, crew, account.Everyone, account.Network, account.OwnerRights, account.Creator}
)

func token() *account.Token {
	d := account.NewDirectory()
	d.Add(account.Account{ID: alice, Kind: account.User, POSIX: account.NoPOSIX})
	d.Join(crew, alice)
	return account.NewToken(d, alice, account.Traits{}, account.Everyone, account.Network)
}

func anyDescriptor(t *rapid.T) *rule.Descriptor {
	d := &rule.Descriptor{Owner: rapid.SampledFrom([]account.ID{alice, bob, crew, {}}).Draw(t, "owner"), Audit: rule.Rules{Absent: true}}
	d.Rules.Absent = rapid.IntRange(0, 9).Draw(t, "absent") == 0
	if d.Rules.Absent {
		return d
	}
	for range rapid.IntRange(0, 6).Draw(t, "entries") {
		d.Rules.Entries = append(d.Rules.Entries, rule.Entry{
			Kind:   rapid.SampledFrom([]rule.Kind{rule.Allow, rule.Allow, rule.Deny}).Draw(t, "kind"),
			Flags:  rapid.SampledFrom([]rule.Flags{0, 0, rule.Inherited, rule.InheritOnly | rule.ObjectInherit}).Draw(t, "flags"),
			Rights: right.Set(rapid.SampledFrom([]uint32{0x1, 0x2, 0x40, 0x10000, 0x1200a9, 0x1f01ff, 0x80000000}).Draw(t, "rights")),
			Who:    rapid.SampledFrom(who).Draw(t, "who"),
		})
	}
	return d
}

func anyQuestion(t *rapid.T) *Question {
	tr, err := NamedTraits(rapid.SampledFrom(TraitNames()).Draw(t, "traits"))
	require.NoError(t, err)
	tr.AsksFoldersAbove = rapid.Bool().Draw(t, "asks above")
	q := &Question{Token: token(), Item: anyDescriptor(t), Traits: &tr, Administrator: rapid.IntRange(0, 9).Draw(t, "admin") == 0}
	if rapid.Bool().Draw(t, "parent") {
		q.Parent = anyDescriptor(t)
		q.Above = []*rule.Descriptor{q.Parent, anyDescriptor(t)}
	}
	if rapid.Bool().Draw(t, "share") {
		q.Share = &Share{Rules: anyDescriptor(t), ReadOnly: rapid.Bool().Draw(t, "read-only")}
	}
	return q
}

// oneRight decides a single right by the standard's words, entry by entry, as
// slowly and plainly as can be ([MS-DTYP] §2.5.3.2).
func oneRight(d *rule.Descriptor, has func(account.ID) bool, r right.Set, owner bool) bool {
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
		if e.Flags&rule.InheritOnly != 0 || e.Rights.Map()&r == 0 {
			continue
		}
		if has(e.Who) && e.Who != account.OwnerRights || e.Who == account.OwnerRights && owns {
			return e.Kind == rule.Allow
		}
	}
	return false
}

func TestEachRightByTheStandardsWords(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		q := anyQuestion(t)
		has := q.Token.Has
		var want right.Set
		for i := range right.Count {
			r := right.At(i)
			share := func(r right.Set) bool {
				if q.Share == nil {
					return true
				}
				return oneRight(q.Share.Rules, has, r, false) && !(q.Share.ReadOnly && q.Traits.ReadOnlyTakes.Has(r))
			}
			file := oneRight(q.Item, has, r, true)
			file = file || r == right.ReadAttributes && q.Traits.NamingShowsAttributes
			file = file || r == right.Delete && q.Parent != nil && share(right.DeleteChild) && oneRight(q.Parent, has, right.DeleteChild, true)
			if q.Traits.AsksFoldersAbove {
				for _, d := range q.Above {
					file = file && oneRight(d, has, right.Execute, true)
				}
			}
			file = file || q.Administrator && q.Traits.AdministratorsPass
			if file && share(r) {
				want |= r
			}
		}
		require.Equal(t, want, Granted(q))
		v := Decide(q)
		require.Equal(t, want, v.Granted, "with reasons it is the same decision")
		for _, f := range v.Findings {
			require.Equal(t, want.Has(f.Right), f.Granted)
			if f.File.Source == ByEntry {
				e := q.Item.Rules.Entries[f.File.Entry]
				require.True(t, e.Rights.Map().Has(f.Right), "the entry named speaks of the right")
				require.Equal(t, f.FileOK, e.Kind == rule.Allow, "and decided it")
				require.True(t, has(f.File.Who))
			}
			if f.File.Source == Nothing {
				require.False(t, f.FileOK)
			}
		}
	})
}

func TestAbsentAndEmptyAreOpposites(t *testing.T) {
	tr, err := NamedTraits("plain")
	require.NoError(t, err)
	q := &Question{Token: token(), Traits: &tr, Item: &rule.Descriptor{Rules: rule.Rules{Absent: true}}}
	require.Equal(t, right.All, Granted(q))
	q.Item = &rule.Descriptor{}
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
	return &Question{Token: account.NewToken(d, alice, tr.Traits, account.Everyone), Item: item, Traits: &tr}
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
