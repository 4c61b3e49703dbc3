package crowd

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/proptest"
)

// TestConditionsForEverybody: rules with conditions are decided for everybody as for each,
// as themselves and as whom files are opened.
func TestConditionsForEverybody(t *testing.T) {
	refused, granted, as := 0, 0, 0
	rapid.Check(t, func(t *rapid.T) {
		dir, who := people(t)
		tr, err := verdict.NamedTraits("specified")
		require.NoError(t, err)
		pop := NewPopulation(dir, tr.Traits, nil)
		some := append([]account.ID{account.Everyone, account.Everyone}, who...)
		for range 6 {
			d := &rule.Descriptor{Audit: rule.Rules{Absent: true}}
			for range rapid.IntRange(1, 4).Draw(t, "entries") {
				e := rule.Entry{Kind: rapid.SampledFrom([]rule.Kind{rule.Allow, rule.AllowIf, rule.AllowIf, rule.DenyIf}).Draw(t, "kind"), Rights: right.ReadData, Who: rapid.SampledFrom(some).Draw(t, "who")}
				if e.Asks() {
					e.Extra.Tail = rapid.SampledFrom(conditions).Draw(t, "condition")
				}
				d.Rules.Entries = append(d.Rules.Entries, e)
			}
			l := rule.Compile(d, tr.Reading())
			who, opened := pop, (*account.Token)(nil)
			if rapid.IntRange(0, 2).Draw(t, "as another") == 0 {
				opened = account.NewToken(dir, rapid.SampledFrom(pop.Users).Draw(t, "as").ID, tr.Traits, verdict.Special(false)...)
				who = pop.As(opened, nil, nil)
				as++
			}
			got := who.Granted(l, right.ReadData, false)
			for i, u := range pop.Users {
				tok := opened
				if tok == nil {
					tok = account.NewToken(dir, u.ID, tr.Traits, verdict.Special(false)...)
				}
				want := verdict.Given(l, tok, right.ReadData) != 0
				require.Equal(t, want, got.Has(i))
				if want {
					granted++
				} else {
					refused++
				}
			}
		}
	})
	for what, n := range map[string]int{"refused": refused, "granted": granted, "as another": as} {
		proptest.Reached(t, n, 100, what)
	}
}

// TestNobodyIsWhoFilesAreOpenedAs: an account that the machine doesn't know holds nothing,
// whatever is put beside it.
func TestNobodyIsWhoFilesAreOpenedAs(t *testing.T) {
	d := account.NewDirectory()
	d.Add(account.Account{ID: dom.Child(1000), Kind: account.User, POSIX: account.NoPOSIX})
	elsewhere, _ := account.UID(7).On(account.MachineRealm(2))
	d.Add(account.Account{ID: elsewhere, Kind: account.User, POSIX: 7})
	tr := account.Traits{POSIXIDs: true, Machine: account.MachineRealm(1)}
	nobody := account.NewToken(d, elsewhere, tr, verdict.Special(false)...)
	pop := NewPopulation(d, tr, nil)
	for _, id := range []account.ID{account.Everyone, account.Network, account.UID(7), elsewhere} {
		require.False(t, pop.As(nobody, []account.ID{id}, nil).Holders(id, false).Has(0), id)
		require.False(t, pop.Squashed(pop.All(), nobody).Holders(id, false).Has(0), id)
	}
	require.True(t, pop.As(nobody, nil, nil).Holders(account.ID{}, false).Has(0))
}
