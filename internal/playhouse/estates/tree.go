// Package estates writes made-up estates of any size as CSV, for measuring and for
// tests: one whose rules repeat, and one of homes, whose rules don't.
package estates

import (
	"bufio"
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
)

var domain = account.NewID(5, 21, 77, 88, 99)

func user(i int) account.ID { return domain.Child(uint32(10_000 + i)) }

func group(i int) account.ID { return domain.Child(uint32(1_000_000 + i)) }

// file writes one file of an estate.
func file(dir, name, head string, fill func(*bufio.Writer) error) error {
	f, err := os.Create(filepath.Join(dir, name))
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	fmt.Fprintln(w, head)
	if err := fill(w); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Close()
}

// rows writes the rows of a tree.
type rows struct{ w *bufio.Writer }

func (r rows) put(path, kind string, d *rule.Descriptor) error {
	text, err := sddl.Format(d)
	fmt.Fprintf(r.w, "%s,%s,%s\n", path, kind, text)
	return err
}

// Tree is an estate of users in groups in groups, and a tree of folders and files
// whose rules repeat.
type Tree struct {
	Items  int
	Rules  int // how many sets of rules are drawn; some come out alike
	Users  int
	Groups int
	Deep   int // instead of a broad tree, one this many folders deep
	In     int // how many groups everybody is put into; 0: 5
}

// Write writes accounts.csv, members.csv, shares.csv and tree.csv into a folder.
func (x Tree) Write(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(7, 9))
	for _, f := range []struct {
		name, head string
		fill       func(*bufio.Writer) error
	}{
		{"accounts.csv", "kind,name,sid,id", x.accounts},
		{"members.csv", "group,member", func(w *bufio.Writer) error { return x.members(w, r) }},
		{"shares.csv", "share,folder,read_only,sddl", func(w *bufio.Writer) error {
			_, err := fmt.Fprintf(w, "all,/srv/all,no,D:(A;;FA;;;WD)\nreading,/srv/all,yes,D:(A;;FA;;;WD)\n")
			return err
		}},
		{"tree.csv", "path,kind,sddl", func(w *bufio.Writer) error { return x.tree(rows{w}, r) }},
	} {
		if err := file(dir, f.name, f.head, f.fill); err != nil {
			return err
		}
	}
	return nil
}

func (x Tree) accounts(w *bufio.Writer) error {
	for i := range x.Groups {
		fmt.Fprintf(w, "group,group %d,%s,%d\n", i, group(i), 200_000+i)
	}
	for i := range x.Users {
		fmt.Fprintf(w, "user,user%d,%s,%d\n", i, user(i), 10_000+i)
	}
	return nil
}

func (x Tree) members(w *bufio.Writer, r *rand.Rand) error {
	// Groups in groups, at most eight layers: each layer joins the one above it.
	layer := max(1, x.Groups/8)
	for i := layer; i < x.Groups; i++ {
		fmt.Fprintf(w, "group %d,group %d\n", i-layer+r.IntN(min(layer, 40))-min(i-layer, 20), i)
	}
	for i := range x.Users {
		in := map[int]bool{}
		for k := range cmp.Or(x.In, 5) {
			if g := (i*5 + k*7919 + r.IntN(x.Groups)) % x.Groups; !in[g] {
				in[g] = true
				fmt.Fprintf(w, "group %d,user%d\n", g, i)
			}
		}
	}
	return nil
}

// top gives the rules at the top of the tree.
func (x Tree) top() *rule.Descriptor {
	top := &rule.Descriptor{Owner: user(0), Group: group(0), Control: rule.RulesPresent | rule.RulesSealed | rule.RulesFollow, Audit: rule.Rules{Absent: true}}
	for i := range 3 {
		top.Rules.Entries = append(top.Rules.Entries, rule.Entry{Flags: 3, Rights: 0x1200a9, Who: group(i)})
	}
	top.Rules.Entries = append(top.Rules.Entries, rule.Entry{Flags: 3, Rights: right.All, Who: user(0)})
	return top
}

func (x Tree) tree(w rows, r *rand.Rand) error {
	top := x.top()
	if err := w.put("", "folder", top); err != nil {
		return err
	}
	if x.Deep > 0 {
		return x.chain(w, top)
	}
	// Folders in fours, nine files in each: a tenth of all are folders.
	type folder struct {
		path string
		d    *rule.Descriptor
	}
	folders := make([]folder, max(1, x.Items/10))
	folders[0] = folder{"", top}
	every := max(1, len(folders)/max(1, x.Rules/3)) // one folder in so many has entries of its own
	made := 1
	for i := range folders {
		f := &folders[i]
		if i > 0 {
			up := folders[(i-1)/4]
			f.path, f.d = inFolder(up.path, fmt.Sprintf("room %d", i)), rule.NewChild(up.d, true, user(0), group(0), nil)
			if i%every == 0 {
				var err error
				if f.d, err = x.own(f.d, r); err != nil {
					return err
				}
			}
			if err := w.put(f.path, "folder", f.d); err != nil {
				return err
			}
			made++
		}
		text, err := sddl.Format(rule.NewChild(f.d, false, user(0), group(0), nil))
		if err != nil {
			return err
		}
		for k := 0; k < 9 && made < x.Items; k++ {
			made++
			kind := "txt"
			if k%3 == 0 {
				kind = "ods"
			}
			fmt.Fprintf(w.w, "%s,file,%s\n", inFolder(f.path, fmt.Sprintf("sheet %d.%s", made, kind)), text)
		}
	}
	return nil
}

func inFolder(folder, name string) string {
	if folder == "" {
		return name
	}
	return folder + "/" + name
}

// own gives a folder an entry of its own.
func (x Tree) own(d *rule.Descriptor, r *rand.Rand) (*rule.Descriptor, error) {
	e := rule.Entry{Flags: 3, Rights: []right.Set{0x1200a9, 0x1301bf, 0x1f01ff}[r.IntN(3)], Who: group(r.IntN(x.Groups))}
	if r.IntN(8) == 0 {
		e.Kind = rule.Deny
	}
	d, _, err := d.Give([]rule.Entry{e}, rule.Giving{})
	return d, err
}

// chain is a tree of one folder in the other.
func (x Tree) chain(w rows, top *rule.Descriptor) error {
	path, d := "", top
	for i := range x.Deep {
		d = rule.NewChild(d, true, user(0), group(0), nil)
		path = inFolder(path, fmt.Sprint(i%10))
		if err := w.put(path, "folder", d); err != nil {
			return err
		}
	}
	return nil
}
