package verdict_test

import (
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
	"tarnwold/core/rule/secdesc"
	"tarnwold/core/verdict"
)

var (
	domain = account.MustID("S-1-5-21-3-4-5")
	ines   = account.Account{ID: domain.Child(1001), Kind: account.User, Name: "ines", POSIX: account.NoPOSIX}
	sewers = account.Account{ID: domain.Child(2001), Kind: account.Group, Name: "sewers", POSIX: account.NoPOSIX}
)

func people() *account.Directory {
	dir := account.NewDirectory()
	dir.Add(ines)
	dir.Add(sewers)
	dir.Join(sewers.ID, ines.ID)
	return dir
}

// One user, one item: what a descriptor in text form grants.
func ExampleOf() {
	traits, _ := verdict.NamedTraits("smb-domain")
	rules, err := sddl.Parse("O:S-1-5-21-3-4-5-1002D:(A;;0x1200a9;;;S-1-5-21-3-4-5-2001)", domain)
	if err != nil {
		panic(err)
	}
	token := account.NewToken(people(), ines.ID, traits.Traits, verdict.Special(false)...)
	granted := verdict.Of(token, rules, traits)
	fmt.Println(granted.Has(right.ReadData), granted.Has(right.WriteData))
	// Output: true false
}

// Through a share, with the reason for one right: the entry, and the identifier of
// the user's that it names, which a chain of groups leads to.
func ExampleDecide() {
	traits, _ := verdict.NamedTraits("smb-domain")
	rules, _ := sddl.Parse("O:S-1-5-21-3-4-5-1002D:(D;;0x2;;;S-1-5-21-3-4-5-2001)(A;;0x1301bf;;;WD)", domain)
	token := account.NewToken(people(), ines.ID, traits.Traits, verdict.Special(false)...)
	v := verdict.Decide(&verdict.Question{Token: token, Item: rule.Compile(rules, traits.Reading()), Share: &verdict.Share{Rules: rule.Compile(open(), traits.ShareReading())}, Traits: &traits})
	for _, f := range v.Findings {
		if f.Right == right.WriteData {
			fmt.Println(f.Granted, "by entry", f.File.Entry, "through a chain of", len(token.Chain(f.File.Who)))
		}
	}
	// Output: false by entry 0 through a chain of 2
}

func open() *rule.Descriptor {
	d, err := sddl.Parse("D:(A;;0x1f01ff;;;WD)", domain)
	if err != nil {
		panic(err)
	}
	return d
}

// A descriptor as a server sends it, and as it goes back.
func Example_descriptors() {
	d, _ := sddl.Parse("O:S-1-5-21-3-4-5-1002D:P(A;OICI;0x1f01ff;;;S-1-5-21-3-4-5-2001)", domain)
	raw, err := secdesc.Encode(d)
	if err != nil {
		panic(err)
	}
	back, err := secdesc.Decode(raw)
	if err != nil {
		panic(err)
	}
	text, _ := sddl.Format(back)
	fmt.Println(len(raw), text)
	// Output: 92 O:S-1-5-21-3-4-5-1002D:P(A;OICI;0x001f01ff;;;S-1-5-21-3-4-5-2001)
}
