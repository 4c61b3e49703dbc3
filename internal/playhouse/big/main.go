// Big writes a made-up estate of any size as CSV, for measuring: users in
// groups in groups, and a tree of folders and files with many distinct rules.
//
//	go run ./internal/playhouse/big -items 1000000 -dir big
package main

import (
	"bufio"
	"flag"
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

func main() {
	items := flag.Int("items", 1_000_000, "how many folders and files")
	bodies := flag.Int("rules", 7200, "how many sets of rules to draw; some come out alike, so that 7200 make about 5000 distinct descriptors")
	users := flag.Int("users", 20_000, "how many users")
	groups := flag.Int("groups", 5000, "how many groups")
	deep := flag.Int("deep", 0, "instead of a broad tree, one this many folders deep")
	dir := flag.String("dir", "big", "the folder to write to")
	flag.Parse()
	if err := write(*dir, *items, *bodies, *users, *groups, *deep); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(dir string, items, bodies, users, groups, deep int) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(7, 9))
	file := func(name, head string, fill func(*bufio.Writer) error) error {
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
	user := func(i int) account.ID { return domain.Child(uint32(10_000 + i)) }
	group := func(i int) account.ID { return domain.Child(uint32(1_000_000 + i)) }
	err := file("accounts.csv", "kind,name,sid,id", func(w *bufio.Writer) error {
		for i := range groups {
			fmt.Fprintf(w, "group,group %d,%s,%d\n", i, group(i), 200_000+i)
		}
		for i := range users {
			fmt.Fprintf(w, "user,user%d,%s,%d\n", i, user(i), 10_000+i)
		}
		return nil
	})
	if err == nil {
		err = file("members.csv", "group,member", func(w *bufio.Writer) error {
			// Groups in groups, at most eight layers: each layer joins the one above it.
			layer := max(1, groups/8)
			for i := layer; i < groups; i++ {
				fmt.Fprintf(w, "group %d,group %d\n", i-layer+r.IntN(min(layer, 40))-min(i-layer, 20), i)
			}
			for i := range users {
				for k := range 5 {
					fmt.Fprintf(w, "group %d,user%d\n", (i*5+k*7919+r.IntN(groups))%groups, i)
				}
			}
			return nil
		})
	}
	if err == nil {
		err = file("shares.csv", "share,folder,read_only,sddl", func(w *bufio.Writer) error {
			fmt.Fprintf(w, "all,/srv/all,no,D:(A;;FA;;;WD)\nreading,/srv/all,yes,D:(A;;FA;;;WD)\n")
			return nil
		})
	}
	if err != nil {
		return err
	}
	return file("tree.csv", "path,kind,sddl", func(w *bufio.Writer) error {
		top := &rule.Descriptor{Owner: user(0), Group: group(0), Control: rule.RulesPresent | rule.RulesSealed | rule.RulesFollow, Audit: rule.Rules{Absent: true}}
		for i := range 3 {
			top.Rules.Entries = append(top.Rules.Entries, rule.Entry{Flags: 3, Rights: 0x1200a9, Who: group(i)})
		}
		top.Rules.Entries = append(top.Rules.Entries, rule.Entry{Flags: 3, Rights: right.All, Who: user(0)})
		row := func(path, kind string, d *rule.Descriptor) error {
			text, err := sddl.Format(d)
			fmt.Fprintf(w, "%s,%s,%s\n", path, kind, text)
			return err
		}
		if err := row("", "folder", top); err != nil {
			return err
		}
		if deep > 0 {
			path, d := "", top
			for i := range deep {
				d = rule.NewChild(d, true, user(0), group(0), nil)
				path += fmt.Sprintf("/%d", i%10)
				if err := row(path[1:], "folder", d); err != nil {
					return err
				}
			}
			return nil
		}
		// Folders in fours, nine files in each: a tenth of all are folders.
		type folder struct {
			path string
			d    *rule.Descriptor
		}
		count := max(1, items/10)
		folders := make([]folder, count)
		folders[0] = folder{"", top}
		every := max(1, count/max(1, bodies/3)) // one folder in so many has entries of its own
		made := 1
		for i := range folders {
			f := &folders[i]
			if i > 0 {
				up := folders[(i-1)/4]
				f.path, f.d = fmt.Sprintf("%s/room %d", up.path, i), rule.NewChild(up.d, true, user(0), group(0), nil)
				if up.path == "" {
					f.path = f.path[1:]
				}
				if i%every == 0 {
					e := rule.Entry{Flags: 3, Rights: []right.Set{0x1200a9, 0x1301bf, 0x1f01ff}[r.IntN(3)], Who: group(r.IntN(groups))}
					if r.IntN(8) == 0 {
						e.Kind = rule.Deny
					}
					var err error
					if f.d, _, err = f.d.Give([]rule.Entry{e}, rule.Giving{}); err != nil {
						return err
					}
				}
				if err := row(f.path, "folder", f.d); err != nil {
					return err
				}
				made++
			}
			file := rule.NewChild(f.d, false, user(0), group(0), nil)
			text, err := sddl.Format(file)
			if err != nil {
				return err
			}
			for k := 0; k < 9 && made < items; k++ {
				made++
				name := fmt.Sprintf("sheet %d.txt", made)
				if k%3 == 0 {
					name = fmt.Sprintf("sheet %d.ods", made)
				}
				if f.path != "" {
					name = f.path + "/" + name
				}
				fmt.Fprintf(w, "%s,file,%s\n", name, text)
			}
		}
		return nil
	})
}
