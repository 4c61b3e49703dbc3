package impact_test

import (
	"context"
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/crowd"
	"tarnwold/core/impact"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
	"tarnwold/core/verdict"
)

// Everybody at once: a folder of a hundred files alike, and who gains by an edit of
// the folder that is handed down to them.
func Example() {
	traits, _ := verdict.NamedTraits("smb-domain")
	domain := account.MustID("S-1-5-21-3-4-5")
	dir := account.NewDirectory()
	sewers := account.Account{ID: domain.Child(2001), Kind: account.Group, Name: "sewers", POSIX: account.NoPOSIX}
	dir.Add(sewers)
	for i := range 3 {
		u := account.Account{ID: domain.Child(uint32(1001 + i)), Kind: account.User, Name: fmt.Sprint("user", i), POSIX: account.NoPOSIX}
		dir.Add(u)
		if i > 0 {
			dir.Join(sewers.ID, u.ID)
		}
	}
	folder, _ := sddl.Parse("O:SYD:(A;OICI;0x1200a9;;;BA)", domain)
	file := rule.NewChild(folder, false, domain.Child(1001), account.ID{}, nil)

	set := &change.Set{Nodes: []change.Node{{Parent: -1, Folder: true, Items: 1, Before: folder}, {Parent: 0, Items: 100, Before: file}},
		Edits: map[int]change.Edit{0: func(d, _ rule.Any, _ bool) (rule.Any, error) {
			after, _, err := d.(*rule.Descriptor).Give([]rule.Entry{{Kind: rule.Allow, Flags: rule.ObjectInherit | rule.ContainerInherit, Rights: 0x1200a9, Who: sewers.ID}}, rule.Giving{})
			return after, err
		}}}
	if err := set.Work(context.Background()); err != nil {
		panic(err)
	}
	pop := crowd.NewPopulation(dir, traits.Traits, nil)
	local := &crowd.Route{Local: true, Traits: &traits, People: pop}
	shifts, err := impact.Of(context.Background(), set, []impact.Route{{Name: "local", Local: true, Ways: [2]*crowd.Route{local, local}, Starts: []impact.Start{impact.Through(0, false)}}})
	if err != nil {
		panic(err)
	}
	for _, s := range shifts {
		fmt.Print("gain ", s.Gain(), ", reads ", s.After.Has(right.ReadData), ", ", s.Items, " items:")
		s.Users.Each(func(i int) bool { fmt.Print(" ", pop.Users[i].Name); return true })
		fmt.Println()
	}
	// Unordered output:
	// gain true, reads true, 101 items: user1 user2
}
