package estates

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Homes is an estate in which everybody has a folder with rules that name them, and is
// in twenty groups, so that few descriptors repeat: the shape of most real servers.
type Homes struct {
	Users   int
	PerHome int // files in each; one in five is somebody else's to read too
	Groups  int
}

// inGroups is how many groups everybody is in, or one fewer.
const inGroups = 20

// Write writes accounts.csv, members.csv, shares.csv and tree.csv into a folder.
func (x Homes) Write(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(11, 13))
	tree := Tree{Users: x.Users, Groups: x.Groups}
	err := file(dir, "accounts.csv", "kind,name,sid,id", tree.accounts)
	if err == nil {
		err = file(dir, "members.csv", "group,member", func(w *bufio.Writer) error {
			for i := range x.Users {
				in := map[int]bool{}
				for range inGroups {
					if g := r.IntN(x.Groups); !in[g] {
						in[g] = true
						fmt.Fprintf(w, "group %d,user%d\n", g, i)
					}
				}
			}
			return nil
		})
	}
	if err == nil {
		err = file(dir, "shares.csv", "share,folder,read_only,sddl", func(w *bufio.Writer) error {
			_, err := fmt.Fprintf(w, "homes,/homes,no,D:(A;;FA;;;WD)\n")
			return err
		})
	}
	if err != nil {
		return err
	}
	return file(dir, "tree.csv", "path,kind,sddl", func(w *bufio.Writer) error { return x.tree(rows{w}, r) })
}

func (x Homes) tree(w rows, r *rand.Rand) error {
	whole := func(who account.ID) rule.Entry { return rule.Entry{Flags: 3, Rights: right.All, Who: who} }
	top := &rule.Descriptor{Owner: user(0), Group: group(0), Control: rule.RulesPresent | rule.RulesSealed, Audit: rule.Rules{Absent: true}}
	top.Rules.Entries = []rule.Entry{whole(group(0)), {Rights: 0x1200a9, Who: account.Authenticated}}
	if err := w.put("", "folder", top); err != nil {
		return err
	}
	for i := range x.Users {
		own := rule.Entry{Flags: 3, Rights: 0x1301bf, Who: user(i)}
		home := rule.NewChild(top, true, user(i), group(0), nil)
		home.Control |= rule.RulesFollow
		home.Rules.Entries = append([]rule.Entry{own}, home.Rules.Entries...)
		at := fmt.Sprintf("user%d", i)
		if err := w.put(at, "folder", home); err != nil {
			return err
		}
		for k := range x.PerHome {
			d := rule.NewChild(home, false, user(i), group(0), nil)
			d.Control |= rule.RulesFollow
			if k%5 == 0 {
				d.Rules.Entries = append([]rule.Entry{{Rights: 0x1200a9, Who: group(r.IntN(x.Groups))}}, d.Rules.Entries...)
			}
			if err := w.put(fmt.Sprintf("%s/sheet %d.odt", at, k), "file", d); err != nil {
				return err
			}
		}
	}
	return nil
}
