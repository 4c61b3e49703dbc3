//go:build unix

package cli_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/playhouse/estates"
)

// growing is an estate of which one thing grows and all else stays.
type growing struct {
	estates.Tree
	servers, changes int
}

// growths are what an estate has more of, each at three sizes.
var growths = []struct {
	name string
	at   [3]int
	set  func(x *growing, n int)
}{
	{"items", [3]int{100_000, 400_000, 1_600_000}, func(x *growing, n int) { x.Items = n }},
	{"descriptors", [3]int{1_000, 4_000, 16_000}, func(x *growing, n int) { x.Rules = n }},
	{"users", [3]int{5_000, 20_000, 80_000}, func(x *growing, n int) { x.Users = n }},
	{"memberships", [3]int{5, 20, 80}, func(x *growing, n int) { x.In = n }}, // of each user
	{"servers", [3]int{3, 30, 300}, func(x *growing, n int) { x.servers, x.Items = n, 1_000 }},
	{"changes", [3]int{10, 100, 1_000}, func(x *growing, n int) { x.changes = n }},
}

func (x *growing) write(t testing.TB) *homes {
	dir := t.TempDir()
	h := &homes{prog: program(t), peak: programAs(t, "peak"), dir: dir, file: filepath.Join(dir, "big.estate")}
	require.NoError(t, x.Write(dir))
	h.run(t, "init")
	h.run(t, "load", "accounts", filepath.Join(dir, "accounts.csv"), filepath.Join(dir, "members.csv"))
	for i := range x.servers {
		name := "box"
		if i > 0 {
			name = fmt.Sprint("box", i)
		}
		h.run(t, "server", "add", name, "--traits", "smb-domain")
		h.run(t, "load", "shares", filepath.Join(dir, "shares.csv"), "--server", name)
		h.run(t, "load", "tree", filepath.Join(dir, "tree.csv"), "--at", name+":/srv/all")
	}
	for i := range x.changes {
		do := []string{"grant", "group 9", "read", "box:/srv/all/room 1", "--yes"}
		if i%2 == 1 {
			do = []string{"revoke", "group 9", "box:/srv/all/room 1", "--yes"}
		}
		h.run(t, do...)
	}
	return h
}

// growthRows are what is asked of them.
var growthRows = [][]string{
	{"explain", "user5", "box:/srv/all/room 1"},
	{"who", "box:/srv/all/room 1"},
	{"reach", "user5"},
	{"group", "join", "group 7", "user9", "--dry-run"},
	{"grant", "group 7", "edit", "box:/srv/all", "--dry-run"},
	{"findings", "--summary"},
	{"history", "user5", "box:/srv/all/room 1"},
	{"check"},
}

// BenchmarkGrowth prints how long each question takes, and what it holds at most, as one
// thing of an estate grows: docs/architecture.md has it as a table.
func BenchmarkGrowth(b *testing.B) {
	for _, g := range growths {
		for _, n := range g.at {
			x := growing{Tree: estates.Tree{Items: 100_000, Rules: 4_000, Users: 10_000, Groups: 1_000}, servers: 1}
			g.set(&x, n)
			b.Run(fmt.Sprintf("%s=%d", g.name, n), func(b *testing.B) {
				h := x.write(b)
				for _, args := range growthRows {
					b.Run(strings.Join(args, "_"), func(b *testing.B) { h.bench(b, args...) })
				}
			})
		}
	}
}
