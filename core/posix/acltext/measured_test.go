package acltext

import (
	"encoding/csv"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

const measured = "../../../internal/format/testdata/posix/"

func rows(t *testing.T, name string) [][]string {
	f, err := os.Open(measured + name)
	require.NoError(t, err)
	defer f.Close()
	all, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	return all[1:]
}

// TestAsAKernelAnswered: every read, write, execute and rename that a Linux
// kernel was asked for is decided as it decided; the steps say the same as the
// algorithm.
func TestAsAKernelAnswered(t *testing.T) {
	uid, gid := map[string]uint64{}, map[string]uint64{}
	in := map[string]map[account.ID]bool{} // who is what
	number := func(s string) uint64 {
		n, err := strconv.ParseUint(s, 10, 32)
		require.NoError(t, err)
		return n
	}
	read := func(name string, each func(f []string)) {
		text, err := os.ReadFile(measured + name)
		require.NoError(t, err)
		for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
			each(strings.Split(line, ":"))
		}
	}
	read("passwd", func(f []string) {
		uid[f[0]] = number(f[2])
		in[f[0]] = map[account.ID]bool{account.UID(uint32(number(f[2]))): true, account.GID(uint32(number(f[3]))): true}
	})
	read("group", func(f []string) {
		gid[f[0]] = number(f[2])
		for _, m := range strings.Split(f[3], ",") {
			if m != "" {
				in[m][account.GID(uint32(number(f[2])))] = true
			}
		}
	})
	id := func(of map[string]uint64, make func(uint32) account.ID) func(string) (account.ID, error) {
		return func(s string) (account.ID, error) {
			if n, ok := of[s]; ok {
				return make(uint32(n)), nil
			}
			return number32(s, make)
		}
	}
	names := Names{User: id(uid, account.UID), Group: id(gid, account.GID)}
	tree := map[string]*posix.Rules{}
	for _, r := range rows(t, "tree.csv") {
		mode, err := ParseMode(r[4])
		require.NoError(t, err)
		x := &posix.Rules{Folder: r[1] == "folder", Special: mode & 0o7000, Access: posix.Of(mode)}
		x.Owner, err = names.User(r[2])
		require.NoError(t, err)
		x.Group, err = names.Group(r[3])
		require.NoError(t, err)
		if r[5] != "" {
			x.Access, _, err = Parse(r[5], names)
			require.NoError(t, err, r[5])
		}
		if r[6] != "" {
			x.Default, _, err = Parse(strings.ReplaceAll(r[6], "default:", ""), names)
			require.NoError(t, err, r[6])
		}
		require.Equal(t, mode, x.Mode(), r[0])
		tree[r[0]] = x
	}
	up := func(path string) string {
		if i := strings.LastIndexByte(path, '/'); i >= 0 {
			return path[:i]
		}
		return ""
	}
	asked, different := 0, 0
	met := map[string]int{}
	for _, r := range rows(t, "answers.csv") {
		user, path := r[0], r[1]
		is := func(a account.ID) bool { return in[user][a] }
		item := tree[path]
		require.NotNil(t, item, path)
		gate := true
		for p := path; p != "" && gate; {
			p = up(p)
			gate, _ = tree[p].Permits(is, posix.X)
		}
		folder := tree[up(path)]
		for i, want := range []posix.Perm{posix.R, posix.W, posix.X} {
			got, class := item.Permits(is, want)
			asked++
			if (got && gate) != (r[2+i] == "1") {
				different++
				t.Errorf("%s %s %s: %v (%+v), the kernel said %s", user, path, want, got, class, r[2+i])
			}
		}
		asked++
		may := gate && path != "" && posix.MayRename(folder, item, is)
		if may != (r[5] == "1") {
			different++
			t.Errorf("%s rename %s: %v, the kernel said %s", user, path, may, r[5])
		}
		met["rename "+r[5]]++
		if folder.Special&posix.Sticky != 0 {
			met["sticky"]++
		}
		if item.Access.Extended() {
			met["list"]++
		}
		// The steps decide the same, right by right.
		token := account.NewToken(book(in[user]), account.UID(uint32(uid[user])), account.Traits{})
		steps := item.Steps(rule.Reading{Owner: true})
		granted := verdict.Walk(steps, token, right.All)
		all := func(p posix.Perm) bool { ok, _ := item.Permits(is, p); return ok }
		require.Equal(t, all(posix.R), granted.Has(right.ReadData), "%s %s", user, path)
		require.Equal(t, all(posix.X), granted.Has(right.Execute), "%s %s", user, path)
		adds := posix.W
		if item.Folder { // nothing is added without execute
			adds |= posix.X
			require.Equal(t, all(adds) && (item.Special&posix.Sticky == 0 || is(item.Owner)), granted.Has(right.DeleteChild), "%s %s", user, path)
		}
		require.Equal(t, all(adds), granted.Has(right.WriteData|right.AppendData), "%s %s", user, path)
		require.Equal(t, is(item.Owner), granted.Has(right.WriteACL))
		if path != "" {
			how := rule.Reading{Owner: true}
			q := verdict.Question{Token: token, Item: rule.Compile(item, how), Parent: rule.Compile(folder, how), Traits: &verdict.Traits{}}
			require.Equal(t, posix.MayRename(folder, item, is), verdict.Granted(&q).Has(right.Delete), "%s %s", user, path)
		}
	}
	require.Equal(t, 26_992, asked)
	require.Zero(t, different)
	for _, what := range []string{"rename 0", "rename 1", "sticky", "list"} {
		require.Greater(t, met[what], 100, what)
	}
}

func number32(s string, make func(uint32) account.ID) (account.ID, error) { return number(s, make) }

// book is a user who is in some groups.
type book map[account.ID]bool

func (b book) Account(account.ID) (account.Account, bool) { return account.Account{}, false }
func (b book) GroupsOf(id account.ID) (out []account.ID) {
	if _, user, _ := id.POSIX(); user {
		for g := range b {
			if _, user, _ := g.POSIX(); !user {
				out = append(out, g)
			}
		}
	}
	return out
}
func (b book) Local(_, _ account.ID) bool { return false }
