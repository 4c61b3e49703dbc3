package rule_test

import (
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
)

var domain = account.MustID("S-1-5-21-3-4-5")

func parse(text string) *rule.Descriptor {
	d, err := sddl.Parse(text, domain)
	if err != nil {
		panic(err)
	}
	return d
}

// Inheritance, forward: what a file made in a folder gets, and what it has once the
// folder's rules are others.
func ExampleDescriptor_Follow() {
	owner, group := domain.Child(1001), domain.Child(513)
	folder := parse("O:S-1-5-21-3-4-5-1001D:P(A;OICI;FA;;;S-1-5-21-3-4-5-1001)(A;OICI;0x1200a9;;;S-1-5-21-3-4-5-2001)")
	file := rule.NewChild(folder, false, owner, group, nil)
	fmt.Println(sddl.Format(file))

	changed := parse("O:S-1-5-21-3-4-5-1001D:P(A;OICI;FA;;;S-1-5-21-3-4-5-1001)(A;OICI;0x1301bf;;;S-1-5-21-3-4-5-2001)")
	fmt.Println(file.StaleUnder(changed, false))
	fmt.Println(sddl.Format(file.Follow(folder, changed, false)))
	// Output:
	// O:S-1-5-21-3-4-5-1001G:S-1-5-21-3-4-5-513D:AI(A;ID;0x001f01ff;;;S-1-5-21-3-4-5-1001)(A;ID;0x001200a9;;;S-1-5-21-3-4-5-2001) <nil>
	// true
	// O:S-1-5-21-3-4-5-1001G:S-1-5-21-3-4-5-513D:AI(A;ID;0x001f01ff;;;S-1-5-21-3-4-5-1001)(A;ID;0x001301bf;;;S-1-5-21-3-4-5-2001) <nil>
}

// Inheritance, backward: from which folder above an inherited entry comes.
func ExampleOrigin() {
	top := parse("O:S-1-5-21-3-4-5-1001D:P(A;OICI;0x1200a9;;;S-1-5-21-3-4-5-2001)")
	below := rule.NewChild(top, true, top.Owner, domain.Child(513), nil)
	file := rule.NewChild(below, false, top.Owner, domain.Child(513), nil)
	above := []*rule.Descriptor{below, top} // the nearest first
	for _, e := range file.Rules.FromAbove() {
		place, index, found := rule.Origin(e, false, above)
		fmt.Println(found, "folders up:", place+1, "entry:", index)
	}
	// Output: true folders up: 2 entry: 0
}
