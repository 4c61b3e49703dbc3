// Big writes a made-up estate of any size as CSV, for measuring: users in groups in
// groups, and a tree of folders and files with many distinct rules, or homes.
//
//	go run ./internal/playhouse/big -items 1000000 -dir big
//	go run ./internal/playhouse/big -homes 10 -users 50000 -groups 5000 -dir homes
package main

import (
	"flag"
	"fmt"
	"os"

	"tarnwold/internal/playhouse/estates"
)

func main() {
	var x estates.Tree
	flag.IntVar(&x.Items, "items", 1_000_000, "how many folders and files")
	flag.IntVar(&x.Rules, "rules", 7200, "how many sets of rules to draw; some come out alike, so that 7200 make about 5000 distinct descriptors")
	flag.IntVar(&x.Users, "users", 20_000, "how many users")
	flag.IntVar(&x.Groups, "groups", 5000, "how many groups")
	flag.IntVar(&x.Deep, "deep", 0, "instead of a broad tree, one this many folders deep")
	homes := flag.Int("homes", -1, "instead, a home for every user, with this many files")
	dir := flag.String("dir", "big", "the folder to write to")
	flag.Parse()
	write := x.Write
	if *homes >= 0 {
		write = estates.Homes{Users: x.Users, PerHome: *homes, Groups: x.Groups}.Write
	}
	if err := write(*dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
